// The light of the workbench: one window as key light with a soft shadow, an open sky, and a sheet of
// floor that throws warm light back.  All colours are linear.

uniform vec3 eye;
uniform vec3 key_direction;         // towards the window
uniform mat4 key_matrix;
uniform mat4 sky_matrix;
uniform float key_range;            // m, depth of the key map
uniform int taps;                   // of the shadow filter
uniform float blur;                 // key shadow, in parts of the map
uniform float sky_blur;
uniform sampler2DShadow key_solid;  // opaque things as the window sees them
uniform sampler2DShadow key_jelly;
uniform sampler2D key_tint;         // colour of the jelly nearest to the window
uniform sampler2DShadow sky_map;    // all things from straight above

const float GOLDEN = 2.39996323;

vec2 spread(int k) {
    float radius = sqrt((float(k) + 0.5) / float(taps));
    float angle = float(k) * GOLDEN;
    return radius * vec2(cos(angle), sin(angle));
}

// Light of the window that arrives: white, or coloured where it came through jelly.
vec3 key_light(vec3 place, vec3 normal) {
    vec4 clip = key_matrix * vec4(place + normal * 0.012 * blur * key_range, 1.0);
    vec3 at = clip.xyz * 0.5 + 0.5;
    if (any(lessThan(at, vec3(0.0))) || any(greaterThan(at, vec3(1.0)))) return vec3(1.0);
    float lit = 0.0, clear = 0.0;
    for (int k = 0; k < taps; ++k) {
        vec3 where = vec3(at.xy + blur * spread(k), at.z - 0.0015);
        lit += texture(key_solid, where);
        clear += texture(key_jelly, where);
    }
    vec3 tint = texture(key_tint, at.xy).rgb;
    return lit / float(taps) * mix(0.10 + 0.62 * tint * tint, vec3(1.0), clear / float(taps));
}

// Part of the sky that is open: darker under and close to things.
float openness(vec3 place, vec3 normal) {
    vec3 at = (sky_matrix * vec4(place + normal * 0.004, 1.0)).xyz * 0.5 + 0.5;
    if (any(lessThan(at.xy, vec2(0.0))) || any(greaterThan(at.xy, vec2(1.0)))) return 1.0;
    float open = 0.0;
    for (int k = 0; k < taps; ++k) open += texture(sky_map, vec3(at.xy + sky_blur * spread(k), at.z - 0.002));
    return open / float(taps);
}

// A window of four panes and a long lamp, as a mirror would show them.
float softboxes(vec3 mirrored) {
    vec3 across = normalize(cross(vec3(0.0, 1.0, 0.0), key_direction));
    vec3 upward = cross(key_direction, across);
    float ahead = dot(mirrored, key_direction);
    vec2 at = vec2(dot(mirrored, across), dot(mirrored, upward)) / max(ahead, 1e-3);
    vec2 inside = smoothstep(vec2(0.46, 0.62), vec2(0.42, 0.57), abs(at));
    vec2 bars = smoothstep(vec2(0.018), vec2(0.045), abs(at));
    float window = ahead > 0.0 ? inside.x * inside.y * bars.x * bars.y : 0.0;
    vec3 lamp = normalize(vec3(-key_direction.x, 0.55, key_direction.z * 0.2 - 0.4));
    float strip = smoothstep(0.90, 0.97, dot(mirrored, lamp)) * 0.30;
    return window + strip;
}

vec3 sky(vec3 direction) {
    return mix(vec3(0.62, 0.56, 0.49), vec3(0.97, 0.98, 1.0), smoothstep(-0.5, 0.7, direction.y));
}
