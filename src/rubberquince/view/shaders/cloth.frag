// Woven cloth: threads scatter light all round, their fine hairs catch it at grazing angles; no shine.
uniform vec3 base_colour;
in vec3 place;
in vec3 normal;
out vec4 colour;

void main() {
    vec3 n = normalize(normal), v = normalize(eye - place);
    if (dot(n, v) < 0.0) n = -n;
    float facing = max((dot(n, key_direction) + 0.35) / 1.35, 0.0);
    float shadow = still_key(place), open = still_sky(place);
    vec3 through = moving_key(place + n * 0.004, 0.004);
    open *= mix(1.0, moving_sky(place), 0.5);
    open = mix(1.0, mix(0.25, 1.0, open), smoothstep(-0.2, 0.6, n.y) * 0.75 + 0.25);
    float behind = max(-dot(n, key_direction), 0.0) * 0.18;             // some of the light comes through the weave
    vec3 direct = base_colour * (facing * shadow * through + behind) * vec3(0.80, 0.775, 0.73);
    vec3 around = base_colour * 0.46 * open * sky(n);
    float hairs = pow(1.0 - max(dot(n, v), 0.0), 3.0);
    around += hairs * 0.20 * mix(base_colour, vec3(0.85), 0.45) * open * (0.4 + 0.6 * shadow * facing);
    float share = dot(direct, vec3(1.0)) / max(dot(direct + around, vec3(1.0)), 1e-4);
    colour = vec4(to_screen(direct + around), share);
}
