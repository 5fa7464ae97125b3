"""Laying daubs on weights, as loops."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel

F0, F1 = np.float32(0.0), np.float32(1.0)
RADIUS, INNER, STRENGTH, CEILING, IN_SPACE = 0, 1, 2, 3, 4  # columns of the table of daubs
_RENEW = np.float32(1e-3)


@inlined
def _squared_distance(x, y, z, segments, s, in_space):
    """Squared distance from a point to a segment: in space, or seen from above."""
    ax, ay, az = segments[s, 0], segments[s, 1], segments[s, 2]
    wx, wy, wz = segments[s, 3] - ax, segments[s, 4] - ay, segments[s, 5] - az
    dx, dy, dz = x - ax, y - ay, z - az
    if not in_space:
        wy, dy = F0, F0
    length = wx * wx + wy * wy + wz * wz
    part = min(max((wx * dx + wy * dy + wz * dz) / length, F0), F1) if length > 0 else F0
    dx, dy, dz = dx - part * wx, dy - part * wy, dz - part * wz
    return dx * dx + dy * dy + dz * dz


@inlined
def _covered(squared, table, d):
    """How much a daub covers at a squared distance from its path."""
    radius, inner = table[d, RADIUS], table[d, INNER]
    if squared >= radius * radius:
        return F0
    if squared <= inner * inner:
        return table[d, STRENGTH]
    t = (radius - math.sqrt(squared)) / (radius - inner)
    return table[d, STRENGTH] * t * t * (np.float32(3.0) - np.float32(2.0) * t)


@kernel
def coverage(position, segments, first, last, table, d, out):
    """Fill how much one daub, of segments first to last, covers at each position."""
    for p in range(position.shape[0]):
        nearest = np.float32(1e30)
        for s in range(first, last):
            nearest = min(nearest, _squared_distance(position[p, 0], position[p, 1], position[p, 2], segments, s,
                                                     table[d, IN_SPACE] > 0))  # fmt: skip
        out[p] = _covered(nearest, table, d)


@inlined
def _renewed(weights, p, scale):
    """Multiply what is scaled lazily."""
    for layer in range(weights.shape[0]):
        weights[layer, p] *= scale
    return F1


@inlined
def _lay(weights, p, row, erases, ceiling, cover, scale):
    """Paint or erase one layer at one point; weights are `scale` times what is stored. Return the new scale."""
    own = weights[row, p] * scale
    if erases:
        wanted = own * (F1 - cover)
    elif own < ceiling:
        wanted = own + (ceiling - own) * cover
    else:
        return scale
    rest = F1 - own
    if erases and rest <= np.float32(1e-6):  # nothing else is here: what is freed goes to the layer below
        scale = _renewed(weights, p, scale)
        if weights.shape[0] > 1:
            weights[row - 1 if row > 0 else 1, p] += own - wanted
            weights[row, p] = wanted
        return scale
    less = (F1 - wanted) / rest if rest > 0 else F1
    scale *= less
    if scale < _RENEW:
        scale = _renewed(weights, p, scale)
    weights[row, p] = wanted / scale
    return scale


@kernel
def lay_daubs(position, west, north, per_metre, starts, items, segments, daub_of, rows, erases, table, low, high, weights):
    """Lay the daubs from `low` to `high` (not included) on weights (L, N), in order.

    starts (R * C + 1,) and items list, for each cell of a grid over the ground, the segments that come near it, by daub. The
    others make room for the painted layer by one shared scale, so that a daub costs the same however many layers there are.
    """
    grid_rows, grid_columns = starts.shape[0], starts.shape[1] - 1
    for p in range(position.shape[0]):
        x, y, z = position[p, 0], position[p, 1], position[p, 2]
        column, row = math.floor((x - west) * per_metre), math.floor((z - north) * per_metre)
        if column < 0 or row < 0 or column >= grid_columns or row >= grid_rows:
            continue
        scale = F1
        current = -1
        nearest = np.float32(1e30)
        for item in range(starts[int(row), int(column)], starts[int(row), int(column) + 1]):
            s = items[item]
            d = daub_of[s]
            if d < low or d >= high:
                continue
            if d != current:
                if current >= 0:
                    cover = _covered(nearest, table, current)
                    if cover > 0:
                        scale = _lay(weights, p, rows[current], erases[current], table[current, CEILING], cover, scale)
                current = d
                nearest = np.float32(1e30)
            nearest = min(nearest, _squared_distance(x, y, z, segments, s, table[d, IN_SPACE] > 0))
        if current >= 0:
            cover = _covered(nearest, table, current)
            if cover > 0:
                scale = _lay(weights, p, rows[current], erases[current], table[current, CEILING], cover, scale)
        if scale != F1:
            scale = _renewed(weights, p, scale)


@inlined
def _near_cell(segments, s, reach, west, north, cell, r, c):
    """Whether a segment comes within reach of a cell (seen from above; a little too often, never too seldom)."""
    x, z = west + (c + 0.5) * cell, north + (r + 0.5) * cell
    apart = math.sqrt(_squared_distance(np.float32(x), F0, np.float32(z), segments, s, False))
    return apart <= reach + 0.7072 * cell * 1.001


@kernel
def list_segments(segments, daub_of, table, west, north, cell, counts, starts, items, fill):
    """Count (fill False) or list (True) the segments near each cell; counts (R, C) says how many are listed already."""
    rows, columns = counts.shape
    for s in range(segments.shape[0]):
        reach = table[daub_of[s], RADIUS]
        left = min(segments[s, 0], segments[s, 3]) - reach
        right = max(segments[s, 0], segments[s, 3]) + reach
        top = min(segments[s, 2], segments[s, 5]) - reach
        bottom = max(segments[s, 2], segments[s, 5]) + reach
        for r in range(max(0, int((top - north) / cell)), min(rows, int((bottom - north) / cell) + 1)):
            for c in range(max(0, int((left - west) / cell)), min(columns, int((right - west) / cell) + 1)):
                if _near_cell(segments, s, reach, west, north, cell, r, c):
                    if fill:
                        items[starts[r, c] + counts[r, c]] = s
                    counts[r, c] += 1
