// One direction of a bell-shaped filter of nine taps.
uniform sampler2D source;
uniform vec2 along;                 // the distance between taps, in parts of the map
in vec2 at;
out vec2 moments;
void main() {
    vec2 sum = vec2(0.0);
    float weights = 0.0;
    for (int k = -4; k <= 4; ++k) {
        float weight = exp(-0.14 * float(k * k));
        sum += weight * texture(source, at + float(k) * along).rg;
        weights += weight;
    }
    moments = sum / weights;
}
