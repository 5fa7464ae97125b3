"""Sample sets: where a slot is read once more by another mapping; patches of a shuffled texture, and maps of their own.

A slot has a sample set of its own, and `plan.extra` more: two for the patches beside the heaviest one, and one for each group
of roles that some layer maps on their own. A set has rows in `mapped` and weights of planes, as a slot has; what its layer says
is that of its slot.
"""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.blend._lane_kernels import as_bits, lane, largest, plane_row, slot_row, weight_row
from jagged_quilt.blend._plane_kernels import USED_PER_MAP, gather_mappings
from jagged_quilt.blend._rows import (
    ANY,
    F0,
    F1,
    F2,
    FLIPS,
    HEIGHT,
    INDEX,
    PATCHES_BESIDE,
    QUARTER,
    SHIFTS,
    B,
    Mapped,
    Patch,
    Patches,
    PatchTurn,
    Plane,
    Slot,
)
from jagged_quilt.foundation.compiler import inlined, lanes

UNUSED = -1  # the first row of a sample set in which there is nothing
SKEW, STRETCH = np.float32(1.0 / math.sqrt(3.0)), np.float32(2.0 / math.sqrt(3.0))  # metres to the grid of triangles
TALL = np.float32(math.sqrt(3.0) / 2.0)
FRACTION = np.float32(1.0 / (1 << 16))


@inlined
def _mixed(h):
    """A hash of 32 bits of one of 32 bits (C. Wellons, "Prospecting for hash functions", 2018)."""
    h = np.uint32(np.uint32(h ^ np.uint32(h >> np.uint32(16))) * np.uint32(0x7FEB352D))
    h = np.uint32(np.uint32(h ^ np.uint32(h >> np.uint32(15))) * np.uint32(0x846CA68B))
    return np.uint32(h ^ np.uint32(h >> np.uint32(16)))


@inlined
def _chance(h):
    """A number from 0 to 1 of the upper half of a hash."""
    return np.float32(np.int32(np.uint32(h >> np.uint32(16)))) * FRACTION


@inlined
def _hash_of(column, row, seed):
    h = _mixed(np.uint32(np.uint32(np.int32(column)) ^ np.uint32(np.uint32(seed) * np.uint32(0x9E3779B1))))
    return _mixed(np.uint32(h ^ np.uint32(np.uint32(np.int32(row)) * np.uint32(0x85EBCA77))))


@inlined
def _turn_of(h, ways):
    """How a patch is turned: (1, 0) to itself, and whether it is mirrored."""
    t = F2 * _chance(h) - F1
    quarter = np.uint32(h >> np.uint32(3)) & np.uint32(3)
    over = F1 if np.uint32(h >> np.uint32(5)) & np.uint32(1) else -F1
    by = F1 / (F1 + t * t)
    any_x, any_y = over * (F1 - t * t) * by, over * F2 * t * by
    quarter_x = F1 if quarter == 0 else -F1 if quarter == 2 else F0
    quarter_y = F1 if quarter == 1 else -F1 if quarter == 3 else F0
    x = any_x if ways & np.int32(ANY) else quarter_x if ways & np.int32(QUARTER) else F1
    y = any_y if ways & np.int32(ANY) else quarter_y if ways & np.int32(QUARTER) else F0
    flip = -F1 if (ways & np.int32(FLIPS)) and (np.uint32(h >> np.uint32(6)) & np.uint32(1)) else F1
    return x, y, flip


@inlined
def _shift_of(h, ways, tile, x, y):
    """Where the middle of a patch is in the pattern, in metres: anywhere in a tile, or where it is."""
    other = _mixed(np.uint32(h ^ np.uint32(0x68E31DA4)))
    a, b = _chance(other), _chance(np.uint32(other << np.uint32(16)))
    shifts = ways & np.int32(SHIFTS)
    return (a * tile if shifts else x), (b * tile if shifts else y)


@lanes
def choose_patches(k, start, mapped, slots, patches):
    """Fill, for the three patches around each lane, heaviest first, how much they count and which they are; and by how much
    what they mix is to be spread again, so that its variance stays (Heitz and Neyret 2018).

    start : the plane's first row in `mapped`.

    Patches stand on a grid of triangles. What each counts begins where its barycentric weight is less than the largest one by
    the border, and rises with the square.
    """
    for t in range(B):
        fine, border = slots[lane(slot_row(k, Slot.PATCH_SIZE), t)], slots[lane(slot_row(k, Slot.PATCH_BORDER), t)]
        is_shuffled = fine > F0
        u, v = mapped[lane(start + Plane.U, t)] * fine, mapped[lane(start + Plane.V, t)] * fine
        x, y = u - SKEW * v, STRETCH * v
        column, down = np.floor(x), np.floor(y)
        a, b = x - column, y - down
        c = F1 - a - b
        upper = F1 if c < F0 else F0
        w0, w1, w2 = abs(c), (F1 - b if upper > F0 else b), (F1 - a if upper > F0 else a)
        x0, y0 = column + upper, down + upper
        x1, y1 = column + upper, down + (F1 - upper)
        x2, y2 = column + (F1 - upper), down + upper
        swap = w1 > w0
        w0, w1, x0, x1 = (w1 if swap else w0), (w0 if swap else w1), (x1 if swap else x0), (x0 if swap else x1)
        y0, y1 = (y1 if swap else y0), (y0 if swap else y1)
        swap = w2 > w0
        w0, w2, x0, x2 = (w2 if swap else w0), (w0 if swap else w2), (x2 if swap else x0), (x0 if swap else x2)
        y0, y2 = (y2 if swap else y0), (y0 if swap else y2)
        swap = w2 > w1
        w1, w2, x1, x2 = (w2 if swap else w1), (w1 if swap else w2), (x2 if swap else x1), (x1 if swap else x2)
        y1, y2 = (y2 if swap else y1), (y1 if swap else y2)
        w1, w2 = max(border - (w0 - w1), F0), max(border - (w0 - w2), F0)
        w0, w1, w2 = border * border, w1 * w1, w2 * w2
        whole = F1 / (w0 + w1 + w2)
        w0, w1, w2 = w0 * whole, w1 * whole, w2 * whole
        gain = F1 / math.sqrt(w0 * w0 + w1 * w1 + w2 * w2)
        gain = gain if is_shuffled else F1
        patches[lane(Patches.GAIN, t)] = gain
        for patch in range(3):
            w, x, y = (w0, x0, y0) if patch == 0 else (w1, x1, y1) if patch == 1 else (w2, x2, y2)
            row, alone = Patch.END * patch, F1 if patch == 0 else F0
            patches[lane(row + Patch.SHARE, t)] = gain * w if is_shuffled else alone
            patches[lane(row + Patch.COLUMN, t)], patches[lane(row + Patch.ROW, t)] = x, y


@inlined
def _turned(k, patch, t, patches, slots):
    """How the patch of a lane turns the pattern: a 2 x 2, its middle, and where that comes to lie."""
    fine, tile = slots[lane(slot_row(k, Slot.PATCH_SIZE), t)], F1 / slots[lane(slot_row(k, Slot.TILES_HIGH), t)]
    ways, row = as_bits(slots[lane(slot_row(k, Slot.PATCH_WAYS), t)]), Patch.END * patch
    x, y = patches[lane(row + Patch.COLUMN, t)], patches[lane(row + Patch.ROW, t)]
    coarse = F1 / max(fine, np.float32(1e-20))
    h = _hash_of(x, y, np.int32(ways >> np.int32(4)))
    across, along = coarse * (x + np.float32(0.5) * y), coarse * TALL * y
    cos, sin, flip = _turn_of(h, ways)
    to_u, to_v = _shift_of(h, ways, tile, across, along)
    return flip * cos, -flip * sin, sin, cos, across, along, to_u, to_v


@lanes
def turn_patch(k, patch, patches, slots, turns):
    """Fill how a patch turns the pattern; as it is where none is shuffled."""
    for t in range(B):
        is_shuffled = slots[lane(slot_row(k, Slot.PATCH_SIZE), t)] > F0
        a, b, c, d, across, along, to_u, to_v = _turned(k, patch, t, patches, slots)
        m = PatchTurn.MATRIX
        turns[lane(m, t)], turns[lane(m + 1, t)] = (a if is_shuffled else F1), (b if is_shuffled else F0)
        turns[lane(m + 2, t)], turns[lane(m + 3, t)] = (c if is_shuffled else F0), (d if is_shuffled else F1)
        turns[lane(PatchTurn.MIDDLE, t)] = across if is_shuffled else F0
        turns[lane(PatchTurn.MIDDLE + 1, t)] = along if is_shuffled else F0
        turns[lane(PatchTurn.TARGET, t)] = to_u if is_shuffled else F0
        turns[lane(PatchTurn.TARGET + 1, t)] = to_v if is_shuffled else F0


@lanes
def differs(row, values):
    """Return 0 where the lanes of a row are all alike: how far the bits in which they differ lie apart, as numbers."""
    first, most, least = as_bits(values[lane(row, 0)]), np.int32(0), np.int32(0)
    for t in range(B):
        other = np.int32(as_bits(values[lane(row, t)]) ^ first)
        most, least = max(most, other), min(least, other)  # a sum of bits would be worked out in 64 of them
    return np.int64(most) - np.int64(least)


@inlined
def _is_one(k, patch, patches, slots):
    """Whether all lanes are in the same patch of the same texture."""
    differ = differs(Patch.END * patch + Patch.COLUMN, patches) | differs(Patch.END * patch + Patch.ROW, patches)
    for row in (Slot.PATCH_SIZE, Slot.PATCH_WAYS, Slot.TILES_HIGH):
        differ |= differs(slot_row(k, row), slots)
    if differ:
        return False
    return slots[lane(slot_row(k, Slot.PATCH_SIZE), 0)] > F0


@inlined
def turn_one(k, patch, patches, slots, turns):
    """As `turn_patch` where all lanes are in one patch."""
    a, b, c, d, across, along, to_u, to_v = _turned(k, patch, 0, patches, slots)
    for t in range(B):
        m = PatchTurn.MATRIX
        turns[lane(m, t)], turns[lane(m + 1, t)], turns[lane(m + 2, t)], turns[lane(m + 3, t)] = a, b, c, d
        turns[lane(PatchTurn.MIDDLE, t)], turns[lane(PatchTurn.MIDDLE + 1, t)] = across, along
        turns[lane(PatchTurn.TARGET, t)], turns[lane(PatchTurn.TARGET + 1, t)] = to_u, to_v


@lanes
def turn_plane(to, start, turns, copied, mapped):
    """Fill a plane of a sample set: that of its slot, turned and shifted as a patch is.

    start : the first row of the slot's own plane in `copied`, which is the same array as `mapped`: elsewhere, or just there,
        since each lane is read before it is written.
    """
    for t in range(B):
        m = PatchTurn.MATRIX
        a, b, c, d = turns[lane(m, t)], turns[lane(m + 1, t)], turns[lane(m + 2, t)], turns[lane(m + 3, t)]
        u = copied[lane(start + Plane.U, t)] - turns[lane(PatchTurn.MIDDLE, t)]
        v = copied[lane(start + Plane.V, t)] - turns[lane(PatchTurn.MIDDLE + 1, t)]
        mapped[lane(to + Plane.U, t)] = a * u + b * v + turns[lane(PatchTurn.TARGET, t)]
        mapped[lane(to + Plane.V, t)] = c * u + d * v + turns[lane(PatchTurn.TARGET + 1, t)]
        u, v = copied[lane(start + Plane.U_RESIDUAL, t)], copied[lane(start + Plane.V_RESIDUAL, t)]
        mapped[lane(to + Plane.U_RESIDUAL, t)], mapped[lane(to + Plane.V_RESIDUAL, t)] = a * u + b * v, c * u + d * v
        u, v = copied[lane(start + Plane.LONG_U, t)], copied[lane(start + Plane.LONG_V, t)]
        mapped[lane(to + Plane.LONG_U, t)], mapped[lane(to + Plane.LONG_V, t)] = a * u + b * v, c * u + d * v
        for same in (Plane.LEVEL, Plane.LONGER, Plane.SHORTER):
            mapped[lane(to + same, t)] = copied[lane(start + same, t)]
        for axis in range(3):
            u, v = copied[lane(start + Plane.GRADIENT_U + axis, t)], copied[lane(start + Plane.GRADIENT_V + axis, t)]
            mapped[lane(to + Plane.GRADIENT_U + axis, t)] = a * u + b * v
            mapped[lane(to + Plane.GRADIENT_V + axis, t)] = c * u + d * v


@lanes
def add_mean_gain(k, plane_weight, patches, mean_gain):
    """Add how much of its mean a slot is to be given back on a plane."""
    for t in range(B):
        mean_gain[lane(k, t)] += plane_weight[lane(0, t)] * (patches[lane(Patches.GAIN, t)] - F1)


@lanes
def weigh_patch(patch, row, plane_weight, patches, plane_weights):
    """Fill how much a plane counts in the sample set of a patch."""
    for t in range(B):
        plane_weights[lane(row, t)] = plane_weight[lane(0, t)] * patches[lane(Patch.END * patch + Patch.SHARE, t)]


@inlined
def _shuffle(k, points, plan, scratch):
    """Map the patches of a slot: the heaviest in its own sample set, two more beside it."""
    slots, rows, own_sets = scratch.slots, scratch.mapping, points.layer.shape[1]
    mappings, first, plane_weights = plan.mappings.shape[0], own_sets + plan.extra * k, slots.read.plane_weights
    values, at = slots.read.values, slots.mapped_at[INDEX(k)]
    slots.mapped_at[INDEX(k)] = Mapped.END * (mappings + k)
    for patch in range(1, 3):
        slots.mapped_at[INDEX(first + patch - 1)] = Mapped.END * (mappings + first + patch - 1)
    for plane in range(3):
        if not largest(weight_row(k, plane), plane_weights) > 0:
            continue
        start = plane_row(at, plane, 0)
        copy_row(weight_row(k, plane), plane_weights, rows.plane_weight)
        choose_patches(k, start, rows.mapped, values, rows.patches)
        add_mean_gain(k, rows.plane_weight, rows.patches, slots.mean_gain)
        for back in range(3):
            patch = 2 - back  # the slot's own set last, since its plane may be there already
            if not largest(Patch.END * patch + Patch.SHARE, rows.patches) > 0:
                continue
            sample_set = k if patch == 0 else first + patch - 1
            if _is_one(k, patch, rows.patches, values):
                turn_one(k, patch, rows.patches, values, rows.turns)
            else:
                turn_patch(k, patch, rows.patches, values, rows.turns)
            to = plane_row(slots.mapped_at[INDEX(sample_set)], plane, 0)
            turn_plane(to, start, rows.turns, rows.mapped, rows.mapped)
            weigh_patch(patch, weight_row(sample_set, plane), rows.plane_weight, rows.patches, plane_weights)


@lanes
def weigh_own(at, row, to, plane_weights, is_own, weighed):
    """Fill how much a plane counts in the sample set of a group; `weighed` is the same array as `plane_weights`, elsewhere."""
    for t in range(B):
        weighed[lane(to, t)] = plane_weights[lane(row, t)] * is_own[lane(at, t)]


@lanes
def mark_own(at, own_mapping, is_own):
    """Fill where the roles of a group have a mapping of their own; return the last one, -1 where there is none."""
    last = np.int32(-1)
    for t in range(B):
        mapping = own_mapping[lane(at, t)]
        is_own[lane(at, t)] = F1 if mapping >= np.int32(0) else F0
        last = max(last, mapping)
    return last


@lanes
def has_others(at, mapping, own_mapping):
    """Return 1 where roles have other mappings of their own too, else 0."""
    found = np.int32(0)
    for t in range(B):
        own = own_mapping[lane(at, t)]
        other = np.int32(1) if own != mapping else np.int32(0)
        found = max(found, other if own >= np.int32(0) else np.int32(0))
    return found


@lanes
def copy_row(row, values, copied):
    """Copy a row into the first one of a buffer."""
    for t in range(B):
        copied[lane(0, t)] = values[lane(row, t)]


@inlined
def _map_own(k, group, points, plan, scratch):
    """Map a slot once more for the roles of a group: where a layer has a mapping of its own for them."""
    slots, rows, mappings = scratch.slots, scratch.mapping, plan.mappings.shape[0]
    sample_set = points.layer.shape[1] + plan.extra * k + (PATCHES_BESIDE if plan.is_shuffled else 0) + group
    at = plan.per_map.shape[0] * k + group
    one = mark_own(at, slots.own_mapping, slots.is_own)
    if one >= 0 and has_others(at, one, slots.own_mapping) == 0:
        slots.mapped_at[INDEX(sample_set)] = Mapped.END * one
    elif one >= 0:
        start = Mapped.END * (mappings + sample_set)
        slots.mapped_at[INDEX(sample_set)] = start
        gather_mappings(one, USED_PER_MAP, start, slots.own_mapping, at, rows)
    weights = slots.read.plane_weights
    for plane in range(3):
        weigh_own(at, weight_row(k, plane), weight_row(sample_set, plane), weights, slots.is_own, weights)


@inlined
def map_sample_sets(most, points, plan, scratch):
    """Map all sample sets of the block's slots beside their own."""
    slots = scratch.slots
    for k in range(most):
        for group in range(plan.per_map.shape[0]):  # before patches, which change what planes count
            _map_own(k, group, points, plan, scratch)
        if plan.is_shuffled:
            for t in range(B):
                slots.mean_gain[lane(k, t)] = F0
            first = points.layer.shape[1] + plan.extra * k
            if largest(slot_row(k, Slot.PATCH_SIZE), slots.read.values) > 0:
                for beside in range(PATCHES_BESIDE):
                    for plane in range(3):
                        for t in range(B):
                            slots.read.plane_weights[lane(weight_row(first + beside, plane), t)] = F0
                _shuffle(k, points, plan, scratch)
            else:
                slots.mapped_at[INDEX(first)] = slots.mapped_at[INDEX(first + 1)] = UNUSED


@inlined
def raise_means(most, points, plan, scratch):
    """Add the mean height of shuffled layers where patches mix: what is spread is the difference from it."""
    slots, high = scratch.slots, plan.role_row[HEIGHT]
    for k in range(most):
        for t in range(B if largest(k, slots.mean_gain) > 0 else 0):
            more = -slots.mean_gain[lane(k, t)]
            if more < 0:
                layer = points.layer[INDEX(scratch.who[INDEX(t)]), INDEX(k)]
                mean = plan.means[INDEX(layer), INDEX(high)] if high >= 0 else plan.neutral[HEIGHT]
                relief = slots.read.values[lane(slot_row(k, Slot.RELIEF), t)]
                scratch.mix.tallness[lane(k, t)] += more * mean * relief


@inlined
def mix_means(most, points, plan, scratch):
    """Add the means of shuffled layers where patches mix, of all channels and of height."""
    slots, mix, high = scratch.slots, scratch.mix, plan.role_row[HEIGHT]
    for k in range(most):
        for t in range(B if largest(k, slots.mean_gain) > 0 else 0):
            more = -slots.mean_gain[lane(k, t)] * mix.slot_share[lane(k, t)]
            if more < 0:
                layer = points.layer[INDEX(scratch.who[INDEX(t)]), INDEX(k)]
                for channel in range(plan.means.shape[1]):
                    mix.channels[lane(channel, t)] += more * plan.means[INDEX(layer), INDEX(channel)]
                mean = plan.means[INDEX(layer), INDEX(high)] if high >= 0 else plan.neutral[HEIGHT]
                mix.sums[lane(HEIGHT, t)] += more * mean * slots.read.values[lane(slot_row(k, Slot.RELIEF), t)]
