"""Mix: the taller layer shows, colours are added as linear light and normals as slopes, and finished texels are stored."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.blend._fetch_kernels import spot_row, texel_row
from jagged_quilt.blend._film_kernels import add_films
from jagged_quilt.blend._fine_kernels import mix_fine_normals
from jagged_quilt.blend._lane_kernels import (
    as_bits,
    as_number,
    clear,
    dot,
    lane,
    largest,
    plane_row,
    slot_row,
    vec3,
)
from jagged_quilt.blend._rows import (
    COAT_NORMAL,
    COAT_TILT,
    DIFFUSE,
    F0,
    F1,
    F2,
    HALF,
    HEIGHT,
    INDEX,
    NORMAL,
    OCCLUSION,
    ROUGHNESS,
    TILT,
    B,
    Frame,
    Plane,
    Slot,
)
from jagged_quilt.blend._texel_kernels import (
    BYTE_SCALE,
    FLATTEST,
    channel_bits,
    corner_weights,
    corners_at,
    linear,
    linear_fine,
    plain,
)
from jagged_quilt.foundation.compiler import inlined, lanes

HEIGHT_FLOOR = 0.1  # what the deepest pit of a layer still counts beside the tallest relief
LOWEST = 0.001  # what a layer counts that lies lower than any pit


@inlined
def begin_heights(most, is_tuned, values, tallness):
    """Begin each slot's height with its offset."""
    clear(0, most, tallness)
    for k in range(most if is_tuned else 0):
        for t in range(B):
            tallness[lane(k, t)] = values[lane(slot_row(k, Slot.HEIGHT_OFFSET), t)]


@inlined
def keep_above(most, tallness):
    """Let no slot lie so low that it counts nothing."""
    for k in range(most):
        for t in range(B):
            tallness[lane(k, t)] = max(tallness[lane(k, t)], np.float32(LOWEST - HEIGHT_FLOOR))


@inlined
def weigh_pairs(most, points, pairs, values, who, mix):
    """As `weigh`, but by the hardness where each layer meets the tallest."""
    for t in range(B):
        top, tallest, p, total = 0, F0, INDEX(who[INDEX(t)]), np.float32(1e-12)
        for k in range(most):
            own, weight = lane(k, t), values[lane(slot_row(k, Slot.WEIGHT), t)]
            mix.tallness[own] = weight * (mix.tallness[own] + np.float32(HEIGHT_FLOOR))
            if mix.tallness[own] > tallest:
                top, tallest = k, mix.tallness[own]
        other = INDEX(points.layer[p, INDEX(top)])
        for k in range(most):
            own, hard = lane(k, t), pairs[INDEX(points.layer[p, INDEX(k)]), other]
            less = F1 - hard * (F1 - mix.tallness[own] / max(tallest, np.float32(1e-12)))
            mix.slot_share[own] = values[lane(slot_row(k, Slot.WEIGHT), t)] * max(F0, less)
            total += mix.slot_share[own]
        for k in range(most):
            mix.slot_share[lane(k, t)] /= total


@lanes
def weigh(most, values, mix):
    """Let the taller layer show where layers meet; `slot_share` then sums to 1 over the slots of a texel.

    A slot's tallness is `weight * (relief * height + HEIGHT_FLOOR)`; its share is
    `weight * max(0, 1 - hardness * (1 - tallness / the tallest))`.
    """
    tallness, tallest, slot_share, total = mix.tallness, mix.tallest, mix.slot_share, mix.total
    for t in range(B):
        tallest[lane(0, t)] = np.float32(1e-12)
        total[lane(0, t)] = np.float32(1e-12)
    for k in range(most):
        for t in range(B):
            tall = values[lane(slot_row(k, Slot.WEIGHT), t)] * (tallness[lane(k, t)] + np.float32(HEIGHT_FLOOR))
            tallness[lane(k, t)] = tall
            tallest[lane(0, t)] = max(tallest[lane(0, t)], tall)
    for t in range(B):
        tallest[lane(0, t)] = F1 / tallest[lane(0, t)]
    for k in range(most):
        for t in range(B):
            weight, hard = values[lane(slot_row(k, Slot.WEIGHT), t)], values[lane(slot_row(k, Slot.HARDNESS), t)]
            share = weight * max(F0, F1 - hard * (F1 - tallness[lane(k, t)] * tallest[lane(0, t)]))
            slot_share[lane(k, t)] = share
            total[lane(0, t)] += share
    for t in range(B):
        total[lane(0, t)] = F1 / total[lane(0, t)]
    for k in range(most):
        for t in range(B):
            slot_share[lane(k, t)] *= total[lane(0, t)]


@lanes
def weigh_pass(k, sample, shares, slot_share, weight):
    """Fill what each lane's sample weighs in the end; return the largest."""
    largest = np.int32(0)
    for t in range(B):
        w = slot_share[lane(k, t)] * shares[lane(sample, t)]
        weight[lane(0, t)] = w
        largest = max(largest, as_bits(w))
    return as_number(largest)


@lanes
def mix_colour(sample, array, texels, samples, weight, channels):
    """Add three sRGB-encoded channels of an array by weight, as linear light."""
    around, between = samples.around, samples.spot.between
    m0, m1, m2 = np.uint32(0xFF), np.uint32(0xFF00), np.uint32(0xFF0000)
    s0, s1, s2 = BYTE_SCALE, np.float32(BYTE_SCALE / np.float32(256)), np.float32(BYTE_SCALE / np.float32(65536))
    spot = spot_row(sample, 0)
    for t in range(B):
        wa, wb, wc, wd = corner_weights(between[lane(spot, t)], between[lane(spot + 1, t)])
        w = weight[lane(0, t)]
        ta, tb, tc, td = corners_at(t, texels, around)
        wa, wb, wc, wd = wa * w, wb * w, wc * w, wd * w
        red = wa * linear(ta, m0, s0) + wb * linear(tb, m0, s0) + wc * linear(tc, m0, s0) + wd * linear(td, m0, s0)
        green = wa * linear(ta, m1, s1) + wb * linear(tb, m1, s1) + wc * linear(tc, m1, s1) + wd * linear(td, m1, s1)
        blue = wa * linear(ta, m2, s2) + wb * linear(tb, m2, s2) + wc * linear(tc, m2, s2) + wd * linear(td, m2, s2)
        channels[lane(4 * array, t)] += red
        channels[lane(4 * array + 1, t)] += green
        channels[lane(4 * array + 2, t)] += blue


@lanes
def mix_data(sample, channel, texels, samples, weight, channels):
    """Add one channel, counted over all arrays, by weight, as it is."""
    around, between = samples.around, samples.spot.between
    mask, scale = channel_bits(channel % 4)
    spot = spot_row(sample, 0)
    for t in range(B):
        wa, wb, wc, wd = corner_weights(between[lane(spot, t)], between[lane(spot + 1, t)])
        channels[lane(channel, t)] += weight[lane(0, t)] * (
            wa * plain(around[lane(texels, t)], mask, scale)
            + wb * plain(around[lane(texels + 1, t)], mask, scale)
            + wc * plain(around[lane(texels + 2, t)], mask, scale)
            + wd * plain(around[lane(texels + 3, t)], mask, scale)
        )


@lanes
def mix_diffuse(k, sample, array, texels, samples, weight, values, channels):
    """As `mix_colour`, with the colours multiplied by a matrix of the layer's first."""
    around, between = samples.around, samples.spot.between
    m0, m1, m2 = np.uint32(0xFF), np.uint32(0xFF00), np.uint32(0xFF0000)
    s0, s1, s2 = BYTE_SCALE, np.float32(BYTE_SCALE / np.float32(256)), np.float32(BYTE_SCALE / np.float32(65536))
    spot = spot_row(sample, 0)
    for t in range(B):
        wa, wb, wc, wd = corner_weights(between[lane(spot, t)], between[lane(spot + 1, t)])
        ta, tb, tc, td = corners_at(t, texels, around)
        red = (
            wa * linear_fine(ta, m0, s0)
            + wb * linear_fine(tb, m0, s0)
            + wc * linear_fine(tc, m0, s0)
            + wd * linear_fine(td, m0, s0)
        )
        green = (
            wa * linear_fine(ta, m1, s1)
            + wb * linear_fine(tb, m1, s1)
            + wc * linear_fine(tc, m1, s1)
            + wd * linear_fine(td, m1, s1)
        )
        blue = (
            wa * linear_fine(ta, m2, s2)
            + wb * linear_fine(tb, m2, s2)
            + wc * linear_fine(tc, m2, s2)
            + wd * linear_fine(td, m2, s2)
        )
        for channel in range(3):
            tuned = dot(vec3(values, slot_row(k, Slot.COLOURS + 3 * channel), t), (red, green, blue))
            channels[lane(4 * array + channel, t)] += weight[lane(0, t)] * min(max(tuned, F0), F1)


@lanes
def mix_tuned(tuning, sample, channel, texels, samples, weight, values, channels):
    """As `mix_data`: roughness with the layer's offset, or occlusion as strong as the layer has it.

    tuning : the slot, and whether it is occlusion.
    """
    (k, is_occlusion), around, between = tuning, samples.around, samples.spot.between
    mask, scale = channel_bits(channel % 4)
    row = slot_row(k, Slot.OCCLUSION_STRENGTH if is_occlusion else Slot.ROUGHNESS_OFFSET)
    spot = spot_row(sample, 0)
    for t in range(B):
        wa, wb, wc, wd = corner_weights(between[lane(spot, t)], between[lane(spot + 1, t)])
        a, b, c, d = corners_at(t, texels, around)
        x = wa * plain(a, mask, scale) + wb * plain(b, mask, scale) + wc * plain(c, mask, scale) + wd * plain(d, mask, scale)
        own = values[lane(row, t)]
        x = F1 - own * (F1 - x) if is_occlusion else x + own
        channels[lane(channel, t)] += weight[lane(0, t)] * min(max(x, F0), F1)


@lanes
def scale_slopes(k, weight, values, scaled):
    """Fill the weight of slopes: by the layer's scale of normals."""
    for t in range(B):
        scaled[lane(0, t)] = weight[lane(0, t)] * values[lane(slot_row(k, Slot.NORMAL_SCALE), t)]


@lanes
def mix_normals(sample, plane, texels, channels, samples, weight, mapped, sums):
    """Add the slopes of two-channel normals by weight, as vectors along the gradients of u and v.

    A detail normal (x, y, z) in the image's own axes has the slopes -x / z along u and y / z along v; the surface's normal
    tilts by x / z grad u - y / z grad v (the surface gradient, Mikkelsen 2020).

    plane : its first row in `mapped`, and the row of sums that its normals tilt.
    texels, channels : the first rows of the texels that hold x and y, and which channels those are.
    """
    (start, tilt), around, between = plane, samples.around, samples.spot.between
    mask_x, scale_x = channel_bits(channels[0] % 4)
    mask_y, scale_y = channel_bits(channels[1] % 4)
    spot = spot_row(sample, 0)
    for t in range(B):
        wa, wb, wc, wd = corner_weights(between[lane(spot, t)], between[lane(spot + 1, t)])
        a, b, c, d = corners_at(t, texels[0], around)
        x = (
            wa * plain(a, mask_x, scale_x)
            + wb * plain(b, mask_x, scale_x)
            + wc * plain(c, mask_x, scale_x)
            + wd * plain(d, mask_x, scale_x)
        )
        a, b, c, d = corners_at(t, texels[1], around)
        y = (
            wa * plain(a, mask_y, scale_y)
            + wb * plain(b, mask_y, scale_y)
            + wc * plain(c, mask_y, scale_y)
            + wd * plain(d, mask_y, scale_y)
        )
        x, y = F2 * x - F1, F2 * y - F1
        slope = weight[lane(0, t)] / max(math.sqrt(max(F0, F1 - x * x - y * y)), np.float32(FLATTEST))
        x, y = x * slope, y * slope
        u, v = start + Plane.GRADIENT_U, start + Plane.GRADIENT_V
        sums[lane(tilt, t)] += x * mapped[lane(u, t)] - y * mapped[lane(v, t)]
        sums[lane(tilt + 1, t)] += x * mapped[lane(u + 1, t)] - y * mapped[lane(v + 1, t)]
        sums[lane(tilt + 2, t)] += x * mapped[lane(u + 2, t)] - y * mapped[lane(v + 2, t)]


@lanes
def mix_height(sample, heights, weight, sums):
    """Add height by weight."""
    for t in range(B):
        sums[lane(HEIGHT, t)] += weight[lane(0, t)] * heights[lane(sample, t)]


@lanes
def mask_weight(row, weight, is_own, masked):
    """Fill the weight of a pass where the roles of a group have the slot's mapping; return the largest."""
    most = np.int32(0)
    for t in range(B):
        w = weight[lane(0, t)] * (F1 - is_own[lane(row, t)])
        masked[lane(0, t)] = w
        most = max(most, as_bits(w))
    return as_number(most)


@inlined
def mix_roles(sample, only, weight, plan, scratch):
    """Add a pass to the sums of the channels that roles read, of slopes on its plane, and of height.

    only : a group of roles, -1 for those of none, or -2 for all.
    """
    samples, mix, arrays = scratch.samples, scratch.mix, plan.is_colour.shape[0]
    values = scratch.slots.read.values
    k = samples.slot[INDEX(sample)]
    for array in range(arrays):
        texels = texel_row(sample, arrays, array, 0)
        if only != -2 and plan.group_of[4 * array] != only:
            pass
        elif plan.is_tuned and array == plan.role_row[DIFFUSE] // 4:
            mix_diffuse(k, sample, array, texels, samples, weight, values, mix.channels)
        elif plan.is_colour[array]:
            mix_colour(sample, array, texels, samples, weight, mix.channels)
        for channel in range(4 * array, 4 * array + 4):
            if only != -2 and plan.group_of[channel] != only:
                continue
            if plan.is_tuned and (channel == plan.role_row[ROUGHNESS] or channel == plan.role_row[OCCLUSION]):
                is_occlusion = channel == plan.role_row[OCCLUSION]
                mix_tuned((k, is_occlusion), sample, channel, texels, samples, weight, values, mix.channels)
            elif plan.mixed[channel]:
                mix_data(sample, channel, texels, samples, weight, mix.channels)
    start = plane_row(scratch.slots.mapped_at[INDEX(samples.sample_set[INDEX(sample)])], samples.plane[INDEX(sample)], 0)
    for which in range(2 if plan.role_row.shape[0] > COAT_NORMAL else 1):
        output = COAT_NORMAL if which else NORMAL
        channels = plan.role_row[output], plan.role_row[output + 1]
        if channels[0] < 0 or (only != -2 and plan.group_of[channels[0]] != only):
            continue
        slopes = weight
        if plan.is_tuned and not which:
            scale_slopes(k, weight, values, mix.scaled)
            slopes = mix.scaled
        tilt = COAT_TILT if which else TILT
        texels_of = texel_row(sample, arrays, channels[0] // 4, 0), texel_row(sample, arrays, channels[1] // 4, 0)
        fine = plan.fine_row[output], plan.fine_row[output + 1]
        if fine[0] < 0 or fine[1] < 0:
            mix_normals(sample, (start, tilt), texels_of, channels, samples, slopes, scratch.mapping.mapped, mix.sums)
        else:
            fine_of = texel_row(sample, arrays, fine[0] // 4, 0), texel_row(sample, arrays, fine[1] // 4, 0)
            held, lies = (texels_of[0], texels_of[1], fine_of[0], fine_of[1]), (channels[0], channels[1], fine[0], fine[1])
            mix_fine_normals(sample, (start, tilt), held, lies, samples, slopes, scratch.mapping.mapped, mix.sums)
    high = plan.role_row[HEIGHT]
    if only == -2 or (plan.group_of[INDEX(high)] if high >= 0 else -1) == only:
        mix_height(sample, samples.heights, weight, mix.sums)


@inlined
def mix_pass(sample, plan, scratch):
    """Add a pass to the sums, by its slot's share: for all roles, for those of its group, or for each group of roles by where
    it has the slot's mapping."""
    samples, mix, groups = scratch.samples, scratch.mix, plan.per_map.shape[0]
    k, group = samples.slot[INDEX(sample)], samples.group[INDEX(sample)]
    if not weigh_pass(k, sample, samples.spot.shares, mix.slot_share, mix.weight) > 0:
        return
    has_own = group >= 0
    for one in range(groups):
        has_own |= largest(groups * k + one, scratch.slots.is_own) > 0
    only, last = (group, group + np.int32(1)) if has_own else (np.int32(-2), np.int32(-1))
    last = np.int32(groups) if has_own and group < 0 else last
    while only < last:
        weight = mix.weight
        if only >= 0 and group < 0:
            weight = mix.masked
            if not mask_weight(groups * k + only, mix.weight, scratch.slots.is_own, mix.masked) > 0:
                only += np.int32(1)
                continue
        mix_roles(sample, only, weight, plan, scratch)
        only += np.int32(1)


@lanes
def tilt_normals(is_world, tilt, normal, frame, sums):
    """Fill the blended normals, unit: the surface's own, tilted by what lies in the surface of the sum of slopes.

    tilt, normal : rows of sums, what tilts them and where they go.
    """
    for t in range(B):
        n0, n1, n2 = vec3(frame, Frame.NORMAL, t)
        d0, d1, d2 = vec3(sums, tilt, t)
        upright = F1 - (d0 * n0 + d1 * n1 + d2 * n2)
        w0, w1, w2 = d0 + n0 * upright, d1 + n1 * upright, d2 + n2 * upright
        unit = F1 / math.sqrt(w0 * w0 + w1 * w1 + w2 * w2)
        w0, w1, w2 = w0 * unit, w1 * unit, w2 * unit
        t0, t1, t2 = vec3(frame, Frame.TANGENT, t)
        bitangent = w0 * (n1 * t2 - n2 * t1) + w1 * (n2 * t0 - n0 * t2) + w2 * (n0 * t1 - n1 * t0)
        sums[lane(normal, t)] = w0 if is_world else w0 * t0 + w1 * t1 + w2 * t2
        sums[lane(normal + 1, t)] = w1 if is_world else frame[lane(Frame.HANDEDNESS, t)] * bitangent
        sums[lane(normal + 2, t)] = w2 if is_world else w0 * n0 + w1 * n1 + w2 * n2


@inlined
def resolve(points, plan, scratch):
    """Bring the sums of channels to the outputs that read them, what no array holds to its neutral value; add films upon
    that; tilt the normals."""
    mix, outputs = scratch.mix, plan.role_row.shape[0]
    for output in range(outputs):
        if output != HEIGHT and not (NORMAL <= output < NORMAL + 3 or COAT_NORMAL <= output < COAT_NORMAL + 3):
            row = plan.role_row[output]
            for t in range(B):
                mix.sums[lane(output, t)] = mix.channels[lane(row, t)] if row >= 0 else plan.neutral[output]
    add_films(points, plan.films, scratch.who, mix)
    tilt_normals(plan.is_world, TILT, NORMAL, scratch.mapping.frame, mix.sums)
    if outputs > COAT_NORMAL:
        tilt_normals(plan.is_world, COAT_TILT, COAT_NORMAL, scratch.mapping.frame, mix.sums)


@lanes
def quantise(scale, sums, steps):
    """Fill which step of its scale each output lies on."""
    for output in range(scale.shape[0]):
        top, a, b = scale[output, 0], scale[output, 1], scale[output, 2]
        for t in range(B):
            steps[lane(output, t)] = np.int32(min(max(a * sums[lane(output, t)] + b, F0), F1) * top + HALF)


@inlined
def _put(which, target, targets, count, scratch):
    """Store one target's texels: its steps, or what the sRGB table says of them. Three channels, as most have, at once."""
    to, steps, table, first = scratch.to, scratch.mix.steps, targets.encode, targets.rows[which]
    if target.shape[1] == 3 and targets.is_colour[which]:
        for t in range(count):
            p, (r, g, b) = INDEX(to[INDEX(t)]), vec3(steps, first, t)
            target[p, 0], target[p, 1], target[p, 2] = (
                table[INDEX(np.uint32(r))],
                table[INDEX(np.uint32(g))],
                table[INDEX(np.uint32(b))],
            )
    elif target.shape[1] == 3:
        for t in range(count):
            p = INDEX(to[INDEX(t)])
            target[p, 0], target[p, 1], target[p, 2] = vec3(steps, first, t)
    else:
        for channel in range(target.shape[1]):
            for t in range(count):
                step = steps[lane(first + channel, t)]
                target[INDEX(to[INDEX(t)]), channel] = table[INDEX(np.uint32(step))] if targets.is_colour[which] else step


@inlined
def encode(count, targets, scratch):
    """Store finished texels, each by the convention of its role; at `where` of their point, if any."""
    who, where = scratch.who, targets.where
    quantise(targets.scale, scratch.mix.sums, scratch.mix.steps)
    for t in range(count):
        p = INDEX(who[INDEX(t)])
        scratch.to[INDEX(t)] = who[INDEX(t)] if where.shape[0] == 0 else where[p]
    for which in range(len(targets.bytes)):
        _put(which, targets.bytes[which], targets, count, scratch)
    for which in range(len(targets.words)):
        _put(len(targets.bytes) + which, targets.words[which], targets, count, scratch)
