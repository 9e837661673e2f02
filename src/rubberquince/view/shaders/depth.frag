uniform vec3 base_colour;
in vec3 place;
out vec4 colour;
void main() { colour = vec4(base_colour, 1.0); }
