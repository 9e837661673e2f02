// The cells that carry a solid: flat faces with inked edges.
uniform vec3 base_colour;
in vec3 place;
in vec3 corner;
out vec4 colour;
void main() {
    vec3 n = normalize(cross(dFdx(place), dFdy(place)));
    if (dot(n, eye - place) < 0.0) n = -n;
    vec3 edge = smoothstep(vec3(0.0), fwidth(corner) * 1.4, corner);
    float ink = 1.0 - min(edge.x, min(edge.y, edge.z));
    float facing = max((dot(n, key_direction) + 0.35) / 1.35, 0.0);
    vec3 lit = mix(base_colour, vec3(0.8), 0.25) * (facing * 0.72 + 0.42 * sky(n));
    colour = vec4(to_screen(mix(lit, vec3(0.03, 0.025, 0.02), ink * 0.75)), 1.0);
}
