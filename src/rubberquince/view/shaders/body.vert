uniform mat4 view_projection;
in vec3 in_place;
in vec3 in_normal;
in float in_value;                  // of what is tinted
uniform float stand_off;            // m, of the picture from the skin
out vec3 place;
out vec3 normal;
out float value;
void main() {
    place = in_place + stand_off * in_normal;
    normal = in_normal;
    value = in_value;
    gl_Position = view_projection * vec4(place, 1.0);
}
