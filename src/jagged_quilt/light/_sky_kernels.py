"""Skies and lamps, point by point: what is seen of a sky, what it sheds, and how much of a lamp arrives."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel
from jagged_quilt.light._rows import F0, F1, HALF, INDEX

BLUNTEST = 1e-3  # of cosines: the narrowest soft edge of a spot


@inlined
def _sky_at(up, sky, c):
    """The sky's light from a height above the horizon, -1..1; below it, what the ground throws back."""
    below = min(max(-up * np.float32(6.0), F0), F1)
    above = sky.horizon[c] + (sky.zenith[c] - sky.horizon[c]) * math.sqrt(min(max(up, F0), F1))
    return above * (F1 - below) + sky.ground[c] * below


@kernel
def sky_light(directions, sky, out):
    """Fill the sky's light from each direction."""
    for p in range(directions.shape[0]):
        for c in range(3):
            out[p, c] = _sky_at(directions[p, 1], sky, c)


@kernel
def through_air(light, away, density, sky, out):
    """Fill what is left of light behind air, and the air's own."""
    for p in range(light.shape[0]):
        air = F1 - math.exp(-away[p] * density)
        for c in range(3):
            out[p, c] = light[p, c] * (F1 - air) + sky.horizon[c] * air


@kernel
def reach_lamp(positions, lamp, cone, ways, share):
    """Fill the unit vectors from places (N, 3) to a lamp, and how much of its strength arrives.

    lamp : its place, x, y and z; radius; reach, or 0; and the terms of its fall-off, of which the first is below 0 for none.
    cone : the axis, x, y and z, and the cosines of the outer and the inner angle; an outer one of -2 for no cone.
    """
    x, y, z, radius, reach, constant, linear, quadratic = lamp
    axis_x, axis_y, axis_z, outer, inner = cone
    least = max(constant + linear * radius + quadratic * radius * radius, 1e-9)
    nearest, lowest, over = np.float32(radius * radius), np.float32(least), np.float32(1.0 / reach if reach > 0.0 else 0.0)
    constant, linear, quadratic = np.float32(constant), np.float32(linear), np.float32(quadratic)
    axis_x, axis_y, axis_z, edge_from = np.float32(axis_x), np.float32(axis_y), np.float32(axis_z), np.float32(outer)
    per_edge = np.float32(1.0 / max(inner - outer, BLUNTEST))
    for p in range(positions.shape[0]):  # differences first, in float64: places may be far from the origin
        i = INDEX(p)
        way_x, way_y, way_z = np.float32(x - positions[i, 0]), np.float32(y - positions[i, 1]), np.float32(z - positions[i, 2])
        square = way_x * way_x + way_y * way_y + way_z * way_z
        far = math.sqrt(square)
        near = F1 / max(far, np.float32(1e-9))
        way_x, way_y, way_z = way_x * near, way_y * near, way_z * near
        below = max(square, nearest) if constant < F0 else max(constant + linear * far + quadratic * square, lowest)
        part = F1 / below
        if over > F0:
            ratio = square * over * over
            part *= min(max(F1 - ratio * ratio, F0), F1)
        if edge_from > np.float32(-2.0):
            along = -(way_x * axis_x + way_y * axis_y + way_z * axis_z)
            edge = min(max((along - edge_from) * per_edge, F0), F1)
            part *= edge * edge
        ways[i, 0], ways[i, 1], ways[i, 2], share[i] = way_x, way_y, way_z, part


@inlined
def harmonics(n, terms):
    """The sum of nine spherical harmonics in the direction n, for three colours; their constants are in `terms`."""
    x, y, z = n
    red = green = blue = F0
    one = (F1, y, z, x, x * y, y * z, np.float32(3) * z * z - F1, x * z, x * x - y * y)
    for term in range(9):
        red += one[term] * terms[INDEX(3 * term)]
        green += one[term] * terms[INDEX(3 * term + 1)]
        blue += one[term] * terms[INDEX(3 * term + 2)]
    return max(red, F0), max(green, F0), max(blue, F0)


@inlined
def on_sky(way):
    """Where a direction lies on a picture of the sky: from north over east and back, and from the zenith down, 0..1."""
    turn = math.atan2(way[0], -way[2]) * np.float32(0.5 / math.pi)
    return turn + F1 if turn < F0 else turn, math.acos(min(max(way[1], -F1), F1)) * np.float32(1.0 / math.pi)


@inlined
def sky_picture(u, v, which, sky):
    """One of the pictures between its texels: the first column follows on the last, and above the first row lies itself."""
    first, rows, columns = sky.pictures[which, 0], sky.pictures[which, 1], sky.pictures[which, 2]
    x, y = u * np.float32(columns) - HALF, min(max(v * np.float32(rows) - HALF, F0), np.float32(rows - 1))
    left, top = np.int64(math.floor(x)), min(np.int64(y), rows - 2)
    fx, fy = x - np.float32(left), y - np.float32(top)
    right = left + 1
    left, right = left + columns if left < 0 else left, right - columns if right >= columns else right
    a, b = INDEX(3 * (first + top * columns + left)), INDEX(3 * (first + top * columns + right))
    down = INDEX(3 * columns)
    wa, wb, wc, wd = (F1 - fx) * (F1 - fy), fx * (F1 - fy), (F1 - fx) * fy, fx * fy
    texels, one, two = sky.mirrored, INDEX(1), INDEX(2)
    return (
        wa * texels[a] + wb * texels[b] + wc * texels[a + down] + wd * texels[b + down],
        wa * texels[a + one] + wb * texels[b + one] + wc * texels[a + down + one] + wd * texels[b + down + one],
        wa * texels[a + two] + wb * texels[b + two] + wc * texels[a + down + two] + wd * texels[b + down + two],
    )


@inlined
def mirrored(way, rough, sky):
    """The mirror image of a sky in a direction, between the pictures for two roughnesses."""
    u, v = on_sky(way)
    last = sky.pictures.shape[0] - 1
    at = rough * np.float32(last)
    which = min(np.int64(at), last - 1)
    share = at - np.float32(which)
    near, far = sky_picture(u, v, which, sky), sky_picture(u, v, which + 1, sky)
    return near[0] + (far[0] - near[0]) * share, near[1] + (far[1] - near[1]) * share, near[2] + (far[2] - near[2]) * share


@kernel
def sky_seen(directions, sky, out):
    """Fill the light of a sky image from each direction."""
    for p in range(directions.shape[0]):
        u, v = on_sky((directions[p, 0], directions[p, 1], directions[p, 2]))
        out[p, 0], out[p, 1], out[p, 2] = sky_picture(u, v, 0, sky)


@kernel
def mirror_sky(frames, lobe, texels, table, out):
    """Fill what a rough mirror shows of a sky, where eye, normal and mirror image are one, (N, 3).

    frames (N, 3, 3): side, other side and normal. texels (T, 3) holds all levels; table: where each begins, its rows, columns.
    """
    for p in range(frames.shape[0]):
        red, green, blue = 0.0, 0.0, 0.0
        for s in range(lobe.share.shape[0]):
            hx, hy, hz = lobe.half[s, 0], lobe.half[s, 1], lobe.half[s, 2]
            x = 2.0 * hz * (hx * frames[p, 0, 0] + hy * frames[p, 1, 0] + hz * frames[p, 2, 0]) - frames[p, 2, 0]
            y = 2.0 * hz * (hx * frames[p, 0, 1] + hy * frames[p, 1, 1] + hz * frames[p, 2, 1]) - frames[p, 2, 1]
            z = 2.0 * hz * (hx * frames[p, 0, 2] + hy * frames[p, 1, 2] + hz * frames[p, 2, 2]) - frames[p, 2, 2]
            start, rows, columns = table[lobe.level[s], 0], table[lobe.level[s], 1], table[lobe.level[s], 2]
            turn = math.atan2(x, -z) / (2.0 * math.pi)
            across = (turn - math.floor(turn)) * columns - 0.5
            down = min(max(math.acos(min(max(y, -1.0), 1.0)) / math.pi * rows - 0.5, 0.0), rows - 1.0)
            west, top = math.floor(across), min(int(down), rows - 2)
            fx, fy = across - west, down - top
            left, right = (int(west) + columns) % columns, (int(west) + 1) % columns
            above, below = start + top * columns, start + (top + 1) * columns
            share = lobe.share[s]
            for corner in range(4):
                texel = (below if corner >= 2 else above) + (right if corner % 2 else left)
                weight = share * (fx if corner % 2 else 1.0 - fx) * (fy if corner >= 2 else 1.0 - fy)
                red += weight * texels[texel, 0]
                green += weight * texels[texel, 1]
                blue += weight * texels[texel, 2]
        out[p, 0], out[p, 1], out[p, 2] = np.float32(red), np.float32(green), np.float32(blue)
