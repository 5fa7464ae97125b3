// {{title}}
//
// Fill a Point where you shade, ask weights for it, and blend:
//
//     float weight[{{weighed}}];
//     {{weights_at}};  // uv of the ground
//     Blended surface = blend(point, weight{{film_argument}});
//
// Reading order: `blend` at the end says how layers meet; `look_of` what one layer shows; `laid_on` how it lies.
// Lengths are metres, the world is right-handed with y up, colours are linear light, rows of a texture run down.
//
// Cost of a pixel
{{cost}}

#define LAYERS {{layers}}
//?far
#define NAMED {{named}}  // of which weights tell; the others stand for some of them far from the eye
//.
#define CHARTS {{charts}}
//?films
#define FILMS {{films}}
//.

{{samplers}}
uniform vec3 eye;  // where the camera is, metres; read where a layer lies otherwise far from it

// How a texture lies: places of the world become metres of the pattern.
struct Chart {
    vec4 axis_x, axis_y, axis_z;  // of its own space, in the world; in w its origin along each
    vec4 turn;                    // rows of the 2 x 2 matrix that takes metres of the surface to those of the pattern
    vec4 placed;                  // offset u, v in metres; how much longer a tile is along v; 1 if slopes go along unit directions
    vec4 around;                  // radius, or metres of one unit of uv; how much longer the pattern is around; metres around for one outwards
    vec4 limits;                  // cosines of slope between which the sides of a triplanar come in; metres from `eye` between which they do
    vec4 eye;                     // of those limits; in w the kind of chart
};

// What is said of a layer.
struct Layer {
    ivec4 which;    // swatch, chart, way to share planes, filter
    ivec4 slices;   // of the arrays, in their order
    //?many
    ivec4 more_slices;  // of those beyond the fourth
    //.
    ivec4 ways;     // wrap along u and v, what is done to patches, most samples along the footprint
    vec4 lies;      // repeats for a metre, sharpness, patches for a metre, border of patches
    vec4 meets;     // hardness, relief, rise (both of the tallest relief)
    vec4 tunes;     // normals so much steeper, roughness added, occlusion so much stronger
    vec4 red, green, blue;  // rows of the matrix for linear diffuse colours
    //?per_map
    ivec4 per_map;    // the charts of maps that lie otherwise, or -1
    //.
    //?shuffle
{{means}}
    //.
};

layout(std140) uniform Blend {
    Layer layers[LAYERS];
    Chart charts[CHARTS];
    //?meets
    vec4 hardness_between[LAYERS * {{pair_rows}}];  // where each layer meets each other one, four in a vector
    //.
    //?films
    vec4 film_looks[FILMS * 4];  // tint, softness; colour, hides; roughness, specular, level, hollows; which of them count
    //.
};

// Where a pixel is.
struct Point {
    vec3 position;
    vec3 normal;    // of the surface, unit
    vec3 step_x;    // metres to the next pixel to the right: dFdx(position)
    vec3 step_y;    // and down: dFdy(position)
    //?uv
    vec2 uv;
    vec3 along_u;   // how u and v grow with the place, 1/m
    vec3 along_v;
    //.
    //?ways
    vec3 way_u;     // unit directions of u and v in the surface
    vec3 way_v;
    //.
};

// What is blended; colours are linear light, the normal is in the world.
struct Blended {
{{outputs}}
};

// One texel of every array, colours as linear light.
struct Texel {
{{texel_fields}}
};

// What a layer shows, summed over its planes and patches. Slopes are vectors in the world along which its relief falls.
struct Look {
{{look_fields}}
};

//?exact
// ---- Reading texels, filtered here: arrays are bound as they are stored, without filters, and their mips as further slices in
// the upper left corner, since some drivers read one mip for neighbouring pixels.

vec3 decoded(vec3 srgb) {
    return mix(srgb / 12.92, pow((srgb + 0.055) / 1.055, vec3(2.4)), step(0.04045, srgb));
}

int folded(int at, int side, int wrap) {
    if (wrap == 1) return clamp(at, 0, side - 1);
    if (wrap == 2) {
        at = at - 2 * side * int(floor(float(at) / float(2 * side)));
        return at < side ? at : 2 * side - 1 - at;
    }
    return at - side * int(floor(float(at) / float(side)));
}

vec4 texel_at(sampler2DArray array, bool is_srgb, int layer, int slice, ivec2 at, int level) {
    int side = {{side}} >> level;
    ivec3 place = ivec3(folded(at.x, side, layers[layer].ways.x), folded(at.y, side, layers[layer].ways.y), slice + textureSize(array, 0).z / {{levels}} * level);
    vec4 texel = texelFetch(array, place, 0);
    return is_srgb ? vec4(decoded(texel.rgb), texel.a) : texel;
}

vec4 between_texels(sampler2DArray array, bool is_srgb, int layer, int slice, vec2 uv, int level) {
    vec2 place = uv * float({{side}} >> level) - 0.5;
    ivec2 at = ivec2(floor(place));
    vec2 part = place - floor(place);
    return mix(
        mix(texel_at(array, is_srgb, layer, slice, at, level), texel_at(array, is_srgb, layer, slice, at + ivec2(1, 0), level), part.x),
        mix(texel_at(array, is_srgb, layer, slice, at + ivec2(0, 1), level), texel_at(array, is_srgb, layer, slice, at + ivec2(1, 1), level), part.x),
        part.y);
}

vec4 read(sampler2DArray array, bool is_srgb, int layer, int slice, vec2 uv, float level) {
    //?nearest
    if (layers[layer].which.w == 0) {
        return texel_at(array, is_srgb, layer, slice, ivec2(floor(uv * {{side}}.0)), 0);
    }
    //.
    return between_texels(array, is_srgb, layer, slice, uv, int(level));
}
//.
//?sampler
// ---- Reading texels by the sampler: linear between texels and mips, repeating; colour arrays bound as sRGB.

//?folds
// Of what does not repeat, places are folded back here.
float folded(float at, int wrap, float half_texel) {
    if (wrap == 0) return at;
    float inside = wrap == 1 ? at : 1.0 - abs(mod(at, 2.0) - 1.0);
    return clamp(inside, half_texel, 1.0 - half_texel);
}
//.

vec4 read(sampler2DArray array, bool is_srgb, int layer, int slice, vec2 uv, float level{{steps_parameter}}) {
    //?nearest
    if (layers[layer].which.w == 0) {
        float side = float(textureSize(array, 0).x);
        uv = (floor(uv * side) + 0.5) / side;
    }
    //.
    //?folds
    float half_texel = 0.5 / float(textureSize(array, int(ceil(level))).x);
    uv = vec2(folded(uv.x, layers[layer].ways.x, half_texel), folded(uv.y, layers[layer].ways.y, half_texel));
    //.
    //?fine
    // As many samples along the footprint as the sampler is set to take (TEXTURE_MAX_ANISOTROPY), wherever it places them.
    if (layers[layer].which.w == 3) return textureGrad(array, vec3(uv, float(slice)), steps.xy, steps.zw);
    //.
    return textureLod(array, vec3(uv, float(slice)), level);
}
//.

Texel texel_of(int layer, vec2 uv, float level{{steps_parameter}}) {
    Texel texel;
{{texel_reads}}
    return texel;
}

// ---- How a layer lies

// Where a plane of a chart lies at a point: metres of the pattern, and how they grow with the place.
struct Laid {
    vec2 place;
    vec3 along_u, along_v;
};

// Metres of the surface to metres of the pattern.
Laid turned(int chart, vec2 place, vec3 along_u, vec3 along_v) {
    place -= charts[chart].placed.xy;
    return Laid(
        vec2(dot(charts[chart].turn.xy, place), dot(charts[chart].turn.zw, place)),
        charts[chart].turn.x * along_u + charts[chart].turn.y * along_v,
        charts[chart].turn.z * along_u + charts[chart].turn.w * along_v);
}

vec3 in_chart(int chart, vec3 vector) {
    return vec3(dot(charts[chart].axis_x.xyz, vector), dot(charts[chart].axis_y.xyz, vector), dot(charts[chart].axis_z.xyz, vector));
}
//?flat

// One of three planes, laid on so that each side reads as from outside; 0 faces x, 1 y, 2 z of the chart.
Laid on_plane(int chart, Point point, int plane) {
    vec3 place = in_chart(chart, point.position) - vec3(charts[chart].axis_x.w, charts[chart].axis_y.w, charts[chart].axis_z.w);
    float side = in_chart(chart, point.normal)[plane] >= 0.0 ? 1.0 : -1.0;
    vec3 right = plane == 0 ? -side * charts[chart].axis_z.xyz : plane == 1 ? charts[chart].axis_x.xyz : side * charts[chart].axis_x.xyz;
    vec3 down = plane == 1 ? side * charts[chart].axis_z.xyz : -charts[chart].axis_y.xyz;
    float u = plane == 0 ? -side * place.z : plane == 1 ? place.x : side * place.x;
    float v = plane == 1 ? side * place.z : -place.y;
    return turned(chart, vec2(u, v), right, down);
}
//.
//?uv

Laid by_uv(int chart, Point point) {
    float metres = charts[chart].around.x;
    return turned(chart, metres * point.uv, metres * point.along_u, metres * point.along_v);
}
//.
//?round

// Around the y axis of the chart: on a sphere, a tube or a disc. Gradients are derivatives of the place, so that nothing
// happens where u begins again.
Laid around_axis(int chart, Point point, int kind) {
    vec3 q = in_chart(chart, point.position) - vec3(charts[chart].axis_x.w, charts[chart].axis_y.w, charts[chart].axis_z.w);
    float radius = charts[chart].around.x, far = max(length(q.xz), 1e-6 * radius);
    vec2 place;
    place.x = charts[chart].around.y * radius * atan(q.x, q.z);
    vec3 of_u = charts[chart].around.y * radius * vec3(q.z, 0.0, -q.x) / (far * far), of_v;
    if (kind == {{sphere_kind}}) {
        float away = max(length(q), 1e-6 * radius);
        place.y = radius * atan(far, q.y);
        of_v = radius / (away * away) * vec3(q.x * q.y / far, -far, q.z * q.y / far);
    } else if (kind == {{disc_kind}}) {
        place.y = far;
        of_v = vec3(q.x, 0.0, q.z) / far;
        place.x += charts[chart].around.z * far;
        of_u += charts[chart].around.z * of_v;
    } else {
        place.y = -q.y;
        of_v = vec3(0.0, -1.0, 0.0);
    }
    mat3 axes = mat3(charts[chart].axis_x.xyz, charts[chart].axis_y.xyz, charts[chart].axis_z.xyz);
    return turned(chart, place, axes * of_u, axes * of_v);
}
//.
//?flat

// How much each plane of a flat chart counts: one alone, the one that the surface faces most, or all by |n| to a power.
vec3 shares_of(int layer, int chart, Point point) {
    vec3 facing = abs(in_chart(chart, point.normal));
    if (layers[layer].which.z == {{only_y}}) return vec3(0.0, 1.0, 0.0);
    if (layers[layer].which.z == {{only_z}}) return vec3(0.0, 0.0, 1.0);
    //?box
    if (layers[layer].which.z == {{faced_most}}) {
        if (facing.y >= max(facing.x, facing.z)) return vec3(0.0, 1.0, 0.0);
        return facing.x >= facing.z ? vec3(1.0, 0.0, 0.0) : vec3(0.0, 0.0, 1.0);
    }
    //.
    vec3 share = pow(max(facing, vec3(1e-9)), vec3(layers[layer].lies.y));
    share = max(share - {{plane_cut}} * (share.x + share.y + share.z), 0.0);
    share /= share.x + share.y + share.z;
    //?limited
    float sides = 1.0;
    if (charts[chart].limits.x < 1.0) sides *= clamp((charts[chart].limits.x - facing.y) / max(charts[chart].limits.x - charts[chart].limits.y, 1e-6), 0.0, 1.0);
    if (charts[chart].limits.w > 0.0) {
        float away = length(point.position - charts[chart].eye.xyz);
        sides *= clamp((away - charts[chart].limits.z) / max(charts[chart].limits.w - charts[chart].limits.z, 1e-6), 0.0, 1.0);
    }
    share = vec3(0.0, 1.0 - sides, 0.0) + sides * share;
    //.
    return share;
}
//.

// ---- What a layer shows

{{add_texel}}

// The mip in which a step to the next pixel is one texel, where mips are read.
float level_of(int layer, Laid laid, Point point) {
    if (layers[layer].which.w < 2) return 0.0;
    float step_x = length(vec2(dot(point.step_x, laid.along_u), dot(point.step_x, laid.along_v)));
    float step_y = length(vec2(dot(point.step_y, laid.along_u), dot(point.step_y, laid.along_v)));
    return clamp(log2(max(max(step_x, step_y), 1e-10) * layers[layer].lies.x * {{side}}.0), 0.0, {{last_level}}.0);
}
//?cheap

// Directions as unit ones in the surface, so that slopes are taken as they are.
void make_unit(inout vec3 along_u, inout vec3 along_v, vec3 normal) {
    along_u = normalize(along_u - dot(along_u, normal) * normal);
    along_v = normalize(along_v - dot(along_v, normal) * normal);
}
//.
//?shuffle

uint hashed(uint h) {
    h = (h ^ (h >> 16u)) * 0x7FEB352Du;
    h = (h ^ (h >> 15u)) * 0x846CA68Bu;
    return h ^ (h >> 16u);
}

// A shuffled texture lies in patches on a grid of triangles, which fade into each other.
struct Patches {
    ivec2 corner[3];
    vec3 weight;
    float spread;  // by which the difference from the mean grows, so that mean and variance stay (Heitz and Neyret 2018)
};

Patches patches_at(int layer, vec2 place) {
    Patches found;
    vec2 p = place * layers[layer].lies.z;
    vec2 grid = vec2(p.x - p.y * 0.57735026919, p.y * 1.15470053838);
    ivec2 cell = ivec2(floor(grid));
    vec2 within = grid - floor(grid);
    vec3 near;
    if (within.x + within.y <= 1.0) {
        near = vec3(1.0 - within.x - within.y, within.y, within.x);
        found.corner[0] = cell;
    } else {
        near = vec3(within.x + within.y - 1.0, 1.0 - within.x, 1.0 - within.y);
        found.corner[0] = cell + ivec2(1, 1);
    }
    found.corner[1] = cell + ivec2(0, 1);
    found.corner[2] = cell + ivec2(1, 0);
    vec3 weight = max(layers[layer].lies.w - (max(near.x, max(near.y, near.z)) - near), 0.0);
    found.weight = weight * weight / dot(weight, weight);
    found.spread = inversesqrt(dot(found.weight, found.weight));
    return found;
}

// Which way a patch is turned (the first row of a rotation), and whether it is mirrored (in z); then its part of the texture.
vec3 way_of_patch(int layer, uint h) {
    vec2 way = vec2(1.0, 0.0);
    if ((layers[layer].ways.z & {{any_turn}}) != 0) {
        float t = 2.0 * float(h >> 16u) / 65536.0 - 1.0;
        way = ((h >> 5u & 1u) != 0u ? 1.0 : -1.0) * vec2(1.0 - t * t, 2.0 * t) / (1.0 + t * t);
    } else if ((layers[layer].ways.z & {{quarter_turn}}) != 0) {
        uint quarter = h >> 3u & 3u;
        way = quarter == 0u ? vec2(1, 0) : quarter == 1u ? vec2(0, 1) : quarter == 2u ? vec2(-1, 0) : vec2(0, -1);
    }
    return vec3(way, (layers[layer].ways.z & {{flips}}) != 0 && (h >> 6u & 1u) != 0u ? -1.0 : 1.0);
}

// Move what is laid into a patch; slopes turn with it.
void lay_patch(int layer, ivec2 at, inout Laid laid, inout vec3 along_u, inout vec3 along_v) {
    uint h = hashed(hashed(uint(at.x) ^ uint(layers[layer].ways.z / {{seed}}) * 0x9E3779B1u) ^ uint(at.y) * 0x85EBCA77u);
    vec2 middle = vec2(float(at.x) + 0.5 * float(at.y), 0.86602540378 * float(at.y)) / layers[layer].lies.z;
    vec3 way = way_of_patch(layer, h);
    mat2 turn = mat2(way.z * way.x, way.y, -way.z * way.y, way.x);  // by columns
    vec2 to = middle;
    if ((layers[layer].ways.z & {{shifts}}) != 0) {
        uint other = hashed(h ^ 0x68E31DA4u);
        to = vec2(float(other >> 16u), float(other & 0xFFFFu)) / 65536.0 / layers[layer].lies.x;
    }
    vec3 u = laid.along_u, v = laid.along_v, own_u = along_u, own_v = along_v;
    laid = Laid(turn * (laid.place - middle) + to, turn[0].x * u + turn[1].x * v, turn[0].y * u + turn[1].y * v);
    along_u = turn[0].x * own_u + turn[1].x * own_v;
    along_v = turn[0].y * own_u + turn[1].y * own_v;
}
//.

// Where a plane of a chart lies.
Laid laid_on(int chart, Point point, int plane) {
    int kind = int(charts[chart].eye.w);
    //?uv
    if (kind == {{uv_kind}}) return by_uv(chart, point);
    //.
    //?round
    if (kind != {{flat_kind}}) return around_axis(chart, point, kind);
    //.
    //?flat
    return on_plane(chart, point, plane);
    //.
}

// How much each plane of a chart counts.
vec3 planes_of(int layer, int chart, Point point) {
    //?flat
    if (int(charts[chart].eye.w) == {{flat_kind}}) return shares_of(layer, chart, point);
    //.
    return vec3(0.0, 1.0, 0.0);
}

// Add what is read where a texture is laid, `share` of it.
void add_read(inout Look look, int layer, Laid laid, vec3 along_u, vec3 along_v, float share, int group, Point point) {
    vec2 uv = laid.place * layers[layer].lies.x;
    float level = level_of(layer, laid, point);
    //?sampler
    //?fine
    vec4 steps = vec4(dot(point.step_x, laid.along_u), dot(point.step_x, laid.along_v),
                      dot(point.step_y, laid.along_u), dot(point.step_y, laid.along_v)) * layers[layer].lies.x;
    //.
    add_texel(look, layer, texel_of(layer, uv, level{{steps_argument}}), along_u, along_v, share, group);
    //.
    //?exact
    float lower = min(floor(level), {{lower_level}}.0);  // each mip for itself, since slopes and cuts are no sums
    for (int mip = 0; mip < 2; ++mip) {
        float part = mip == 0 ? 1.0 - (level - lower) : level - lower;
        if (part > 0.0) add_texel(look, layer, texel_of(layer, uv, lower + float(mip)), along_u, along_v, share * part, group);
    }
    //.
}

// What a layer shows at a point: each plane on which it lies, each patch of it.
Look look_of(int which, Point point) {
    int layer = which;
    Look look = {{no_look}};
    int group = -1;
    //?per_map
    for (; group < {{groups}}; ++group) {  // all maps that lie as the layer does, then those that lie apart
    if (group >= 0 && layers[layer].per_map[group] < 0) continue;
    int chart = group < 0 ? layers[layer].which.y : layers[layer].per_map[group];
    //.
    //?together
    int chart = layers[layer].which.y;
    //.
    vec3 planes = planes_of(layer, chart, point);
    for (int plane = 0; plane < 3; ++plane) {
        if (planes[plane] <= 0.0) continue;
        Laid laid = laid_on(chart, point, plane);
        vec3 along_u = laid.along_u, along_v = laid.along_v;
        //?ways
        if (charts[chart].placed.w > 0.0 && int(charts[chart].eye.w) == {{uv_kind}}) {
            along_u = charts[chart].turn.x * point.way_u + charts[chart].turn.y * point.way_v;
            along_v = charts[chart].turn.z * point.way_u + charts[chart].turn.w * point.way_v;
        }
        //.
        //?cheap
        if (charts[chart].placed.w > 0.0) make_unit(along_u, along_v, point.normal);
        //.
        laid.place.y /= charts[chart].placed.z;
        laid.along_v /= charts[chart].placed.z;
        //?shuffle
        bool is_shuffled = layers[layer].lies.z > 0.0 && group < 0;
        Patches patches;
        patches.weight = vec3(1.0, 0.0, 0.0);
        patches.spread = 1.0;
        if (is_shuffled) patches = patches_at(layer, laid.place);
        for (int corner = 0; corner < 3; ++corner) {
            if (patches.weight[corner] <= 0.0) continue;
            Laid own = laid;
            vec3 own_u = along_u, own_v = along_v;
            if (is_shuffled) lay_patch(layer, patches.corner[corner], own, own_u, own_v);
            float share = planes[plane] * patches.spread * patches.weight[corner];
            add_read(look, layer, own, own_u, own_v, share, group, point);
        }
        if (patches.spread > 1.0) {
            Texel mean;
{{mean_texel}}
            add_texel(look, layer, mean, vec3(0.0), vec3(0.0), planes[plane] * (1.0 - patches.spread), group);
        }
        //.
        //?whole
        add_read(look, layer, laid, along_u, along_v, planes[plane], group, point);
        //.
    }
    //?per_map
    }
    //.
    return look;
}

// How high a layer stands at a point, of the tallest relief.
float height_of(int which, Point point) {
{{height_of}}
}
//?films

// What lies upon the blended layers: the hollows first, by how much of it there is.
void lay_film(int which, float amount, inout Blended total, inout vec3 slope) {
    vec4 first = film_looks[4 * which], second = film_looks[4 * which + 1], third = film_looks[4 * which + 2], counts = film_looks[4 * which + 3];
    float cover = amount == 0.0 ? 0.0 : clamp(amount + third.w * (amount - total.height) / max(first.w, 1e-3), 0.0, 1.0);
    total.diffuse *= 1.0 - cover + cover * first.rgb;
    if (counts.x > 0.0) total.diffuse = mix(total.diffuse, second.rgb, cover * second.w);
    if (counts.y > 0.0) total.roughness = mix(total.roughness, third.x, cover);
    if (counts.z > 0.0) total.specular = mix(total.specular, vec3(third.y), cover);
    slope *= 1.0 - cover * third.z;
    total.height += cover * third.z * third.w * max(0.0, amount - total.height);
}
//.

//?far

// Beyond its range what stands for a layer shows in its place, by a smooth step of the distance.
void seen_from_eye(vec3 place, float given[NAMED], out float weight[LAYERS]) {
    float away = length(place - eye), step_to;
    for (int which = 0; which < NAMED; ++which) weight[which] = given[which];
{{far_lines}}
}
//.

// ---- How layers meet

// The taller layer shows: each stands as high as its relief, times its weight, and what is lower by more than its softness
// allows is gone. Weights need not sum to 1.
Blended blend(Point point, float {{given}}[{{weighed}}]{{film_parameter}}) {
    //?far
    float weight[LAYERS];
    seen_from_eye(point.position, given, weight);
    //.
    float tall[LAYERS];
    float tallest = 0.0;
    int top = 0;
    for (int which = 0; which < LAYERS; ++which) {
        tall[which] = weight[which] > 0.0 ? weight[which] * max(height_of(which, point) + 0.1, 0.001) : 0.0;
        if (tall[which] > tallest) {
            tallest = tall[which];
            top = which;
        }
    }
    Blended total = {{nothing}};
    vec3 slope = vec3(0.0);
    //?coat_normal
    vec3 coat_slope = vec3(0.0);
    //.
    float whole = 0.0;
    for (int which = 0; which < LAYERS; ++which) {
        if (weight[which] <= 0.0) continue;
        float hardness = layers[which].meets.x;
        //?meets
        hardness = hardness_between[which * {{pair_rows}} + top / 4][top % 4];
        //.
        float share = weight[which] * max(0.0, 1.0 - hardness * (1.0 - tall[which] / tallest));
        if (share <= 0.0) continue;
        Look look = look_of(which, point);
        whole += share;
{{mix_look}}
    }
{{finish}}
    return total;
}
{{weights}}
