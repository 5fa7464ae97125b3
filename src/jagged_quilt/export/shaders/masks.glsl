// ---- Weights, from masks that are worked out here: as sharp as the pixel, and not as a sheet of weights is
//
// What a shader cannot know of a point (distances, curvature, images, what daubs smoothed) is read from sheets.

//?sampled
{{sampled_samplers}}
//.
//?noise
uniform sampler2D noise_quantiles;  // which share of space lies below a value of noise, at even steps; a row for each kind of it
//.

// 0 up to `start`, 1 from `end`, and 3 t² - 2 t³ between.
float stepped(float value, float start, float end) {
    if (end - start < 1e-6 * max(1.0, abs(start))) return value >= start ? 1.0 : 0.0;
    float t = clamp((value - start) / (end - start), 0.0, 1.0);
    return t * t * (3.0 - 2.0 * t);
}

// 1 from `low` to `high`, falling to 0 over `fade` on either side.
float banded(float value, float low, float high, float fade) {
    return stepped(value, low - fade, low) * (fade > 0.0 ? 1.0 - stepped(value, high, high + fade) : value <= high ? 1.0 : 0.0);
}

// How steep the surface is, in degrees: 0 level, 90 a wall.
float slope_of(vec3 normal) {
    return degrees(atan(length(normal.xz), normal.y));
}
//?facing

// 1 where the surface faces a bearing from north over east, up to `spread` degrees away; level ground faces nowhere.
float facing_of(vec3 normal, float bearing, float spread, float fade, float level) {
    float away = degrees(atan(normal.x, -normal.z)) - bearing + 180.0;
    away = abs(away - 360.0 * floor(away / 360.0) - 180.0);
    return banded(away, -1.0, spread, fade) * stepped(slope_of(normal), 0.5 * level, level);
}
//.
//?noise

// Gradient noise after Perlin (2002) and cellular noise after Worley (1996), in space or on the plane, the lattice hashed.
struct Noise {
    float size;   // metres from one hill to the next of the coarsest octave
    ivec4 how;    // octaves, seed, repeats after so many sizes (0 never), kind: smooth, billowed, ridged, cellular
    ivec2 table;  // on the plane; the row of `noise_quantiles`, or -1 for the noise as it is
    vec2 spread;  // the lowest value there, and steps for each of value
};

const Noise NOISES[{{noises}}] = Noise[](
    {{noise_rows}});

uint hashed_cell(uvec3 corner, uint seed) {
    uint h = corner.x ^ corner.y ^ corner.z ^ seed;
    h = (h ^ (h >> 16u)) * 0x85EBCA6Bu;
    h = (h ^ (h >> 13u)) * 0xC2B2AE35u;
    return h ^ (h >> 16u);
}

// The dot product with one of the directions to the edges of a cube; on the plane, with one of 16 around the compass.
float sloped(uint h, vec3 at, bool flat_) {
    vec2 sum;
    if (flat_) {
        bool steep = (h & 8u) != 0u, turned = (h & 4u) != 0u;
        sum = (turned ? at.xz : at.zx) * (steep ? vec2(0.382683432, 0.923879533) : vec2(0.195090322, 0.980785280));
    } else {
        uint kind = h & 15u;
        sum.x = kind < 8u ? at.x : at.y;
        sum.y = kind < 4u ? at.y : (kind & 13u) == 12u ? at.x : at.z;
    }
    return ((h & 1u) == 0u ? sum.x : -sum.x) + ((h & 2u) == 0u ? sum.y : -sum.y);
}

// What the cells at, and one step after, bring to the hash along an axis that repeats after `period` cells.
uint hashed_axis(int cell, int period, uint factor) {
    if (period > 0) cell -= period * int(floor((float(cell) + 0.5) / float(period)));
    return uint(cell) * factor;
}

float noise_of(Noise noise, vec3 position) {
    int octaves = noise.how.x, period = noise.how.z, kind = noise.how.w;
    bool flat_ = noise.table.x != 0;
    vec3 at = position;
    if (period == 0) at = flat_ ? {{turn_2}} * position : {{turn_3}} * position;
    at /= noise.size;
    ivec3 cell = ivec3(floor(at));
    vec3 part = at - floor(at);
    float total = 0.0, strength = 1.0, whole = 0.0;
    for (int octave = 0; octave < octaves; ++octave) {
        uint seed = uint(noise.how.y + octave) * 0x9E3779B1u;
        int cells = period << octave;
        uvec3 factors = uvec3(0x8DA6B343u, flat_ ? 0u : 0xD8163841u, flat_ ? 0xD8163841u : 0xCB1AB31Fu);
        float value = 0.0;
        if (kind == 3) {
            float nearest = 9.0;
            for (int step_to = 0; step_to < (flat_ ? 9 : 27); ++step_to) {
                ivec3 by = flat_ ? ivec3(step_to % 3 - 1, 0, step_to / 3 - 1) : ivec3(step_to % 3, step_to / 3 % 3, step_to / 9) - 1;
                uvec3 corner = uvec3(hashed_axis(cell.x + by.x, cells, factors.x), hashed_axis(cell.y + by.y, cells, factors.y), hashed_axis(cell.z + by.z, cells, factors.z));
                uint h = hashed_cell(corner, seed);
                uvec3 bits = flat_ ? uvec3(h, 0u, h >> 10u) : uvec3(h, h >> 10u, h >> 20u);
                vec3 away = vec3(by) - part + (vec3(bits & 1023u) + 0.5) / 1024.0;
                if (flat_) away.y = 0.0;
                nearest = min(nearest, dot(away, away));
            }
            value = sqrt(nearest);
        } else {
            vec3 fade = part * part * part * (part * (part * 6.0 - 15.0) + 10.0);
            float layers_of[2];
            for (int deep = 0; deep < 2; ++deep) {
                float rows[2];
                for (int down = 0; down < 2; ++down) {
                    float ends[2];
                    for (int right = 0; right < 2; ++right) {
                        ivec3 by = flat_ ? ivec3(right, 0, down) : ivec3(right, down, deep);
                        uvec3 corner = uvec3(hashed_axis(cell.x + by.x, cells, factors.x), hashed_axis(cell.y + by.y, cells, factors.y), hashed_axis(cell.z + by.z, cells, factors.z));
                        ends[right] = sloped(hashed_cell(corner, seed), part - vec3(by), flat_);
                    }
                    rows[down] = mix(ends[0], ends[1], fade.x);
                }
                layers_of[deep] = mix(rows[0], rows[1], flat_ ? fade.z : fade.y);
            }
            value = flat_ ? layers_of[0] : mix(layers_of[0], layers_of[1], fade.z);
            if (kind == 1) value = abs(value);
            if (kind == 2) value = (1.0 - abs(value)) * (1.0 - abs(value));
        }
        total += strength * value;
        whole += strength;
        strength *= 0.5;
        vec3 next = 2.0 * part + vec3(0.37, 0.61, 0.23);  // or the lattices of octaves would coincide
        cell = 2 * cell + ivec3(floor(next));
        part = next - floor(next);
    }
    total /= whole;
    if (noise.table.y < 0) return clamp(kind == 0 ? 0.5 + 0.5 * total : total, 0.0, 1.0);
    int last = textureSize(noise_quantiles, 0).x - 1;
    float place = clamp((total - noise.spread.x) * noise.spread.y, 0.0, float(last));
    int step_to = min(int(place), last - 1);
    float low = texelFetch(noise_quantiles, ivec2(step_to, noise.table.y), 0).r;
    return mix(low, texelFetch(noise_quantiles, ivec2(step_to + 1, noise.table.y), 0).r, place - float(step_to));
}
//.

void weights_at(Point point, vec2 uv, out float weight[{{weighed}}]) {
    float slope = slope_of(point.normal), high = point.position.y;
    //?sampled
    float sampled_by_sheets[{{sampled_count}}];
{{sampled_reads}}
    //.
    //?noise
    float noises[{{noises}}];
    for (int which = 0; which < {{noises}}; ++which) noises[which] = noise_of(NOISES[which], point.position);
    //.

    // What each mask says, from the lowest layer up
    float answers[{{stacked}}];
{{answers}}

    // Each layer covers what lies below it, or all share; the lowest takes what is left
{{stacking}}

    // What shows of each: a layer, or a swatch of one that take turns
{{shown}}
    //?painted
    // Where daubs lie, what they left
    float painted = texture(painted_weights, uv).r;
{{painted_reads}}
    //.
}
