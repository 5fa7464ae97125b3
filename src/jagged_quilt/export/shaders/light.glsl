// ---- Light: {{title}}
//
//     vec3 seen = light_of(surface, place, to_eye, free);
//
// `free` says of each lamp how free the way to it is: 0 in shadow. Lambert below a GGX lobe (Walter et al. 2007) with the
// height-correlated Smith term and Schlick's Fresnel; what the lobe loses by counting only the first reflection is given back by
// its colour (Turquin 2019), and the body gets what the surface lets through.
//?coat
// A coat (KHR_materials_clearcoat) throws back coat x Fresnel by a white lobe of its own, and dims what lies below by just that.
//.

#define LAMPS {{lamps}}

// A sun, or a lamp that stands somewhere.
struct Lamp {
    vec4 place;   // metres; or towards a sun, unit; in w 1 for a lamp
    vec4 colour;  // linear, times its strength; in w the metres at which it has faded out, or 0
    vec4 falls;   // radius within which it grows no brighter; what divides it: constant, linear and quadratic term, or the square alone where the first is below 0
    vec4 cone;    // its axis, and the cosine of the outer angle; -2 for none
    vec4 edge;    // the cosine of the inner angle
};

layout(std140) uniform Lights {
    Lamp lamps[{{lamp_rows}}];
};

uniform sampler2D thrown_back;  // by the square root of the cosine to the eye, and by roughness: a and b of f0 a + b
//?gradient
uniform sampler2D sky_light;    // by how far up a direction points: the sky's mirror image for nine roughnesses, then what it sheds on a normal
//.
//?pictures
uniform sampler2D sky_light;    // the sky all around, from north over east, zenith on top; below it its mirror images, each rougher; then nine harmonics of what it sheds
//.

const float PI = 3.14159265359;

// What light falls on, at a point; colours are linear, vectors are unit and in the world.
struct Lit {
    vec3 diffuse, normal, specular;
    float roughness, occlusion;
    //?coat
    vec3 emission, coat_normal;
    float coat, coat_roughness;
    //.
};

// Between four texels of a table, by their numbers: tables of floats are not filtered everywhere.
vec4 table_at(sampler2D table, vec2 place) {
    ivec2 last = textureSize(table, 0) - 2;
    ivec2 at = min(ivec2(max(place, 0.0)), last);
    vec2 part = place - vec2(at);
    vec4 one = mix(texelFetch(table, at, 0), texelFetch(table, at + ivec2(1, 0), 0), part.x);
    return mix(one, mix(texelFetch(table, at + ivec2(0, 1), 0), texelFetch(table, at + ivec2(1, 1), 0), part.x), part.y);
}

// How much of light from all around a lobe throws towards the eye: f0 a + b.
vec2 thrown_by(float rough, float faced) {
    return table_at(thrown_back, vec2(sqrt(clamp(faced, 1e-3, 1.0)) * {{last_angle}}.0, rough * {{last_roughness}}.0)).xy;
}

//?gradient
float column_of(float up) {
    return (clamp(up, -1.0, 1.0) + 1.0) * {{half_ups}}.0;
}

vec3 sky_mirrored(vec3 way, float rough) {
    return table_at(sky_light, vec2(column_of(way.y), rough * {{last_sky}}.0)).rgb;
}

vec3 sky_shed(vec3 normal) {
    return table_at(sky_light, vec2(column_of(normal.y), {{shed_row}}.0)).rgb;
}
//.
//?pictures
const ivec3 PICTURES[{{pictures}}] = ivec3[](  // of each mirror image its first row, rows, columns
    {{picture_rows}});

// One of the mirror images between its texels: the first column follows on the last.
vec3 sky_picture(vec2 place, int which) {
    ivec3 lies = PICTURES[which];
    vec2 at = vec2(place.x * float(lies.z) - 0.5, clamp(place.y * float(lies.y) - 0.5, 0.0, float(lies.y - 1)));
    int left = int(floor(at.x)), top = min(int(at.y), lies.y - 2);
    vec2 part = at - vec2(float(left), float(top));
    int right = left + 1 < lies.z ? left + 1 : 0;
    left = left < 0 ? left + lies.z : left;
    top += lies.x;
    vec3 above = mix(texelFetch(sky_light, ivec2(left, top), 0).rgb, texelFetch(sky_light, ivec2(right, top), 0).rgb, part.x);
    vec3 below = mix(texelFetch(sky_light, ivec2(left, top + 1), 0).rgb, texelFetch(sky_light, ivec2(right, top + 1), 0).rgb, part.x);
    return mix(above, below, part.y);
}

vec3 sky_mirrored(vec3 way, float rough) {
    float turn = atan(way.x, -way.z) / (2.0 * PI);
    vec2 place = vec2(turn < 0.0 ? turn + 1.0 : turn, acos(clamp(way.y, -1.0, 1.0)) / PI);
    float at = rough * {{last_picture}}.0;
    int which = min(int(at), {{last_picture}} - 1);
    return mix(sky_picture(place, which), sky_picture(place, which + 1), at - float(which));
}

// What the sky sheds on a normal: nine spherical harmonics (Ramamoorthi and Hanrahan 2001).
vec3 sky_shed(vec3 n) {
    float basis[9] = float[](1.0, n.y, n.z, n.x, n.x * n.y, n.y * n.z, 3.0 * n.z * n.z - 1.0, n.x * n.z, n.x * n.x - n.y * n.y);
    vec3 sum = vec3(0.0);
    for (int term = 0; term < 9; ++term) sum += basis[term] * texelFetch(sky_light, ivec2(term, {{shed_row}}), 0).rgb;
    return max(sum, 0.0);
}
//.

// The unit vector towards a lamp, and in w how much of its strength arrives.
vec4 reach_of(Lamp lamp, vec3 place) {
    if (lamp.place.w == 0.0) return vec4(lamp.place.xyz, 1.0);
    vec3 way = lamp.place.xyz - place;
    float square = dot(way, way), far = sqrt(square), radius = lamp.falls.x;
    way /= max(far, 1e-9);
    vec3 terms = lamp.falls.yzw;
    float below = terms.x < 0.0 ? max(square, radius * radius)
                                : max(dot(terms, vec3(1.0, far, square)), max(dot(terms, vec3(1.0, radius, radius * radius)), 1e-9));
    float part = 1.0 / below;
    if (lamp.colour.w > 0.0) {
        float share = far / lamp.colour.w;
        share *= share;
        part *= max(1.0 - share * share, 0.0);
    }
    if (lamp.cone.w > -2.0) {
        float inside = clamp((-dot(way, lamp.cone.xyz) - lamp.cone.w) / max(lamp.edge.x - lamp.cone.w, 1e-3), 0.0, 1.0);
        part *= inside * inside;
    }
    return vec4(way, part);
}

// A lobe without Fresnel.
float lobe_of(float n_l, float n_v, float n_h, float rough) {
    float square = max(rough, {{smoothest}});
    square *= square;
    square *= square;
    float base = n_h * n_h * (square - 1.0) + 1.0;
    float smith = 0.5 / (n_l * sqrt(n_v * n_v * (1.0 - square) + square) + n_v * sqrt(n_l * n_l * (1.0 - square) + square) + 1e-6);
    return square * smith / (PI * base * base);
}

// The light that leaves a point towards the eye.
vec3 light_of(Lit lit, vec3 place, vec3 to_eye, float free[{{lamp_rows}}]) {
    float rough = clamp(lit.roughness, 0.0, 1.0), faced = dot(lit.normal, to_eye), n_v = clamp(faced, 1e-3, 1.0);
    vec2 thrown = thrown_by(rough, faced);
    vec3 more = 1.0 + lit.specular * (1.0 / (thrown.x + thrown.y) - 1.0);
    vec3 back = min((lit.specular * thrown.x + thrown.y) * more, 1.0);
    vec3 body = lit.diffuse * (1.0 - back);
    vec3 sky = body * sky_shed(lit.normal) + back * sky_mirrored(2.0 * faced * lit.normal - to_eye, rough);
    vec3 on_body = vec3(0.0), on_surface = vec3(0.0);
    //?coat
    float coat_faced = dot(lit.coat_normal, to_eye), coat_n_v = clamp(coat_faced, 1e-3, 1.0);
    float coat_rough = clamp(lit.coat_roughness, 0.0, 1.0);
    vec2 coat_thrown = thrown_by(coat_rough, coat_faced);
    float coat_share = clamp(lit.coat, 0.0, 1.0) * (0.04 + 0.96 * pow(1.0 - coat_n_v, 5.0));
    vec3 coat = coat_share * lit.occlusion * sky_mirrored(2.0 * coat_faced * lit.coat_normal - to_eye, coat_rough);
    //.
    for (int which = 0; which < LAMPS; ++which) {
        vec4 reach = reach_of(lamps[which], place);
        vec3 colour = lamps[which].colour.rgb, half_way = to_eye + reach.xyz;
        half_way /= max(length(half_way), 1e-6);
        float n_l = clamp(dot(lit.normal, reach.xyz), 0.0, 1.0), arriving = reach.w * free[which];
        float v_h = clamp(dot(to_eye, half_way), 0.0, 1.0);
        vec3 fresnel = lit.specular + (1.0 - lit.specular) * pow(1.0 - v_h, 5.0);
        float lobe = n_l * arriving * lobe_of(n_l, n_v, clamp(dot(lit.normal, half_way), 0.0, 1.0), rough);
        on_body += n_l * arriving * colour;
        on_surface += lobe * fresnel * colour;
        //?coat
        float coat_n_l = clamp(dot(lit.coat_normal, reach.xyz), 0.0, 1.0);
        float coat_lobe = lobe_of(coat_n_l, coat_n_v, clamp(dot(lit.coat_normal, half_way), 0.0, 1.0), coat_rough);
        coat += coat_n_l * arriving * coat_lobe * coat_share / (coat_thrown.x + coat_thrown.y) * colour;
        //.
    }
    vec3 seen = on_body * body / PI + on_surface * more + sky * lit.occlusion;
    //?coat
    seen = (seen + lit.emission) * (1.0 - coat_share) + coat;
    //.
    return seen;
}
