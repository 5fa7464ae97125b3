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
    """A sky as a gradient: (3,) each; what it sheds on normals, by how far up they point; its mirror images by roughness."""

    zenith: NDArray[np.float32]
    horizon: NDArray[np.float32]
    ground: NDArray[np.float32]
    shed: NDArray[np.float32]  # (UPS * 3,)
    mirrored: NDArray[np.float32]  # (SKY_ROUGHNESSES * UPS * 3,)


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


@kernel
def light_points(surface, lamps, sky, albedo, out):
    """Fill the light that leaves each point towards the eye: `out` (N, 1, 3) the sum, (N, 4, 3) its parts; see `light.py`."""
    parts, lamp_count = out.shape[1], lamps.starts.shape[0]
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
        up = np.float32(2.0) * along * n[1] - v[1]
        last = np.float32(UPS - 1) * HALF
        s, fs = _step((min(max(n[1], -F1), F1) + F1) * last, UPS - 1)
        m, fm = _step((min(max(up, -F1), F1) + F1) * last, UPS - 1)
        g, fg = _step(rough * np.float32(SKY_ROUGHNESSES - 1), SKY_ROUGHNESSES - 1)
        shed = _between(sky.shed, INDEX(3) * s, INDEX(0), F0, fs)
        met = _between(sky.mirrored, INDEX(3) * (INDEX(UPS) * g + m), INDEX(3 * UPS), fg, fm)
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
