"""Stacking, keeping the largest, and reading weight maps, as loops."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import check, inlined, kernel, lanes

F0, F1 = np.float32(0.0), np.float32(1.0)
LINE = 64  # points whose largest weights are found together


@lanes
def _take(answers, left):
    """Let one layer take its share of what is left, point by point."""
    for p in range(answers.shape[0]):
        shows = left[p] * answers[p]
        answers[p] = shows
        left[p] -= shows


@kernel
def cover(answers, left):
    """Turn mask answers (L, N) into weights, in place: each layer covers what lies below, the lowest takes the rest.

    left : (N,) float32
        Scratch.
    """
    layers, points = answers.shape
    for p in range(points):
        left[p] = F1
    for layer in range(layers - 1, 0, -1):
        _take(answers[layer], left)
    for p in range(points):
        answers[0, p] = max(left[p], F0)


@kernel
def cover_adopted(answers, is_adopted):
    """As `cover`, where the rows that are adopted hold weights and not masks: they are ground that others cover.

    Covering keeps the sum of a layer and all below it, so each covering layer's share is its mask of the ground below it, less
    what covers it in turn.
    """
    layers, points = answers.shape
    for p in range(points):
        ground = F1
        for layer in range(1, layers):
            if is_adopted[layer]:
                ground -= answers[layer, p]
        answers[0, p] = max(ground, F0)
        ground = answers[0, p]
        for layer in range(1, layers):  # a covering layer holds mask x ground below it now, and ground is a running sum
            if is_adopted[layer]:
                ground += answers[layer, p]
        left = F1
        for layer in range(layers - 1, 0, -1):
            if is_adopted[layer]:
                ground -= answers[layer, p]
                answers[layer, p] *= left
            else:
                mask = answers[layer, p]
                answers[layer, p] = mask * max(ground, F0) * left
                left *= F1 - mask
        answers[0, p] *= left


@kernel
def share(answers):
    """Turn answers (L, N) into weights, in place: those above the lowest as they are, or less if they sum to more than 1."""
    layers, points = answers.shape
    for p in range(points):
        total = F0
        for layer in range(1, layers):
            total += answers[layer, p]
        less = F1 / total if total > F1 else F1
        for layer in range(1, layers):
            answers[layer, p] *= less
        answers[0, p] = max(F0, F1 - total)


@kernel
def scatter(index, weight, rows, answers):
    """Add kept weights (N, K) to the rows of answers (L, N) that `rows` tells for each index."""
    for p in range(index.shape[0]):
        for at in range(index.shape[1]):
            if weight[p, at] > 0:
                answers[rows[index[p, at]], p] += weight[p, at]


@lanes
def _most(first, count, layer, weights):
    most = F0
    for i in range(count):
        most = max(most, weights[np.uint64(layer), np.uint64(first + i)])
    return most


@lanes
def _begin(first, count, layer, weights, carried, number, whole):
    """Carry a layer's weights and its number to where they belong among the largest."""
    for i in range(count):
        at = np.uint64(i)
        carried[at] = weights[np.uint64(layer), np.uint64(first + i)]
        number[at] = layer
        whole[at] += carried[at]


@lanes
def _pass_by(count, rank, carried, number, largest, which):
    """Where what is carried is more than the one of this rank, they change places. A number below 0 was there before: it
    goes down in any case, so that the lower layer stays first among equals."""
    index = np.uint64(rank)
    for i in range(count):
        at = np.uint64(i)
        w, n, own, own_number = carried[at], number[at], largest[index, at], which[index, at]
        goes_in = n < 0 or w > own
        largest[index, at] = w if goes_in else own
        which[index, at] = (n if n >= 0 else -1 - n) if goes_in else own_number
        carried[at] = own if goes_in else w
        number[at] = -1 - own_number if goes_in else n


class KeepScratch(NamedTuple):
    """What `keep_largest` needs while it works: largest and which are (K, LINE), the others (LINE,)."""

    largest: NDArray[np.float32]
    which: NDArray[np.int32]
    carried: NDArray[np.float32]
    number: NDArray[np.int32]
    whole: NDArray[np.float32]


@kernel
def keep_largest(weights, scratch, index, weight, lost):
    """From weights (L, N) fill the largest (N, K) of each point, made to sum to 1, and what the cut lost (N,).

    LINE points at a time, in lanes: the weights of each layer pass by the largest so far, rank by rank.
    """
    largest, which, carried, number, whole = scratch
    layers, points = weights.shape
    keep = index.shape[1]
    for first in range(0, points, LINE):
        count = min(LINE, points - first)
        for rank in range(keep):
            for i in range(LINE):
                largest[rank, i] = F0
                which[rank, i] = 0
        for i in range(LINE):
            whole[i] = F0
        for layer in range(layers):
            if _most(first, count, layer, weights) > 0:
                _begin(first, count, layer, weights, carried, number, whole)
                for rank in range(keep):
                    _pass_by(count, rank, carried, number, largest, which)
        for i in range(count):
            total = F0
            for rank in range(keep):
                total += largest[rank, i]
            lost[first + i] = max(F0, F1 - total / whole[i])
            for rank in range(keep):
                weight[first + i, rank] = largest[rank, i] / total
                index[first + i, rank] = which[rank, i]


@kernel
def quantise(weight, stored, unit):
    """Fill (N, K) whole numbers that sum to exactly `unit` from weights that sum to 1: rounded down, the rest to the largest
    rests."""
    keep = weight.shape[1]
    scale = np.float32(unit)
    for p in range(weight.shape[0]):
        left = unit
        for at in range(keep):
            whole = min(math.floor(weight[p, at] * scale), left)
            stored[p, at] = whole
            left -= whole
        while left > 0:
            best = 0
            most = np.float32(-1e9)
            for at in range(keep):
                rest = weight[p, at] * scale - np.float32(stored[p, at])
                if rest > most:
                    most = rest
                    best = at
            stored[p, best] += 1
            left -= 1


@kernel
def read_between(uv, index, stored, window, unit, sums, out_index, out_weight):
    """Bilinear weights at uv, clamped at the border: fill (N, M) layers and weights, of which unused ones weigh 0.

    index, stored : (H * W, K); sums : (L,) float32 of zeros, which are zeros again afterwards.
    window : rows and columns of the whole map, its first row and column that are here, and how many columns are.
    """
    rows, columns, top, left, wide = window
    most, by_unit = out_index.shape[1], F1 / unit
    for p in range(uv.shape[0]):
        x = min(max(uv[p, 0] * np.float32(columns) - np.float32(0.5), F0), np.float32(columns - 1))
        y = min(max(uv[p, 1] * np.float32(rows) - np.float32(0.5), F0), np.float32(rows - 1))
        c0, r0 = int(x), int(y)
        c1, r1 = min(c0 + 1, columns - 1), min(r0 + 1, rows - 1)
        fx, fy = x - np.float32(c0), y - np.float32(r0)
        count, q = 0, np.uint64(p)
        c0, c1, r0, r1 = c0 - left, c1 - left, r0 - top, r1 - top
        t0, t1 = np.uint64(r0 * wide + c0), np.uint64(r0 * wide + c1)
        t2, t3 = np.uint64(r1 * wide + c0), np.uint64(r1 * wide + c1)
        alike = True
        for at in range(index.shape[1]):
            layer = index[t0, np.uint64(at)]
            alike &= (
                layer == index[t1, np.uint64(at)] and layer == index[t2, np.uint64(at)] and layer == index[t3, np.uint64(at)]
            )
        if alike:  # mostly: the four texels keep the same layers in the same order
            s0, s1 = (F1 - fx) * (F1 - fy) * by_unit, fx * (F1 - fy) * by_unit
            s2, s3 = (F1 - fx) * fy * by_unit, fx * fy * by_unit
            for at in range(index.shape[1]):
                a = np.uint64(at)
                whole = s0 * np.float32(stored[t0, a]) + s1 * np.float32(stored[t1, a])
                whole += s2 * np.float32(stored[t2, a]) + s3 * np.float32(stored[t3, a])
                if whole > 0:
                    out_index[q, np.uint64(count)], out_weight[q, np.uint64(count)] = index[t0, a], whole
                    count += 1
            for at in range(count, most):
                out_index[q, np.uint64(at)], out_weight[q, np.uint64(at)] = 0, F0
            continue
        for corner in range(4):
            texel = np.uint64((r0 if corner < 2 else r1) * wide + (c0 if corner % 2 == 0 else c1))
            share = (fx if corner % 2 else F1 - fx) * (fy if corner >= 2 else F1 - fy) * by_unit
            if share <= 0:
                continue
            for at in range(index.shape[1]):
                value = stored[texel, np.uint64(at)]
                if value == 0:
                    continue
                layer = np.uint64(index[texel, np.uint64(at)])
                if sums[layer] == 0:
                    out_index[q, np.uint64(count)] = layer
                    count += 1
                sums[layer] += share * np.float32(value)
        for at in range(count):
            layer = np.uint64(out_index[q, np.uint64(at)])
            out_weight[q, np.uint64(at)] = sums[layer]
            sums[layer] = F0
        for at in range(count, most):
            out_index[q, np.uint64(at)] = 0
            out_weight[q, np.uint64(at)] = F0


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


@check
def first_bad_sum(weights, unit):
    """Return the first row of (N, K) that does not sum to `unit`, or -1."""
    for p in range(weights.shape[0]):
        total = 0
        for at in range(weights.shape[1]):
            total += weights[p, at]
        if total != unit:
            return p
    return -1


@inlined
def _span(at, wanted, given):
    """First and last texel, and how much of the first's and last's neighbours counts, of what texel `at` of `wanted` covers of
    `given`: all that lies below it where there are fewer wanted, else the two around its centre."""
    if wanted < given:
        start, end = at * given / wanted, (at + 1) * given / wanted
        return int(start), min(math.ceil(end - 1e-9), given) - 1, start, end
    centre = min(max((at + 0.5) * given / wanted - 0.5, 0.0), given - 1.0)
    first = int(centre)
    return first, min(first + 1, given - 1), centre, -1.0


@inlined
def _share(texel, start, end):
    """How much of a texel counts: what of it lies from start to end, or (end below 0) how near it is to start."""
    if end < 0:
        return max(0.0, 1.0 - abs(texel - start))
    return max(0.0, min(texel + 1.0, end) - max(texel + 0.0, start))


@kernel
def resize_row(row, rows, layers, weights, unit, sums):
    """Fill sums (L, C) with one row of a weight map at another size."""
    columns = sums.shape[1]
    r0, r1, top, bottom = _span(row, rows, layers.shape[0])
    for c in range(columns):
        for layer in range(sums.shape[0]):
            sums[layer, c] = F0
        c0, c1, left, right = _span(c, columns, layers.shape[1])
        whole = 0.0
        for r in range(r0, r1 + 1):
            for column in range(c0, c1 + 1):
                whole += _share(r, top, bottom) * _share(column, left, right)
        for r in range(r0, r1 + 1):
            for column in range(c0, c1 + 1):
                share = np.float32(_share(r, top, bottom) * _share(column, left, right) / whole) / unit
                for at in range(layers.shape[2]):
                    sums[layers[r, column, at], c] += share * np.float32(weights[r, column, at])
