// The light of the workbench: one window as key light with a soft shadow, an open sky, and a floor that
// throws warm light back.  Colours are linear inside; to_screen writes their square root into the picture.
// Soft shadows of what stands still by filtered moments of depth (Donnelly and Lauritzen 2006).

uniform vec3 eye;
uniform vec3 key_direction;         // towards the window
uniform mat4 key_still, sky_still, key_moving, sky_moving;      // world to the maps of what stands and what moves;
                                    // what moves and passes light, ``clear``, is seen as by key_moving
uniform float range_still, range_moving;                        // m, depth of the key maps
uniform sampler2D key_still_map, sky_still_map, key_moving_map, sky_moving_map, key_clear_map;
uniform sampler2D tint_map;         // colour of the clear thing nearest to the window

vec3 to_screen(vec3 c) {
    c = max(c, 0.0);
    vec3 shoulder = 1.0 - exp(-(c - 0.72) / 0.28) * 0.28;
    return sqrt(mix(c, shoulder, step(0.72, c)));
}

vec3 in_map(mat4 map, vec3 place) { return (map * vec4(place, 1.0)).xyz * 0.5 + 0.5; }

bool outside(vec2 at) { return any(lessThan(at, vec2(0.0))) || any(greaterThan(at, vec2(1.0))); }

// Part of the light that what stands still lets through; ``least`` m deep passes for touching.
float still_light(sampler2D map, vec3 at, float least) {
    if (outside(at.xy)) return 1.0;
    vec2 moments = texture(map, at.xy).rg;
    float beyond = min(at.z, 1.0) - moments.x;
    float spread = max(moments.y - moments.x * moments.x, pow(least / range_still, 2.0));
    float p = beyond <= 0.0 ? 1.0 : spread / (spread + beyond * beyond);
    return clamp((p - 0.12) / 0.88, 0.0, 1.0);
}

// The same for what moves, of which a map holds (depth times cover, cover): there is often nothing behind it.
float moving_light(sampler2D map, vec3 at, float least) {
    if (outside(at.xy)) return 1.0;
    vec2 cover = texture(map, at.xy).rg;
    float beyond = (at.z - cover.r / max(cover.g, 1e-4)) * range_moving;
    return 1.0 - cover.g * smoothstep(least, 3.0 * least, beyond);
}

float still_key(vec3 place) { return still_light(key_still_map, in_map(key_still, place), 0.003); }
float still_sky(vec3 place) { return still_light(sky_still_map, in_map(sky_still, place), 0.012); }
float moving_sky(vec3 place) { return moving_light(sky_moving_map, in_map(sky_moving, place), 0.01); }

// White, or coloured where the light came through jelly.
vec3 moving_key(vec3 place, float least) {
    vec3 at = in_map(key_moving, place);
    vec3 passed = mix(texture(tint_map, at.xy).rgb, vec3(1.0), moving_light(key_clear_map, at, least));
    return passed * moving_light(key_moving_map, at, least);
}

// A window of four panes and a long lamp, as a mirror would show them.  A curved skin smears what it mirrors: where the
// picture in it changes fast from pixel to pixel, its edges melt and its bars go under; on a dull skin they do so anyway.
float softboxes(vec3 mirrored, float dull) {
    vec3 across = normalize(cross(vec3(0.0, 1.0, 0.0), key_direction));
    vec3 upward = cross(key_direction, across);
    float ahead = dot(mirrored, key_direction);
    vec2 at = vec2(dot(mirrored, across), dot(mirrored, upward)) / max(ahead, 0.05);
    vec2 change = fwidth(at);
    float smear = dull + 2.5 * min(max(change.x, change.y), 1.0);
    vec2 inside = 1.0 - smoothstep(vec2(0.44, 0.59) - smear, vec2(0.44, 0.59) + smear, abs(at));
    vec2 bars = mix(vec2(1.0), smoothstep(vec2(0.03 - 0.4 * smear), vec2(0.03 + 0.4 * smear), abs(at)), exp(-6.0 * smear));
    float window = ahead > 0.05 ? inside.x * inside.y * bars.x * bars.y / (1.0 + 2.0 * smear) : 0.0;
    vec3 lamp = normalize(vec3(-key_direction.x, 0.55, key_direction.z * 0.2 - 0.4));
    return window + smoothstep(0.86, 0.98, dot(mirrored, lamp)) * 0.22;
}

// A fine grain, -1 .. 1, so that one sees by it what bends in what stands before it.
float hash(vec3 p) {
    p = fract(p * 0.3183099 + 0.1);
    p *= 17.0;
    return fract(p.x * p.y * p.z * (p.x + p.y + p.z));
}

float grain(vec3 place) {
    vec3 cell = floor(place), part = fract(place);
    part = part * part * (3.0 - 2.0 * part);
    vec4 low = vec4(hash(cell), hash(cell + vec3(1, 0, 0)), hash(cell + vec3(0, 1, 0)), hash(cell + vec3(1, 1, 0)));
    vec4 high = vec4(hash(cell + vec3(0, 0, 1)), hash(cell + vec3(1, 0, 1)), hash(cell + vec3(0, 1, 1)),
                     hash(cell + vec3(1, 1, 1)));
    vec4 mixed = mix(low, high, part.z);
    return 2.0 * mix(mix(mixed.x, mixed.y, part.x), mix(mixed.z, mixed.w, part.x), part.y) - 1.0;
}

vec3 sky(vec3 direction) {
    return mix(vec3(0.62, 0.56, 0.49), vec3(0.97, 0.98, 1.0), smoothstep(-0.5, 0.7, direction.y));
}
