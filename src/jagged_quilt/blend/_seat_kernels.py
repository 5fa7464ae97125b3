"""Seats: where a place is read again, otherwise laid; patches of a shuffled texture, and maps that lie apart from the others.

A place has a seat of its own, and `plan.extra` more: two for the patches beside the heaviest one, and one for each group of
roles that lie apart. A seat has rows in `laid` and planes that count, as a place has; what its layer says is that of its place.
"""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.blend._chart_kernels import MARK_APART, copy_charts
from jagged_quilt.blend._number_kernels import as_bits, largest
from jagged_quilt.blend._rows import (
    F0,
    F1,
    F2,
    GRADIENT_U,
    HEIGHT,
    INDEX,
    LAID_ROWS,
    LEVEL,
    LONG_U,
    LONGER,
    LOW,
    PATCH_BORDER,
    PATCH_GAIN,
    PATCH_ROWS,
    PATCH_SIZE,
    PATCH_WAYS,
    PLACE_ROWS,
    PLANE_ROWS,
    SHORTER,
    TILES,
    U_REST,
    B,
    U,
    V,
)
from jagged_quilt.foundation.compiler import inlined, lanes

BESIDE = 2  # seats for the patches beside the heaviest one
UNUSED = -1  # where the rows of a seat begin in which nothing lies
SKEW, STRETCH = np.float32(1.0 / math.sqrt(3.0)), np.float32(2.0 / math.sqrt(3.0))  # metres to the grid of triangles
TALL = np.float32(math.sqrt(3.0) / 2.0)
QUARTER, ANY, FLIPS, SHIFTS, SEED = 1, 2, 4, 8, 16  # what PATCH_WAYS holds, and where the seed begins
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
    """Where the middle of a patch lies in the pattern, in metres: anywhere in a tile, or where it is."""
    other = _mixed(np.uint32(h ^ np.uint32(0x68E31DA4)))
    a, b = _chance(other), _chance(np.uint32(other << np.uint32(16)))
    shifts = ways & np.int32(SHIFTS)
    return (a * tile if shifts else x), (b * tile if shifts else y)


@lanes
def choose_patches(k, start, laid, rows, patches):
    """Fill, for the three patches around each lane, heaviest first, how much they count and which they are; and by how much
    what they mix is to be spread again, so that its variance stays (Heitz and Neyret 2018).

    start : where the plane's rows begin in `laid`.

    Patches stand on a grid of triangles. What each counts begins where its barycentric weight is less than the largest one by
    the border, and rises with the square.
    """
    said, u_at, v_at = INDEX(PLACE_ROWS * k * B), INDEX(start + U * B), INDEX(start + V * B)
    for t in range(B):
        i = INDEX(t)
        fine, border = rows[said + INDEX(PATCH_SIZE * B) + i], rows[said + INDEX(PATCH_BORDER * B) + i]
        is_shuffled = fine > F0
        u, v = laid[u_at + i] * fine, laid[v_at + i] * fine
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
        patches[INDEX(PATCH_GAIN * B) + i] = gain
        for patch in range(3):
            w, x, y = (w0, x0, y0) if patch == 0 else (w1, x1, y1) if patch == 1 else (w2, x2, y2)
            out, alone = INDEX(PATCH_ROWS * patch * B) + i, F1 if patch == 0 else F0
            patches[out] = gain * w if is_shuffled else alone
            patches[out + INDEX(B)], patches[out + INDEX(2 * B)] = x, y


@inlined
def _turned(t, said, at, patches, rows):
    """How the patch of a lane turns the pattern: a 2 x 2, its middle, and where that comes to lie."""
    fine, tile = rows[said + INDEX(PATCH_SIZE * B + t)], F1 / rows[said + INDEX(TILES * B + t)]
    told = as_bits(rows[said + INDEX(PATCH_WAYS * B + t)])
    x, y, coarse = patches[at + INDEX(B + t)], patches[at + INDEX(2 * B + t)], F1 / max(fine, np.float32(1e-20))
    h = _hash_of(x, y, np.int32(told >> np.int32(4)))
    across, along = coarse * (x + np.float32(0.5) * y), coarse * TALL * y
    cos, sin, flip = _turn_of(h, told)
    to_u, to_v = _shift_of(h, told, tile, across, along)
    return flip * cos, -flip * sin, sin, cos, across, along, to_u, to_v


@lanes
def turn_patch(k, patch, patches, rows, turns):
    """Fill how a patch turns the pattern; as it is where none is shuffled."""
    said, at = INDEX(PLACE_ROWS * k * B), INDEX(PATCH_ROWS * patch * B)
    for t in range(B):
        i, is_shuffled = INDEX(t), rows[said + INDEX(PATCH_SIZE * B + t)] > F0
        a, b, c, d, across, along, to_u, to_v = _turned(t, said, at, patches, rows)
        turns[i], turns[INDEX(B) + i] = (a if is_shuffled else F1), (b if is_shuffled else F0)
        turns[INDEX(2 * B) + i], turns[INDEX(3 * B) + i] = (c if is_shuffled else F0), (d if is_shuffled else F1)
        turns[INDEX(4 * B) + i], turns[INDEX(5 * B) + i] = (across if is_shuffled else F0), (along if is_shuffled else F0)
        turns[INDEX(6 * B) + i], turns[INDEX(7 * B) + i] = (to_u if is_shuffled else F0), (to_v if is_shuffled else F0)


@lanes
def differs(start, values):
    """Return 0 where the lanes of a row are all alike: how far the bits in which they differ lie apart, as numbers."""
    first, most, least = as_bits(values[start]), np.int32(0), np.int32(0)
    for t in range(B):
        other = np.int32(as_bits(values[start + INDEX(t)]) ^ first)
        most, least = max(most, other), min(least, other)  # a sum of bits would be worked out in 64 of them
    return np.int64(most) - np.int64(least)


@inlined
def _is_one(k, patch, patches, rows):
    """Whether all lanes lie in the same patch of the same texture."""
    said, at = INDEX(PLACE_ROWS * k * B), INDEX(PATCH_ROWS * patch * B)
    differ = differs(at + INDEX(B), patches) | differs(at + INDEX(2 * B), patches)
    for row in (PATCH_SIZE, PATCH_WAYS, TILES):
        differ |= differs(said + INDEX(row * B), rows)
    if differ:
        return False
    return rows[said + INDEX(PATCH_SIZE * B)] > F0


@inlined
def turn_one(k, patch, patches, rows, turns):
    """As `turn_patch` where all lanes lie in one patch."""
    said, at = INDEX(PLACE_ROWS * k * B), INDEX(PATCH_ROWS * patch * B)
    a, b, c, d, across, along, to_u, to_v = _turned(0, said, at, patches, rows)
    for t in range(B):
        i = INDEX(t)
        turns[i], turns[INDEX(B) + i], turns[INDEX(2 * B) + i], turns[INDEX(3 * B) + i] = a, b, c, d
        turns[INDEX(4 * B) + i], turns[INDEX(5 * B) + i] = across, along
        turns[INDEX(6 * B) + i], turns[INDEX(7 * B) + i] = to_u, to_v


@lanes
def turn_plane(to, start, turns, copied, laid):
    """Fill a plane of a seat: that of its place, turned and shifted as a patch is.

    start : where the place's own plane begins in `copied`, which is the same array as `laid`: elsewhere, or just there, since
        each lane is read before it is written.
    """
    m, one = INDEX(0), INDEX(B)
    for t in range(B):
        i, own, out = INDEX(t), INDEX(start) + INDEX(t), INDEX(to) + INDEX(t)
        a, b, c, d = turns[m + i], turns[m + one + i], turns[m + INDEX(2 * B) + i], turns[m + INDEX(3 * B) + i]
        u = copied[own + INDEX(U * B)] - turns[m + INDEX(4 * B) + i]
        v = copied[own + INDEX(V * B)] - turns[m + INDEX(5 * B) + i]
        laid[out + INDEX(U * B)] = a * u + b * v + turns[m + INDEX(6 * B) + i]
        laid[out + INDEX(V * B)] = c * u + d * v + turns[m + INDEX(7 * B) + i]
        u, v = copied[own + INDEX(U_REST * B)], copied[own + INDEX((U_REST + 1) * B)]
        laid[out + INDEX(U_REST * B)], laid[out + INDEX((U_REST + 1) * B)] = a * u + b * v, c * u + d * v
        u, v = copied[own + INDEX(LONG_U * B)], copied[own + INDEX((LONG_U + 1) * B)]
        laid[out + INDEX(LONG_U * B)], laid[out + INDEX((LONG_U + 1) * B)] = a * u + b * v, c * u + d * v
        for same in (LEVEL, LONGER, SHORTER):
            laid[out + INDEX(same * B)] = copied[own + INDEX(same * B)]
        for axis in range(3):
            u, v = copied[own + INDEX((GRADIENT_U + axis) * B)], copied[own + INDEX((GRADIENT_U + 3 + axis) * B)]
            laid[out + INDEX((GRADIENT_U + axis) * B)] = a * u + b * v
            laid[out + INDEX((GRADIENT_U + 3 + axis) * B)] = c * u + d * v


@lanes
def spread_again(k, shown, patches, more):
    """Add how much of its mean a place is to be given back on a plane."""
    gain, own = INDEX(PATCH_GAIN * B), INDEX(k * B)
    for t in range(B):
        i = INDEX(t)
        more[own + i] += shown[i] * (patches[gain + i] - F1)


@lanes
def count_patch(patch, row, shown, patches, counts):
    """Fill how much a plane counts in the seat of a patch."""
    weight, out = INDEX(PATCH_ROWS * patch * B), INDEX(row * B)
    for t in range(B):
        i = INDEX(t)
        counts[out + i] = shown[i] * patches[weight + i]


@inlined
def _shuffle(k, points, plan, scratch):
    """Lay the patches of a place: the heaviest on its own seat, two more beside it."""
    places, lying, seats = scratch.places, scratch.lying, points.layer.shape[1]
    charts, first, counts = plan.charts.shape[0], seats + plan.extra * k, places.look.counts
    rows, at = places.look.rows, places.laid_at[INDEX(k)]
    places.laid_at[INDEX(k)] = LAID_ROWS * B * (charts + k)
    for patch in range(1, 3):
        places.laid_at[INDEX(first + patch - 1)] = LAID_ROWS * B * (charts + first + patch - 1)
    for plane in range(3):
        if not largest(3 * k + plane, counts) > 0:
            continue
        start = at + PLANE_ROWS * plane * B
        copy_row((3 * k + plane) * B, B, counts, lying.shown)
        choose_patches(k, start, lying.laid, rows, lying.patches)
        spread_again(k, lying.shown, lying.patches, places.more)
        for back in range(3):
            patch = 2 - back  # the place's own seat last, since its plane may lie there already
            if not largest(PATCH_ROWS * patch, lying.patches) > 0:
                continue
            seat = k if patch == 0 else first + patch - 1
            if _is_one(k, patch, lying.patches, rows):
                turn_one(k, patch, lying.patches, rows, lying.turns)
            else:
                turn_patch(k, patch, lying.patches, rows, lying.turns)
            to = places.laid_at[INDEX(seat)] + PLANE_ROWS * B * plane
            turn_plane(to, start, lying.turns, lying.laid, lying.laid)
            count_patch(patch, 3 * seat + plane, lying.shown, lying.patches, counts)


@lanes
def count_apart(at, row, to, counts, apart, counted):
    """Fill how much a plane counts in the seat of a group of roles; `counted` is the same array as `counts`, elsewhere."""
    own, out = INDEX(row * B), INDEX(to * B)
    for t in range(B):
        counted[out + INDEX(t)] = counts[own + INDEX(t)] * apart[at + INDEX(t)]


@lanes
def mark_apart(at, charts, apart):
    """Fill where the roles of a group lie apart; return the last of their charts, -1 where they do not."""
    last = np.int32(-1)
    for t in range(B):
        chart = charts[at + INDEX(t)]
        apart[at + INDEX(t)] = F1 if chart >= np.int32(0) else F0
        last = max(last, chart)
    return last


@lanes
def others_apart(at, chart, charts):
    """Return 1 where roles lie apart on other charts too, else 0."""
    found = np.int32(0)
    for t in range(B):
        own = charts[at + INDEX(t)]
        other = np.int32(1) if own != chart else np.int32(0)
        found = max(found, other if own >= np.int32(0) else np.int32(0))
    return found


@lanes
def copy_row(start, count, values, copied):
    """Copy some lanes."""
    for t in range(count):
        copied[INDEX(t)] = values[INDEX(start) + INDEX(t)]


@inlined
def _lay_apart(k, group, points, plan, scratch):
    """Lay a place once more for the roles of a group: where a layer has them apart, by their own chart."""
    places, lying, charts = scratch.places, scratch.lying, plan.charts.shape[0]
    seat = points.layer.shape[1] + plan.extra * k + (BESIDE if plan.is_shuffled else 0) + group
    apart = INDEX((plan.apart.shape[0] * k + group) * B)
    one = mark_apart(apart, places.apart_at, places.apart)
    if one >= 0 and others_apart(apart, one, places.apart_at) == 0:
        places.laid_at[INDEX(seat)] = LAID_ROWS * B * one
    elif one >= 0:
        start = LAID_ROWS * B * (charts + seat)
        places.laid_at[INDEX(seat)] = start
        copy_charts(one, MARK_APART, start, places.apart_at, apart, lying)
    for plane in range(3):
        count_apart(apart, 3 * k + plane, 3 * seat + plane, places.look.counts, places.apart, places.look.counts)


@inlined
def lay_seats(most, points, plan, scratch):
    """Lay all seats of the block's places beside their own."""
    places = scratch.places
    for k in range(most):
        for group in range(plan.apart.shape[0]):  # before patches, which change what planes count
            _lay_apart(k, group, points, plan, scratch)
        if plan.is_shuffled:
            for t in range(B):
                places.more[INDEX(k * B + t)] = F0
            first = points.layer.shape[1] + plan.extra * k
            if largest(PLACE_ROWS * k + PATCH_SIZE, places.look.rows) > 0:
                for row in range(3 * BESIDE):
                    for t in range(B):
                        places.look.counts[INDEX((3 * first + row) * B + t)] = F0
                _shuffle(k, points, plan, scratch)
            else:
                places.laid_at[INDEX(first)] = places.laid_at[INDEX(first + 1)] = UNUSED


@inlined
def raise_means(most, points, plan, scratch):
    """Add the mean height of shuffled layers where patches mix: what is spread is the difference from it."""
    places, high = scratch.places, plan.role_row[HEIGHT]
    for k in range(most):
        for t in range(B if largest(k, places.more) > 0 else 0):
            more = -places.more[INDEX(k * B + t)]
            if more < 0:
                layer = points.layer[INDEX(scratch.who[INDEX(t)]), INDEX(k)]
                mean = plan.means[INDEX(layer), INDEX(high)] if high >= 0 else plan.neutral[HEIGHT]
                low = places.look.rows[INDEX((PLACE_ROWS * k + LOW) * B + t)]
                scratch.mix.tall[INDEX(k * B + t)] += more * mean * low


@inlined
def mix_means(most, points, plan, scratch):
    """Add the means of shuffled layers where patches mix, of all channels and of height."""
    places, mix, high = scratch.places, scratch.mix, plan.role_row[HEIGHT]
    for k in range(most):
        for t in range(B if largest(k, places.more) > 0 else 0):
            more = -places.more[INDEX(k * B + t)] * mix.kept[INDEX(k * B + t)]
            if more < 0:
                layer = points.layer[INDEX(scratch.who[INDEX(t)]), INDEX(k)]
                for channel in range(plan.means.shape[1]):
                    mix.channels[INDEX(channel * B + t)] += more * plan.means[INDEX(layer), INDEX(channel)]
                mean = plan.means[INDEX(layer), INDEX(high)] if high >= 0 else plan.neutral[HEIGHT]
                mix.sums[INDEX(HEIGHT * B + t)] += more * mean * places.look.rows[INDEX((PLACE_ROWS * k + LOW) * B + t)]
