// One triangle over the whole picture, at the far end of depth.
uniform mat4 unproject;
out vec2 at;
out vec3 far_point;
void main() {
    at = vec2((gl_VertexID << 1) & 2, gl_VertexID & 2);
    vec4 far = unproject * vec4(at * 2.0 - 1.0, 1.0, 1.0);
    far_point = far.xyz / far.w;
    gl_Position = vec4(at * 2.0 - 1.0, 1.0, 1.0);
}
