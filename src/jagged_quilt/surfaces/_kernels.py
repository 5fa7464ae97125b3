"""Terrain points and rays over a terrain, as loops."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel, lanes, left_away

BLOCK = 8  # cells along the side of a block of the coarse grid of highest heights
LANES = 64  # rays that go side by side
STILL = 1e-9  # of a cell per metre: a ray that goes no faster along an axis stays where it is
F0, F1, WIDE, EIGHTH, FAR = np.float32(0.0), np.float32(1.0), np.float32(BLOCK), np.float32(1.0 / BLOCK), np.float32(1e30)


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
    top: float  # of all
    bottom: float
    steepest: float  # the most by which two samples beside each other differ
    spacing_x: float
    spacing_z: float


class SunRows(NamedTuple):
    """A far light: the way towards it, how far above the ground a way begins, and how far it goes, metres."""

    towards: tuple[float, float, float]
    lift: float
    longest: float


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
def ground_points(xs, zs, step, grid, out):
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
def ambient_occlusion(heights, steps, far, out):
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
def _falls_above(e, level, up):
    """What an even sky sheds from one direction below an angle e over level, by the cosine to a normal."""
    return np.float32(0.5) * (level * (e + math.sin(e) * math.cos(e)) + up * math.sin(e) * math.sin(e))


@kernel
def open_sky(heights, slopes, steps, metres, ways, out):
    """Fill how much of the sky above level that a sample's own normal faces is not hidden by the ground, 0..1.

    slopes : (R, C, 2), steps (16 S, 2), metres (16 S, 3), ways (16, 2)
        All east and south: of the ground; samples to look at; how far those are, and altogether; unit vectors.
    """
    rows, columns = heights.shape
    each, zenith = steps.shape[0] // 16, np.float32(math.pi / 2)
    for r in range(rows):
        for c in range(columns):
            own, faced, seen = heights[r, c], np.float32(0.0), np.float32(0.0)
            for way in range(16):
                level = -slopes[r, c, 0] * ways[way, 0] - slopes[r, c, 1] * ways[way, 1]
                steepest = max(-level, np.float32(0.0))  # the ground's own slope hides what its normal does not face
                lowest = math.atan(steepest)
                for step in range(way * each, way * each + each):
                    across = min(max(c + steps[step, 0], 0), columns - 1)
                    down = min(max(r + steps[step, 1], 0), rows - 1)
                    rise, away = heights[down, across] - own, metres[step, 2]
                    faced_rise = slopes[r, c, 0] * metres[step, 0] + slopes[r, c, 1] * metres[step, 1]
                    if rise > faced_rise + np.float32(1e-4) * away:  # else it lies on the ground's own plane
                        steepest = max(steepest, rise / away)
                whole = _falls_above(zenith, level, np.float32(1.0))
                faced += whole - _falls_above(lowest, level, np.float32(1.0))
                seen += whole - _falls_above(math.atan(steepest), level, np.float32(1.0))
            out[r, c] = seen / faced


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
def _within(at, per, longest, cells):
    """The part of a way that lies within 0 and `cells`: from where, to where. per : one over how fast it goes, 0 if never."""
    if per != 0.0:
        return min(-at * per, (cells - at) * per), max(-at * per, (cells - at) * per)
    return (0.0, longest) if 0.0 <= at <= cells else (1.0, -1.0)


@inlined
def _leave(at, cell, cells, per):
    """How far it is until some cells from `cell` on are left."""
    if per == 0.0:
        return 1e30
    return (cell + (cells if per > 0.0 else 0) - at) * per


@inlined
def _ray(origin, way, begin, longest, ground):
    """Distance at which a ray meets the bilinear ground, or -1; exact in each cell that the ray crosses.

    It is reckoned in cells across and down, and metres up. Blocks of cells that lie wholly below the ray are stepped over. A
    ray that enters from the side below the ground meets it there.

    begin : a distance before which it meets nothing.
    """
    heights, highest = ground.heights, ground.highest
    rows, columns = heights.shape
    (x, y, z), (dx, dy, dz) = origin, way
    x, dx = x / ground.spacing_x, dx / ground.spacing_x
    z, dz = z / ground.spacing_z, dz / ground.spacing_z
    per_x, per_z = 1.0 / dx if abs(dx) > STILL else 0.0, 1.0 / dz if abs(dz) > STILL else 0.0
    from_x, to_x = _within(x, per_x, longest, columns - 1.0)
    from_z, to_z = _within(z, per_z, longest, rows - 1.0)
    t, last = max(begin, max(from_x, from_z)), min(longest, min(to_x, to_z))
    if dy > 0.0:
        last = min(last, (ground.top - y) / dy)
    elif y > ground.top:
        t = max(t, (ground.top - y) / dy) if dy < 0.0 else last + 1.0
    nudge = 1e-5 / max(abs(dx), abs(dz), 1e-5)
    while t <= last:
        px, py, pz = x + dx * t, y + dy * t, z + dz * t
        c, r = min(max(int(px), 0), columns - 2), min(max(int(pz), 0), rows - 2)
        bc, br = c // BLOCK, r // BLOCK
        leave = max(min(_leave(px, bc * BLOCK, BLOCK, per_x), _leave(pz, br * BLOCK, BLOCK, per_z)), 0.0)
        if min(py, py + dy * leave) > highest[br, bc]:
            t += leave + nudge
            continue
        end = min(t + leave, last)
        while t <= end:  # the cells of the block
            px, py, pz = x + dx * t, y + dy * t, z + dz * t
            c, r = min(max(int(px), 0), columns - 2), min(max(int(pz), 0), rows - 2)
            leave = max(min(_leave(px, c, 1, per_x), _leave(pz, r, 1, per_z)), 0.0)
            a, b, d, e = heights[r, c], heights[r, c + 1], heights[r + 1, c], heights[r + 1, c + 1]
            if min(py, py + dy * leave) > max(max(a, b), max(d, e)):
                t += leave + nudge
                continue
            # PathGuard a cell the ground below a ray is a parabola: a + (b - a) u + (d - a) v + (a - b - d + e) u v.
            u, v = px - c, pz - r
            along_u, along_v, both = b - a, d - a, a - b - d + e
            start = py - (a + along_u * u + along_v * v + both * u * v)
            if start < 0.0:
                return t
            slope = dy - (along_u * dx + along_v * dz + both * (u * dz + v * dx))
            part = _first_root(-both * dx * dz * leave * leave, slope * leave, start)
            if part <= 1.0:
                return t + part * leave
            t += leave + nudge
    return -1.0


@lanes
def _skip_blocks(origin, bounds, across, highest, way, until, out):
    """Take LANES rays one block of cells further each, where they pass well above it; return how many were."""
    blocks_x, blocks_z, nudge, slack = bounds
    x, y, z = origin
    moved = np.int32(0)
    for i in range(LANES):
        t = out[i]
        dx, dy, dz = way[i], way[LANES + i], way[2 * LANES + i]
        per_x, per_z = way[3 * LANES + i], way[4 * LANES + i]
        px, py, pz = x + dx * t, y + dy * t, z + dz * t
        bc = min(max(np.int32(px * EIGHTH), np.int32(0)), blocks_x)
        br = min(max(np.int32(pz * EIGHTH), np.int32(0)), blocks_z)
        next_x, next_z = np.float32(bc) + (F1 if per_x > F0 else F0), np.float32(br) + (F1 if per_z > F0 else F0)
        leave_x, leave_z = (next_x * WIDE - px) * per_x, (next_z * WIDE - pz) * per_z
        leave_x, leave_z = leave_x if per_x != F0 else FAR, leave_z if per_z != F0 else FAR
        leave = max(min(leave_x, leave_z), F0) + nudge
        is_above = min(py, py + dy * leave) - slack > highest[np.int32(br * across + bc)]
        goes = np.int32(1) if is_above else np.int32(0)
        goes = goes if t <= until[i] else np.int32(0)
        out[i] = t + leave * np.float32(goes)
        moved += goes
    return moved


@kernel
def cast_rays(origin, directions, longest, ground, scratch, out):
    """Fill the distance at which each ray from one origin meets the ground, or -1.

    Rays beside each other go over much the same blocks: LANES of them do so at once in float32, with room to spare, and each
    goes on by itself where it comes near the ground. scratch : (7 LANES,) float32.
    """
    rows, columns = ground.heights.shape
    flat, across = ground.highest.reshape(-1), np.int32(ground.highest.shape[1])
    start, last, way = scratch[:LANES], scratch[LANES : 2 * LANES], scratch[2 * LANES :]
    x, y, z = origin[0] / ground.spacing_x, origin[1], origin[2] / ground.spacing_z
    here = np.float32(x), np.float32(y), np.float32(z)
    large = 1e-6 * max(max(abs(x), abs(z)), np.float64(max(rows, columns)))  # what float32 may be wrong by, in cells
    slack = np.float32((0.01 + 4.0 * large) * ground.steepest + 4e-6 * max(abs(y), ground.top - ground.bottom, abs(ground.top)))
    for first in range(0, directions.shape[0], LANES):
        count = min(LANES, directions.shape[0] - first)
        fastest = 0.0
        for i in range(LANES):
            one = first + min(i, count - 1)
            dx, dy = directions[one, 0] / ground.spacing_x, np.float64(directions[one, 1])
            dz = directions[one, 2] / ground.spacing_z
            per_x, per_z = 1.0 / dx if abs(dx) > STILL else 0.0, 1.0 / dz if abs(dz) > STILL else 0.0
            from_x, to_x = _within(x, per_x, longest, columns - 1.0)
            from_z, to_z = _within(z, per_z, longest, rows - 1.0)
            begin, end = max(0.0, max(from_x, from_z)), min(longest, min(to_x, to_z))
            if dy > 0.0:
                end = min(end, (ground.top - y) / dy)
            elif dy < 0.0 and y > ground.top:
                begin = max(begin, (ground.top - y) / dy)
            start[i], last[i] = begin, end
            way[i], way[LANES + i], way[2 * LANES + i] = dx, dy, dz
            way[3 * LANES + i], way[4 * LANES + i] = per_x, per_z
            fastest = max(fastest, max(abs(dx), abs(dz)))
        nudge = np.float32((0.005 + 2.0 * large) / max(fastest, 1e-3))
        bounds = np.int32(ground.highest.shape[1] - 1), np.int32(ground.highest.shape[0] - 1), nudge, slack
        while _skip_blocks(here, bounds, across, flat, way, last, start) > 0:
            pass
        for i in range(count):
            one = first + i
            direction = (directions[one, 0], directions[one, 1], directions[one, 2])
            begin = max(np.float64(start[i]) * (1.0 - 1e-6) - nudge, 0.0)
            out[one] = _ray((origin[0], origin[1], origin[2]), direction, begin, longest, ground)


@inlined
def _is_free(position, normal, sun, ground):
    start = (position[0] + sun.lift * normal[0], position[1] + sun.lift * normal[1], position[2] + sun.lift * normal[2])
    return _ray(start, sun.towards, 0.0, sun.longest, ground) < 0.0


@inlined
def _corner_is_free(r, c, sun, grid, ground, known):
    """Whether the light reaches a sample of the ground; found out once."""
    if known[r, c] == 0:
        gx, gz = grid.east[r, c], grid.south[r, c]
        upward = 1.0 / math.sqrt(1.0 + gx * gx + gz * gz)
        position = (c * ground.spacing_x, np.float64(ground.heights[r, c]), r * ground.spacing_z)
        known[r, c] = 2 if _is_free(position, (-gx * upward, upward, -gz * upward), sun, ground) else 1
    return known[r, c] == 2


@kernel
def cast_shadows(origins, normals, footprints, sun, grid, ground, known, out):
    """Fill 1 where the way towards the light is free and 0 where ground stands in it.

    Between four samples that the light reaches, or does not, so it is; known (R, C) uint8 holds what was found of samples: 1
    and 2, or 0 where nothing yet. It is empty, or places lie off the ground, or a pixel is as wide as a cell: each by itself.
    """
    (towards_x, towards_y, towards_z), rows, columns = sun.towards, ground.heights.shape[0], ground.heights.shape[1]
    narrow = min(ground.spacing_x, ground.spacing_z)
    for i in range(origins.shape[0]):
        normal = (np.float64(normals[i, 0]), np.float64(normals[i, 1]), np.float64(normals[i, 2]))
        out[i] = np.float32(0.0)
        if normal[0] * towards_x + normal[1] * towards_y + normal[2] * towards_z <= 0.0:
            continue
        position = (np.float64(origins[i, 0]), np.float64(origins[i, 1]), np.float64(origins[i, 2]))
        if known.shape[0] > 0 and footprints[i, 0] < narrow:
            r, c, fr, fc = _cell(position[0], position[2], ground.spacing_x, ground.spacing_z, rows, columns)
            if abs(position[1] - _between(ground.heights, r, c, fr, fc)) <= sun.lift:
                free = 0
                for corner in range(4):
                    free += 1 if _corner_is_free(r + corner // 2, c + corner % 2, sun, grid, ground, known) else 0
                if free == 0 or free == 4:
                    out[i] = np.float32(free // 4)
                    continue
        if _is_free(position, normal, sun, ground):
            out[i] = np.float32(1.0)


@kernel
def cast_to_lamp(origins, normals, lamp, lift, ground, out):
    """Fill 1 where the way to a lamp at a place is free and 0 where ground stands in it."""
    for i in range(origins.shape[0]):
        x = np.float64(origins[i, 0]) + lift * normals[i, 0]
        y = np.float64(origins[i, 1]) + lift * normals[i, 1]
        z = np.float64(origins[i, 2]) + lift * normals[i, 2]
        way_x, way_y, way_z = lamp[0] - x, lamp[1] - y, lamp[2] - z
        far = math.sqrt(way_x * way_x + way_y * way_y + way_z * way_z)
        out[i] = np.float32(0.0)
        if far > 0.0 and way_x * normals[i, 0] + way_y * normals[i, 1] + way_z * normals[i, 2] > 0.0:
            towards = (way_x / far, way_y / far, way_z / far)
            if _ray((x, y, z), towards, 0.0, far, ground) < 0.0:
                out[i] = np.float32(1.0)
