// One triangle over the whole picture; the floor is found by following each pixel's ray.
uniform mat4 unproject;
out vec3 far_point;
void main() {
    vec2 at = vec2((gl_VertexID << 1) & 2, gl_VertexID & 2) * 2.0 - 1.0;
    vec4 far = unproject * vec4(at, 1.0, 1.0);
    far_point = far.xyz / far.w;
    gl_Position = vec4(at, 1.0, 1.0);
}
