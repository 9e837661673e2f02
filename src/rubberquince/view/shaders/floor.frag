// A warm floor with a fine grid of 10 cm that fades away, and the wall of light behind it.
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
    vec3 along = normalize(far_point - eye);
    vec3 wall = mix(vec3(0.775, 0.745, 0.685), vec3(0.80, 0.775, 0.72), smoothstep(-0.1, 0.5, along.y));
    colour = vec4(to_screen(wall), 0.0);
    float distance = -eye.y / along.y;
    if (distance <= 0.0 || distance > 40.0 * reach) return;
    vec3 place = eye + distance * along;
    float fade = exp(-pow(length(place.xz - focus.xz) / reach, 2.0));
    vec3 base = vec3(0.80, 0.765, 0.70);
    float direct = 0.52 * still_key(place), open = 0.48 * mix(0.3, 1.0, still_sky(place));
    float lines = max(0.5 * grid(place.xz, 0.1, 1.0), grid(place.xz, 1.0, 1.3)) * fade;
    vec3 lit = base * (direct + open) * (1.0 - 0.18 * lines);
    colour = vec4(to_screen(mix(wall, lit, fade)), direct / (direct + open) * fade);
}
