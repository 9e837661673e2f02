uniform mat4 view_projection;
in vec3 in_place;
in vec3 in_normal;
in float in_value;
out vec3 place;
out vec3 normal;
out float value;
void main() {
    place = in_place;
    normal = in_normal;
    value = in_value;
    gl_Position = view_projection * vec4(in_place, 1.0);
}
