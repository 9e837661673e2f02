// A thin clear film: nearly all is seen through it but where it is steep or mirrors the window.  Colour is premultiplied.
uniform vec3 base_colour;
uniform float ghost;                // 1 = only shows where the gap of a piece ends
in vec3 place;
in vec3 normal;
out vec4 colour;

void main() {
    vec3 n = normalize(normal), v = normalize(eye - place);
    if (dot(n, v) < 0.0) n = -n;
    float facing = max(dot(n, v), 0.0);
    if (ghost > 0.5) {
        float rim = 0.10 + 0.55 * pow(1.0 - facing, 2.0);
        colour = vec4(vec3(0.37, 0.48, 0.53) * rim, rim);
        return;
    }
    float mirror = 0.05 + 0.75 * pow(1.0 - facing, 4.0);
    vec3 mirrored = reflect(-v, n);
    float lit = mix(0.35, 1.0, still_key(place));
    float haze = 0.09 + 0.30 * pow(1.0 - facing, 1.5);
    vec3 light = base_colour * haze * (0.5 * sky(n) + 0.5 * lit * max(dot(n, key_direction), 0.0));
    light += mirror * 0.55 * sky(mirrored) + softboxes(mirrored, 0.03) * 1.1 * lit;
    float cover = clamp(haze + mirror * 0.6 + 0.6 * softboxes(mirrored, 0.03), 0.0, 1.0);
    colour = vec4(to_screen(light / max(cover, 1e-3)) * cover, cover);
}
