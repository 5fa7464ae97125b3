
// ---- The sky behind all

uniform vec2 shown;  // times as bright; 1 where bright light is bent to stay below white

in vec3 way;

out vec4 seen;

{{tone}}
void main() {
    vec3 level = normalize(way);
    level.y = max(level.y, 0.0);  // below the horizon there is only air
    seen = vec4(encoded(toned(sky_mirrored(level, 0.0))), 1.0);
}
