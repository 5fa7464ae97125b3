"""The blend, as loops over blocks of texels: almost all of it runs in vector lanes, one texel to a lane.

A place is the k-th heaviest layer of each texel of a block; a pass is one place seen on one of the planes X, Y and Z at one
of two mip levels.

    spread    scalar   lays points and the layers of their places out in rows, one column per texel
    locate    lanes    where the four texels around each lane's sample lie, and the place between them
    fetch     scalar   reads those texels from all arrays
    rise      lanes    how high each place's surface is
    weigh     lanes    lets the taller layer show, as weights that sum to 1
    mix       lanes    decodes a pass's texels and adds them by weight: colour in linear light, normals as vectors
    turn      lanes    sets the detail normals upright on the surface
    encode    scalar   stores bytes

Passes that no texel of the block needs are left out, so a block costs what shows in it. Fetching is a phase of its own
because plain loads are fast everywhere, while gather instructions took twice as long where they were measured. Buffers are
flat, and their rows a constant apart, so that LLVM sees that rows do not overlap.

Nothing is checked and nothing is allocated here: `blender.py` does both. All of it stands in one file because the
compiler's cache on disk does not see a change in another.
"""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import check, inlined, kernel, lanes

B = 128  # lanes: texels of a block, and columns of every row; all loops run over all of them, whatever the block holds
TILE_ROWS, TILE_COLUMNS = 8, 16  # a block of a grid: such texels share more layers, planes and texture than a row does

# Columns of `layers` (float32), one row per layer; a sharpness of 0 lays the layer on from above.
HARDNESS, RELIEF, LEVEL_BIAS, SHARPNESS = 0, 1, 2, 3
# Rows of `frame`: normal, tangent, handedness, footprint, position.
NX, NY, NZ, TX, TY, TZ, HAND, FOOT_T, FOOT_B, X, Y, Z, FRAME_ROWS = 0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12
# Rows of `on_planes`, for the planes X, Y and Z: u and v in metres, the base-2 logarithms of |n| and of the footprint.
PLANE_NORMAL, PLANE_LEVEL, PLANE_ROWS = 6, 9, 12
# Rows of a place in `places`: its weight, then the columns of its layer.
WEIGHT, HARD, LOW, BIAS, SHARP, PLACE_ROWS = 0, 1, 2, 3, 4, 5
# Rows of a blended texel, and after them the sums of detail normals on the planes X, Y and Z.
DIFFUSE, NORMAL, ROUGHNESS, SPECULAR, OCCLUSION, HEIGHT, OUTPUTS = 0, 3, 6, 7, 10, 11, 12
DETAIL, SUM_ROWS = 12, 21

PLANE_CUT = 0.02  # a projection plane with less than this share is left out; the others fade so that no edge shows
HEIGHT_FLOOR = 0.1  # what the deepest pit of a layer still counts beside the tallest relief

# An unsigned index needs no test for "from the end"; the compiler cannot see that our signed ones are never negative.
INDEX = np.uint64
F0, F1, F2, HALF = np.float32(0.0), np.float32(1.0), np.float32(2.0), np.float32(0.5)
BYTE_SCALE = np.float32(1.0 / 255.0)
THIRD = np.int32(-1431655765)  # the inverse of 3 modulo 2^32: exact division where 3 divides
# sRGB to linear light above the straight part: a polynomial fitted to the curve at the 8-bit values, in the error that
# counts, that of the value when it is encoded again: at most 0.05 of an 8-bit step.
C0, C1, C2 = np.float32(0.0010635564103722572), np.float32(0.028081538155674934), np.float32(0.5619546175003052)
C3, C4 = np.float32(0.5238565802574158), np.float32(-0.11539348214864731)
STRAIGHT_END, STRAIGHT_SCALE = np.float32(0.04045), np.float32(1.0 / 12.92)
# log2(m) for 1 <= m < 2 is (m - 1) + (m - 1) (2 - m) times this polynomial, within 2.3e-6.
L0, L1, L2 = np.float32(1.02189008), np.float32(-1.03072803), np.float32(0.62486182)
L3, L4 = np.float32(-0.19932005), np.float32(0.0258411)
# 2^m for 0 <= m < 1 is 1 + m + m (m - 1) times this polynomial, within 1.3e-07.
E0, E1 = np.float32(0.30684702), np.float32(0.066699897)
E2, E3 = np.float32(0.0108446003), np.float32(0.00189684984)


@inlined
def _log2(x):
    """Base-2 logarithm of a positive number, from its exponent and a polynomial of its mantissa."""
    bits = np.float32(x).view(np.int32)
    exponent = np.float32((bits >> np.int32(23)) - np.int32(127))
    m = np.int32((bits & np.int32(0x7FFFFF)) | np.int32(0x3F800000)).view(np.float32)
    curve = (((L4 * m + L3) * m + L2) * m + L1) * m + L0
    return exponent + (m - F1) + (m - F1) * (F2 - m) * curve


@inlined
def _exp2(x):
    """2 to the power of a number from -126 to 127."""
    whole = np.floor(x)
    m = x - whole
    curve = ((E3 * m + E2) * m + E1) * m + E0
    power = np.int32((np.int32(whole) + np.int32(127)) << np.int32(23)).view(np.float32)
    return power * (F1 + m + m * (m - F1) * curve)


@inlined
def spread(who, count, positions, normals, tangents, footprints, layer_index, layer_weight, layers, tile_of, slice_of,
           frame, places, tiles, slices):  # fmt: skip
    """Lay points and places out in rows; return the places.

    who : (B,) which points; lanes beyond `count` repeat the last one.
    """
    for t in range(B):
        p = INDEX(who[t])
        frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t] = normals[p, 0], normals[p, 1], normals[p, 2]
        frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t] = tangents[p, 0], tangents[p, 1], tangents[p, 2]
        frame[HAND * B + t] = tangents[p, 3]
        frame[FOOT_T * B + t], frame[FOOT_B * B + t] = footprints[p, 0], footprints[p, 1]
        frame[X * B + t], frame[Y * B + t], frame[Z * B + t] = positions[p, 0], positions[p, 1], positions[p, 2]
    most = 0
    for k in range(layer_weight.shape[1]):
        place, heaviest = INDEX(PLACE_ROWS * B * k), F0
        first, alike = layer_index[INDEX(who[0]), INDEX(k)], True
        for t in range(B):
            p = INDEX(who[t])
            weight = layer_weight[p, INDEX(k)]
            places[place + INDEX(t)] = weight
            heaviest = max(heaviest, weight)
            alike &= layer_index[p, INDEX(k)] == first
        if heaviest <= 0:
            continue
        most = k + 1
        if alike:
            layer = INDEX(first)
            for row in range(HARD, SHARP + 1):
                value = layers[layer, INDEX(row - HARD)]
                for t in range(B):
                    places[place + INDEX(row * B + t)] = value
            for t in range(B):
                tiles[INDEX(B * k + t)] = tile_of[layer]
                slices[INDEX(B * k + t)] = slice_of[layer]
            continue
        for t in range(B):
            layer = INDEX(layer_index[INDEX(who[t]), INDEX(k)])
            for row in range(HARD, SHARP + 1):
                places[place + INDEX(row * B + t)] = layers[layer, INDEX(row - HARD)]
            tiles[INDEX(B * k + t)] = tile_of[layer]
            slices[INDEX(B * k + t)] = slice_of[layer]
    return most


@lanes
def share_planes(k, on_planes, places, counts):
    """Fill how much each plane counts for a place.

    |n| to the power of sharpness, small ones cut, summing to 1; or all of Y where the layer is laid on from above.
    """
    weight, sharp = INDEX(PLACE_ROWS * B * k), INDEX((PLACE_ROWS * k + SHARP) * B)
    out = INDEX(3 * B * k)
    for t in range(B):
        i = INDEX(t)
        sharpness = places[sharp + i]
        x = _exp2(max(sharpness * on_planes[PLANE_NORMAL * B + t], np.float32(-100.0)))
        y = _exp2(max(sharpness * on_planes[(PLANE_NORMAL + 1) * B + t], np.float32(-100.0)))
        z = _exp2(max(sharpness * on_planes[(PLANE_NORMAL + 2) * B + t], np.float32(-100.0)))
        cut = np.float32(PLANE_CUT) * (x + y + z)
        x, y, z = max(x - cut, F0), max(y - cut, F0), max(z - cut, F0)
        scale = F1 / (x + y + z)
        from_above = sharpness <= 0
        shown = F1 if places[weight + i] > 0 else F0
        x = shown * (F0 if from_above else x * scale)
        y = shown * (F1 if from_above else y * scale)
        z = shown * (F0 if from_above else z * scale)
        counts[out + i], counts[out + INDEX(B) + i], counts[out + INDEX(2 * B) + i] = x, y, z


@lanes
def largest(row, rows):
    """Return the largest value, from 0, of a row."""
    start, most = INDEX(row * B), F0
    for t in range(B):
        most = max(most, rows[start + INDEX(t)])
    return most


@lanes
def lay_on_planes(frame, on_planes):
    """Fill where each texel lies on the planes, in metres, seen from outside: u to the right and v downwards."""
    tiny = np.float32(1e-30)
    for t in range(B):
        x, y, z = frame[X * B + t], frame[Y * B + t], frame[Z * B + t]
        on_planes[t], on_planes[B + t] = (-z if frame[NX * B + t] >= 0 else z), -y
        on_planes[2 * B + t], on_planes[3 * B + t] = x, (z if frame[NY * B + t] >= 0 else -z)
        on_planes[4 * B + t], on_planes[5 * B + t] = (x if frame[NZ * B + t] >= 0 else -x), -y
        on_planes[PLANE_NORMAL * B + t] = _log2(max(abs(frame[NX * B + t]), tiny))
        on_planes[(PLANE_NORMAL + 1) * B + t] = _log2(max(abs(frame[NY * B + t]), tiny))
        on_planes[(PLANE_NORMAL + 2) * B + t] = _log2(max(abs(frame[NZ * B + t]), tiny))


@lanes
def plane_levels(frame, on_planes):
    """Fill the base-2 logarithm of the metres that a texel covers on each plane.

    One step to the next texel along the tangent and one along the bitangent, each seen on the plane: the longer counts.
    """
    tiny = np.float32(1e-20)
    for t in range(B):
        nx, ny, nz = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t]
        tx, ty, tz = frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t]
        bx, by, bz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
        along_t = frame[FOOT_T * B + t] * frame[FOOT_T * B + t]
        along_b = frame[FOOT_B * B + t] * frame[FOOT_B * B + t]
        on_planes[PLANE_LEVEL * B + t] = HALF * _log2(max(along_t * (F1 - tx * tx), along_b * (F1 - bx * bx), tiny))
        on_planes[(PLANE_LEVEL + 1) * B + t] = HALF * _log2(max(along_t * (F1 - ty * ty), along_b * (F1 - by * by), tiny))
        on_planes[(PLANE_LEVEL + 2) * B + t] = HALF * _log2(max(along_t * (F1 - tz * tz), along_b * (F1 - bz * bz), tiny))


@lanes
def locate(side_bits, slice_count, level, k, plane, sample, on_planes, places, counts, tiles, slices, at, between, shares):
    """Fill where the four texels around each lane's sample lie, the place between them, and the sample's share.

    level : -1 reads the full size only; 0 the mip level that the footprint chooses and 1 the next smaller one, which share
        by how far the footprint lies between them. A lane without a share reads texel 0, which is always in the cache.
    """
    count, bias = INDEX((3 * k + plane) * B), INDEX((PLACE_ROWS * k + BIAS) * B)
    u, v, wanted = INDEX(2 * plane * B), INDEX((2 * plane + 1) * B), INDEX((PLANE_LEVEL + plane) * B)
    place, pair, own = INDEX(k * B), INDEX(2 * sample * B), INDEX(sample * B)
    full = np.int32(side_bits)
    highest = np.float32(side_bits)
    for t in range(B):
        i = INDEX(t)
        share = counts[count + i]
        bits = full
        start = np.int32(0)
        if level >= 0:
            mip = min(max(on_planes[wanted + i] + places[bias + i], F0), highest)
            whole = min(np.int32(mip), np.int32(full - np.int32(1)))
            fraction = mip - np.float32(whole)
            share *= fraction if level else F1 - fraction
            bits = np.int32(full - whole - np.int32(level))
            # Levels lie one after the other: before this one lie slices * (4^full + ... + 4^(bits + 1)) texels.
            before = np.int32((np.int32(4) << (full + full)) - (np.int32(4) << (bits + bits)))
            start = np.int32(np.int32(before * THIRD) * np.int32(slice_count))
        sides = np.int32(np.int32(1) << bits)
        side, mask = np.float32(sides), np.int32(sides - np.int32(1))
        tile = tiles[place + i]
        tile_u, tile_v = float(on_planes[u + i]) * tile, float(on_planes[v + i]) * tile
        x = np.float32(tile_u - np.floor(tile_u)) * side - HALF
        y = np.float32(tile_v - np.floor(tile_v)) * side - HALF
        x_floor, y_floor = np.floor(x), np.floor(y)
        between[pair + i], between[pair + INDEX(B) + i] = x - x_floor, y - y_floor
        x0, y0 = np.int32(x_floor) & mask, np.int32(y_floor) & mask
        x1, y1 = np.int32(x0 + np.int32(1)) & mask, np.int32(y0 + np.int32(1)) & mask
        start = np.int32(start + (slices[place + i] << (bits + bits)))
        top, bottom = np.int32(start + (y0 << bits)), np.int32(start + (y1 << bits))
        shares[own + i] = share
        read = np.int32(-1) if share > 0 else np.int32(0)
        at[t], at[B + t] = np.int32(top + x0) & read, np.int32(top + x1) & read
        at[2 * B + t], at[3 * B + t] = np.int32(bottom + x0) & read, np.int32(bottom + x1) & read


@inlined
def fetch(texels, sample, at, around):
    """Read the four texels around each lane's sample from every array; around : (samples, arrays, corners, B), flat."""
    arrays = texels.shape[1]
    first = INDEX(4 * B * arrays * sample)
    second, third = first + INDEX(4 * B), first + INDEX(8 * B)
    if arrays == 2:
        for t in range(4 * B):
            texel = INDEX(np.uint32(at[t]))
            around[first + INDEX(t)] = texels[texel, 0]
            around[second + INDEX(t)] = texels[texel, 1]
    elif arrays == 3:
        for t in range(4 * B):
            texel = INDEX(np.uint32(at[t]))
            around[first + INDEX(t)] = texels[texel, 0]
            around[second + INDEX(t)] = texels[texel, 1]
            around[third + INDEX(t)] = texels[texel, 2]
    else:
        for array in range(arrays):
            for t in range(4 * B):
                around[first + INDEX(4 * B * array + t)] = texels[INDEX(np.uint32(at[t])), array]


@inlined
def _plain(texel, mask, scale):
    """One channel, 0..1, as it is stored. It is not shifted down: scale holds 1 / 255 and the channel's place."""
    return np.float32(np.uint32(texel & mask)) * scale


@inlined
def _linear(texel, mask, s):
    """One channel, 0..1, as linear light of its sRGB value; s is the scale that brings it to 0..1."""
    x = np.float32(np.int32(texel & mask))
    curved = (((C4 * s * s * s * s * x + C3 * s * s * s) * x + C2 * s * s) * x + C1 * s) * x + C0
    return x * (STRAIGHT_SCALE * s) if x <= STRAIGHT_END / s else curved


@inlined
def _channel(channel):
    """The mask of a channel of a texel, and what brings it to 0..1."""
    return np.uint32(np.uint32(255) << np.uint32(8 * channel)), np.float32(BYTE_SCALE / np.float32(1 << (8 * channel)))


@inlined
def _corner_weights(fx, fy):
    both = fx * fy
    return F1 - fx - fy + both, fx - both, fy - both, both


@lanes
def rise(k, sample, channel, corners, around, between, shares, places, heights, tall):
    """Decode the height of each lane's sample, and add its share to how high the place is."""
    mask, scale = _channel(channel)
    a, pair, own = INDEX(corners), INDEX(2 * B * sample), INDEX(B * sample)
    low, place = INDEX((PLACE_ROWS * k + LOW) * B), INDEX(k * B)
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = _corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        h = places[low + i] * (
            wa * _plain(around[a + i], mask, scale) + wb * _plain(around[a + INDEX(B) + i], mask, scale)
            + wc * _plain(around[a + INDEX(2 * B) + i], mask, scale) + wd * _plain(around[a + INDEX(3 * B) + i], mask, scale)
        )  # fmt: skip
        heights[own + i] = h
        tall[place + i] += shares[own + i] * h


@lanes
def rise_flat(k, sample, value, shares, places, heights, tall):
    """The same where no array holds height."""
    own, low, place = INDEX(B * sample), INDEX((PLACE_ROWS * k + LOW) * B), INDEX(k * B)
    for t in range(B):
        i = INDEX(t)
        h = value * places[low + i]
        heights[own + i] = h
        tall[place + i] += shares[own + i] * h


@lanes
def weigh(most, places, tall, tallest, kept, whole):
    """Let the taller layer show where layers meet; `kept` then sums to 1 over the places of a texel.

    A place's tallness is `weight * (relief * height + HEIGHT_FLOOR)`; what it keeps is
    `weight * max(0, 1 - hardness * (1 - tallness / the tallest))`.
    """
    for t in range(B):
        tallest[t] = np.float32(1e-12)
        whole[t] = np.float32(1e-12)
    for k in range(most):
        weight, own = INDEX(PLACE_ROWS * B * k), INDEX(B * k)
        for t in range(B):
            i = INDEX(t)
            tallness = places[weight + i] * (tall[own + i] + np.float32(HEIGHT_FLOOR))
            tall[own + i] = tallness
            tallest[t] = max(tallest[t], tallness)
    for t in range(B):
        tallest[t] = F1 / tallest[t]
    for k in range(most):
        weight, own, hard = INDEX(PLACE_ROWS * B * k), INDEX(B * k), INDEX((PLACE_ROWS * k + HARD) * B)
        for t in range(B):
            i = INDEX(t)
            share = places[weight + i] * max(F0, F1 - places[hard + i] * (F1 - tall[own + i] * tallest[t]))
            kept[own + i] = share
            whole[t] += share
    for t in range(B):
        whole[t] = F1 / whole[t]
    for k in range(most):
        own = INDEX(B * k)
        for t in range(B):
            kept[own + INDEX(t)] *= whole[t]


@lanes
def weights_of_pass(k, sample, kept, shares, weight):
    """Fill what each lane's sample weighs in the end; return the largest."""
    place, own = INDEX(k * B), INDEX(B * sample)
    largest = F0
    for t in range(B):
        w = kept[place + INDEX(t)] * shares[own + INDEX(t)]
        weight[t] = w
        largest = max(largest, w)
    return largest


@lanes
def mix_colour(sample, array, corners, around, between, weight, channels):
    """Add three sRGB-encoded channels of an array by weight, as linear light."""
    pair, a, total = INDEX(2 * B * sample), INDEX(corners), INDEX(4 * B * array)
    m0, m1, m2 = np.uint32(0xFF), np.uint32(0xFF00), np.uint32(0xFF0000)
    s0, s1, s2 = BYTE_SCALE, np.float32(BYTE_SCALE / np.float32(256)), np.float32(BYTE_SCALE / np.float32(65536))
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = _corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        w = weight[t]
        wa, wb, wc, wd = wa * w, wb * w, wc * w, wd * w
        ta, tb = around[a + i], around[a + INDEX(B) + i]
        tc, td = around[a + INDEX(2 * B) + i], around[a + INDEX(3 * B) + i]
        red = wa * _linear(ta, m0, s0) + wb * _linear(tb, m0, s0) + wc * _linear(tc, m0, s0) + wd * _linear(td, m0, s0)
        green = wa * _linear(ta, m1, s1) + wb * _linear(tb, m1, s1) + wc * _linear(tc, m1, s1) + wd * _linear(td, m1, s1)
        blue = wa * _linear(ta, m2, s2) + wb * _linear(tb, m2, s2) + wc * _linear(tc, m2, s2) + wd * _linear(td, m2, s2)
        channels[total + i] += red
        channels[total + INDEX(B) + i] += green
        channels[total + INDEX(2 * B) + i] += blue


@lanes
def mix_data(sample, array, channel, corners, around, between, weight, channels):
    """Add one channel of an array by weight, as it is."""
    mask, scale = _channel(channel)
    pair, a, total = INDEX(2 * B * sample), INDEX(corners), INDEX(B * (4 * array + channel))
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = _corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        channels[total + i] += weight[t] * (
            wa * _plain(around[a + i], mask, scale) + wb * _plain(around[a + INDEX(B) + i], mask, scale)
            + wc * _plain(around[a + INDEX(2 * B) + i], mask, scale) + wd * _plain(around[a + INDEX(3 * B) + i], mask, scale)
        )  # fmt: skip


@lanes
def mix_normals(sample, plane, channel_x, channel_y, corners_x, corners_y, around, between, weight, sums):
    """Add two-channel normals by weight, z rebuilt, to the sums of detail on a plane."""
    mask_x, scale_x = _channel(channel_x)
    mask_y, scale_y = _channel(channel_y)
    pair, a, b, total = INDEX(2 * B * sample), INDEX(corners_x), INDEX(corners_y), INDEX((DETAIL + 3 * plane) * B)
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = _corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        x = (wa * _plain(around[a + i], mask_x, scale_x) + wb * _plain(around[a + INDEX(B) + i], mask_x, scale_x)
             + wc * _plain(around[a + INDEX(2 * B) + i], mask_x, scale_x)
             + wd * _plain(around[a + INDEX(3 * B) + i], mask_x, scale_x))  # fmt: skip
        y = (wa * _plain(around[b + i], mask_y, scale_y) + wb * _plain(around[b + INDEX(B) + i], mask_y, scale_y)
             + wc * _plain(around[b + INDEX(2 * B) + i], mask_y, scale_y)
             + wd * _plain(around[b + INDEX(3 * B) + i], mask_y, scale_y))  # fmt: skip
        x, y = F2 * x - F1, F2 * y - F1
        w = weight[t]
        z = w * math.sqrt(max(F0, F1 - x * x - y * y))
        sums[total + i] += w * x
        sums[total + INDEX(B) + i] += w * y
        sums[total + INDEX(2 * B) + i] += z


@lanes
def mix_height(sample, heights, weight, sums):
    """Add height by weight."""
    own = INDEX(B * sample)
    for t in range(B):
        sums[HEIGHT * B + t] += weight[t] * heights[own + INDEX(t)]


@inlined
def _upright(wx, wy, wz, hx, hy, hz, nx, ny, nz, cosine, along_axis):
    """Turn a plane's outward axis A onto the surface normal N along the shortest arc; detail w goes with it.

    w' = w - (A + N) (w . (A + N)) / (1 + A . N) + 2 N (w . A)   (reoriented normals, Barre-Brisebois and Hill 2012)
    """
    along = (wx * hx + wy * hy + wz * hz) / (F1 + cosine)
    twice = along_axis + along_axis
    return wx - hx * along + nx * twice, wy - hy * along + ny * twice, wz - hz * along + nz * twice


@lanes
def turn(world_normals, frame, sums):
    """Fill the blended normals, unit, from the sums of detail on the planes X, Y and Z (each in its own tangent space)."""
    for t in range(B):
        n0, n1, n2 = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t]
        sx, sy, sz = (F1 if n0 >= 0 else -F1), (F1 if n1 >= 0 else -F1), (F1 if n2 >= 0 else -F1)
        dx, dy, dz = sums[12 * B + t], sums[13 * B + t], sums[14 * B + t]
        a0, a1, a2 = _upright(sx * dz, dy, -sx * dx, sx + n0, n1, n2, n0, n1, n2, abs(n0), dz)
        dx, dy, dz = sums[15 * B + t], sums[16 * B + t], sums[17 * B + t]
        b0, b1, b2 = _upright(dx, sy * dz, -sy * dy, n0, sy + n1, n2, n0, n1, n2, abs(n1), dz)
        dx, dy, dz = sums[18 * B + t], sums[19 * B + t], sums[20 * B + t]
        c0, c1, c2 = _upright(sz * dx, dy, sz * dz, n0, n1, sz + n2, n0, n1, n2, abs(n2), dz)
        w0, w1, w2 = a0 + b0 + c0, a1 + b1 + c1, a2 + b2 + c2
        square = w0 * w0 + w1 * w1 + w2 * w2
        flat = square < np.float32(1e-12)
        w0, w1, w2 = (n0 if flat else w0), (n1 if flat else w1), (n2 if flat else w2)
        unit = F1 / math.sqrt(F1 if flat else square)
        w0, w1, w2 = w0 * unit, w1 * unit, w2 * unit
        t0, t1, t2 = frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t]
        bitangent = w0 * (n1 * t2 - n2 * t1) + w1 * (n2 * t0 - n0 * t2) + w2 * (n0 * t1 - n1 * t0)
        sums[NORMAL * B + t] = w0 if world_normals else w0 * t0 + w1 * t1 + w2 * t2
        sums[(NORMAL + 1) * B + t] = w1 if world_normals else frame[HAND * B + t] * bitangent
        sums[(NORMAL + 2) * B + t] = w2 if world_normals else w0 * n0 + w1 * n1 + w2 * n2


@lanes
def quantise(table_top, sums, steps):
    """Fill which step of its scale each output lies on: of the table for colour, of 255 for data, of 65535 for height."""
    for t in range(B):
        for c in range(3):
            steps[(DIFFUSE + c) * B + t] = np.int32(min(max(sums[(DIFFUSE + c) * B + t], F0), F1) * table_top + HALF)
            steps[(SPECULAR + c) * B + t] = np.int32(min(max(sums[(SPECULAR + c) * B + t], F0), F1) * table_top + HALF)
            level = HALF * sums[(NORMAL + c) * B + t] + HALF
            steps[(NORMAL + c) * B + t] = np.int32(min(max(level, F0), F1) * np.float32(255.0) + HALF)
        steps[ROUGHNESS * B + t] = np.int32(min(max(sums[ROUGHNESS * B + t], F0), F1) * np.float32(255.0) + HALF)
        steps[OCCLUSION * B + t] = np.int32(min(max(sums[OCCLUSION * B + t], F0), F1) * np.float32(255.0) + HALF)
        steps[HEIGHT * B + t] = np.int32(min(max(sums[HEIGHT * B + t], F0), F1) * np.float32(65535.0) + HALF)


@inlined
def encode(who, count, steps, encode_table, diffuse, normal, roughness, specular, occlusion, height):
    """Store quantised texels: colour as sRGB bytes, data as bytes, height as 16 bits."""
    for t in range(count):
        p = INDEX(who[t])
        diffuse[p, 0] = encode_table[INDEX(np.uint32(steps[DIFFUSE * B + t]))]
        diffuse[p, 1] = encode_table[INDEX(np.uint32(steps[(DIFFUSE + 1) * B + t]))]
        diffuse[p, 2] = encode_table[INDEX(np.uint32(steps[(DIFFUSE + 2) * B + t]))]
        specular[p, 0] = encode_table[INDEX(np.uint32(steps[SPECULAR * B + t]))]
        specular[p, 1] = encode_table[INDEX(np.uint32(steps[(SPECULAR + 1) * B + t]))]
        specular[p, 2] = encode_table[INDEX(np.uint32(steps[(SPECULAR + 2) * B + t]))]
        normal[p, 0] = steps[NORMAL * B + t]
        normal[p, 1] = steps[(NORMAL + 1) * B + t]
        normal[p, 2] = steps[(NORMAL + 2) * B + t]
        roughness[p], occlusion[p], height[p] = (
            steps[ROUGHNESS * B + t],
            steps[OCCLUSION * B + t],
            steps[HEIGHT * B + t],
        )


@check
def first_bad_weights(layer_index, layer_weight, layers):
    """Return the first point whose weights name no layer, are below 0, or do not sum to 1; -1 if all are good."""
    for p in range(layer_weight.shape[0]):
        total = F0
        good = True
        for k in range(layer_weight.shape[1]):
            w = layer_weight[p, k]
            total += w
            good &= w >= 0 and layer_index[p, k] < layers
        if not (good and abs(total - F1) <= np.float32(1e-4)):
            return p
    return -1


@inlined
def choose_points(block, points, columns, who):
    """Fill which points a block takes; return how many, the rest of the lanes repeat the last.

    columns : 0 takes points in order; else they are rows of a grid so wide, and a block is a tile of it.
    """
    count = 0
    if columns == 0:
        for p in range(block * B, min(block * B + B, points)):
            who[INDEX(count)] = p
            count += 1
    else:
        across = (columns + TILE_COLUMNS - 1) // TILE_COLUMNS
        top, left = block // across * TILE_ROWS, block % across * TILE_COLUMNS
        for row in range(top, min(top + TILE_ROWS, points // columns)):
            for column in range(left, min(left + TILE_COLUMNS, columns)):
                who[INDEX(count)] = row * columns + column
                count += 1
    for t in range(count, B):
        who[INDEX(t)] = who[INDEX(count - 1)]
    return count


@inlined
def block_count(points, columns):
    """How many blocks hold all points."""
    if columns == 0:
        return (points + B - 1) // B
    return ((points // columns + TILE_ROWS - 1) // TILE_ROWS) * ((columns + TILE_COLUMNS - 1) // TILE_COLUMNS)


@inlined
def _mix_pass(sample, plane, arrays, is_colour, role_row, mixed, around, between, weight, heights, channels, sums):
    """Add a pass to the sums of the channels that roles read, of detail normals on its plane, and of height."""
    first = 4 * B * arrays * sample
    for array in range(arrays):
        if is_colour[array]:
            mix_colour(sample, array, first + 4 * B * array, around, between, weight, channels)
        for channel in range(4):
            if mixed[4 * array + channel]:
                mix_data(sample, array, channel, first + 4 * B * array, around, between, weight, channels)
    x, y = role_row[NORMAL], role_row[NORMAL + 1]
    if x >= 0:
        mix_normals(sample, plane, x % 4, y % 4, first + 4 * B * (x // 4), first + 4 * B * (y // 4), around, between, weight,
                    sums)  # fmt: skip
    mix_height(sample, heights, weight, sums)


@kernel
def blend_block(
    who, count, positions, normals, tangents, footprints, layer_index, layer_weight, layers, tile_of, slice_of,
    texels, is_colour, side_bits, slice_count, levels, role_row, mixed, neutral, world_normals, frame, on_planes, places,
    counts, tiles, slices, needed, at, around, between, shares, heights, tall, tallest, kept, whole, weight, channels, sums
):  # fmt: skip
    """Blend the points `who` into the columns of `sums`."""
    most = spread(who, count, positions, normals, tangents, footprints, layer_index, layer_weight, layers, tile_of, slice_of,
                  frame, places, tiles, slices)  # fmt: skip
    lay_on_planes(frame, on_planes)
    if levels > 1:
        plane_levels(frame, on_planes)
    for t in range(most * B):
        tall[INDEX(t)] = F0
    for t in range(SUM_ROWS * B):
        sums[t] = F0
    arrays = texels.shape[1]
    for t in range(4 * B * arrays):
        channels[INDEX(t)] = F0
    high = role_row[HEIGHT]
    steps = 2 if levels > 1 else 1
    for k in range(most):
        share_planes(k, on_planes, places, counts)
        for plane in range(3):
            needed[INDEX(3 * k + plane)] = largest(3 * k + plane, counts) > 0
            if not needed[INDEX(3 * k + plane)]:
                continue
            for step in range(steps):
                sample = steps * (3 * k + plane) + step
                locate(side_bits, slice_count, step if levels > 1 else -1, k, plane, sample, on_planes, places, counts, tiles,
                       slices, at, between, shares)  # fmt: skip
                fetch(texels, sample, at, around)
                if high >= 0:
                    rise(k, sample, high % 4, 4 * B * (arrays * sample + high // 4), around, between, shares, places, heights,
                         tall)  # fmt: skip
                else:
                    rise_flat(k, sample, neutral[HEIGHT], shares, places, heights, tall)
    weigh(most, places, tall, tallest, kept, whole)
    for k in range(most):
        for plane in range(3):
            if needed[INDEX(3 * k + plane)]:
                for step in range(steps):
                    sample = steps * (3 * k + plane) + step
                    if weights_of_pass(k, sample, kept, shares, weight) > 0:
                        _mix_pass(sample, plane, arrays, is_colour, role_row, mixed, around, between, weight, heights,
                                  channels, sums)  # fmt: skip
    for role in range(OUTPUTS):
        if role != HEIGHT and not NORMAL <= role < NORMAL + 3:
            row = role_row[role]
            for t in range(B):
                sums[INDEX(role * B + t)] = channels[INDEX(row * B + t)] if row >= 0 else neutral[role]
    if role_row[NORMAL] < 0:
        for t in range(B):
            sums[(DETAIL + 5) * B + t] = F1  # no detail: straight up, laid on from above
    turn(world_normals, frame, sums)


@kernel
def blend_points(
    values, columns, positions, normals, tangents, footprints, layer_index, layer_weight, layers, tile_of, slice_of,
    texels, is_colour, side_bits, slice_count, levels, role_row, mixed, neutral, world_normals, who, frame, on_planes, places,
    counts, tiles, slices, needed, at, around, between, shares, heights, tall, tallest, kept, whole, weight, channels, sums,
    steps
):  # fmt: skip
    """Blend every point into `values` (N, OUTPUTS), linear."""
    points = positions.shape[0]
    for block in range(block_count(points, columns)):
        count = choose_points(block, points, columns, who)
        blend_block(
            who, count, positions, normals, tangents, footprints, layer_index, layer_weight, layers, tile_of, slice_of,
            texels, is_colour, side_bits, slice_count, levels, role_row, mixed, neutral, world_normals, frame, on_planes,
            places, counts, tiles, slices, needed, at, around, between, shares, heights, tall, tallest, kept, whole, weight,
            channels, sums,
        )  # fmt: skip
        for t in range(count):
            for c in range(OUTPUTS):
                values[INDEX(who[t]), c] = sums[c * B + t]


@kernel
def blend_encoded(
    encode_table, diffuse, normal, roughness, specular, occlusion, height,
    columns, positions, normals, tangents, footprints, layer_index, layer_weight, layers, tile_of, slice_of,
    texels, is_colour, side_bits, slice_count, levels, role_row, mixed, neutral, world_normals, who, frame, on_planes, places,
    counts, tiles, slices, needed, at, around, between, shares, heights, tall, tallest, kept, whole, weight, channels, sums,
    steps
):  # fmt: skip
    """Blend every point into finished texels."""
    points = positions.shape[0]
    for block in range(block_count(points, columns)):
        count = choose_points(block, points, columns, who)
        blend_block(
            who, count, positions, normals, tangents, footprints, layer_index, layer_weight, layers, tile_of, slice_of,
            texels, is_colour, side_bits, slice_count, levels, role_row, mixed, neutral, world_normals, frame, on_planes,
            places, counts, tiles, slices, needed, at, around, between, shares, heights, tall, tallest, kept, whole, weight,
            channels, sums,
        )  # fmt: skip
        quantise(np.float32(encode_table.shape[0] - 1), sums, steps)
        encode(who, count, steps, encode_table, diffuse, normal, roughness, specular, occlusion, height)
