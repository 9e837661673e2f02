uniform mat4 view_projection;
in vec3 in_place;
out vec3 place;
void main() {
    place = in_place;
    gl_Position = view_projection * vec4(in_place, 1.0);
}
