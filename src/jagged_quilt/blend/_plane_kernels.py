"""Planes: the mappings that the slots of a block need, and how much each of their planes counts."""

from __future__ import annotations

import numpy as np

from jagged_quilt.blend._lane_kernels import exp2, lane, slot_row, weight_row
from jagged_quilt.blend._rows import (
    F0,
    F1,
    FACED_MOST,
    INDEX,
    ONLY_Y,
    PLANE_CUT,
    B,
    Mapped,
    Slot,
)
from jagged_quilt.foundation.compiler import inlined, lanes

USED_PER_MAP = np.int32(1 << 30)  # the bit of mappings by which some layer has single maps


@lanes
def take_mapping(mapping, to, mapped, taken):
    """Copy the rows of a mapping; `taken` is the same array as `mapped`, elsewhere."""
    for row in range(Mapped.END):
        for t in range(B):
            taken[lane(to + row, t)] = mapped[lane(Mapped.END * mapping + row, t)]


@lanes
def take_lanes(mapping, to, mappings_at, slot, mapped, taken):
    """Copy the rows of a mapping in the lanes that have it; `slot` is the row of those in `mappings_at`."""
    for row in range(Mapped.END):
        for t in range(B):
            other, own = mapped[lane(Mapped.END * mapping + row, t)], taken[lane(to + row, t)]
            taken[lane(to + row, t)] = other if mappings_at[lane(slot, t)] == mapping else own


@inlined
def gather_mappings(first, bit, to, mappings_at, slot, rows):
    """Bring the rows of several mappings together: those of `first`, then of each that has the bit in its own lanes.

    slot : the row of `mappings_at` that says the mapping of each lane.
    """
    take_mapping(first, to, rows.mapped, rows.mapped)
    for mapping in range(rows.users.shape[0] - 1):
        if mapping != first and rows.users[INDEX(mapping)] & bit:
            take_lanes(np.int32(mapping), to, mappings_at, slot, rows.mapped, rows.mapped)


@lanes
def share_planes(start, out, said, mapped, sharing, shares):
    """Fill how much each plane counts: |n| to the power of sharpness, small ones cut, summing to 1; or all of one plane.

    start : the first row of a mapping in `mapped`.
    out : the first of the three rows to fill in `shares`.
    said : the first of two rows in `sharing`: sharpness, and what is done with the planes.
    """
    for t in range(B):
        sharpness, planes = sharing[lane(said, t)], sharing[lane(said + 1, t)]
        towards_x, towards_y = mapped[lane(start + Mapped.FACING, t)], mapped[lane(start + Mapped.FACING + 1, t)]
        towards_z, sides = mapped[lane(start + Mapped.FACING + 2, t)], mapped[lane(start + Mapped.SIDES, t)]
        x = exp2(max(sharpness * towards_x, np.float32(-100.0)))
        y = exp2(max(sharpness * towards_y, np.float32(-100.0)))
        z = exp2(max(sharpness * towards_z, np.float32(-100.0)))
        cut = np.float32(PLANE_CUT) * (x + y + z)
        x, y, z = max(x - cut, F0), max(y - cut, F0), max(z - cut, F0)
        scale = sides / (x + y + z)
        x, z = x * scale, z * scale
        y = y * scale + (F1 - sides)
        faced_y = towards_y >= max(towards_x, towards_z)
        faced_x = towards_x >= towards_z
        most_x, most_y = (F0 if faced_y else (F1 if faced_x else F0)), (F1 if faced_y else F0)
        is_box, is_one = planes == np.float32(FACED_MOST), planes > 0
        one_y = F1 if planes == np.float32(ONLY_Y) else F0
        x = (most_x if is_box else F0) if is_one else x
        y = (most_y if is_box else one_y) if is_one else y
        z = (F1 - most_x - most_y if is_box else F1 - one_y) if is_one else z
        shares[lane(out, t)], shares[lane(out + 1, t)], shares[lane(out + 2, t)] = x, y, z


@lanes
def weigh_planes(k, shares_at, shares, slots, plane_weights):
    """Fill how much each plane counts for a slot: nothing in a lane in which it does not show."""
    for t in range(B):
        shown = F1 if slots[lane(slot_row(k, Slot.WEIGHT), t)] > 0 else F0
        plane_weights[lane(weight_row(k, 0), t)] = shown * shares[lane(shares_at, t)]
        plane_weights[lane(weight_row(k, 1), t)] = shown * shares[lane(shares_at + 1, t)]
        plane_weights[lane(weight_row(k, 2), t)] = shown * shares[lane(shares_at + 2, t)]


@lanes
def find_own_mapping(at, slot, group, layers, per_map, found):
    """Fill by which mapping each lane has the roles of a group, or -1; return the last of them."""
    last = np.int32(-1)
    for t in range(B):
        mapping = per_map[INDEX(group), INDEX(layers[lane(slot, t)])]
        found[lane(at, t)] = mapping
        last = max(last, mapping)
    return last


@inlined
def bit_of(k):
    """The bit of slot k in the users of a mapping."""
    return np.int32(np.int32(1) << np.int32(k))


@inlined
def mark_users(most, points, plan, scratch):
    """Note which mappings the slots of the block use."""
    slots, rows = scratch.slots, scratch.mapping
    for c in range(plan.mappings.shape[0]):
        rows.users[INDEX(c)] = 0
    rows.users[INDEX(plan.mappings.shape[0])] = points.residual.shape[0] > 0
    for k in range(most):
        several, mapping = slots.mappings_at[lane(k, 0)] >= 0, -1 - slots.mappings_at[lane(k, 0)]
        for t in range(B if several else 1):
            own = INDEX(slots.mappings_at[lane(k, t)] if several else mapping)
            rows.users[own] = np.int32(rows.users[own] | bit_of(k))
        for group in range(plan.per_map.shape[0]):
            at = plan.per_map.shape[0] * k + group
            has_own = find_own_mapping(at, k, group, slots.layers, plan.per_map, slots.own_mapping) >= 0
            for t in range(B if has_own else 0):
                own = slots.own_mapping[lane(at, t)]
                if own >= 0:
                    rows.users[INDEX(own)] = np.int32(rows.users[INDEX(own)] | USED_PER_MAP)


@inlined
def map_slots(most, plan, scratch):
    """Find the rows of each slot's mapping, once all are filled, and its planes' weights."""
    slots, rows, mappings = scratch.slots, scratch.mapping, plan.mappings
    for k in range(most):
        several, mapping = slots.mappings_at[lane(k, 0)] >= 0, -1 - slots.mappings_at[lane(k, 0)]
        if several:
            slots.mapped_at[INDEX(k)] = Mapped.END * (mappings.shape[0] + k)
            first = slots.mappings_at[lane(k, 0)]
            gather_mappings(first, bit_of(k), slots.mapped_at[INDEX(k)], slots.mappings_at, k, rows)
        else:
            slots.mapped_at[INDEX(k)] = Mapped.END * mapping
        shares_at = 3 * mapping
        if several or mappings[mapping]["sharing"] < 0:
            shares_at = 3 * (mappings.shape[0] + k)
            said = slot_row(k, Slot.SHARPNESS)
            share_planes(slots.mapped_at[INDEX(k)], shares_at, said, rows.mapped, slots.read.values, rows.plane_shares)
        weigh_planes(k, shares_at, rows.plane_shares, slots.read.values, slots.read.plane_weights)
