"""Light on points, LANES at a time: almost all of it runs in vector lanes, one point to a lane.

What a surface has is turned into rows; where a lane stands in the tables of what is thrown back and of the sky is found out in
lanes, and what stands there is read four numbers at a time (see `foundation/_turn_kernels`). Then each lamp is added. A coat
lies over all that, where there is one.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation._turn_kernels import turn_into
from jagged_quilt.foundation.compiler import inlined, kernel, lanes
from jagged_quilt.light._sky_kernels import F0, F1, HALF, INDEX, SKY_ROUGHNESSES, UPS, harmonics, mirrored

ANGLES, ROUGHNESSES = 64, 32  # columns and rows of the table of what is thrown back
SMOOTHEST = np.float32(0.04)
COAT_FACING = np.float32(0.04)  # what a coat throws back head on: its index of refraction is 1.5
LANES = 64
# Columns of a surface's values, and rows of what is laid out of points: first the same.
DIFFUSE, NORMAL, ROUGH, FACING, OPEN, GIVEN = 0, 3, 6, 7, 11, 12
EMITTED, COAT, COAT_NORMAL, COAT_ROUGH, ALL_GIVEN = 12, 15, 16, 19, 20
# Then the way to the eye; what is read of the tables, around each lane's place, and how far beyond it lies: in roughness and
# angle of what is thrown back; in the height of the normal, in roughness and in the height of the mirror image of the sky.
EYE, BACK, SHED, MET = 20, 23, 31, 39
BY_ROUGH, BY_ANGLE, BY_NORMAL, BY_SKY_ROUGH, BY_MIRROR = 55, 56, 57, 58, 59
# Then what no lamp changes: the cosine to the eye; for three colours, by what the lobe alone is too dark, the body's share,
# and what the sky gives by body and by surface; of the coat the cosine, its share over what a white lobe keeps, what it leaves
# of the rest, and what it has of the sky.
FACED, MORE, BODY, SOFT, GLOSSY, COAT_FACED, COAT_LOBE, KEPT, COAT_SKY, LIT_ROWS = 60, 61, 64, 67, 70, 73, 74, 75, 76, 79
WAYS, SUMS, SHINING = 4, 9, 21  # rows of a lamp; of what falls on the body and of both lobes; of the parts, and their sum
SCRATCH = (LIT_ROWS + WAYS + SUMS + SHINING) * LANES


class SurfaceRows(NamedTuple):
    """What light falls on, at N points."""

    values: NDArray[np.float32]  # (N, GIVEN), or (N, ALL_GIVEN) where there are coats or emission
    eye: NDArray[np.float32]  # (N, 3)


class LampRows(NamedTuple):
    """L lamps at N points."""

    ways: NDArray[np.float32]  # unit vectors towards the lamps: for each one, or one for every point
    starts: NDArray[np.int64]  # (L,) where those of a lamp begin
    steps: NDArray[np.int64]  # (L,) 0 or 1
    arriving: NDArray[np.float32]  # (L, N) how much of it arrives
    colours: NDArray[np.float32]  # (L, 3)


@inlined
def _lay_points(first, count, surface, at, rows):
    """Lay what points have out in rows; lanes beyond the last point repeat it."""
    width = surface.values.shape[1]
    for t in range(LANES):
        at[INDEX(t)] = np.int32(first + min(t, count - 1))
    for word in range(0, width, 4):
        turn_into(at, LANES, width, word, surface.values, word, rows)
    for t in range(LANES):
        p = INDEX(at[INDEX(t)])
        for k in range(3):
            rows[INDEX((EYE + k) * LANES + t)] = surface.eye[p, INDEX(k)]


@lanes
def face(normal, rough, faced, rows):
    """Fill the cosine between a normal and the eye, and bring roughness to 0..1; these are rows."""
    n, r, to, below = INDEX(normal * LANES), INDEX(rough * LANES), INDEX(faced * LANES), INDEX(LANES)
    for t in range(LANES):
        i = INDEX(t)
        v0, v1, v2 = rows[EYE * LANES + t], rows[(EYE + 1) * LANES + t], rows[(EYE + 2) * LANES + t]
        rows[to + i] = rows[n + i] * v0 + rows[n + below + i] * v1 + rows[n + below + below + i] * v2
        rows[r + i] = min(max(rows[r + i], F0), F1)


@lanes
def find_back(rough, faced, rows, at):
    """Fill where each lane stands in the table of what is thrown back."""
    r, f = INDEX(rough * LANES), INDEX(faced * LANES)
    for t in range(LANES):
        i = INDEX(t)
        row = rows[r + i] * np.float32(ROUGHNESSES - 1)
        column = math.sqrt(min(max(rows[f + i], np.float32(1e-3)), F1)) * np.float32(ANGLES - 1)
        a, b = min(np.int32(row), np.int32(ROUGHNESSES - 2)), min(np.int32(column), np.int32(ANGLES - 2))
        rows[BY_ROUGH * LANES + t], rows[BY_ANGLE * LANES + t] = row - np.float32(a), column - np.float32(b)
        at[t] = np.int32(np.int32(a * np.int32(ANGLES)) + b)


@lanes
def find_sky(normal, rough, faced, rows, shed_at, met_at):
    """Fill where each lane stands in the tables of a sky: by how far up its normal points, and its mirror image."""
    n, r, f = INDEX((normal + 1) * LANES), INDEX(rough * LANES), INDEX(faced * LANES)
    last = np.float32(UPS - 1) * HALF
    for t in range(LANES):
        i = INDEX(t)
        up, twice = rows[n + i], rows[f + i] + rows[f + i]
        mirror = twice * up - rows[(EYE + 1) * LANES + t]
        s, m = (min(max(up, -F1), F1) + F1) * last, (min(max(mirror, -F1), F1) + F1) * last
        g = rows[r + i] * np.float32(SKY_ROUGHNESSES - 1)
        a, b = min(np.int32(s), np.int32(UPS - 2)), min(np.int32(m), np.int32(UPS - 2))
        c = min(np.int32(g), np.int32(SKY_ROUGHNESSES - 2))
        rows[BY_NORMAL * LANES + t], rows[BY_MIRROR * LANES + t] = s - np.float32(a), m - np.float32(b)
        rows[BY_SKY_ROUGH * LANES + t] = g - np.float32(c)
        shed_at[t], met_at[t] = a, np.int32(np.int32(c * np.int32(UPS)) + b)


@inlined
def _read_back(rough, faced, albedo, at, rows):
    """Read what a lobe throws back at the four places of the table around each lane's: two of one row at once."""
    find_back(rough, faced, rows, at)
    turn_into(at, LANES, 4, 0, albedo, BACK, rows)
    turn_into(at, LANES, 4, 4 * ANGLES, albedo, BACK + 4, rows)


@inlined
def _read_sky(normal, rough, faced, count, sky, at, rows):
    """Read what the sky sheds and its mirror image, at the places around each lane's; of an image, right at it."""
    if sky.pictures.shape[0] > 0:
        for t in range(count):
            _read_picture(INDEX(t), normal, rows[INDEX(rough * LANES + t)], rows[INDEX(faced * LANES + t)], sky, rows)
        return
    shed_at, met_at = at[LANES : 2 * LANES], at[2 * LANES :]
    find_sky(normal, rough, faced, rows, shed_at, met_at)
    turn_into(shed_at, LANES, 4, 0, sky.shed, SHED, rows)
    turn_into(shed_at, LANES, 4, 4, sky.shed, SHED + 4, rows)
    turn_into(met_at, LANES, 4, 0, sky.mirrored, MET, rows)
    turn_into(met_at, LANES, 4, 4, sky.mirrored, MET + 4, rows)
    turn_into(met_at, LANES, 4, 4 * UPS, sky.mirrored, MET + 8, rows)
    turn_into(met_at, LANES, 4, 4 * UPS + 4, sky.mirrored, MET + 12, rows)


@inlined
def _read_picture(t, normal, rough, along, sky, rows):
    """Fill what an image of the sky sheds on a lane's normal, and its mirror image there."""
    below = INDEX(LANES)
    a, b = INDEX(normal * LANES) + t, INDEX(EYE * LANES) + t
    n = rows[a], rows[a + below], rows[a + below + below]
    v, twice = (rows[b], rows[b + below], rows[b + below + below]), along + along
    shed = harmonics(n, sky.shed)
    met = mirrored((twice * n[0] - v[0], twice * n[1] - v[1], twice * n[2] - v[2]), rough, sky)
    for k in range(3):
        rows[INDEX((SHED + k) * LANES) + t], rows[INDEX((MET + k) * LANES) + t] = shed[k], met[k]
    rows[INDEX(BY_NORMAL * LANES) + t] = F0
    rows[INDEX(BY_SKY_ROUGH * LANES) + t] = rows[INDEX(BY_MIRROR * LANES) + t] = F0


@inlined
def _kept_of(t, rows):
    """a and b of what a lobe throws back, f0 a + b, between four places of the table."""
    across, down = rows[BY_ANGLE * LANES + t], rows[BY_ROUGH * LANES + t]
    a0, b0 = rows[BACK * LANES + t], rows[(BACK + 1) * LANES + t]
    a1, b1 = rows[(BACK + 4) * LANES + t], rows[(BACK + 5) * LANES + t]
    a0 += (rows[(BACK + 2) * LANES + t] - a0) * across
    b0 += (rows[(BACK + 3) * LANES + t] - b0) * across
    a1 += (rows[(BACK + 6) * LANES + t] - a1) * across
    b1 += (rows[(BACK + 7) * LANES + t] - b1) * across
    return a0 + (a1 - a0) * down, b0 + (b1 - b0) * down


@inlined
def _met_of(t, k, rows):
    """One colour of the sky's mirror image, between four places of its table."""
    across, down = rows[BY_MIRROR * LANES + t], rows[BY_SKY_ROUGH * LANES + t]
    smooth, rough = rows[(MET + k) * LANES + t], rows[(MET + 8 + k) * LANES + t]
    smooth += (rows[(MET + 4 + k) * LANES + t] - smooth) * across
    rough += (rows[(MET + 12 + k) * LANES + t] - rough) * across
    return smooth + (rough - smooth) * down


@lanes
def lay_base(rows):
    """Fill what no lamp changes: how light is shared between surface and body, and what both have of the sky.

    What the lobe loses by counting only the first reflection is given back by its colour (Turquin 2019).
    """
    for t in range(LANES):
        a, b = _kept_of(t, rows)
        lost, open_ = F1 / (a + b) - F1, rows[OPEN * LANES + t]
        for k in range(3):
            f0, shed = rows[(FACING + k) * LANES + t], rows[(SHED + k) * LANES + t]
            shed += (rows[(SHED + 4 + k) * LANES + t] - shed) * rows[BY_NORMAL * LANES + t]
            more = F1 + f0 * lost
            back = min((f0 * a + b) * more, F1)
            body = rows[(DIFFUSE + k) * LANES + t] * (F1 - back)
            rows[(MORE + k) * LANES + t], rows[(BODY + k) * LANES + t] = more, body
            rows[(SOFT + k) * LANES + t] = body * shed * open_
            rows[(GLOSSY + k) * LANES + t] = back * _met_of(t, k, rows) * open_


@lanes
def lay_coat(rows):
    """Fill what the coat throws back, and what it leaves of all below it (KHR_materials_clearcoat)."""
    for t in range(LANES):
        a, b = _kept_of(t, rows)
        grazing = F1 - min(max(rows[COAT_FACED * LANES + t], np.float32(1e-3)), F1)
        square = grazing * grazing
        fresnel = COAT_FACING + (F1 - COAT_FACING) * square * square * grazing
        part = min(max(rows[COAT * LANES + t], F0), F1) * fresnel
        rows[COAT_LOBE * LANES + t], rows[KEPT * LANES + t] = part / (a + b), F1 - part
        for k in range(3):
            rows[(COAT_SKY + k) * LANES + t] = part * _met_of(t, k, rows) * rows[OPEN * LANES + t]


@inlined
def _bare(rows):
    """Fill what there is of a coat where there is none."""
    for t in range(LANES):
        rows[INDEX(KEPT * LANES + t)] = F1
        for k in range(3):
            rows[INDEX((COAT_SKY + k) * LANES + t)] = F0


@inlined
def _lay_lamp(lamp, first, count, lamps, ways):
    """Lay the directions to a lamp out, and how much of it arrives."""
    start, own = lamps.starts[INDEX(lamp)], INDEX(lamp)
    for k in range(3):
        if lamps.steps[own] == 0:
            towards = lamps.ways[INDEX(start), INDEX(k)]
            for t in range(LANES):
                ways[INDEX(k * LANES + t)] = towards
        else:
            for t in range(count):
                ways[INDEX(k * LANES + t)] = lamps.ways[INDEX(start + first + t), INDEX(k)]
    for t in range(count):
        ways[INDEX(3 * LANES + t)] = lamps.arriving[own, INDEX(first + t)]


@inlined
def _lobe(n_l, n_v, n_h, rough):
    """A GGX lobe (Walter et al. 2007) with the height-correlated Smith term, without Fresnel."""
    square = max(rough, SMOOTHEST)
    square *= square
    square *= square
    base = n_h * n_h * (square - F1) + F1
    smith = HALF / (
        n_l * math.sqrt(n_v * n_v * (F1 - square) + square)
        + n_v * math.sqrt(n_l * n_l * (F1 - square) + square)
        + np.float32(1e-6)
    )
    return square * smith / (np.float32(math.pi) * base * base)


@lanes
def shine(colour, rows, ways, sums):
    """Add a lamp's light: what falls on the body, then what the surface throws towards the eye, with Schlick's Fresnel."""
    for t in range(LANES):
        n0, n1, n2 = rows[NORMAL * LANES + t], rows[(NORMAL + 1) * LANES + t], rows[(NORMAL + 2) * LANES + t]
        v0, v1, v2 = rows[EYE * LANES + t], rows[(EYE + 1) * LANES + t], rows[(EYE + 2) * LANES + t]
        l0, l1, l2 = ways[t], ways[LANES + t], ways[2 * LANES + t]
        n_v = min(max(rows[FACED * LANES + t], np.float32(1e-3)), F1)
        n_l = min(max(n0 * l0 + n1 * l1 + n2 * l2, F0), F1)
        falls = n_l * ways[3 * LANES + t]
        hx, hy, hz = v0 + l0, v1 + l1, v2 + l2
        length = F1 / max(math.sqrt(hx * hx + hy * hy + hz * hz), np.float32(1e-6))
        n_h = min(max((n0 * hx + n1 * hy + n2 * hz) * length, F0), F1)
        v_h = min(max((v0 * hx + v1 * hy + v2 * hz) * length, F0), F1)
        lobe = falls * _lobe(n_l, n_v, n_h, rows[ROUGH * LANES + t])
        grazing = F1 - v_h
        grazing *= grazing * grazing * grazing * grazing
        for k in range(3):
            f0 = rows[(FACING + k) * LANES + t]
            sums[k * LANES + t] += falls * colour[k]
            sums[(3 + k) * LANES + t] += lobe * (f0 + (F1 - f0) * grazing) * colour[k]


@lanes
def shine_on_coat(colour, rows, ways, sums):
    """Add what the coat throws of a lamp's light towards the eye, by its own normal and roughness."""
    for t in range(LANES):
        n0, n1 = rows[COAT_NORMAL * LANES + t], rows[(COAT_NORMAL + 1) * LANES + t]
        n2 = rows[(COAT_NORMAL + 2) * LANES + t]
        l0, l1, l2 = ways[t], ways[LANES + t], ways[2 * LANES + t]
        hx, hy, hz = rows[EYE * LANES + t] + l0, rows[(EYE + 1) * LANES + t] + l1, rows[(EYE + 2) * LANES + t] + l2
        n_v = min(max(rows[COAT_FACED * LANES + t], np.float32(1e-3)), F1)
        n_l = min(max(n0 * l0 + n1 * l1 + n2 * l2, F0), F1)
        length = F1 / max(math.sqrt(hx * hx + hy * hy + hz * hz), np.float32(1e-6))
        n_h = min(max((n0 * hx + n1 * hy + n2 * hz) * length, F0), F1)
        lobe = n_l * ways[3 * LANES + t] * _lobe(n_l, n_v, n_h, rows[COAT_ROUGH * LANES + t]) * rows[COAT_LOBE * LANES + t]
        for k in range(3):
            sums[(6 + k) * LANES + t] += lobe * colour[k]


@lanes
def add_up(rows, sums, shining):
    """Fill the light that leaves towards the eye in its parts."""
    for t in range(LANES):
        for k in range(3):
            shining[k * LANES + t] = sums[k * LANES + t] * rows[(BODY + k) * LANES + t] * np.float32(1.0 / math.pi)
            shining[(3 + k) * LANES + t] = sums[(3 + k) * LANES + t] * rows[(MORE + k) * LANES + t]
            shining[(6 + k) * LANES + t] = rows[(SOFT + k) * LANES + t]
            shining[(9 + k) * LANES + t] = rows[(GLOSSY + k) * LANES + t]
            shining[(18 + k) * LANES + t] = (
                shining[k * LANES + t]
                + shining[(3 + k) * LANES + t]
                + shining[(6 + k) * LANES + t]
                + shining[(9 + k) * LANES + t]
            )


@lanes
def cover(rows, sums, shining):
    """Add what glows, dim all that lies below the coat, and add what the coat throws back."""
    for t in range(LANES):
        kept = rows[KEPT * LANES + t]
        for k in range(3):
            coat = sums[(6 + k) * LANES + t] + rows[(COAT_SKY + k) * LANES + t]
            glow = rows[(EMITTED + k) * LANES + t] * kept
            for part in range(4):
                shining[(3 * part + k) * LANES + t] *= kept
            shining[(12 + k) * LANES + t], shining[(15 + k) * LANES + t] = coat, glow
            shining[(18 + k) * LANES + t] = shining[(18 + k) * LANES + t] * kept + coat + glow


@inlined
def _store(first, count, shining, out):
    """Store the light of points: the sum, or its parts."""
    parts = out.shape[1]
    for t in range(count):
        p = INDEX(first + t)
        if parts == 1:
            out[p, 0, 0] = shining[INDEX(18 * LANES + t)]
            out[p, 0, 1] = shining[INDEX(19 * LANES + t)]
            out[p, 0, 2] = shining[INDEX(20 * LANES + t)]
        else:
            for part in range(parts):
                for k in range(3):
                    out[p, INDEX(part), INDEX(k)] = shining[INDEX((3 * part + k) * LANES + t)]


@kernel
def light_points(surface, lamps, sky, albedo, scratch, at, out):
    """Fill the light that leaves each point towards the eye: `out` (N, 1, 3) the sum, (N, 6, 3) its parts; see `light.py`.

    scratch : (SCRATCH,) zeros.
    at : (3 * LANES,) zeros.
    """
    rows, ways = scratch[: LIT_ROWS * LANES], scratch[LIT_ROWS * LANES : (LIT_ROWS + WAYS) * LANES]
    sums = scratch[(LIT_ROWS + WAYS) * LANES : (LIT_ROWS + WAYS + SUMS) * LANES]
    shining, here = scratch[(LIT_ROWS + WAYS + SUMS) * LANES :], at[:LANES]
    has_rare = surface.values.shape[1] > GIVEN
    for first in range(0, out.shape[0], LANES):
        count = min(LANES, out.shape[0] - first)
        _lay_points(first, count, surface, here, rows)
        face(NORMAL, ROUGH, FACED, rows)
        _read_back(ROUGH, FACED, albedo, here, rows)
        _read_sky(NORMAL, ROUGH, FACED, count, sky, at, rows)
        lay_base(rows)
        coated = False
        for t in range(LANES if has_rare else 0):
            coated |= rows[INDEX(COAT * LANES + t)] > F0
        if coated:
            face(COAT_NORMAL, COAT_ROUGH, COAT_FACED, rows)
            _read_back(COAT_ROUGH, COAT_FACED, albedo, here, rows)
            _read_sky(COAT_NORMAL, COAT_ROUGH, COAT_FACED, count, sky, at, rows)
            lay_coat(rows)
        elif has_rare:
            _bare(rows)
        for t in range(SUMS * LANES):
            sums[INDEX(t)] = F0
        for lamp in range(lamps.starts.shape[0]):
            _lay_lamp(lamp, first, count, lamps, ways)
            own = INDEX(lamp)
            colour = lamps.colours[own, 0], lamps.colours[own, 1], lamps.colours[own, 2]
            shine(colour, rows, ways, sums)
            if coated:
                shine_on_coat(colour, rows, ways, sums)
        add_up(rows, sums, shining)
        if has_rare:
            cover(rows, sums, shining)
        _store(first, count, shining, out)
