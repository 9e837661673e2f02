// A warm floor with a fine grid of 10 cm that fades away, and the wall of light behind it.
uniform mat4 view_projection;
uniform vec3 focus;
uniform float reach;                // m, where the floor has faded out
in vec3 far_point;
out vec4 colour;

float grid(vec2 at, float spacing, float width) {
    vec2 cell = at / spacing;
    vec2 line = abs(fract(cell - 0.5) - 0.5) / max(fwidth(cell) * width, 1e-6);
    return (1.0 - min(min(line.x, line.y), 1.0)) * clamp(0.35 / max(fwidth(cell.x), fwidth(cell.y)) - 0.7, 0.0, 1.0);
}

void main() {
    vec3 along = far_point - eye;
    vec3 wall = mix(vec3(0.775, 0.745, 0.685), vec3(0.80, 0.775, 0.72), smoothstep(-0.1, 0.5, normalize(along).y));
    float distance = -eye.y / along.y;
    gl_FragDepth = 1.0;
    colour = vec4(wall, 1.0);
    if (distance <= 0.0 || distance > 1.0) return;
    vec3 place = eye + distance * along;
    vec4 clip = view_projection * vec4(place, 1.0);
    gl_FragDepth = clip.z / clip.w * 0.5 + 0.5;
    float away = length(place.xz - focus.xz);
    float fade = exp(-pow(away / reach, 2.0));
    vec3 light = key_light(place, vec3(0.0, 1.0, 0.0));
    vec3 base = vec3(0.80, 0.765, 0.70);
    vec3 lit = base * (0.62 * light + 0.40 * mix(0.25, 1.0, openness(place, vec3(0.0, 1.0, 0.0))));
    float lines = max(0.5 * grid(place.xz, 0.1, 1.0), grid(place.xz, 1.0, 1.3)) * fade;
    lit *= 1.0 - 0.16 * lines;
    colour = vec4(mix(wall, lit, mix(0.0, 1.0, fade)), 1.0);
}
