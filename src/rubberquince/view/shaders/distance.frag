uniform vec3 eye;
in vec3 place;
out float distance;
void main() { distance = length(eye - place); }
