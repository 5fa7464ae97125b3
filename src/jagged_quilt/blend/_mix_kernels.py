"""Mix: the taller layer shows, colours are added as linear light and normals as slopes, and finished texels are stored."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.blend._film_kernels import lay_films
from jagged_quilt.blend._number_kernels import as_bits, as_number, largest
from jagged_quilt.blend._rows import (
    COAT_NORMAL,
    COAT_TILT,
    COLOURS,
    DIFFUSE,
    F0,
    F1,
    F2,
    GRADIENT_U,
    HALF,
    HAND,
    HARD,
    HEIGHT,
    INDEX,
    NORMAL,
    NX,
    NY,
    NZ,
    OCCLUDED,
    OCCLUSION,
    PLACE_ROWS,
    PLANE_ROWS,
    RISE,
    ROUGHER,
    ROUGHNESS,
    STEEP,
    TILT,
    TX,
    TY,
    TZ,
    WEIGHT,
    B,
)
from jagged_quilt.blend._texel_kernels import BYTE_SCALE, channel_bits, corner_weights, linear, linear_fine, plain
from jagged_quilt.foundation.compiler import inlined, lanes

HEIGHT_FLOOR = 0.1  # what the deepest pit of a layer still counts beside the tallest relief
LOWEST = 0.001  # what a layer counts that lies lower than any pit
FLATTEST = 1.0 / 128.0  # the least z of a detail normal, so that slopes are finite


@inlined
def begin_heights(most, is_tuned, rows, tall):
    """Begin each place's height with what it is lifted by."""
    for t in range(most * B):
        tall[INDEX(t)] = F0
    for k in range(most if is_tuned else 0):
        for t in range(B):
            tall[INDEX(k * B + t)] = rows[INDEX((PLACE_ROWS * k + RISE) * B + t)]


@inlined
def keep_above(most, tall):
    """Let no place lie so low that it counts nothing."""
    for t in range(most * B):
        tall[INDEX(t)] = max(tall[INDEX(t)], np.float32(LOWEST - HEIGHT_FLOOR))


@inlined
def weigh_pairs(most, points, pairs, rows, who, mix):
    """As `weigh`, but by the hardness where each layer meets the tallest."""
    for t in range(B):
        top, tallest, p, whole = 0, F0, INDEX(who[INDEX(t)]), np.float32(1e-12)
        for k in range(most):
            own = INDEX(k * B + t)
            mix.tall[own] = rows[INDEX((PLACE_ROWS * k + WEIGHT) * B + t)] * (mix.tall[own] + np.float32(HEIGHT_FLOOR))
            if mix.tall[own] > tallest:
                top, tallest = k, mix.tall[own]
        other = INDEX(points.layer[p, INDEX(top)])
        for k in range(most):
            own, hard = INDEX(k * B + t), pairs[INDEX(points.layer[p, INDEX(k)]), other]
            less = F1 - hard * (F1 - mix.tall[own] / max(tallest, np.float32(1e-12)))
            mix.kept[own] = rows[INDEX((PLACE_ROWS * k + WEIGHT) * B + t)] * max(F0, less)
            whole += mix.kept[own]
        for k in range(most):
            mix.kept[INDEX(k * B + t)] /= whole


@lanes
def weigh(most, rows, mix):
    """Let the taller layer show where layers meet; `kept` then sums to 1 over the places of a texel.

    A place's tallness is `weight * (relief * height + HEIGHT_FLOOR)`; what it keeps is
    `weight * max(0, 1 - hardness * (1 - tallness / the tallest))`.
    """
    tall, tallest, kept, whole = mix.tall, mix.tallest, mix.kept, mix.whole
    for t in range(B):
        tallest[t] = np.float32(1e-12)
        whole[t] = np.float32(1e-12)
    for k in range(most):
        weight, own = INDEX((PLACE_ROWS * k + WEIGHT) * B), INDEX(B * k)
        for t in range(B):
            i = INDEX(t)
            tallness = rows[weight + i] * (tall[own + i] + np.float32(HEIGHT_FLOOR))
            tall[own + i] = tallness
            tallest[t] = max(tallest[t], tallness)
    for t in range(B):
        tallest[t] = F1 / tallest[t]
    for k in range(most):
        row, own = PLACE_ROWS * k, INDEX(B * k)
        weight, hard = INDEX((row + WEIGHT) * B), INDEX((row + HARD) * B)
        for t in range(B):
            i = INDEX(t)
            share = rows[weight + i] * max(F0, F1 - rows[hard + i] * (F1 - tall[own + i] * tallest[t]))
            kept[own + i] = share
            whole[t] += share
    for t in range(B):
        whole[t] = F1 / whole[t]
    for k in range(most):
        own = INDEX(B * k)
        for t in range(B):
            kept[own + INDEX(t)] *= whole[t]


@lanes
def weights_of_pass(k, sample, shares, kept, weight):
    """Fill what each lane's sample weighs in the end; return the largest."""
    place, own = INDEX(k * B), INDEX(B * sample)
    largest = np.int32(0)
    for t in range(B):
        w = kept[place + INDEX(t)] * shares[own + INDEX(t)]
        weight[t] = w
        largest = max(largest, as_bits(w))
    return as_number(largest)


@lanes
def mix_colour(sample, array, corners, around, between, weight, channels):
    """Add three sRGB-encoded channels of an array by weight, as linear light."""
    pair, a, total = INDEX(2 * B * sample), INDEX(corners), INDEX(4 * B * array)
    m0, m1, m2 = np.uint32(0xFF), np.uint32(0xFF00), np.uint32(0xFF0000)
    s0, s1, s2 = BYTE_SCALE, np.float32(BYTE_SCALE / np.float32(256)), np.float32(BYTE_SCALE / np.float32(65536))
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        w = weight[t]
        wa, wb, wc, wd = wa * w, wb * w, wc * w, wd * w
        ta, tb = around[a + i], around[a + INDEX(B) + i]
        tc, td = around[a + INDEX(2 * B) + i], around[a + INDEX(3 * B) + i]
        red = wa * linear(ta, m0, s0) + wb * linear(tb, m0, s0) + wc * linear(tc, m0, s0) + wd * linear(td, m0, s0)
        green = wa * linear(ta, m1, s1) + wb * linear(tb, m1, s1) + wc * linear(tc, m1, s1) + wd * linear(td, m1, s1)
        blue = wa * linear(ta, m2, s2) + wb * linear(tb, m2, s2) + wc * linear(tc, m2, s2) + wd * linear(td, m2, s2)
        channels[total + i] += red
        channels[total + INDEX(B) + i] += green
        channels[total + INDEX(2 * B) + i] += blue


@lanes
def mix_data(sample, array, channel, corners, around, between, weight, channels):
    """Add one channel of an array by weight, as it is."""
    mask, scale = channel_bits(channel)
    pair, a, total = INDEX(2 * B * sample), INDEX(corners), INDEX(B * (4 * array + channel))
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        channels[total + i] += weight[t] * (
            wa * plain(around[a + i], mask, scale)
            + wb * plain(around[a + INDEX(B) + i], mask, scale)
            + wc * plain(around[a + INDEX(2 * B) + i], mask, scale)
            + wd * plain(around[a + INDEX(3 * B) + i], mask, scale)
        )


@lanes
def mix_diffuse(k, sample, array, corners, around, between, weight, rows, channels):
    """As `mix_colour`, with the colours multiplied by a matrix of the layer's first."""
    pair, a, total = INDEX(2 * B * sample), INDEX(corners), INDEX(4 * B * array)
    m0, m1, m2 = np.uint32(0xFF), np.uint32(0xFF00), np.uint32(0xFF0000)
    s0, s1, s2 = BYTE_SCALE, np.float32(BYTE_SCALE / np.float32(256)), np.float32(BYTE_SCALE / np.float32(65536))
    m, below = INDEX((PLACE_ROWS * k + COLOURS) * B), INDEX(B)
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = corner_weights(between[pair + i], between[pair + below + i])
        ta, tb = around[a + i], around[a + below + i]
        tc, td = around[a + INDEX(2 * B) + i], around[a + INDEX(3 * B) + i]
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
            j = m + INDEX(3 * channel * B) + i
            tuned = rows[j] * red + rows[j + below] * green + rows[j + below + below] * blue
            channels[total + INDEX(channel * B) + i] += weight[t] * min(max(tuned, F0), F1)


@lanes
def mix_tuned(k, sample, at, corners, around, between, weight, rows, channels, is_occlusion):
    """As `mix_data`: roughness with the layer's shift, or occlusion as strong as the layer has it."""
    mask, scale = channel_bits(at % 4)
    pair, a, total = INDEX(2 * B * sample), INDEX(corners), INDEX(B * at)
    said = INDEX((PLACE_ROWS * k + (OCCLUDED if is_occlusion else ROUGHER)) * B)
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        x = (
            wa * plain(around[a + i], mask, scale)
            + wb * plain(around[a + INDEX(B) + i], mask, scale)
            + wc * plain(around[a + INDEX(2 * B) + i], mask, scale)
            + wd * plain(around[a + INDEX(3 * B) + i], mask, scale)
        )
        x = F1 - rows[said + i] * (F1 - x) if is_occlusion else x + rows[said + i]
        channels[total + i] += weight[t] * min(max(x, F0), F1)


@lanes
def steepen(k, weight, rows, scaled):
    """Fill the weight of slopes: times as steep as the layer has them."""
    steep = INDEX((PLACE_ROWS * k + STEEP) * B)
    for t in range(B):
        scaled[t] = weight[t] * rows[steep + INDEX(t)]


@lanes
def mix_normals(sample, row, first, read, tilt, around, between, weight, laid, sums):
    """Add the slopes of two-channel normals by weight, as vectors along the gradients of u and v.

    A detail normal (x, y, z) in the image's own axes has the slopes -x / z along u and y / z along v; the surface's normal
    tilts by x / z grad u - y / z grad v (the surface gradient, Mikkelsen 2020).

    row : where the plane's rows begin in `laid`.
    first : where the texels of the pass begin.
    read : 4 * array + channel of x and of y.
    tilt : the row of sums that they tilt.
    """
    x_at, y_at = read
    mask_x, scale_x = channel_bits(x_at % 4)
    mask_y, scale_y = channel_bits(y_at % 4)
    corners_x, corners_y = first + 4 * B * (x_at // 4), first + 4 * B * (y_at // 4)
    pair, a, b, g = INDEX(2 * B * sample), INDEX(corners_x), INDEX(corners_y), INDEX(row + GRADIENT_U * B)
    s, below = INDEX(tilt * B), INDEX(B)
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        x = (
            wa * plain(around[a + i], mask_x, scale_x)
            + wb * plain(around[a + INDEX(B) + i], mask_x, scale_x)
            + wc * plain(around[a + INDEX(2 * B) + i], mask_x, scale_x)
            + wd * plain(around[a + INDEX(3 * B) + i], mask_x, scale_x)
        )
        y = (
            wa * plain(around[b + i], mask_y, scale_y)
            + wb * plain(around[b + INDEX(B) + i], mask_y, scale_y)
            + wc * plain(around[b + INDEX(2 * B) + i], mask_y, scale_y)
            + wd * plain(around[b + INDEX(3 * B) + i], mask_y, scale_y)
        )
        x, y = F2 * x - F1, F2 * y - F1
        slope = weight[t] / max(math.sqrt(max(F0, F1 - x * x - y * y)), np.float32(FLATTEST))
        x, y = x * slope, y * slope
        sums[s + i] += x * laid[g + i] - y * laid[g + INDEX(3 * B) + i]
        sums[s + below + i] += x * laid[g + INDEX(B) + i] - y * laid[g + INDEX(4 * B) + i]
        sums[s + below + below + i] += x * laid[g + INDEX(2 * B) + i] - y * laid[g + INDEX(5 * B) + i]


@lanes
def mix_height(sample, heights, weight, sums):
    """Add height by weight."""
    own = INDEX(B * sample)
    for t in range(B):
        sums[HEIGHT * B + t] += weight[t] * heights[own + INDEX(t)]


@lanes
def mask_weight(row, weight, apart, masked):
    """Fill the weight of a pass where the roles of a group do not lie apart; return the largest."""
    at, most = INDEX(row * B), np.int32(0)
    for t in range(B):
        w = weight[t] * (F1 - apart[at + INDEX(t)])
        masked[t] = w
        most = max(most, as_bits(w))
    return as_number(most)


@inlined
def mix_roles(sample, only, weight, plan, scratch):
    """Add a pass to the sums of the channels that roles read, of slopes on its plane, and of height.

    only : a group of roles, -1 for those of none, or -2 for all.
    """
    samples, mix, arrays = scratch.samples, scratch.mix, plan.is_colour.shape[0]
    around, between, rows = samples.around, samples.spot.between, scratch.places.look.rows
    k, first = samples.place[INDEX(sample)], 4 * B * arrays * sample
    for array in range(arrays):
        corners = first + 4 * B * array
        if only != -2 and plan.group_of[4 * array] != only:
            pass
        elif plan.is_tuned and array == plan.role_row[DIFFUSE] // 4:
            mix_diffuse(k, sample, array, corners, around, between, weight, rows, mix.channels)
        elif plan.is_colour[array]:
            mix_colour(sample, array, corners, around, between, weight, mix.channels)
        for channel in range(4):
            at = 4 * array + channel
            if only != -2 and plan.group_of[at] != only:
                continue
            if plan.is_tuned and (at == plan.role_row[ROUGHNESS] or at == plan.role_row[OCCLUSION]):
                is_occlusion = at == plan.role_row[OCCLUSION]
                mix_tuned(k, sample, at, corners, around, between, weight, rows, mix.channels, is_occlusion)
            elif plan.mixed[at]:
                mix_data(sample, array, channel, corners, around, between, weight, mix.channels)
    row = scratch.places.laid_at[INDEX(samples.seat[INDEX(sample)])] + PLANE_ROWS * B * samples.plane[INDEX(sample)]
    for which in range(2 if plan.role_row.shape[0] > COAT_NORMAL else 1):
        output = COAT_NORMAL if which else NORMAL
        read = plan.role_row[output], plan.role_row[output + 1]
        if read[0] < 0 or (only != -2 and plan.group_of[read[0]] != only):
            continue
        slopes = weight
        if plan.is_tuned and not which:
            steepen(k, weight, rows, mix.scaled)
            slopes = mix.scaled
        tilt = COAT_TILT if which else TILT
        mix_normals(sample, row, first, read, tilt, around, between, slopes, scratch.lying.laid, mix.sums)
    high = plan.role_row[HEIGHT]
    if only == -2 or (plan.group_of[INDEX(high)] if high >= 0 else -1) == only:
        mix_height(sample, samples.heights, weight, mix.sums)


@inlined
def mix_pass(sample, plan, scratch):
    """Add a pass to the sums, by what its place keeps: for all roles, for those of its group, or for each group of roles by
    where it does not lie apart."""
    samples, mix, groups = scratch.samples, scratch.mix, plan.apart.shape[0]
    k, group = samples.place[INDEX(sample)], samples.group[INDEX(sample)]
    if not weights_of_pass(k, sample, samples.spot.shares, mix.kept, mix.weight) > 0:
        return
    lies_apart = group >= 0
    for one in range(groups):
        lies_apart |= largest(groups * k + one, scratch.places.apart) > 0
    only, last = (group, group + np.int32(1)) if lies_apart else (np.int32(-2), np.int32(-1))
    last = np.int32(groups) if lies_apart and group < 0 else last
    while only < last:
        weight = mix.weight
        if only >= 0 and group < 0:
            weight = mix.masked
            if not mask_weight(groups * k + only, mix.weight, scratch.places.apart, mix.masked) > 0:
                only += np.int32(1)
                continue
        mix_roles(sample, only, weight, plan, scratch)
        only += np.int32(1)


@lanes
def turn(world_normals, tilt, normal, frame, sums):
    """Fill the blended normals, unit: the surface's own, tilted by what lies in the surface of the sum of slopes.

    tilt, normal : rows of sums, what tilts them and where they go.
    """
    s, out, below = INDEX(tilt * B), INDEX(normal * B), INDEX(B)
    for t in range(B):
        n0, n1, n2 = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t]
        i = INDEX(t)
        d0, d1, d2 = sums[s + i], sums[s + below + i], sums[s + below + below + i]
        upright = F1 - (d0 * n0 + d1 * n1 + d2 * n2)
        w0, w1, w2 = d0 + n0 * upright, d1 + n1 * upright, d2 + n2 * upright
        unit = F1 / math.sqrt(w0 * w0 + w1 * w1 + w2 * w2)
        w0, w1, w2 = w0 * unit, w1 * unit, w2 * unit
        t0, t1, t2 = frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t]
        bitangent = w0 * (n1 * t2 - n2 * t1) + w1 * (n2 * t0 - n0 * t2) + w2 * (n0 * t1 - n1 * t0)
        sums[out + i] = w0 if world_normals else w0 * t0 + w1 * t1 + w2 * t2
        sums[out + below + i] = w1 if world_normals else frame[HAND * B + t] * bitangent
        sums[out + below + below + i] = w2 if world_normals else w0 * n0 + w1 * n1 + w2 * n2


@inlined
def resolve(points, plan, scratch):
    """Bring the sums of channels to the outputs that read them, what no array holds to its neutral value; lay films upon
    that; turn the normals."""
    mix, outputs = scratch.mix, plan.role_row.shape[0]
    for output in range(outputs):
        if output != HEIGHT and not (NORMAL <= output < NORMAL + 3 or COAT_NORMAL <= output < COAT_NORMAL + 3):
            row = plan.role_row[output]
            for t in range(B):
                mix.sums[INDEX(output * B + t)] = mix.channels[INDEX(row * B + t)] if row >= 0 else plan.neutral[output]
    lay_films(points, plan.films, scratch.who, mix)
    turn(plan.is_world, TILT, NORMAL, scratch.lying.frame, mix.sums)
    if outputs > COAT_NORMAL:
        turn(plan.is_world, COAT_TILT, COAT_NORMAL, scratch.lying.frame, mix.sums)


@lanes
def quantise(scale, sums, steps):
    """Fill which step of its scale each output lies on."""
    for output in range(scale.shape[0]):
        top, a, b = scale[output, 0], scale[output, 1], scale[output, 2]
        for t in range(B):
            steps[output * B + t] = np.int32(min(max(a * sums[output * B + t] + b, F0), F1) * top + HALF)


@inlined
def _put(which, target, targets, count, scratch):
    """Store one target's texels: its steps, or what the sRGB table says of them. Three channels, as most have, at once."""
    to, steps, table, first = scratch.to, scratch.mix.steps, targets.encode, targets.rows[which]
    a, b, c = INDEX(first * B), INDEX((first + 1) * B), INDEX((first + 2) * B)
    if target.shape[1] == 3 and targets.is_colour[which]:
        for t in range(count):
            i, p = INDEX(t), INDEX(to[INDEX(t)])
            target[p, 0] = table[INDEX(np.uint32(steps[a + i]))]
            target[p, 1] = table[INDEX(np.uint32(steps[b + i]))]
            target[p, 2] = table[INDEX(np.uint32(steps[c + i]))]
    elif target.shape[1] == 3:
        for t in range(count):
            i, p = INDEX(t), INDEX(to[INDEX(t)])
            target[p, 0], target[p, 1], target[p, 2] = steps[a + i], steps[b + i], steps[c + i]
    else:
        for channel in range(target.shape[1]):
            place = INDEX((first + channel) * B)
            for t in range(count):
                step = steps[place + INDEX(t)]
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
