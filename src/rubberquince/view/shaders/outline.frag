// A line around the chosen piece.
uniform sampler2D mask;
uniform vec2 pixel;
uniform vec3 base_colour;
in vec2 at;
out vec4 colour;
void main() {
    float inside = textureLod(mask, at, 0.0).r, around = 0.0;
    if (inside >= 1.0) discard;
    vec2 slant = 1.25 * pixel;          // each look takes in four pixels
    around += textureLod(mask, at + slant, 0.0).r + textureLod(mask, at - slant, 0.0).r;
    slant.y = -slant.y;
    around += textureLod(mask, at + slant, 0.0).r + textureLod(mask, at - slant, 0.0).r;
    colour = vec4(base_colour, (1.0 - inside) * smoothstep(0.0, 0.3, around / 4.0));
}
