"""What masks are made of, as loops: steps and pictures."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel

F0, F1 = np.float32(0.0), np.float32(1.0)


@inlined
def _within(at, count, wrap):
    """A texel's place by the way that a picture goes on: repeat, mirror, clamp; or -1 beyond its border."""
    if wrap == 0:
        return at % count
    if wrap == 1:
        turned = at % (2 * count)
        return turned if turned < count else 2 * count - 1 - turned
    if wrap == 2:
        return min(max(at, 0), count - 1)
    return at if 0 <= at < count else -1


@inlined
def _read_level(u, v, texels, start, rows, columns, wrap):
    x, y = u * columns - 0.5, v * rows - 0.5
    floor_x, floor_y = math.floor(x), math.floor(y)
    fx, fy = np.float32(x - floor_x), np.float32(y - floor_y)
    value = F0
    for corner in range(4):
        column = _within(int(floor_x) + corner % 2, columns, wrap)
        row = _within(int(floor_y) + corner // 2, rows, wrap)
        if row >= 0 and column >= 0:
            share = (fx if corner % 2 else F1 - fx) * (fy if corner >= 2 else F1 - fy)
            value += share * texels[start + row * columns + column]
    return value


@kernel
def read_picture(uv, levels, texels, table, wrap, out):
    """Fill what a picture holds at places (N, 2), 0..1 right and down, bilinear on two mips and mixed by level."""
    last = table.shape[0] - 1
    for i in range(uv.shape[0]):
        level = min(max(levels[i], F0), np.float32(last))
        fine = min(int(level), last)
        value = _read_level(uv[i, 0], uv[i, 1], texels, table[fine, 0], table[fine, 1], table[fine, 2], wrap)
        between = level - np.float32(fine)
        if between > 0:
            coarse = fine + 1
            other = _read_level(uv[i, 0], uv[i, 1], texels, table[coarse, 0], table[coarse, 1], table[coarse, 2], wrap)
            value += between * (other - value)
        out[i] = min(max(value, F0), F1)


@kernel
def step_between(values, start, per_range, out):
    """Fill 0 up to `start`, 1 from there on, and 3t² - 2t³ between."""
    for p in range(values.shape[0]):
        t = min(max((values[p] - start) * per_range, F0), F1)
        out[p] = t * t * (np.float32(3.0) - np.float32(2.0) * t)
