"""Samples: where the four texels around each lane's sample lie, and how high each place is.

Between the two they are fetched: a phase of its own because plain loads are fast everywhere, while gather instructions took
twice as long where they were measured.
"""

from __future__ import annotations

import numpy as np

from jagged_quilt.blend._fetch_kernels import fetch
from jagged_quilt.blend._number_kernels import as_bits, as_number, exp2, largest, log2, power_of_two
from jagged_quilt.blend._rows import (
    ANISOTROPIC,
    BIAS,
    F0,
    F1,
    F2,
    FILTER,
    HALF,
    HEIGHT,
    INDEX,
    LEVEL,
    LONG_U,
    LONG_V,
    LONGER,
    LOW,
    MIRROR,
    NEAREST,
    PLACE_ROWS,
    PLANE_ROWS,
    REPEAT,
    SHORTER,
    SLICE,
    TAPS,
    TILES,
    TILES_REST,
    TRILINEAR,
    U_REST,
    V_REST,
    WRAP_U,
    B,
    U,
    V,
)
from jagged_quilt.blend._texel_kernels import channel_bits, corner_weights, plain
from jagged_quilt.foundation.compiler import fused, inlined, lanes

THIRD = np.int32(-1431655765)  # the inverse of 3 modulo 2^32: exact division where 3 divides


@lanes
def plan_taps(k, seat, plane, start, laid, look, taps):
    """Fill how many samples are taken along the longer axis of the footprint; return the largest."""
    rows, counts = look.rows, look.counts
    row, mode = INDEX(start + PLANE_ROWS * B * plane), INDEX((PLACE_ROWS * k + FILTER) * B)
    bias, limit = INDEX((PLACE_ROWS * k + BIAS) * B), INDEX((PLACE_ROWS * k + TAPS) * B)
    count, out, most = INDEX((3 * seat + plane) * B), INDEX((3 * seat + plane) * B), as_bits(F1)
    for t in range(B):
        i = INDEX(t)
        longer = laid[row + INDEX(LONGER * B) + i] + rows[bias + i]
        shorter = max(laid[row + INDEX(SHORTER * B) + i] + rows[bias + i], F0)
        is_fine = rows[mode + i] >= np.float32(ANISOTROPIC)
        ratio = exp2(min(max(longer - shorter, F0), np.float32(8.0))) if is_fine else F1
        wanted = min(np.ceil(ratio - np.float32(1e-3)), rows[limit + i])
        wanted = wanted if counts[count + i] > 0 else F1
        wanted = max(wanted, F1)
        taps[out + i] = wanted
        most = max(most, as_bits(wanted))
    return as_number(most)


@inlined
def _level_start(full, side, slice_count):
    """Where a level begins: before it lie the slices of larger ones, of n^2 texels and n that repeat, n from `full` to 2 side.

    Whole numbers stay of 32 bits, as wide as the lanes: so powers of two are multiplied by, since a shift by a variable is not
    known to be one of 32 bits.
    """
    less = np.int32(full - side)
    squares = np.int32(np.int32(np.int32(4) * less) * np.int32(full + side))
    return np.int32(np.int32(np.int32(squares * THIRD) + np.int32(np.int32(2) * less)) * np.int32(slice_count))


@inlined
def _start(slice_, row, side):
    """Where a row of a slice begins in its level: rows are one texel longer than the side."""
    return np.int32(np.int32(np.int32(slice_ * side) + row) * np.int32(side + np.int32(1)))


@inlined
def _turns(u, tiles):
    """How far u lies in its tile, 0..1 or a rounding beyond: the product is exact before the whole tiles are taken off."""
    return fused(u, tiles, -np.floor(u * tiles))


@lanes
def locate(mips, level, is_far, at_hand, sample, start, laid, look, spot):
    """Fill where the upper and the lower two texels around each lane's sample begin, the place between them, and its share.

    mips : how many bits a slice's side has, and how many slices there are.
    at_hand : which place, seat and plane.
    is_far : whether float32 leaves something away of the places.
    start : where the rows of the place's chart begin in `laid`.
    level : -1 reads the full size only; 0 the mip level that the footprint chooses and 1 the next smaller one, which share
        by how far the footprint lies between them. A lane without a share reads texel 0, which is always in the cache.
    """
    (rows, counts), (at, between, shares), (side_bits, slice_count), (k, seat, plane) = look, spot, mips, at_hand
    count, bias = INDEX((3 * seat + plane) * B), INDEX((PLACE_ROWS * k + BIAS) * B)
    row = INDEX(start + PLANE_ROWS * B * plane)
    u, v, wanted = row + INDEX(U * B), row + INDEX(V * B), row + INDEX(LEVEL * B)
    u_rest, v_rest = row + INDEX(U_REST * B), row + INDEX(V_REST * B)
    place, pair, own = INDEX(PLACE_ROWS * k * B), INDEX(2 * sample * B), INDEX(sample * B)
    highest, last, full = np.float32(side_bits), np.float32(side_bits - 1), np.int32(1 << side_bits)
    for t in range(B):
        i = INDEX(t)
        share = counts[count + i]
        side = np.float32(full)
        if level >= 0:
            mip = min(max(laid[wanted + i] + rows[bias + i], F0), highest)
            whole = min(np.floor(mip), last)
            fraction = mip - whole
            share *= fraction if level else F1 - fraction
            side = power_of_two(highest - whole - np.float32(level))
        sides = np.int32(side)
        mask, first = np.int32(sides - np.int32(1)), _level_start(full, sides, slice_count) if level >= 0 else np.int32(0)
        high, low = rows[place + INDEX(TILES * B) + i], rows[place + INDEX(TILES_REST * B) + i]
        more_u, more_v = low * laid[u + i], low * laid[v + i]
        if is_far:
            more_u, more_v = more_u + high * laid[u_rest + i], more_v + high * laid[v_rest + i]
        x = (_turns(laid[u + i], high) + more_u) * side - HALF
        y = (_turns(laid[v + i], high) + more_v) * side - HALF
        x_floor, y_floor = np.floor(x), np.floor(y)
        between[pair + i], between[pair + INDEX(B) + i] = x - x_floor, y - y_floor
        x0, y0 = np.int32(np.int32(x_floor) & mask), np.int32(np.int32(y_floor) & mask)
        y1 = np.int32(np.int32(y0 + np.int32(1)) & mask)
        first, slice_ = np.int32(first + x0), as_bits(rows[place + INDEX(SLICE * B) + i])
        shares[own + i] = share
        at[pair + i] = np.int32(first + _start(slice_, y0, sides)) if share > 0 else np.int32(0)
        at[pair + INDEX(B) + i] = np.int32(first + _start(slice_, y1, sides)) if share > 0 else np.int32(0)


@inlined
def _unwrapped(u, tiles, more, wrap):
    """The place in tiles that a wrap mode reads, from -1 to 2."""
    half = HALF * tiles
    mirrored = F2 * (fused(u, half, -np.floor(u * half)) + HALF * more)
    clamped = min(max(fused(u, tiles, more), -F1), F2)
    repeated = _turns(u, tiles) + more
    return repeated if wrap == REPEAT else mirrored if wrap == MIRROR else clamped


@inlined
def _folded(i, wrap, sides):
    """The texel that a wrap mode reads for one that may lie outside."""
    mask, twice = np.int32(sides - np.int32(1)), np.int32(np.int32(np.int32(2) * sides) - np.int32(1))
    if wrap == REPEAT:
        return np.int32(i & mask)
    if wrap == MIRROR:
        j = np.int32(i & twice)
        return j if j <= mask else np.int32(twice - j)
    return min(max(i, np.int32(0)), mask)


@lanes
def locate_any(mips, level, tap, at_hand, sample, start, laid, places, spot):
    """The same for layers of any wrap mode and filter; `tap` is which of several samples along the footprint."""
    (rows, counts), taps = places.look, places.taps
    (at, between, shares), (side_bits, slice_count), (k, seat, plane) = spot, mips, at_hand
    count, bias = INDEX((3 * seat + plane) * B), INDEX((PLACE_ROWS * k + BIAS) * B)
    said, row = INDEX((PLACE_ROWS * k + WRAP_U) * B), INDEX(start + PLANE_ROWS * B * plane)
    place, pair, own = INDEX(PLACE_ROWS * k * B), INDEX(2 * sample * B), INDEX(sample * B)
    highest, full = np.float32(side_bits), np.int32(1 << side_bits)
    last = np.float32(max(side_bits - 1, 0))
    for t in range(B):
        i = INDEX(t)
        wrap_u, wrap_v = np.int32(rows[said + i]), np.int32(rows[said + INDEX(B) + i])
        mode = np.int32(rows[said + INDEX(2 * B) + i])
        is_fine = mode == ANISOTROPIC
        several = taps[count + i] if is_fine else F1
        wanted = laid[row + INDEX(LEVEL * B) + i]
        if is_fine:
            wanted = max(laid[row + INDEX(LONGER * B) + i] - log2(several), laid[row + INDEX(SHORTER * B) + i])
        mip = min(max(wanted + rows[bias + i], F0), highest) if mode >= TRILINEAR else F0
        whole = min(np.floor(mip), last)
        fraction = mip - whole
        share = counts[count + i] * (fraction if level > 0 else F1 - fraction)
        share = share / several if np.float32(tap) < several else F0
        side = power_of_two(max(highest - whole - np.float32(max(level, 0)), F0))
        sides, slice_ = np.int32(side), as_bits(rows[place + INDEX(SLICE * B) + i])
        along = (np.float32(tap) + HALF) / several - HALF if is_fine else F0
        high, low = rows[place + INDEX(TILES * B) + i], rows[place + INDEX(TILES_REST * B) + i]
        u, v = laid[row + INDEX(U * B) + i], laid[row + INDEX(V * B) + i]
        rest_u = laid[row + INDEX(U_REST * B) + i] + along * laid[row + INDEX(LONG_U * B) + i]
        rest_v = laid[row + INDEX(V_REST * B) + i] + along * laid[row + INDEX(LONG_V * B) + i]
        lower = F0 if mode == NEAREST else HALF
        x = _unwrapped(u, high, low * u + high * rest_u, wrap_u) * side - lower
        y = _unwrapped(v, high, low * v + high * rest_v, wrap_v) * side - lower
        x_floor, y_floor = np.floor(x), np.floor(y)
        across = F0 if mode == NEAREST else x - x_floor
        between[pair + INDEX(B) + i] = F0 if mode == NEAREST else y - y_floor
        x0, y0 = np.int32(x_floor), np.int32(y_floor)
        x1, y1 = np.int32(x0 + np.int32(1)), np.int32(y0 + np.int32(1))
        x0, x1 = _folded(x0, wrap_u, sides), _folded(x1, wrap_u, sides)
        y0, y1 = _folded(y0, wrap_v, sides), _folded(y1, wrap_v, sides)
        is_back = (wrap_u == MIRROR) and x1 < x0  # what is read is a texel and its neighbour to the right
        across = F0 if x1 == x0 else F1 - across if is_back else across
        between[pair + i] = across
        first = np.int32(_level_start(full, sides, slice_count) + (x1 if is_back else x0))
        shares[own + i] = share
        at[pair + i] = np.int32(first + _start(slice_, y0, sides)) if share > 0 else np.int32(0)
        at[pair + INDEX(B) + i] = np.int32(first + _start(slice_, y1, sides)) if share > 0 else np.int32(0)


@lanes
def rise(k, sample, channel, corners, around, between, shares, heights, rows, tall):
    """Decode the height of each lane's sample, and add its share to how high the place is."""
    mask, scale = channel_bits(channel)
    a, pair, own = INDEX(corners), INDEX(2 * B * sample), INDEX(B * sample)
    low, place = INDEX((PLACE_ROWS * k + LOW) * B), INDEX(k * B)
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        h = rows[low + i] * (
            wa * plain(around[a + i], mask, scale)
            + wb * plain(around[a + INDEX(B) + i], mask, scale)
            + wc * plain(around[a + INDEX(2 * B) + i], mask, scale)
            + wd * plain(around[a + INDEX(3 * B) + i], mask, scale)
        )
        heights[own + i] = h
        tall[place + i] += shares[own + i] * h


@lanes
def rise_flat(k, sample, value, shares, heights, rows, tall):
    """The same where no array holds height."""
    own, low, place = INDEX(B * sample), INDEX((PLACE_ROWS * k + LOW) * B), INDEX(k * B)
    for t in range(B):
        i = INDEX(t)
        h = value * rows[low + i]
        heights[own + i] = h
        tall[place + i] += shares[own + i] * h


@inlined
def find_place(k, seat, plane, group, passes, plan, pages, scratch):
    """Find where one seat of a place lies on one plane, in as many passes as it takes, from the number `passes` on; return the
    next. `group` is that of the roles that it is read for, or -1."""
    places, samples, laid = scratch.places, scratch.samples, scratch.lying.laid
    look, shares, mips = places.look, samples.spot.shares, (pages.side_bits, pages.slice_count)
    start, is_far = places.laid_at[INDEX(seat)], scratch.lying.is_laid[INDEX(plan.charts.shape[0])] > 0
    several = 1 if plan.is_plain else int(plan_taps(k, seat, plane, start, laid, look, places.taps))
    for tap in range(several):
        for step in range(2 if pages.levels > 1 else 1):
            level = step if pages.levels > 1 else -1
            if plan.is_plain:
                locate(mips, level, is_far, (k, seat, plane), passes, start, laid, look, samples.spot)
            else:
                locate_any(mips, level, tap, (k, seat, plane), passes, start, laid, places, samples.spot)
            if pages.levels > 1 and not largest(passes, shares) > 0:
                continue
            samples.place[INDEX(passes)], samples.plane[INDEX(passes)] = k, plane
            samples.seat[INDEX(passes)], samples.group[INDEX(passes)] = seat, group
            passes += 1
    return passes


@inlined
def _take_back(sample, plan, scratch):
    """Take the height of a pass back from its place where height is read in another seat."""
    samples, high = scratch.samples, plan.role_row[HEIGHT]
    k, group = samples.place[INDEX(sample)], samples.group[INDEX(sample)]
    own = plan.group_of[INDEX(high)] if high >= 0 else np.int32(-1)
    if own == group:
        return
    for t in range(B):
        apart = scratch.places.apart[INDEX((plan.apart.shape[0] * k + own) * B + t)]
        i = INDEX(B * sample + t)
        scratch.mix.tall[INDEX(k * B + t)] -= apart * samples.spot.shares[i] * samples.heights[i]


@inlined
def read_passes(passes, plan, pages, scratch):
    """Read the texels of every pass, and how high each place is."""
    samples, rows, tall = scratch.samples, scratch.places.look.rows, scratch.mix.tall
    (_, between, shares), around, heights = samples.spot, samples.around, samples.heights
    arrays, high = plan.is_colour.shape[0], plan.role_row[HEIGHT]
    for sample in range(passes):
        k, group = samples.place[INDEX(sample)], samples.group[INDEX(sample)]
        fetch(sample, passes, pages.texels, arrays, samples)
        if group >= 0 and (high < 0 or plan.group_of[INDEX(high)] != group):
            continue  # it is read for other roles
        if high >= 0:
            first = 4 * B * (arrays * sample + high // 4)
            rise(k, sample, high % 4, first, around, between, shares, heights, rows, tall)
        else:
            rise_flat(k, sample, plan.neutral[HEIGHT], shares, heights, rows, tall)
        if plan.apart.shape[0] > 0:
            _take_back(sample, plan, scratch)
