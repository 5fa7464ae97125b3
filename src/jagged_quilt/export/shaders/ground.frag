
// ---- Drawing the ground

uniform vec2 ground_size;  // metres, east and south
uniform vec3 to_sun;       // unit
uniform vec3 sun, sky;     // light, linear
//?films
{{film_samplers}}
//.
{{point}}
void main() {
    vec2 uv = place.xz / ground_size;
    Point point = point_of(uv, normalize(facing));
    float weight[{{weighed}}];
    {{weights_at}};
    //?films
    float film[FILMS];
{{film_reads}}
    //.
    Blended surface = blend(point, weight{{film_argument}});
    // Light of your own goes here: this is a sun without shadows and an even sky, on what reflects alike in all directions.
    vec3 light = sun * max(dot(surface.normal, to_sun), 0.0) + sky * surface.occlusion;
    vec3 colour = surface.diffuse * light;
    seen = vec4(mix(12.92 * colour, 1.055 * pow(max(colour, 0.0), vec3(1.0 / 2.4)) - 0.055, step(0.0031308, colour)), 1.0);
}
