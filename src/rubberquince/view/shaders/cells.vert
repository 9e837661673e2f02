uniform mat4 view_projection;
in vec3 in_place;
out vec3 place;
out vec3 corner;
void main() {
    place = in_place;
    corner = vec3(gl_VertexID % 3 == 0, gl_VertexID % 3 == 1, gl_VertexID % 3 == 2);
    gl_Position = view_projection * vec4(in_place, 1.0);
}
