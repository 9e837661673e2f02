// Glazed earthenware, wood, chalk: wrapped diffuse light, a faint shine, and a tint by a signed value.
uniform vec3 base_colour;
uniform float tinted;               // 1 = show the value instead of the colour
in vec3 place;
in vec3 normal;
in float value;
out vec4 colour;

vec3 signed_colour(float v) {
    vec3 low = vec3(0.115, 0.190, 0.235), middle = vec3(0.88, 0.86, 0.80), high = vec3(0.457, 0.087, 0.023);
    float t = clamp(v / 0.35, -1.0, 1.0);
    return t < 0.0 ? mix(middle, low, -t) : mix(middle, high, t);
}

void main() {
    vec3 n = normalize(normal), v = normalize(eye - place);
    if (!gl_FrontFacing) n = -n;
    vec3 base = tinted > 0.5 ? signed_colour(value) : base_colour;
    float facing = max((dot(n, key_direction) + 0.25) / 1.25, 0.0);
    float open = mix(0.30, 1.0, openness(place, n));
    open = mix(1.0, open, smoothstep(-0.2, 0.6, n.y) * 0.75 + 0.25);
    vec3 lit = base * (facing * key_light(place, n) * vec3(0.80, 0.775, 0.73) + 0.46 * open * sky(n));
    float grazing = 0.04 + 0.5 * pow(1.0 - max(dot(n, v), 0.0), 5.0);
    lit += grazing * 0.22 * sky(reflect(-v, n)) * open;
    lit += 0.035 * softboxes(reflect(-v, n));
    colour = vec4(lit, 1.0);
}
