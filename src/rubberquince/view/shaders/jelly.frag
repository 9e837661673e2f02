// Jelly: light is swallowed on its way through (Beer 1852) and scattered inside; the skin mirrors the window.
uniform vec3 base_colour;
uniform float radius;               // m, of the body: how far light gets is a part of it
uniform mat4 view_projection;
uniform sampler2D behind;           // the picture without jelly
uniform sampler2D far_side;         // distance to the farthest jelly, m
in vec3 place;
in vec3 normal;
out vec4 colour;

void main() {
    vec3 n = normalize(normal), v = normalize(eye - place);
    float facing = max(dot(n, v), 0.0);
    vec4 clip = view_projection * vec4(place, 1.0);
    vec2 at = clip.xy / clip.w * 0.5 + 0.5;
    float through = clamp(texture(far_side, at).r - length(eye - place), 0.0, 4.0 * radius) / radius;
    vec3 swallow = -log(clamp(base_colour, vec3(0.02), vec3(0.96)));

    // what is behind, seen bent by the skin
    vec3 bent = refract(-v, n, 1.0 / 1.34);
    vec4 exit = view_projection * vec4(place + bent * min(through, 1.2) * radius * 0.55, 1.0);
    vec3 seen = texture(behind, clamp(exit.xy / exit.w * 0.5 + 0.5, 0.002, 0.998)).rgb;
    vec3 passed = seen * seen * exp(-swallow * (0.18 + 0.85 * through));

    // the window's light on its way in, and what the inside sends back
    vec3 in_key = in_map(key_moving, place - n * 0.02 * radius);
    vec2 cover = texture(key_clear_map, in_key.xy).rg;
    float deep = max(in_key.z - cover.r / max(cover.g, 1e-4), 0.0) * range_moving / radius;
    float shaded = mix(0.4, 1.0, moving_light(key_moving_map, in_key, 0.004));      // light comes round from the sides
    vec3 glow = exp(-(0.22 + 0.50 * swallow) * deep * 1.25) * still_key(place) * shaded;
    float wrapped = max((dot(n, key_direction) + 0.8) / 1.8, 0.0);
    float open = mix(0.45, 1.0, still_sky(place));
    vec3 inner = base_colour * (0.85 * glow + 0.30 * wrapped + 0.24 * sky(n) * open);

    // thin flanks and rims let the light of the far side through
    float behind_light = pow(clamp(dot(-v, normalize(key_direction - 0.45 * n)), 0.0, 1.0), 2.0);
    vec3 warm = pow(base_colour, vec3(0.75)) * (0.55 * exp(-2.2 * through) + 0.35 * behind_light);
    inner += warm * mix(vec3(0.35), vec3(1.0), glow);

    float cloudy = 1.0 - exp(-0.75 * through - 0.10);
    vec3 lit = mix(passed, inner, cloudy * 0.72);
    float mirror = 0.03 + 0.62 * pow(1.0 - facing, 5.0);
    vec3 mirrored = reflect(-v, n);
    lit = mix(lit, sky(mirrored) * 0.85, mirror * 0.5);
    lit += softboxes(mirrored, 0.24) * vec3(1.0, 0.97, 0.90) * (0.55 + 0.3 * mirror) * mix(0.35, 1.0, still_key(place));
    colour = vec4(to_screen(lit), 1.0);
}
