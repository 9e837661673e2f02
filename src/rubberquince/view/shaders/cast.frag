// The shadow and the closed sky of what moves, over the picture of what stands still.
uniform sampler2D depth_still;
uniform sampler2D picture_still;
uniform mat4 unproject;
in vec2 at;
out vec4 colour;
void main() {
    float depth = texture(depth_still, at).r;
    vec4 from = unproject * vec4(vec3(at, depth) * 2.0 - 1.0, 1.0);
    vec3 place = from.xyz / from.w;
    vec4 seen = texture(picture_still, at);
    float floor_distance = -eye.y / (place.y - eye.y);
    if (depth >= 1.0 && floor_distance > 0.0) place = eye + (place - eye) * floor_distance;
    vec3 light = moving_key(place, 0.004);
    float open = mix(0.3, 1.0, moving_sky(place));
    vec3 kept = seen.a * light + (1.0 - seen.a) * open;
    colour = vec4(seen.rgb * sqrt(kept), 1.0);
}
