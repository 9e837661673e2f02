// A line around the chosen piece.
uniform sampler2D mask;
uniform vec2 pixel;
uniform vec3 base_colour;
in vec2 at;
out vec4 colour;
void main() {
    float inside = texture(mask, at).r, around = 0.0;
    for (int k = 0; k < 8; ++k) {
        float angle = float(k) * 0.7853982;
        around += texture(mask, at + pixel * 1.7 * vec2(cos(angle), sin(angle))).r / 8.0;
    }
    colour = vec4(base_colour, (1.0 - inside) * smoothstep(0.0, 0.3, around));
}
