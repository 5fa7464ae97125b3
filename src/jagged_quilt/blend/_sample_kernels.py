"""Samples: where the four texels around each lane's sample are, and how high each slot is.

Between the two they are fetched: a phase of its own because plain loads are fast everywhere, while gather instructions took
twice as long where they were measured.
"""

from __future__ import annotations

import numpy as np

from jagged_quilt.blend._fetch_kernels import fetch, spot_row, texel_row
from jagged_quilt.blend._fine_kernels import add_fine_heights
from jagged_quilt.blend._lane_kernels import (
    as_bits,
    as_number,
    exp2,
    lane,
    largest,
    log2,
    plane_row,
    power_of_two,
    slot_row,
    weight_row,
)
from jagged_quilt.blend._rows import (
    ANISOTROPIC,
    F0,
    F1,
    F2,
    HALF,
    HEIGHT,
    INDEX,
    MIRROR,
    NEAREST,
    REPEAT,
    TRILINEAR,
    B,
    Plane,
    Slot,
)
from jagged_quilt.blend._texel_kernels import channel_bits, corner_weights, corners_at, plain
from jagged_quilt.foundation.compiler import fused, inlined, lanes

THIRD = np.int32(-1431655765)  # the inverse of 3 modulo 2^32: exact division where 3 divides


@lanes
def plan_taps(k, sample_set, plane, start, mapped, read, taps):
    """Fill how many samples are taken along the longer axis of the footprint; return the largest."""
    values, plane_weights = read.values, read.plane_weights
    row, most = weight_row(sample_set, plane), as_bits(F1)
    for t in range(B):
        bias = values[lane(slot_row(k, Slot.LEVEL_BIAS), t)]
        longer = mapped[lane(plane_row(start, plane, Plane.LONGER), t)] + bias
        shorter = max(mapped[lane(plane_row(start, plane, Plane.SHORTER), t)] + bias, F0)
        is_fine = values[lane(slot_row(k, Slot.FILTER), t)] >= np.float32(ANISOTROPIC)
        ratio = exp2(min(max(longer - shorter, F0), np.float32(8.0))) if is_fine else F1
        wanted = min(np.ceil(ratio - np.float32(1e-3)), values[lane(slot_row(k, Slot.MOST_TAPS), t)])
        wanted = wanted if plane_weights[lane(row, t)] > 0 else F1
        wanted = max(wanted, F1)
        taps[lane(row, t)] = wanted
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
def locate(mips, level, is_far, at_hand, sample, mapped, read, spot):
    """Fill where the upper and the lower two texels around each lane's sample begin, the position between them, and its share.

    mips : how many bits a slice's side has, and how many slices there are.
    at_hand : which slot, sample set and plane, and the first row of the set's mapping in `mapped`.
    is_far : whether positions have residuals.
    level : -1 reads the full size only; 0 the mip level that the footprint chooses and 1 the next smaller one, which share
        by how far the footprint lies between them. A lane without a share reads texel 0, which is always in the cache.
    """
    (values, plane_weights), (at, between, shares), (side_bits, slice_count) = read, spot, mips
    k, sample_set, plane, start = at_hand
    highest, last, full = np.float32(side_bits), np.float32(side_bits - 1), np.int32(1 << side_bits)
    upper, lower = spot_row(sample, 0), spot_row(sample, 1)
    for t in range(B):
        share = plane_weights[lane(weight_row(sample_set, plane), t)]
        side = np.float32(full)
        if level >= 0:
            wanted = mapped[lane(plane_row(start, plane, Plane.LEVEL), t)]
            mip = min(max(wanted + values[lane(slot_row(k, Slot.LEVEL_BIAS), t)], F0), highest)
            whole = min(np.floor(mip), last)
            fraction = mip - whole
            share *= fraction if level else F1 - fraction
            side = power_of_two(highest - whole - np.float32(level))
        sides = np.int32(side)
        mask, first = np.int32(sides - np.int32(1)), _level_start(full, sides, slice_count) if level >= 0 else np.int32(0)
        high, low = values[lane(slot_row(k, Slot.TILES_HIGH), t)], values[lane(slot_row(k, Slot.TILES_LOW), t)]
        u, v = mapped[lane(plane_row(start, plane, Plane.U), t)], mapped[lane(plane_row(start, plane, Plane.V), t)]
        more_u, more_v = low * u, low * v
        if is_far:
            more_u = more_u + high * mapped[lane(plane_row(start, plane, Plane.U_RESIDUAL), t)]
            more_v = more_v + high * mapped[lane(plane_row(start, plane, Plane.V_RESIDUAL), t)]
        x = (_turns(u, high) + more_u) * side - HALF
        y = (_turns(v, high) + more_v) * side - HALF
        x_floor, y_floor = np.floor(x), np.floor(y)
        between[lane(upper, t)], between[lane(lower, t)] = x - x_floor, y - y_floor
        x0, y0 = np.int32(np.int32(x_floor) & mask), np.int32(np.int32(y_floor) & mask)
        y1 = np.int32(np.int32(y0 + np.int32(1)) & mask)
        first, slice_ = np.int32(first + x0), as_bits(values[lane(slot_row(k, Slot.SLICE), t)])
        shares[lane(sample, t)] = share
        at[lane(upper, t)] = np.int32(first + _start(slice_, y0, sides)) if share > 0 else np.int32(0)
        at[lane(lower, t)] = np.int32(first + _start(slice_, y1, sides)) if share > 0 else np.int32(0)


@inlined
def _unwrapped(u, tiles, more, wrap):
    """The position in tiles that a wrap mode reads, from -1 to 2."""
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
def locate_any(mips, level, tap, at_hand, sample, mapped, slots, spot):
    """The same for layers of any wrap mode and filter; `tap` is which of several samples along the footprint."""
    (values, plane_weights), taps = slots.read, slots.taps
    (at, between, shares), (side_bits, slice_count), (k, sample_set, plane, start) = spot, mips, at_hand
    highest, full = np.float32(side_bits), np.int32(1 << side_bits)
    last = np.float32(max(side_bits - 1, 0))
    upper, lower, weight_at = spot_row(sample, 0), spot_row(sample, 1), weight_row(sample_set, plane)
    for t in range(B):
        wrap_u, wrap_v = (
            np.int32(values[lane(slot_row(k, Slot.WRAP_U), t)]),
            np.int32(values[lane(slot_row(k, Slot.WRAP_V), t)]),
        )
        mode = np.int32(values[lane(slot_row(k, Slot.FILTER), t)])
        is_fine = mode == ANISOTROPIC
        several = taps[lane(weight_at, t)] if is_fine else F1
        wanted = mapped[lane(plane_row(start, plane, Plane.LEVEL), t)]
        if is_fine:
            longer, shorter = plane_row(start, plane, Plane.LONGER), plane_row(start, plane, Plane.SHORTER)
            wanted = max(mapped[lane(longer, t)] - log2(several), mapped[lane(shorter, t)])
        bias = values[lane(slot_row(k, Slot.LEVEL_BIAS), t)]
        mip = min(max(wanted + bias, F0), highest) if mode >= TRILINEAR else F0
        whole = min(np.floor(mip), last)
        fraction = mip - whole
        share = plane_weights[lane(weight_at, t)] * (fraction if level > 0 else F1 - fraction)
        share = share / several if np.float32(tap) < several else F0
        side = power_of_two(max(highest - whole - np.float32(max(level, 0)), F0))
        sides, slice_ = np.int32(side), as_bits(values[lane(slot_row(k, Slot.SLICE), t)])
        along = (np.float32(tap) + HALF) / several - HALF if is_fine else F0
        high, low = values[lane(slot_row(k, Slot.TILES_HIGH), t)], values[lane(slot_row(k, Slot.TILES_LOW), t)]
        u, v = mapped[lane(plane_row(start, plane, Plane.U), t)], mapped[lane(plane_row(start, plane, Plane.V), t)]
        long_u = mapped[lane(plane_row(start, plane, Plane.LONG_U), t)]
        long_v = mapped[lane(plane_row(start, plane, Plane.LONG_V), t)]
        rest_u = mapped[lane(plane_row(start, plane, Plane.U_RESIDUAL), t)] + along * long_u
        rest_v = mapped[lane(plane_row(start, plane, Plane.V_RESIDUAL), t)] + along * long_v
        to_centre = F0 if mode == NEAREST else HALF
        x = _unwrapped(u, high, low * u + high * rest_u, wrap_u) * side - to_centre
        y = _unwrapped(v, high, low * v + high * rest_v, wrap_v) * side - to_centre
        x_floor, y_floor = np.floor(x), np.floor(y)
        across = F0 if mode == NEAREST else x - x_floor
        between[lane(lower, t)] = F0 if mode == NEAREST else y - y_floor
        x0, y0 = np.int32(x_floor), np.int32(y_floor)
        x1, y1 = np.int32(x0 + np.int32(1)), np.int32(y0 + np.int32(1))
        x0, x1 = _folded(x0, wrap_u, sides), _folded(x1, wrap_u, sides)
        y0, y1 = _folded(y0, wrap_v, sides), _folded(y1, wrap_v, sides)
        is_back = (wrap_u == MIRROR) and x1 < x0  # what is read is a texel and its neighbour to the right
        across = F0 if x1 == x0 else F1 - across if is_back else across
        between[lane(upper, t)] = across
        first = np.int32(_level_start(full, sides, slice_count) + (x1 if is_back else x0))
        shares[lane(sample, t)] = share
        at[lane(upper, t)] = np.int32(first + _start(slice_, y0, sides)) if share > 0 else np.int32(0)
        at[lane(lower, t)] = np.int32(first + _start(slice_, y1, sides)) if share > 0 else np.int32(0)


@lanes
def add_heights(k, sample, channel, texels, samples, slots, tallness):
    """Decode the height of each lane's sample, and add its share to how high the slot is."""
    (_, between, shares), around, heights = samples.spot, samples.around, samples.heights
    mask, scale = channel_bits(channel)
    spot = spot_row(sample, 0)
    for t in range(B):
        wa, wb, wc, wd = corner_weights(between[lane(spot, t)], between[lane(spot + 1, t)])
        relief = slots[lane(slot_row(k, Slot.RELIEF), t)]
        a, b, c, d = corners_at(t, texels, around)
        h = relief * (
            wa * plain(a, mask, scale) + wb * plain(b, mask, scale) + wc * plain(c, mask, scale) + wd * plain(d, mask, scale)
        )
        heights[lane(sample, t)] = h
        tallness[lane(k, t)] += shares[lane(sample, t)] * h


@lanes
def add_flat_heights(k, sample, value, shares, heights, slots, tallness):
    """The same where no array holds height."""
    for t in range(B):
        h = value * slots[lane(slot_row(k, Slot.RELIEF), t)]
        heights[lane(sample, t)] = h
        tallness[lane(k, t)] += shares[lane(sample, t)] * h


@inlined
def find_samples(k, sample_set, plane, group, passes, plan, pages, scratch):
    """Find where one sample set of a slot is read on one plane, in as many passes as it takes, from the number `passes` on;
    return the next. `group` is that of the roles that it is read for, or -1."""
    slots, samples, mapped = scratch.slots, scratch.samples, scratch.mapping.mapped
    read, shares, mips = slots.read, samples.spot.shares, (pages.side_bits, pages.slice_count)
    start, is_far = slots.mapped_at[INDEX(sample_set)], scratch.mapping.users[INDEX(plan.mappings.shape[0])] > 0
    several = 1 if plan.is_plain else int(plan_taps(k, sample_set, plane, start, mapped, read, slots.taps))
    at_hand = (k, sample_set, plane, start)
    for tap in range(several):
        for step in range(2 if pages.levels > 1 else 1):
            level = step if pages.levels > 1 else -1
            if plan.is_plain:
                locate(mips, level, is_far, at_hand, passes, mapped, read, samples.spot)
            else:
                locate_any(mips, level, tap, at_hand, passes, mapped, slots, samples.spot)
            if pages.levels > 1 and not largest(passes, shares) > 0:
                continue
            samples.slot[INDEX(passes)], samples.plane[INDEX(passes)] = k, plane
            samples.sample_set[INDEX(passes)], samples.group[INDEX(passes)] = sample_set, group
            passes += 1
    return passes


@inlined
def _take_back(sample, plan, scratch):
    """Take the height of a pass back from its slot where height is read in another sample set."""
    samples, high = scratch.samples, plan.role_row[HEIGHT]
    k, group = samples.slot[INDEX(sample)], samples.group[INDEX(sample)]
    own = plan.group_of[INDEX(high)] if high >= 0 else np.int32(-1)
    if own == group:
        return
    for t in range(B):
        is_own = scratch.slots.is_own[lane(plan.per_map.shape[0] * k + own, t)]
        less = is_own * samples.spot.shares[lane(sample, t)] * samples.heights[lane(sample, t)]
        scratch.mix.tallness[lane(k, t)] -= less


@inlined
def read_passes(passes, plan, pages, scratch):
    """Read the texels of every pass, and how high each slot is."""
    samples, slots, tallness = scratch.samples, scratch.slots.read.values, scratch.mix.tallness
    arrays, high = plan.is_colour.shape[0], plan.role_row[HEIGHT]
    for sample in range(passes):
        k, group = samples.slot[INDEX(sample)], samples.group[INDEX(sample)]
        fetch(sample, passes, pages.texels, arrays, samples)
        if group >= 0 and (high < 0 or plan.group_of[INDEX(high)] != group):
            continue  # it is read for other roles
        if high >= 0:
            texels = texel_row(sample, arrays, high // 4, 0)
            add_heights(k, sample, high % 4, texels, samples, slots, tallness)
            fine = plan.fine_row[HEIGHT]
            if fine >= 0:
                texels = texel_row(sample, arrays, fine // 4, 0)
                add_fine_heights(k, sample, fine % 4, texels, samples, slots, tallness)
        else:
            add_flat_heights(k, sample, plan.neutral[HEIGHT], samples.spot.shares, samples.heights, slots, tallness)
        if plan.per_map.shape[0] > 0:
            _take_back(sample, plan, scratch)
