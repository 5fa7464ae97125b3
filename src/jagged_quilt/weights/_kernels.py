"""Stacking, keeping the largest, and reading weight maps, as loops."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel

F0, F1 = np.float32(0.0), np.float32(1.0)


@kernel
def cover(answers):
    """Turn mask answers (L, N) into weights, in place: each layer covers what lies below, the lowest takes the rest."""
    layers, points = answers.shape
    for p in range(points):
        left = F1
        for layer in range(layers - 1, 0, -1):
            shows = left * answers[layer, p]
            answers[layer, p] = shows
            left -= shows
        answers[0, p] = max(left, F0)


@inlined
def _largest(weights, p, keep, index, weight):
    """Fill the `keep` largest of column p, largest first, the lower layer first among equals; return their sum."""
    count = 0
    for layer in range(weights.shape[0]):
        w = weights[layer, p]
        if w <= 0 or (count == keep and w <= weight[p, keep - 1]):
            continue
        at = count if count < keep else keep - 1
        while at > 0 and weight[p, at - 1] < w:
            weight[p, at] = weight[p, at - 1]
            index[p, at] = index[p, at - 1]
            at -= 1
        weight[p, at] = w
        index[p, at] = layer
        count = min(count + 1, keep)
    for at in range(count, keep):
        weight[p, at] = F0
        index[p, at] = 0
    total = F0
    for at in range(count):
        total += weight[p, at]
    return total


@kernel
def keep_largest(weights, index, weight, lost):
    """From weights (L, N) fill the largest (N, K) of each point, made to sum to 1, and what the cut lost (N,)."""
    keep = index.shape[1]
    for p in range(index.shape[0]):
        for at in range(keep):
            weight[p, at] = F0
        total = _largest(weights, p, keep, index, weight)
        whole = F0
        for layer in range(weights.shape[0]):
            whole += weights[layer, p]
        lost[p] = max(F0, F1 - total / whole)
        for at in range(keep):
            weight[p, at] /= total


@kernel
def quantise(weight, stored):
    """Fill (N, K) uint8 that sum to exactly 255 from weights that sum to 1: rounded down, the rest to the largest rests."""
    keep = weight.shape[1]
    for p in range(weight.shape[0]):
        left = 255
        for at in range(keep):
            whole = min(math.floor(weight[p, at] * np.float32(255.0)), left)
            stored[p, at] = whole
            left -= whole
        while left > 0:
            best = 0
            most = np.float32(-1e9)
            for at in range(keep):
                rest = weight[p, at] * np.float32(255.0) - np.float32(stored[p, at])
                if rest > most:
                    most = rest
                    best = at
            stored[p, best] += 1
            left -= 1


@kernel
def read_between(uv, index, stored, columns, sums, out_index, out_weight):
    """Bilinear weights at uv, clamped at the border: fill (N, M) layers and weights, of which unused ones weigh 0.

    index, stored : (H * W, K); sums : (L,) float32 of zeros, which are zeros again afterwards.
    """
    rows = index.shape[0] // columns
    most = out_index.shape[1]
    for p in range(uv.shape[0]):
        x = min(max(uv[p, 0] * np.float32(columns) - np.float32(0.5), F0), np.float32(columns - 1))
        y = min(max(uv[p, 1] * np.float32(rows) - np.float32(0.5), F0), np.float32(rows - 1))
        c0, r0 = int(x), int(y)
        c1, r1 = min(c0 + 1, columns - 1), min(r0 + 1, rows - 1)
        fx, fy = x - np.float32(c0), y - np.float32(r0)
        count = 0
        for corner in range(4):
            texel = (r0 if corner < 2 else r1) * columns + (c0 if corner % 2 == 0 else c1)
            share = (fx if corner % 2 else F1 - fx) * (fy if corner >= 2 else F1 - fy) * np.float32(1.0 / 255.0)
            if share <= 0:
                continue
            for at in range(index.shape[1]):
                if stored[texel, at] == 0:
                    continue
                layer = index[texel, at]
                if sums[layer] == 0:
                    out_index[p, count] = layer
                    count += 1
                sums[layer] += share * np.float32(stored[texel, at])
        for at in range(count):
            layer = out_index[p, at]
            out_weight[p, at] = sums[layer]
            sums[layer] = F0
        for at in range(count, most):
            out_index[p, at] = 0
            out_weight[p, at] = F0
