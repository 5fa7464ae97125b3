"""Light on points, as a loop."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel

F0, F1, HALF = np.float32(0.0), np.float32(1.0), np.float32(0.5)
INDEX = np.uint64  # needs no test for "from the end"
ANGLES, ROUGHNESSES = 64, 32  # columns and rows of the table of what is thrown back
UPS, SKY_ROUGHNESSES = 65, 9  # columns and rows of the table of a sky's mirror images
SMOOTHEST = np.float32(0.04)


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
def _fifth(x):
    return x * x * x * x * x


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
def _lobe(n, v, way, n_l, n_v, square):
    """The GGX lobe with the height-correlated Smith term, and Schlick's share of grazing light."""
    hx, hy, hz = v[0] + way[0], v[1] + way[1], v[2] + way[2]
    length = F1 / max(math.sqrt(hx * hx + hy * hy + hz * hz), np.float32(1e-6))
    n_h = min(max((n[0] * hx + n[1] * hy + n[2] * hz) * length, F0), F1)
    v_h = min(max((v[0] * hx + v[1] * hy + v[2] * hz) * length, F0), F1)
    base = n_h * n_h * (square - F1) + F1
    smith = HALF / (
        n_l * math.sqrt(n_v * n_v * (F1 - square) + square)
        + n_v * math.sqrt(n_l * n_l * (F1 - square) + square)
        + np.float32(1e-6)
    )
    return square / (np.float32(math.pi) * base * base) * smith, _fifth(F1 - v_h)


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


@kernel
def light_points(surface, lamps, sky, albedo, out):
    """Fill the light that leaves each point towards the eye: `out` (N, 1, 3) the sum, (N, 4, 3) its parts; see `light.py`."""
    parts, lamp_count, is_gradient = out.shape[1], lamps.starts.shape[0], sky.pictures.shape[0] == 0
    per_pi, angles = np.float32(1.0 / math.pi), np.float32(ANGLES - 1)
    for i in range(out.shape[0]):
        p = INDEX(i)
        n = surface.normal[p, 0], surface.normal[p, 1], surface.normal[p, 2]
        v = surface.eye[p, 0], surface.eye[p, 1], surface.eye[p, 2]
        rough = min(max(surface.roughness[p], F0), F1)
        square = max(rough, SMOOTHEST)
        square *= square
        square *= square
        along = n[0] * v[0] + n[1] * v[1] + n[2] * v[2]
        n_v = min(max(along, np.float32(1e-3)), F1)
        r, fr = _step(rough * np.float32(ROUGHNESSES - 1), ROUGHNESSES - 1)
        c, fc = _step(math.sqrt(n_v) * angles, ANGLES - 1)
        a, b, _ = _between(albedo, INDEX(3) * (INDEX(ANGLES) * r + c), INDEX(3 * ANGLES), fr, fc)
        lost = F1 / (a + b) - F1
        red = _thrown_back(surface.specular[p, 0], a, b, lost)
        green = _thrown_back(surface.specular[p, 1], a, b, lost)
        blue = _thrown_back(surface.specular[p, 2], a, b, lost)
        fallen_red, fallen_green, fallen_blue = F0, F0, F0
        gloss_red, gloss_green, gloss_blue = F0, F0, F0
        for lamp in range(lamp_count):
            own = INDEX(lamp)
            at = INDEX(lamps.starts[own] + lamps.steps[own] * i)
            way = lamps.ways[at, 0], lamps.ways[at, 1], lamps.ways[at, 2]
            n_l = min(n[0] * way[0] + n[1] * way[1] + n[2] * way[2], F1)
            falls = n_l * lamps.arriving[own, p]
            if falls <= F0:
                continue
            lobe, grazing = _lobe(n, v, way, n_l, n_v, square)
            light_red, light_green = falls * lamps.colours[own, 0], falls * lamps.colours[own, 1]
            light_blue = falls * lamps.colours[own, 2]
            fallen_red, fallen_green, fallen_blue = fallen_red + light_red, fallen_green + light_green, fallen_blue + light_blue
            gloss_red += lobe * (red[0] + (F1 - red[0]) * grazing) * light_red
            gloss_green += lobe * (green[0] + (F1 - green[0]) * grazing) * light_green
            gloss_blue += lobe * (blue[0] + (F1 - blue[0]) * grazing) * light_blue
        twice = along + along
        mirror = twice * n[0] - v[0], twice * n[1] - v[1], twice * n[2] - v[2]
        if is_gradient:
            last = np.float32(UPS - 1) * HALF
            s, fs = _step((min(max(n[1], -F1), F1) + F1) * last, UPS - 1)
            m, fm = _step((min(max(mirror[1], -F1), F1) + F1) * last, UPS - 1)
            g, fg = _step(rough * np.float32(SKY_ROUGHNESSES - 1), SKY_ROUGHNESSES - 1)
            shed = _between(sky.shed, INDEX(3) * s, INDEX(0), F0, fs)
            met = _between(sky.mirrored, INDEX(3) * (INDEX(UPS) * g + m), INDEX(3 * UPS), fg, fm)
        else:
            shed = _harmonics(n, sky.shed)
            met = _mirrored(mirror, rough, sky)
        open_, fallen, gloss = (
            surface.occlusion[p],
            (fallen_red, fallen_green, fallen_blue),
            (gloss_red, gloss_green, gloss_blue),
        )
        back = red, green, blue
        for k in range(3):
            body = surface.diffuse[p, k] * (F1 - back[k][1])
            direct, shining = body * fallen[k] * per_pi, gloss[k] * back[k][2]
            soft, mirrored = body * shed[k] * open_, back[k][1] * met[k] * open_
            if parts == 1:
                out[p, 0, k] = direct + shining + soft + mirrored
            else:
                out[p, 0, k], out[p, 1, k], out[p, 2, k], out[p, 3, k] = direct, shining, soft, mirrored
