"""Laying daubs on weights, as loops: by daub, then by run of points that it can touch, then in vector lanes."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel, lanes

F0, F1 = np.float32(0.0), np.float32(1.0)
RADIUS, INNER, STRENGTH, CEILING, IN_SPACE = 0, 1, 2, 3, 4  # columns of the table of daubs
RUN = 64  # points that are tested together
_RENEW_BELOW, _LEAST, _ALONE = np.float32(1e-3), np.float32(1e-20), np.float32(1e-6)


class RunRows(NamedTuple):
    """Points in runs of RUN: coordinates apart, (N,) each, and the box (west, north, east, south) of each run."""

    x: NDArray[np.float32]
    y: NDArray[np.float32]
    z: NDArray[np.float32]
    boxes: NDArray[np.float32]


class DaubRows(NamedTuple):
    """D daubs: the box of all that each can touch; the segments of all paths, of daub d from firsts[d] to firsts[d + 1]; the
    row of each one's layer, whether it erases, and the table of its numbers."""

    reach: NDArray[np.float32]
    segments: NDArray[np.float32]
    firsts: NDArray[np.int64]
    rows: NDArray[np.int32]
    erases: NDArray[np.bool_]
    table: NDArray[np.float32]


class DaubScratch(NamedTuple):
    """What laying needs while it works, (RUN,) each: squared distances to a path, and how much a daub covers."""

    near: NDArray[np.float32]
    cover: NDArray[np.float32]


@kernel
def split_runs(position, runs):
    """Fill the coordinates of (N, 3) positions apart, and the box of each run of points."""
    x, y, z, boxes = runs
    for run in range(boxes.shape[0]):
        first, last = run * RUN, min(run * RUN + RUN, position.shape[0])
        west, north, east, south = position[first, 0], position[first, 2], position[first, 0], position[first, 2]
        for p in range(first, last):
            x[p], y[p], z[p] = position[p, 0], position[p, 1], position[p, 2]
            west, east = min(west, x[p]), max(east, x[p])
            north, south = min(north, z[p]), max(south, z[p])
        boxes[run, 0], boxes[run, 1], boxes[run, 2], boxes[run, 3] = west, north, east, south


@lanes
def _nearer(a, count, x, y, z, segment, in_space, near):
    """Lower the squared distances to a path by those to one more of its segments; in space or from above."""
    ax, ay, az = segment[0], segment[1] * in_space, segment[2]
    wx, wy, wz = segment[3] - ax, segment[4] * in_space - ay, segment[5] - az
    length = wx * wx + wy * wy + wz * wz
    per_length = F1 / length if length > 0 else F0
    for i in range(count):
        p = np.uint64(a + i)
        dx, dy, dz = x[p] - ax, (y[p] - ay) * in_space, z[p] - az
        part = min(max((wx * dx + wy * dy + wz * dz) * per_length, F0), F1)
        dx, dy, dz = dx - part * wx, dy - part * wy, dz - part * wz
        near[np.uint64(i)] = min(near[np.uint64(i)], dx * dx + dy * dy + dz * dz)


@lanes
def _cover(count, radius, inner, strength, near, cover):
    """Fill how much a daub covers at squared distances from its path."""
    per_fall = F1 / (radius - inner) if radius > inner else np.float32(1e30)
    for i in range(count):
        t = min(max((radius - math.sqrt(near[i])) * per_fall, F0), F1)
        cover[i] = strength * t * t * (np.float32(3.0) - np.float32(2.0) * t)


@lanes
def _paint(a, count, ceiling, cover, row, weights, scale):
    """Move one layer's weights towards the ceiling; weights are `scale` times what is stored."""
    own = np.uint64(row)
    for i in range(count):
        p = np.uint64(a + i)
        had = weights[own, p] * scale[p]
        wanted = had + max(ceiling - had, F0) * cover[np.uint64(i)]
        now = max(scale[p] * (F1 - wanted) / max(F1 - had, _LEAST), _LEAST)
        scale[p] = now
        weights[own, p] = wanted / now


@lanes
def _smallest(a, count, scale):
    """The least of some scales, none of which is below 0: by their bits, whose least is found in lanes."""
    least = np.float32(F1).view(np.int32)
    for i in range(count):
        least = min(least, np.float32(scale[np.uint64(a + i)]).view(np.int32))
    return np.int32(least).view(np.float32)


@lanes
def _erase(a, count, cover, row, below, weights, scale):
    """Lower one layer's weights; the others grow in proportion, or where there is none, the layer below it."""
    own, under = np.uint64(row), np.uint64(below)
    for i in range(count):
        p = np.uint64(a + i)
        had = weights[own, p] * scale[p]
        wanted = had * (F1 - cover[np.uint64(i)])
        rest = F1 - had
        alone = rest <= _ALONE
        now = scale[p] * (F1 if alone else (F1 - wanted) / max(rest, _ALONE))
        weights[under, p] += (had - wanted) / now if alone else F0
        scale[p] = now
        weights[own, p] = wanted / now


@lanes
def _renew(a, count, layer, weights, scale):
    """Multiply what is scaled lazily."""
    for i in range(count):
        p = np.uint64(a + i)
        weights[layer, p] *= scale[p]


@inlined
def _near_path(count, runs, run, daubs, d, near):
    """Fill squared distances of one run of points to a daub's segments that can reach its box; return whether there is any."""
    boxes, segments = runs.boxes, daubs.segments
    radius, in_space = daubs.table[d, RADIUS], daubs.table[d, IN_SPACE]
    any_near = False
    for s in range(daubs.firsts[d], daubs.firsts[d + 1]):
        ax, az, bx, bz = segments[s, 0], segments[s, 2], segments[s, 3], segments[s, 5]
        if (
            min(ax, bx) - radius <= boxes[run, 2]
            and max(ax, bx) + radius >= boxes[run, 0]
            and min(az, bz) - radius <= boxes[run, 3]
            and max(az, bz) + radius >= boxes[run, 1]
        ):
            if not any_near:
                for i in range(RUN):
                    near[i] = np.float32(1e30)
            _nearer(run * RUN, count, runs.x, runs.y, runs.z, segments[s], in_space, near)
            any_near = True
    return any_near


@kernel
def lay_daubs(runs, daubs, which, scratch, scale, weights):
    """Lay the daubs listed in `which` on weights (L, N), in order.

    The others make room for a painted layer by one shared scale (N,), so that a daub costs the same however many layers
    there are.

    Examples
    --------
    >>> weights = jq.weigh(ground.canvas(32), layers)
    >>> painted = jq.daubs.lay_daubs(weights, ground, [jq.Daub(path=[(16.0, 16.0)], radius=4.0, layers=["salt"])])
    >>> float(painted.layer("salt")[16, 16].round(2))
    1.0
    """
    boxes, reach, table, near, cover = runs.boxes, daubs.reach, daubs.table, scratch.near, scratch.cover
    for p in range(scale.shape[0]):
        scale[p] = F1
    for at in range(which.shape[0]):
        d = which[at]
        row, radius = daubs.rows[d], table[d, RADIUS]
        below = row - 1 if row > 0 else min(1, weights.shape[0] - 1)
        west, north, east, south = reach[d, 0], reach[d, 1], reach[d, 2], reach[d, 3]
        for run in range(boxes.shape[0]):
            if boxes[run, 0] > east or boxes[run, 2] < west or boxes[run, 1] > south or boxes[run, 3] < north:
                continue
            a = run * RUN
            count = min(RUN, scale.shape[0] - a)
            if not _near_path(count, runs, run, daubs, d, near):
                continue
            _cover(count, radius, table[d, INNER], table[d, STRENGTH], near, cover)
            if not daubs.erases[d]:
                _paint(a, count, table[d, CEILING], cover, row, weights, scale)
                if _smallest(a, count, scale) < _RENEW_BELOW:
                    for layer in range(weights.shape[0]):
                        _renew(a, count, layer, weights, scale)
                    for p in range(a, a + count):
                        scale[p] = F1
            elif below != row:
                _erase(a, count, cover, row, below, weights, scale)
    for layer in range(weights.shape[0]):
        _renew(0, scale.shape[0], layer, weights, scale)


@kernel
def coverage(runs, daubs, d, scratch, out):
    """Fill how much one daub covers at each point."""
    for run in range(runs.boxes.shape[0]):
        a = run * RUN
        count = min(RUN, out.shape[0] - a)
        is_near = _near_path(count, runs, run, daubs, d, scratch.near)
        if is_near:
            _cover(count, daubs.table[d, RADIUS], daubs.table[d, INNER], daubs.table[d, STRENGTH], scratch.near, scratch.cover)
        for i in range(count):
            out[a + i] = scratch.cover[i] if is_near else F0
