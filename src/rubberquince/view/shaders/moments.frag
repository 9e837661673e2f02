// Depth and its square, or depth and cover, for soft shadows; and the colour that light takes on passing.
uniform float cover;
uniform vec4 tint;
layout(location = 0) out vec2 moments;
layout(location = 1) out vec4 passing;
void main() {
    moments = vec2(gl_FragCoord.z, mix(gl_FragCoord.z * gl_FragCoord.z, 1.0, cover));
    passing = tint;
}
