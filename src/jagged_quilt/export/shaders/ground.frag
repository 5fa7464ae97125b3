
// ---- Drawing the ground

uniform vec2 ground_size;  // metres, east and south
uniform vec3 to_sun;       // unit
uniform vec3 sun, sky;     // light, linear
//?films
{{film_samplers}}
//.

in vec3 place;
in vec3 facing;

out vec4 seen;

void main() {
    Point point;
    point.position = place;
    point.normal = normalize(facing);
    point.step_x = dFdx(place);
    point.step_y = dFdy(place);
    vec2 uv = place.xz / ground_size;
    //?uv
    // How u and v grow with the place, from how they grow on the screen (Mikkelsen 2010).
    vec3 of_x = cross(point.step_y, point.normal), of_y = cross(point.normal, point.step_x);
    float whole = dot(point.step_x, of_x);
    point.uv = uv;
    point.along_u = (dFdx(uv.x) * of_x + dFdy(uv.x) * of_y) / whole;
    point.along_v = (dFdx(uv.y) * of_x + dFdy(uv.y) * of_y) / whole;
    //.
    //?ways
    point.way_u = normalize(point.along_u);
    point.way_v = normalize(point.along_v);
    //.
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
