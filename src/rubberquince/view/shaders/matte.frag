// Glazed earthenware, wood, chalk: wrapped diffuse light and a faint shine.
uniform vec3 base_colour;
uniform float shine;                // 1 = a smooth skin that mirrors the window softly
uniform float moves;                // 1 = lit through what moves as well
in vec3 place;
in vec3 normal;
out vec4 colour;                    // alpha: the part of the light that comes from the window

void main() {
    vec3 n = normalize(normal), v = normalize(eye - place);
    if (dot(n, v) < 0.0) n = -n;
    vec3 base = base_colour;
    if (moves < 0.5) {
        float seen = 1.0 - smoothstep(0.0003, 0.003, length(fwidth(place)));     // no more of it than can be seen
        base *= 1.0 + 0.055 * grain(place * vec3(55.0, 260.0, 260.0)) * seen + 0.05 * grain(place * 24.0);
    }
    float facing = max((dot(n, key_direction) + 0.25) / 1.25, 0.0);
    float shadow = still_key(place), open = still_sky(place);
    vec3 through = vec3(1.0);
    if (moves > 0.5) {
        through = moving_key(place + n * 0.004, 0.004);
        open *= mix(1.0, moving_sky(place), 0.5);
    }
    open = mix(1.0, mix(0.25, 1.0, open), smoothstep(-0.2, 0.6, n.y) * 0.75 + 0.25);
    vec3 direct = base * facing * shadow * through * vec3(0.80, 0.775, 0.73);
    vec3 around = base * 0.46 * open * sky(n);
    vec3 mirrored = reflect(-v, n);
    float grazing = 0.04 + 0.5 * pow(1.0 - max(dot(n, v), 0.0), 5.0);
    around += grazing * 0.22 * sky(mirrored) * open + 0.035 * softboxes(mirrored, 0.05);
    if (shine > 0.5) around += (0.30 * softboxes(mirrored, 0.30) + 0.25 * grazing * sky(mirrored)) * mix(0.3, 1.0, shadow * through.r);
    float share = dot(direct, vec3(1.0)) / max(dot(direct + around, vec3(1.0)), 1e-4);
    colour = vec4(to_screen(direct + around), share);
}
