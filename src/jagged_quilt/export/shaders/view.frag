
// ---- What the eye sees: lit, or one part of what it is made of

//?ground
uniform vec2 ground_size;               // metres, east and south
uniform highp sampler2D normals;        // of the ground, from sample to sample
uniform highp sampler2D open_sky;       // how much of the sky the ground leaves open
//.
//?mesh
in vec2 lies_at;
{{carried}}
//.
uniform highp sampler2DShadow shadows;  // how far the light of `shadowing` reaches
uniform mat4 to_shadow;                 // world to that, 0..1
uniform highp sampler2DShadow near_shadows;  // the same, finer, of what lies around what is looked at
uniform mat4 to_near;
uniform int shadowing;                  // the lamp that casts shadows; -1 for none
uniform vec4 air;                       // the light of the horizon, and the share of a metre that is air
uniform vec2 shown;                     // times as bright; 1 where bright light is bent to stay below white
uniform int part;                       // which of the parts below
uniform int chosen;                     // a layer
uniform int dark;                       // lamps that are out, a bit for each
uniform int left_out;                   // roles whose maps are left out, a bit for each
uniform vec3 keys[{{named}}];           // the colours of layers, linear
//?cut_out
uniform float cut_out;                  // the opacity below which nothing is there
//.
//?film_maps
{{film_samplers}}
//.
{{point}}
{{tone}}
float free_at(highp sampler2DShadow map, vec3 at) {
    vec2 texel = 1.0 / vec2(textureSize(map, 0));
    float sum = 0.0;
    for (int which = 0; which < 4; ++which)
        sum += texture(map, vec3(at.xy + texel * (vec2(which & 1, which >> 1) - 0.5), at.z));
    return 0.25 * sum;
}

float free_of_shadow(vec3 normal) {
    vec4 off = vec4(place + normal * {{shadow_lift}}, 1.0);
    vec3 close = (to_near * off).xyz, at = (to_shadow * off).xyz;
    if (all(greaterThan(close, vec3(0.0))) && all(lessThan(close, vec3(1.0)))) return free_at(near_shadows, close);
    if (any(lessThan(at, vec3(0.0))) || any(greaterThan(at, vec3(1.0)))) return 1.0;
    return free_at(shadows, at);
}

vec2 between_samples(vec2 uv, vec2 size) {
    return (uv * (size - 1.0) + 0.5) / size;
}

void main() {
    //?ground
    vec2 uv = place.xz / ground_size;
    vec3 normal = normalize(texture(normals, between_samples(uv, vec2(textureSize(normals, 0)))).xyz);
    //.
    //?mesh
    vec2 uv = lies_at;
    vec3 normal = normalize(facing);
    //.
    Point point = point_of(uv, normal);
    {{as_wide}}
    float weight[{{weighed}}];
    //?films
    float film[FILMS];
    //.
    //?ground
    {{weights_at}};
    //?films
{{film_reads}}
    //.
    //.
    //?mesh
{{taken}}
    //.
    if (part == {{part_weights}} || part == {{part_layer}}) {
        vec3 colour = vec3(0.0);
        for (int which = 0; which < {{named}}; ++which)
            colour += part == {{part_weights}} ? weight[which] * keys[which] : which == chosen ? vec3(weight[which]) : vec3(0.0);
        seen = vec4(part == {{part_weights}} ? encoded(colour) : colour, 1.0);
        return;
    }
    if (part == {{part_slope}}) {
        float degrees = acos(clamp(normal.y, 0.0, 1.0)) * 57.29578;
        float line = abs(fract(degrees / 10.0 - 0.5) - 0.5) / max(fwidth(degrees / 10.0), 1e-4);
        seen = vec4(mix(vec3(0.95, 0.62, 0.25), vec3(degrees / 90.0), clamp(line - 0.5, 0.0, 1.0)), 1.0);
        return;
    }
    if (part == {{part_facing}}) {
        seen = vec4(0.5 + 0.5 * normal, 1.0);
        return;
    }
    Blended surface = blend(point, weight{{film_argument}});
    //?cut_out
    if (surface.opacity < cut_out) discard;
    //.
{{leave_out}}
{{parts}}
    vec3 to_eye = normalize(eye - place);
    float free[{{lamp_rows}}];
    for (int which = 0; which < {{lamp_rows}}; ++which) free[which] = 1.0;
    if (shadowing >= 0) free[shadowing] = free_of_shadow(normal);
    for (int which = 0; which < {{lamp_rows}}; ++which) if ((dark & (1 << which)) != 0) free[which] = 0.0;
    float sky = 1.0;
    //?ground
    sky = texture(open_sky, between_samples(uv, vec2(textureSize(open_sky, 0)))).r;
    //.
    Lit lit;
    bool plain = part == {{part_plain}} || part == {{part_grid}};
    lit.diffuse = part == {{part_plain}} ? vec3(0.5) : surface.diffuse;
    lit.normal = plain ? normal : surface.normal;
    lit.specular = plain ? vec3(0.04) : surface.specular;
    lit.roughness = plain ? 0.9 : surface.roughness;
    lit.occlusion = sky * (plain ? 1.0 : surface.occlusion);
    //?coat
{{coat}}
    //.
    vec3 light = light_of(lit, place, to_eye, free);
    float clear = exp(-distance(eye, place) * air.w);
    seen = vec4(encoded(toned(mix(air.rgb, light, clear))), 1.0);
}
