uniform vec3 base_colour;
out vec4 colour;
void main() { colour = vec4(base_colour, 1.0); }
