"""Terrain points and rays over a terrain, as loops."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel, left_away

BLOCK = 8  # cells along the side of a block of the coarse grid of highest heights


class GridRows(NamedTuple):
    """The ground as kernels read it."""

    heights: NDArray[np.float32]  # (R, C) metres
    east: NDArray[np.float32]  # how fast it rises per metre
    south: NDArray[np.float32]
    spacing_x: float
    spacing_z: float
    size_x: float
    size_z: float
    is_cubic: bool


class GroundRows(NamedTuple):
    """The ground as rays meet it."""

    heights: NDArray[np.float32]  # (R, C)
    highest: NDArray[np.float32]  # the highest sample of each block of cells
    spacing_x: float
    spacing_z: float


@inlined
def _cell(x, z, spacing_x, spacing_z, rows, columns):
    """The cell (row, column) that holds x, z and the place within it, 0..1; clamped to the grid."""
    column = min(max(x / spacing_x, 0.0), columns - 1.0)
    row = min(max(z / spacing_z, 0.0), rows - 1.0)
    c = min(int(column), columns - 2)
    r = min(int(row), rows - 2)
    return r, c, row - r, column - c


@inlined
def _between(grid, r, c, fr, fc):
    top = grid[r, c] * (1.0 - fc) + grid[r, c + 1] * fc
    bottom = grid[r + 1, c] * (1.0 - fc) + grid[r + 1, c + 1] * fc
    return top * (1.0 - fr) + bottom * fr


@inlined
def _spline(a, b, c, d, t):
    """A cardinal spline through b (t = 0) and c (t = 1), as steep there as its neighbours lie apart (Catmull and Rom 1974)."""
    return b + 0.5 * t * (c - a + t * (2.0 * a - 5.0 * b + 4.0 * c - d + t * (3.0 * (b - c) + d - a)))


@inlined
def _spline_slope(a, b, c, d, t):
    """How fast it rises per sample."""
    return 0.5 * (c - a + t * (2.0 * (2.0 * a - 5.0 * b + 4.0 * c - d) + 3.0 * t * (3.0 * (b - c) + d - a)))


@inlined
def _beyond(grid, r, c):
    """A sample, or what lies beyond the border: the ground goes on as steep as it arrives there."""
    rows, columns = grid.shape
    rr, cc = min(max(r, 0), rows - 1), min(max(c, 0), columns - 1)
    own = grid[rr, cc]
    value = own
    if r != rr:
        value += own - grid[2 * rr - r, cc]
    if c != cc:
        value += own - grid[rr, 2 * cc - c]
    return value


@inlined
def _along_row(grid, r, c, fc):
    """Height between the samples of a row, and how fast it rises per sample."""
    before, here, there, beyond = _beyond(grid, r, c - 1), _beyond(grid, r, c), _beyond(grid, r, c + 1), _beyond(grid, r, c + 2)
    return _spline(before, here, there, beyond, fc), _spline_slope(before, here, there, beyond, fc)


@inlined
def _smooth_height(grid, r, c, fr, fc):
    """Height between samples by splines along both axes, and its slopes per sample: (height, east, south)."""
    h0, e0 = _along_row(grid, r - 1, c, fc)
    h1, e1 = _along_row(grid, r, c, fc)
    h2, e2 = _along_row(grid, r + 1, c, fc)
    h3, e3 = _along_row(grid, r + 2, c, fc)
    return _spline(h0, h1, h2, h3, fr), _spline(e0, e1, e2, e3, fr), _spline_slope(h0, h1, h2, h3, fr)


@inlined
def _fill_point(i, x, z, grid, step_x, step_z, out):
    heights, east, south, spacing_x, spacing_z = grid.heights, grid.east, grid.south, grid.spacing_x, grid.spacing_z
    position, normal, tangent, uv, footprint = out.position, out.normal, out.tangent, out.uv, out.footprint
    rows, columns = heights.shape
    r, c, fr, fc = _cell(x, z, spacing_x, spacing_z, rows, columns)
    if grid.is_cubic:
        y, gx, gz = _smooth_height(heights, r, c, fr, fc)
        gx, gz = gx / spacing_x, gz / spacing_z
    else:
        y = _between(heights, r, c, fr, fc)
        gx = _between(east, r, c, fr, fc)
        gz = _between(south, r, c, fr, fc)
    position[i, 0], position[i, 1], position[i, 2] = x, y, z
    if out.rest.shape[0] > 0:
        out.rest[i, 0], out.rest[i, 1], out.rest[i, 2] = left_away(x), left_away(np.float64(y)), left_away(z)
    upward = 1.0 / math.sqrt(1.0 + gx * gx + gz * gz)
    normal[i, 0], normal[i, 1], normal[i, 2] = -gx * upward, upward, -gz * upward
    eastward = 1.0 / math.sqrt(1.0 + gx * gx)
    tangent[i, 0], tangent[i, 1], tangent[i, 2], tangent[i, 3] = eastward, gx * eastward, 0.0, 1.0
    uv[i, 0], uv[i, 1] = x / grid.size_x, z / grid.size_z
    footprint[i, 0] = step_x / eastward
    footprint[i, 1] = step_z * eastward / upward


@kernel
def grid_points(region, step_x, step_z, grid, out):
    """Fill the points at the centres of a region's texels, row by row; steps are metres per texel."""
    first_row, last_row, first_column, last_column = region
    i = 0
    for row in range(first_row, last_row):
        z = (row + 0.5) * step_z
        for column in range(first_column, last_column):
            x = (column + 0.5) * step_x
            _fill_point(i, x, z, grid, step_x, step_z, out)
            i += 1


@kernel
def place_points(xs, zs, step, grid, out):
    """Fill the points below given places; step[i] is metres along the ground that one pixel covers."""
    for i in range(xs.shape[0]):
        _fill_point(i, xs[i], zs[i], grid, step[i], step[i], out)


@kernel
def highest_of_blocks(heights, out):
    """Fill the highest sample of each block of BLOCK x BLOCK cells, its border included."""
    rows, columns = heights.shape
    for br in range(out.shape[0]):
        for bc in range(out.shape[1]):
            top = heights[br * BLOCK, bc * BLOCK]
            for r in range(br * BLOCK, min(br * BLOCK + BLOCK + 1, rows)):
                for c in range(bc * BLOCK, min(bc * BLOCK + BLOCK + 1, columns)):
                    top = max(top, heights[r, c])
            out[br, bc] = top


@kernel
def hidden_sky(heights, steps, far, out):
    """Fill the mean over 16 directions of sin² of the horizon's angle; steps (16 S, 2) east and south, far (16 S,) metres."""
    rows, columns = heights.shape
    each = steps.shape[0] // 16
    for r in range(rows):
        for c in range(columns):
            own, hidden = heights[r, c], np.float32(0.0)
            for first in range(0, steps.shape[0], each):
                steepest = np.float32(0.0)
                for step in range(first, first + each):
                    across = min(max(c + steps[step, 0], 0), columns - 1)
                    down = min(max(r + steps[step, 1], 0), rows - 1)
                    steepest = max(steepest, (heights[down, across] - own) / far[step])
                hidden += steepest * steepest / (np.float32(1.0) + steepest * steepest)
            out[r, c] = hidden * np.float32(1.0 / 16.0)


@inlined
def _leave(at, towards, spacing, cell_from, cell_to):
    """Distance along a ray until one coordinate leaves the cells [cell_from, cell_to)."""
    if towards > 0:
        return (cell_to * spacing - at) / towards
    if towards < 0:
        return (cell_from * spacing - at) / towards
    return 1e30


@inlined
def _first_root(a, b, c):
    """The smallest s from 0 on at which a s^2 + b s + c, which begins at c >= 0, goes below 0; 2 if it does not."""
    square = b * b - 4.0 * a * c
    if square < 0.0:
        return 2.0
    q = -0.5 * (b + (math.sqrt(square) if b >= 0.0 else -math.sqrt(square)))
    one = q / a if a != 0.0 else 2.0
    two = c / q if q != 0.0 else 2.0
    first, second = min(one, two), max(one, two)
    return first if first >= 0.0 else second if second >= 0.0 else 2.0


@inlined
def _ray(origin, way, longest, ground):
    """Distance at which a ray meets the bilinear ground, or -1; exact in each cell that the ray crosses.

    Blocks of cells that lie wholly below the ray are stepped over. A ray that enters from the side below the ground meets
    it there.
    """
    (x, y, z), (dx, dy, dz) = origin, way
    heights, highest, spacing_x, spacing_z = ground.heights, ground.highest, ground.spacing_x, ground.spacing_z
    rows, columns = heights.shape
    end_x, end_z = (columns - 1) * spacing_x, (rows - 1) * spacing_z
    t = 0.0
    last = longest
    # Cut the ray to the terrain's own rectangle.
    for axis in range(2):
        at = x if axis == 0 else z
        towards = dx if axis == 0 else dz
        end = end_x if axis == 0 else end_z
        if towards != 0.0:
            one, two = -at / towards, (end - at) / towards
            t = max(t, min(one, two))
            last = min(last, max(one, two))
        elif at < 0.0 or at > end:
            return -1.0
    nudge = 1e-5 * min(spacing_x, spacing_z)
    while t <= last:
        px, py, pz = x + dx * t, y + dy * t, z + dz * t
        r, c, fr, fc = _cell(px, pz, spacing_x, spacing_z, rows, columns)
        br, bc = r // BLOCK, c // BLOCK
        to_x = _leave(px, dx, spacing_x, bc * BLOCK, bc * BLOCK + BLOCK)
        to_z = _leave(pz, dz, spacing_z, br * BLOCK, br * BLOCK + BLOCK)
        leave = max(min(to_x, to_z), 0.0)
        if min(py, py + dy * leave) > highest[br, bc]:
            t += leave + nudge
            continue
        leave = max(min(_leave(px, dx, spacing_x, c, c + 1), _leave(pz, dz, spacing_z, r, r + 1)), 0.0)
        start = py - _between(heights, r, c, fr, fc)
        if start < 0.0:
            return t
        # Within a cell the ground below a ray is a parabola, which three heights above it tell.
        across, down = dx * leave / spacing_x, dz * leave / spacing_z
        middle = py + dy * leave * 0.5 - _between(heights, r, c, fr + 0.5 * down, fc + 0.5 * across)
        end = py + dy * leave - _between(heights, r, c, fr + down, fc + across)
        part = _first_root(2.0 * (start - 2.0 * middle + end), 4.0 * middle - 3.0 * start - end, start)
        if part <= 1.0:
            return t + part * leave
        t += leave + nudge
    return -1.0


@kernel
def cast_rays(origin, directions, longest, ground, out):
    """Fill the distance at which each ray from one origin meets the ground, or -1."""
    for i in range(directions.shape[0]):
        way = (directions[i, 0], directions[i, 1], directions[i, 2])
        out[i] = _ray((origin[0], origin[1], origin[2]), way, longest, ground)


@kernel
def cast_shadows(origins, normals, towards, lift, longest, ground, out):
    """Fill 1 where the way towards the light is free and 0 where ground stands in it."""
    for i in range(origins.shape[0]):
        facing = normals[i, 0] * towards[0] + normals[i, 1] * towards[1] + normals[i, 2] * towards[2]
        if facing <= 0.0:
            out[i] = np.float32(0.0)
            continue
        start = (
            origins[i, 0] + lift * normals[i, 0],
            origins[i, 1] + lift * normals[i, 1],
            origins[i, 2] + lift * normals[i, 2],
        )
        hit = _ray(start, (towards[0], towards[1], towards[2]), longest, ground)
        out[i] = np.float32(1.0) if hit < 0.0 else np.float32(0.0)
