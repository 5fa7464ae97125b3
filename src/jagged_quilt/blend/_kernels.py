"""The blend, as loops over blocks of texels: almost all of it runs in vector lanes, one texel to a lane.

A place is the k-th heaviest layer of each texel of a block. A pass is one place seen on one plane of its chart, at one of two
mip levels, at one of up to 16 steps along the footprint. Each chapter is a file:

    _seat_kernels     both     where places are read once more: patches of a shuffled texture, maps that lie apart
    _spread_kernels   scalar   lays points and the layers of their places out in rows, one column per texel
    _chart_kernels    lanes    where each texel lies on the planes of a chart, in metres, with footprint and gradients
    _sample_kernels   lanes    where the four texels around each lane's sample lie
    _fetch_kernels    eight    reads them from all arrays, eight lanes at a time, as `foundation/_turn_kernels` says
    _mix_kernels      lanes    the taller layer shows; colour in linear light, slopes along the surface; stores bytes
    _film_kernels    lanes    what lies upon the layers: water, dust
    _number_kernels, _texel_kernels   what these share
    _rows             the words: records of what goes in, names of the rows of what is worked out

Passes that no texel of the block needs are left out, so a block costs what shows in it. Nothing is checked and nothing is
allocated here: `blend.py` does both.
"""

from __future__ import annotations

import numpy as np

from jagged_quilt.blend._chart_kernels import lay_places
from jagged_quilt.blend._mix_kernels import begin_heights, encode, keep_above, mix_pass, resolve, weigh, weigh_pairs
from jagged_quilt.blend._number_kernels import exp2, largest, log2
from jagged_quilt.blend._rows import (
    ANISOTROPIC,
    BIAS,
    F0,
    F1,
    FILTER,
    HEIGHT,
    INDEX,
    LEVEL,
    PLACE_ROWS,
    PLANE_ROWS,
    SHORTER,
    SUM_ROWS,
    TAPS,
    TILT,
    WEIGHT,
    B,
)
from jagged_quilt.blend._sample_kernels import find_place, read_passes
from jagged_quilt.blend._seat_kernels import BESIDE, lay_seats, mix_means, raise_means
from jagged_quilt.blend._spread_kernels import block_count, choose_points, lay_alike, spread
from jagged_quilt.foundation.compiler import inlined, kernel


@kernel
def blend_block(points, plan, pages, scratch):
    """Blend the points of the block into the columns of the sums; return how many passes that took."""
    places, mix = scratch.places, scratch.mix
    most = spread(points, plan, scratch)
    lay_places(most, points, plan, scratch)
    if plan.extra > 0:
        lay_seats(most, points, plan, scratch)
    begin_heights(most, plan.is_tuned, places.look.rows, mix.tall)
    for t in range(B):
        mix.sums[HEIGHT * B + t] = F0
    for t in range(TILT * B, SUM_ROWS * B):
        mix.sums[t] = F0
    for t in range(4 * B * plan.is_colour.shape[0]):
        mix.channels[INDEX(t)] = F0
    passes = np.int64(0)  # a plain 0 would compile what it is given to once more
    for k in range(most):
        for beside in range(1 + plan.extra):
            seat = k if beside == 0 else points.layer.shape[1] + plan.extra * k + beside - 1
            group = np.int32(max(-1, beside - (1 + BESIDE if plan.is_shuffled else 1)))
            for plane in range(3 if places.laid_at[INDEX(seat)] >= 0 else 0):
                if largest(3 * seat + plane, places.look.counts) > 0:
                    passes = find_place(k, seat, plane, group, passes, plan, pages, scratch)
    read_passes(passes, plan, pages, scratch)
    if plan.is_shuffled:
        raise_means(most, points, plan, scratch)
    if plan.is_tuned or plan.is_shuffled:
        keep_above(most, mix.tall)
    if plan.pairs.shape[0] > 0:
        weigh_pairs(most, points, plan.pairs, places.look.rows, scratch.who, mix)
    else:
        weigh(most, places.look.rows, mix)
    for sample in range(passes):
        mix_pass(sample, plan, scratch)
    if plan.is_shuffled:
        mix_means(most, points, plan, scratch)
    resolve(points, plan, scratch)
    return passes


@kernel
def blend_points(values, points, plan, pages, scratch):
    """Blend every point into `values` (N, outputs), linear."""
    who, sums, count = scratch.who, scratch.mix.sums, points.position.shape[0]
    lay_alike(plan, scratch.places)
    for block in range(block_count(count, points.columns)):
        taken = choose_points(block, count, points.columns, who)
        blend_block(points, plan, pages, scratch)
        for t in range(taken):
            for c in range(values.shape[1]):
                values[INDEX(who[t]), c] = sums[c * B + t]


@kernel
def blend_encoded(targets, points, plan, pages, scratch):
    """Blend every point into finished texels."""
    count = points.position.shape[0]
    lay_alike(plan, scratch.places)
    for block in range(block_count(count, points.columns)):
        taken = choose_points(block, count, points.columns, scratch.who)
        blend_block(points, plan, pages, scratch)
        encode(taken, targets, scratch)


@inlined
def _heaviest(t, most, places):
    """The heaviest place of a lane, and how many planes of all its places are read."""
    read, heaviest, rows = F0, 0, places.look.rows
    for k in range(most):
        if rows[INDEX((PLACE_ROWS * k + WEIGHT) * B + t)] > rows[INDEX((PLACE_ROWS * heaviest + WEIGHT) * B + t)]:
            heaviest = k
        for plane in range(3):
            read += F1 if places.look.counts[INDEX((3 * k + plane) * B + t)] > 0 else F0
    return heaviest, read


@kernel
def survey_points(values, points, plan, pages, scratch):
    """Fill what the blend goes by at every point, for its heaviest layer: SURVEYED columns, see `survey.py`."""
    who, places, laid, points_count = scratch.who, scratch.places, scratch.lying.laid, points.position.shape[0]
    lay_alike(plan, places)
    for block in range(block_count(points_count, points.columns)):
        count = choose_points(block, points_count, points.columns, who)
        most = spread(points, plan, scratch)
        lay_places(most, points, plan, scratch)
        for t in range(count):
            p, (k, read), plane = INDEX(who[t]), _heaviest(t, most, places), 0
            for other in range(1, 3):
                if places.look.counts[INDEX((3 * k + other) * B + t)] > places.look.counts[INDEX((3 * k + plane) * B + t)]:
                    plane = other
            row = INDEX(places.laid_at[INDEX(k)] + PLANE_ROWS * B * plane + t)
            for c in range(9):
                values[p, c] = laid[row + INDEX(c * B)]
            values[p, 9] = plane
            values[p, 10] = places.look.counts[INDEX((3 * k + plane) * B + t)]
            values[p, 11] = read
            bias = places.look.rows[INDEX((PLACE_ROWS * k + BIAS) * B + t)]
            mip = laid[row + INDEX(LEVEL * B)] + bias
            if places.look.rows[INDEX((PLACE_ROWS * k + FILTER) * B + t)] >= ANISOTROPIC:
                shorter = laid[row + INDEX(SHORTER * B)] + bias
                ratio = exp2(min(max(mip - max(shorter, F0), F0), np.float32(8.0)))
                ratio = min(np.ceil(ratio - np.float32(1e-3)), places.look.rows[INDEX((PLACE_ROWS * k + TAPS) * B + t)])
                mip = max(mip - log2(max(ratio, F1)), shorter)
            values[p, 12] = mip
