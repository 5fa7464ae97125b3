"""Light on points, as a loop."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel, lanes

F0, F1, HALF = np.float32(0.0), np.float32(1.0), np.float32(0.5)
INDEX = np.uint64  # needs no test for "from the end"
ANGLES, ROUGHNESSES = 64, 32  # columns and rows of the table of what is thrown back
UPS, SKY_ROUGHNESSES = 65, 9  # columns and rows of the table of a sky's mirror images
SMOOTHEST = np.float32(0.04)
BLUNTEST = 1e-3  # of cosines: the narrowest soft edge of a spot
LANES = 64
# Rows of what is laid out of points: normal, way to the eye, cosine between them, roughness; then for three colours the
# reflectance head on, by what the lobe alone is too dark, the body's share, and what the sky gives by body and by surface.
NX, VX, NV, ROUGH, FACING, MORE, BODY, SHED, MET, LIT_ROWS = 0, 3, 6, 7, 8, 11, 14, 17, 20, 23
SCRATCH = (LIT_ROWS + 4 + 6) * LANES  # besides: a lamp's ways and how much arrives; what falls on the body, and the lobe's


class SurfaceRows(NamedTuple):
    """What light falls on, at N points."""

    diffuse: NDArray[np.float32]  # (N, 3)
    specular: NDArray[np.float32]  # (N, 3)
    roughness: NDArray[np.float32]  # (N,)
    occlusion: NDArray[np.float32]  # (N,)
    normal: NDArray[np.float32]  # (N, 3)
    eye: NDArray[np.float32]  # (N, 3)


class LampRows(NamedTuple):
    """L lamps at N points."""

    ways: NDArray[np.float32]  # unit vectors towards the lamps: for each one, or one for every point
    starts: NDArray[np.int64]  # (L,) where those of a lamp begin
    steps: NDArray[np.int64]  # (L,) 0 or 1
    arriving: NDArray[np.float32]  # (L, N) how much of it arrives
    colours: NDArray[np.float32]  # (L, 3)


class SkyRows(NamedTuple):
    """A sky: its colours as a gradient, (3,) each, then what it sheds on normals and its mirror images by roughness.

    A gradient has tables by how far up a direction points; an image has harmonics, and a picture for each roughness.
    """

    zenith: NDArray[np.float32]
    horizon: NDArray[np.float32]
    ground: NDArray[np.float32]
    shed: NDArray[np.float32]  # (UPS * 3,), of an image (27,): nine harmonics of three colours each
    mirrored: NDArray[np.float32]  # (SKY_ROUGHNESSES * UPS * 3,), of an image all its pictures, texels of three
    pictures: NDArray[np.int64]  # (P, 3) where each begins, its rows and columns; none for a gradient


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
def reach_lamp(places, lamp, cone, ways, share):
    """Fill the unit vectors from places (N, 3) to a lamp, and how much of its strength arrives.

    lamp : its place, x, y and z; radius; reach, or 0; and the terms of its fall-off, of which the first is below 0 for none.
    cone : the axis, x, y and z, and the cosines of the outer and the inner angle; an outer one of -2 for no cone.
    """
    x, y, z, radius, reach, constant, linear, quadratic = lamp
    axis_x, axis_y, axis_z, outer, inner = cone
    least = max(constant + linear * radius + quadratic * radius * radius, 1e-9)
    for p in range(places.shape[0]):
        way_x, way_y, way_z = x - places[p, 0], y - places[p, 1], z - places[p, 2]
        far = math.sqrt(way_x * way_x + way_y * way_y + way_z * way_z)
        near = 1.0 / max(far, 1e-9)
        way_x, way_y, way_z = way_x * near, way_y * near, way_z * near
        if constant < 0.0:
            part = 1.0 / max(far, radius) ** 2
        else:
            part = 1.0 / max(constant + linear * far + quadratic * far * far, least)
        if reach > 0.0:
            part *= min(max(1.0 - (far / reach) ** 4, 0.0), 1.0)
        if outer > -2.0:
            along = -(way_x * axis_x + way_y * axis_y + way_z * axis_z)
            edge = min(max((along - outer) / max(inner - outer, BLUNTEST), 0.0), 1.0)
            part *= edge * edge
        ways[p, 0], ways[p, 1], ways[p, 2], share[p] = way_x, way_y, way_z, part


@inlined
def _step(x, last):
    """The step of a table below a place from 0 to last, and how far the place is beyond it."""
    whole = min(np.int32(x), np.int32(last - 1))
    return INDEX(np.uint32(whole)), x - np.float32(whole)


@inlined
def _between(table, at, down, fr, fc):
    """A flat table between four of its places: from `at` on, and `down` further; three values lie side by side at each."""
    one, three = INDEX(1), INDEX(3)
    wa, wb, wc, wd = (F1 - fr) * (F1 - fc), (F1 - fr) * fc, fr * (F1 - fc), fr * fc
    low = at + down
    return (
        wa * table[at] + wb * table[at + three] + wc * table[low] + wd * table[low + three],
        wa * table[at + one] + wb * table[at + INDEX(4)] + wc * table[low + one] + wd * table[low + INDEX(4)],
        wa * table[at + INDEX(2)] + wb * table[at + INDEX(5)] + wc * table[low + INDEX(2)] + wd * table[low + INDEX(5)],
    )


@inlined
def _thrown_back(f0, a, b, lost):
    """f0, how much of the light from all around is thrown back, and by what the lobe alone is too dark (Turquin 2019).

    lost : what a white lobe loses by counting only the first reflection, over what it keeps.
    """
    more = F1 + f0 * lost
    return f0, min((f0 * a + b) * more, F1), more


@inlined
def _harmonics(n, terms):
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
def _mirrored(way, rough, sky):
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


@inlined
def _sky_on(n, v, along, rough, sky):
    """What a sky sheds on a normal, and its mirror image."""
    twice = along + along
    mirror = twice * n[0] - v[0], twice * n[1] - v[1], twice * n[2] - v[2]
    if sky.pictures.shape[0] > 0:
        return _harmonics(n, sky.shed), _mirrored(mirror, rough, sky)
    last = np.float32(UPS - 1) * HALF
    s, fs = _step((min(max(n[1], -F1), F1) + F1) * last, UPS - 1)
    m, fm = _step((min(max(mirror[1], -F1), F1) + F1) * last, UPS - 1)
    g, fg = _step(rough * np.float32(SKY_ROUGHNESSES - 1), SKY_ROUGHNESSES - 1)
    shed = _between(sky.shed, INDEX(3) * s, INDEX(0), F0, fs)
    return shed, _between(sky.mirrored, INDEX(3) * (INDEX(UPS) * g + m), INDEX(3 * UPS), fg, fm)


@inlined
def _lay_point(t, p, surface, sky, albedo, rows):
    """Lay out in a lane what no lamp changes: a point's vectors, what it throws back, and what it has of the sky."""
    n = surface.normal[p, 0], surface.normal[p, 1], surface.normal[p, 2]
    v = surface.eye[p, 0], surface.eye[p, 1], surface.eye[p, 2]
    rough = min(max(surface.roughness[p], F0), F1)
    along = n[0] * v[0] + n[1] * v[1] + n[2] * v[2]
    n_v = min(max(along, np.float32(1e-3)), F1)
    r, fr = _step(rough * np.float32(ROUGHNESSES - 1), ROUGHNESSES - 1)
    c, fc = _step(math.sqrt(n_v) * np.float32(ANGLES - 1), ANGLES - 1)
    a, b, _ = _between(albedo, INDEX(3) * (INDEX(ANGLES) * r + c), INDEX(3 * ANGLES), fr, fc)
    lost, open_ = F1 / (a + b) - F1, surface.occlusion[p]
    shed, met = _sky_on(n, v, along, rough, sky)
    rows[INDEX(NX * LANES + t)], rows[INDEX((NX + 1) * LANES + t)], rows[INDEX((NX + 2) * LANES + t)] = n
    rows[INDEX(VX * LANES + t)], rows[INDEX((VX + 1) * LANES + t)], rows[INDEX((VX + 2) * LANES + t)] = v
    rows[INDEX(NV * LANES + t)], rows[INDEX(ROUGH * LANES + t)] = n_v, max(rough, SMOOTHEST)
    for k in range(3):
        f0, back, more = _thrown_back(surface.specular[p, INDEX(k)], a, b, lost)
        body, own = surface.diffuse[p, INDEX(k)] * (F1 - back), k * LANES + t
        rows[INDEX(FACING * LANES + own)], rows[INDEX(MORE * LANES + own)] = f0, more
        rows[INDEX(BODY * LANES + own)], rows[INDEX(SHED * LANES + own)] = body, body * shed[k] * open_
        rows[INDEX(MET * LANES + own)] = back * met[k] * open_


@inlined
def _lay_lamp(lamp, first, count, lamps, ways):
    """Lay the directions to a lamp out, and how much of it arrives."""
    start, step = lamps.starts[INDEX(lamp)], lamps.steps[INDEX(lamp)]
    for t in range(count):
        at = INDEX(start + step * (first + t))
        for k in range(3):
            ways[INDEX(k * LANES + t)] = lamps.ways[at, INDEX(k)]
        ways[INDEX(3 * LANES + t)] = lamps.arriving[INDEX(lamp), INDEX(first + t)]


@lanes
def shine(colour, rows, ways, sums):
    """Add a lamp's light: what falls on the body, then what the GGX lobe throws towards the eye."""
    for t in range(LANES):
        n0, n1, n2 = rows[NX * LANES + t], rows[(NX + 1) * LANES + t], rows[(NX + 2) * LANES + t]
        v0, v1, v2 = rows[VX * LANES + t], rows[(VX + 1) * LANES + t], rows[(VX + 2) * LANES + t]
        l0, l1, l2 = ways[t], ways[LANES + t], ways[2 * LANES + t]
        n_v, square = rows[NV * LANES + t], rows[ROUGH * LANES + t]
        square *= square
        square *= square
        n_l = min(max(n0 * l0 + n1 * l1 + n2 * l2, F0), F1)
        falls = n_l * ways[3 * LANES + t]
        hx, hy, hz = v0 + l0, v1 + l1, v2 + l2
        length = F1 / max(math.sqrt(hx * hx + hy * hy + hz * hz), np.float32(1e-6))
        n_h = min(max((n0 * hx + n1 * hy + n2 * hz) * length, F0), F1)
        v_h = min(max((v0 * hx + v1 * hy + v2 * hz) * length, F0), F1)
        base = n_h * n_h * (square - F1) + F1
        smith = HALF / (
            n_l * math.sqrt(n_v * n_v * (F1 - square) + square)
            + n_v * math.sqrt(n_l * n_l * (F1 - square) + square)
            + np.float32(1e-6)
        )
        lobe = falls * square * smith / (np.float32(math.pi) * base * base)
        grazing = F1 - v_h
        grazing *= grazing * grazing * grazing * grazing
        for k in range(3):
            f0 = rows[(FACING + k) * LANES + t]
            sums[k * LANES + t] += falls * colour[k]
            sums[(3 + k) * LANES + t] += lobe * (f0 + (F1 - f0) * grazing) * colour[k]


@inlined
def _store(t, p, rows, sums, out):
    """Store the light of a point: the sum, or its parts."""
    for k in range(3):
        own = INDEX(k)
        direct = sums[INDEX(k * LANES + t)] * rows[INDEX((BODY + k) * LANES + t)] * np.float32(1.0 / math.pi)
        shining = sums[INDEX((3 + k) * LANES + t)] * rows[INDEX((MORE + k) * LANES + t)]
        soft, mirrored = rows[INDEX((SHED + k) * LANES + t)], rows[INDEX((MET + k) * LANES + t)]
        if out.shape[1] == 1:
            out[p, 0, own] = direct + shining + soft + mirrored
        else:
            out[p, 0, own], out[p, 1, own], out[p, 2, own], out[p, 3, own] = direct, shining, soft, mirrored


@kernel
def light_points(surface, lamps, sky, albedo, scratch, out):
    """Fill the light that leaves each point towards the eye: `out` (N, 1, 3) the sum, (N, 4, 3) its parts; see `light.py`.

    LANES points at a time: what no lamp changes, point by point; then each lamp in lanes. scratch : (SCRATCH,) zeros.
    """
    rows, ways = scratch[: LIT_ROWS * LANES], scratch[LIT_ROWS * LANES : (LIT_ROWS + 4) * LANES]
    sums = scratch[(LIT_ROWS + 4) * LANES :]
    for first in range(0, out.shape[0], LANES):
        count = min(LANES, out.shape[0] - first)
        for t in range(count):
            _lay_point(t, INDEX(first + t), surface, sky, albedo, rows)
        for t in range(6 * LANES):
            sums[INDEX(t)] = F0
        for lamp in range(lamps.starts.shape[0]):
            _lay_lamp(lamp, first, count, lamps, ways)
            own = INDEX(lamp)
            shine((lamps.colours[own, 0], lamps.colours[own, 1], lamps.colours[own, 2]), rows, ways, sums)
        for t in range(count):
            _store(t, INDEX(first + t), rows, sums, out)
