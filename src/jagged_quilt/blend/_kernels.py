"""The blend, as loops over blocks of texels: almost all of it runs in vector lanes, one texel to a lane.

A slot holds the k-th heaviest layer of each texel of a block. A pass is one slot seen on one plane of its mapping, at one of
two mip levels, at one of up to 16 steps along the footprint. Each chapter is a file:

    _spread_kernels       scalar   lays points and the layers in their slots out in rows, one column per texel
    _mapping_kernels      lanes    where each texel is on the planes of a mapping, in metres, with footprint and gradients
    _plane_kernels        lanes    which mappings the slots need, and how much each of their planes counts
    _sample_set_kernels   both     where slots are read once more: patches of a shuffled texture, maps of their own
    _sample_kernels       lanes    where the four texels around each lane's sample are
    _fetch_kernels        eight    reads them from all arrays, eight lanes at a time, as `foundation/_turn_kernels` says
    _mix_kernels          lanes    the taller layer shows; colour in linear light, slopes along the surface; stores bytes
    _film_kernels         lanes    what lies upon the layers: water, dust
    _lane_kernels, _texel_kernels   what these share
    _rows                 the words: records of what goes in, names of the rows of what is worked out

Passes that no texel of the block needs are left out, so a block costs what shows in it. Nothing is checked and nothing is
allocated here: `blend.py` does both.
"""

from __future__ import annotations

import numpy as np

from jagged_quilt.blend._lane_kernels import clear, exp2, lane, largest, log2, plane_row, slot_row, weight_row
from jagged_quilt.blend._mapping_kernels import map_block
from jagged_quilt.blend._mix_kernels import begin_heights, encode, keep_above, mix_pass, resolve, weigh, weigh_pairs
from jagged_quilt.blend._rows import (
    ANISOTROPIC,
    F0,
    F1,
    HEIGHT,
    INDEX,
    PATCHES_BESIDE,
    SUM_ROWS,
    SURVEYED_ROWS,
    TILT,
    Plane,
    Slot,
    SurveyColumns,
)
from jagged_quilt.blend._sample_kernels import find_samples, read_passes
from jagged_quilt.blend._sample_set_kernels import map_sample_sets, mix_means, raise_means
from jagged_quilt.blend._spread_kernels import block_count, choose_points, fill_alike, spread
from jagged_quilt.foundation.compiler import inlined, kernel


@inlined
def blend_block(points, plan, pages, scratch):
    """Blend the points of the block into the columns of the sums; return how many passes that took."""
    slots, mix = scratch.slots, scratch.mix
    most = spread(points, plan, scratch)
    map_block(most, points, plan, scratch)
    if plan.extra > 0:
        map_sample_sets(most, points, plan, scratch)
    begin_heights(most, plan.is_tuned, slots.read.values, mix.tallness)
    clear(HEIGHT, HEIGHT + 1, mix.sums)
    clear(TILT, SUM_ROWS, mix.sums)
    clear(0, 4 * plan.is_colour.shape[0], mix.channels)
    passes = np.int64(0)  # a plain 0 would compile what it is given to once more
    for k in range(most):
        for beside in range(1 + plan.extra):
            sample_set = k if beside == 0 else points.layer.shape[1] + plan.extra * k + beside - 1
            group = np.int32(max(-1, beside - (1 + PATCHES_BESIDE if plan.is_shuffled else 1)))
            for plane in range(3 if slots.mapped_at[INDEX(sample_set)] >= 0 else 0):
                if largest(weight_row(sample_set, plane), slots.read.plane_weights) > 0:
                    passes = find_samples(k, sample_set, plane, group, passes, plan, pages, scratch)
    read_passes(passes, plan, pages, scratch)
    if plan.is_shuffled:
        raise_means(most, points, plan, scratch)
    if plan.is_tuned or plan.is_shuffled:
        keep_above(most, mix.tallness)
    if plan.pairs.shape[0] > 0:
        weigh_pairs(most, points, plan.pairs, slots.read.values, scratch.who, mix)
    else:
        weigh(most, slots.read.values, mix)
    for sample in range(passes):
        mix_pass(sample, plan, scratch)
    if plan.is_shuffled:
        mix_means(most, points, plan, scratch)
    resolve(points, plan, scratch)
    return passes


@kernel
def blend_points(values, targets, points, plan, pages, scratch):
    """Blend every point into `values` (N, outputs), linear; or, where that has no rows, into finished texels.

    Both in one, since it takes long to compile.
    """
    who, sums, count = scratch.who, scratch.mix.sums, points.position.shape[0]
    fill_alike(plan, scratch.slots)
    for block in range(block_count(count, points.columns)):
        taken = choose_points(block, count, points.columns, who)
        blend_block(points, plan, pages, scratch)
        if values.shape[0] == 0:
            encode(taken, targets, scratch)
        else:
            for t in range(taken):
                for c in range(values.shape[1]):
                    values[INDEX(who[t]), c] = sums[lane(c, t)]


@inlined
def _heaviest(t, most, read):
    """The heaviest slot of a lane, and how many planes of all its slots are read."""
    planes, heaviest, values = F0, 0, read.values
    for k in range(most):
        if values[lane(slot_row(k, Slot.WEIGHT), t)] > values[lane(slot_row(heaviest, Slot.WEIGHT), t)]:
            heaviest = k
        for plane in range(3):
            planes += F1 if read.plane_weights[lane(weight_row(k, plane), t)] > 0 else F0
    return heaviest, planes


@kernel
def survey_points(out, points, plan, pages, scratch):
    """Fill what the blend goes by at every point, for its heaviest layer: `SurveyColumns`, see `survey.py`."""
    who, slots, mapped, points_count = scratch.who, scratch.slots, scratch.mapping.mapped, points.position.shape[0]
    values, plane_weights = slots.read.values, slots.read.plane_weights
    fill_alike(plan, slots)
    for block in range(block_count(points_count, points.columns)):
        count = choose_points(block, points_count, points.columns, who)
        most = spread(points, plan, scratch)
        map_block(most, points, plan, scratch)
        for t in range(count):
            p, (k, read), plane = INDEX(who[t]), _heaviest(t, most, slots.read), 0
            for other in range(1, 3):
                if plane_weights[lane(weight_row(k, other), t)] > plane_weights[lane(weight_row(k, plane), t)]:
                    plane = other
            start = plane_row(slots.mapped_at[INDEX(k)], plane, 0)
            for c in range(SURVEYED_ROWS):
                out[p, c] = mapped[lane(start + c, t)]
            out[p, SurveyColumns.PLANE] = plane
            out[p, SurveyColumns.SHARE] = plane_weights[lane(weight_row(k, plane), t)]
            out[p, SurveyColumns.READS] = read
            bias = values[lane(slot_row(k, Slot.LEVEL_BIAS), t)]
            mip = mapped[lane(start + Plane.LEVEL, t)] + bias
            if values[lane(slot_row(k, Slot.FILTER), t)] >= ANISOTROPIC:
                shorter = mapped[lane(start + Plane.SHORTER, t)] + bias
                ratio = exp2(min(max(mip - max(shorter, F0), F0), np.float32(8.0)))
                ratio = min(np.ceil(ratio - np.float32(1e-3)), values[lane(slot_row(k, Slot.MOST_TAPS), t)])
                mip = max(mip - log2(max(ratio, F1)), shorter)
            out[p, SurveyColumns.MIP] = mip
