// A skin that shows a value: without shadows and gloss, which would be read as values.
uniform float signs;                // 1 = the value has a sign, 0 = it is from 0 to 1
in vec3 place;
in vec3 normal;
in float value;
out vec4 colour;
void main() {
    vec3 n = normalize(normal);
    if (dot(n, eye - place) < 0.0) n = -n;
    vec3 middle = vec3(0.88, 0.86, 0.80), low = vec3(0.115, 0.190, 0.235), high = vec3(0.457, 0.087, 0.023);
    float t = clamp(value / 0.25, -1.0, 1.0);
    vec3 base = signs > 0.5 ? mix(middle, t < 0.0 ? low : high, abs(t))
        : mix(middle, vec3(0.145, 0.05, 0.115), clamp(value, 0.0, 1.0));
    float facing = max((dot(n, key_direction) + 0.25) / 1.25, 0.0);
    colour = vec4(to_screen(base * (facing * vec3(0.80, 0.775, 0.73) + 0.46 * sky(n))), 1.0);
}
