// Linear light to the screen's, samples averaged, and a line around the chosen piece.
uniform sampler2D picture;
uniform sampler2D mask;
uniform int samples;                // along a side
uniform vec2 pixel;                 // one pixel of the result, in parts of the picture
uniform vec3 line_colour;
in vec2 at;
out vec4 colour;

vec3 to_screen(vec3 c) {
    c = clamp(c, 0.0, 4.0);
    c = mix(c, 1.0 - exp(-(c - 0.7) / 0.3) * 0.3, step(0.7, c));
    return mix(12.92 * c, 1.055 * pow(c, vec3(1.0 / 2.4)) - 0.055, step(0.0031308, c));
}

void main() {
    vec3 sum = vec3(0.0);
    for (int x = 0; x < samples; ++x)
        for (int y = 0; y < samples; ++y)
            sum += to_screen(texture(picture, at + pixel * ((vec2(x, y) + 0.5) / float(samples) - 0.5)).rgb);
    vec3 seen = sum / float(samples * samples);
    float inside = 0.0, least = 1.0, most = 0.0;
    for (int k = 0; k < 12; ++k) {
        float angle = float(k) * 0.5235988;
        float m = texture(mask, at + pixel * 1.6 * vec2(cos(angle), sin(angle))).r;
        least = min(least, m); most = max(most, m); inside += m / 12.0;
    }
    float line = (most - least) * smoothstep(0.0, 0.25, inside) * smoothstep(1.0, 0.75, inside);
    colour = vec4(mix(seen, line_colour, 0.9 * line), 1.0);
}
