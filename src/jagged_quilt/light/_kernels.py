"""Light on points, LANES at a time: almost all of it runs in vector lanes, one point to a lane.

What a surface has is turned into rows; where a lane stands in the tables of what is thrown back and of the sky is found out in
lanes, and what stands there is read four numbers at a time (see `foundation/_turn_kernels`). Then each lamp is added. A coat
lies over all that, where there is one.
"""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation._turn_kernels import turn_into
from jagged_quilt.foundation.compiler import inlined, kernel, lanes
from jagged_quilt.light._rows import (
    ANGLES,
    COAT,
    COAT_FACING,
    COAT_NORMAL,
    COAT_ROUGHNESS,
    DIFFUSE,
    EMISSION,
    F0,
    F1,
    HALF,
    INDEX,
    LANES,
    NORMAL,
    OCCLUSION,
    ROUGHNESS,
    ROUGHNESSES,
    SKY_ROUGHNESSES,
    SMOOTHEST,
    SPECULAR,
    UPS,
    Leaving,
    Lit,
    Sum,
    Way,
)
from jagged_quilt.light._sky_kernels import harmonics, mirrored
from jagged_quilt.maps.roles import SURFACE_COLUMNS


@inlined
def lane(row, t):
    """Where lane t of a row stands in its buffer."""
    return INDEX(row) * INDEX(LANES) + INDEX(t)


@inlined
def _fill_points(first, count, surface, at, rows):
    """Lay what points have out in rows; lanes beyond the last point repeat it."""
    width = surface.values.shape[1]
    for t in range(LANES):
        at[INDEX(t)] = np.int32(first + min(t, count - 1))
    for word in range(0, width - 3, 4):
        turn_into(at, LANES, width, word, surface.values, word, rows)
    for word in range(width // 4 * 4, width):
        for t in range(LANES):
            rows[lane(word, t)] = surface.values[INDEX(at[INDEX(t)]), INDEX(word)]
    for t in range(LANES):
        p = INDEX(at[INDEX(t)])
        for k in range(3):
            rows[lane(Lit.EYE + k, t)] = surface.eye[p, INDEX(k)]


@lanes
def face_eye(normal, rough, n_dot_v, rows):
    """Fill the cosine between a normal and the eye, and bring roughness to 0..1; these are rows."""
    for t in range(LANES):
        v0, v1, v2 = rows[lane(Lit.EYE, t)], rows[lane(Lit.EYE + 1, t)], rows[lane(Lit.EYE + 2, t)]
        n0, n1, n2 = rows[lane(normal, t)], rows[lane(normal + 1, t)], rows[lane(normal + 2, t)]
        rows[lane(n_dot_v, t)] = n0 * v0 + n1 * v1 + n2 * v2
        rows[lane(rough, t)] = min(max(rows[lane(rough, t)], F0), F1)


@lanes
def find_albedo(rough, n_dot_v, rows, at):
    """Fill where each lane stands in the table of what a lobe reflects."""
    for t in range(LANES):
        row = rows[lane(rough, t)] * np.float32(ROUGHNESSES - 1)
        column = math.sqrt(min(max(rows[lane(n_dot_v, t)], np.float32(1e-3)), F1)) * np.float32(ANGLES - 1)
        a, b = min(np.int32(row), np.int32(ROUGHNESSES - 2)), min(np.int32(column), np.int32(ANGLES - 2))
        rows[lane(Lit.BY_ROUGHNESS, t)], rows[lane(Lit.BY_ANGLE, t)] = row - np.float32(a), column - np.float32(b)
        at[t] = np.int32(np.int32(a * np.int32(ANGLES)) + b)


@lanes
def find_sky(normal, rough, n_dot_v, rows, irradiance_at, mirror_at):
    """Fill where each lane stands in the tables of a sky: by how far up its normal points, and its mirror image."""
    last = np.float32(UPS - 1) * HALF
    for t in range(LANES):
        up, twice = rows[lane(normal + 1, t)], rows[lane(n_dot_v, t)] + rows[lane(n_dot_v, t)]
        mirror = twice * up - rows[lane(Lit.EYE + 1, t)]
        s, m = (min(max(up, -F1), F1) + F1) * last, (min(max(mirror, -F1), F1) + F1) * last
        g = rows[lane(rough, t)] * np.float32(SKY_ROUGHNESSES - 1)
        a, b = min(np.int32(s), np.int32(UPS - 2)), min(np.int32(m), np.int32(UPS - 2))
        c = min(np.int32(g), np.int32(SKY_ROUGHNESSES - 2))
        rows[lane(Lit.BY_NORMAL, t)], rows[lane(Lit.BY_MIRROR, t)] = s - np.float32(a), m - np.float32(b)
        rows[lane(Lit.BY_SKY_ROUGHNESS, t)] = g - np.float32(c)
        irradiance_at[t], mirror_at[t] = a, np.int32(np.int32(c * np.int32(UPS)) + b)


@inlined
def _read_albedo(rough, n_dot_v, albedo, at, rows):
    """Read what a lobe reflects at the four places of the table around each lane's: two of one row at once."""
    find_albedo(rough, n_dot_v, rows, at)
    turn_into(at, LANES, 4, 0, albedo, Lit.ALBEDO, rows)
    turn_into(at, LANES, 4, 4 * ANGLES, albedo, Lit.ALBEDO + 4, rows)


@inlined
def _read_sky(normal, rough, n_dot_v, count, sky, at, rows):
    """Read what the sky sheds and its mirror image, at the places around each lane's; of an image, right at it."""
    if sky.pictures.shape[0] > 0:
        for t in range(count):
            _read_picture(t, normal, rows[lane(rough, t)], rows[lane(n_dot_v, t)], sky, rows)
        return
    irradiance_at, mirror_at = at[LANES : 2 * LANES], at[2 * LANES :]
    find_sky(normal, rough, n_dot_v, rows, irradiance_at, mirror_at)
    turn_into(irradiance_at, LANES, 4, 0, sky.irradiance, Lit.IRRADIANCE, rows)
    turn_into(irradiance_at, LANES, 4, 4, sky.irradiance, Lit.IRRADIANCE + 4, rows)
    turn_into(mirror_at, LANES, 4, 0, sky.mirrored, Lit.MIRROR, rows)
    turn_into(mirror_at, LANES, 4, 4, sky.mirrored, Lit.MIRROR + 4, rows)
    turn_into(mirror_at, LANES, 4, 4 * UPS, sky.mirrored, Lit.MIRROR + 8, rows)
    turn_into(mirror_at, LANES, 4, 4 * UPS + 4, sky.mirrored, Lit.MIRROR + 12, rows)


@inlined
def _read_picture(t, normal, rough, along, sky, rows):
    """Fill what an image of the sky sheds on a lane's normal, and its mirror image there."""
    n = rows[lane(normal, t)], rows[lane(normal + 1, t)], rows[lane(normal + 2, t)]
    v, twice = (rows[lane(Lit.EYE, t)], rows[lane(Lit.EYE + 1, t)], rows[lane(Lit.EYE + 2, t)]), along + along
    irradiance = harmonics(n, sky.irradiance)
    mirror = mirrored((twice * n[0] - v[0], twice * n[1] - v[1], twice * n[2] - v[2]), rough, sky)
    for k in range(3):
        rows[lane(Lit.IRRADIANCE + k, t)], rows[lane(Lit.MIRROR + k, t)] = irradiance[k], mirror[k]
    rows[lane(Lit.BY_NORMAL, t)] = F0
    rows[lane(Lit.BY_SKY_ROUGHNESS, t)] = rows[lane(Lit.BY_MIRROR, t)] = F0


@inlined
def _albedo_of(t, rows):
    """a and b of what a lobe throws back, f0 a + b, between four places of the table."""
    across, down = rows[lane(Lit.BY_ANGLE, t)], rows[lane(Lit.BY_ROUGHNESS, t)]
    a0, b0 = rows[lane(Lit.ALBEDO, t)], rows[lane(Lit.ALBEDO + 1, t)]
    a1, b1 = rows[lane(Lit.ALBEDO + 4, t)], rows[lane(Lit.ALBEDO + 5, t)]
    a0 += (rows[lane(Lit.ALBEDO + 2, t)] - a0) * across
    b0 += (rows[lane(Lit.ALBEDO + 3, t)] - b0) * across
    a1 += (rows[lane(Lit.ALBEDO + 6, t)] - a1) * across
    b1 += (rows[lane(Lit.ALBEDO + 7, t)] - b1) * across
    return a0 + (a1 - a0) * down, b0 + (b1 - b0) * down


@inlined
def _mirror_of(t, k, rows):
    """One colour of the sky's mirror image, between four places of its table."""
    across, down = rows[lane(Lit.BY_MIRROR, t)], rows[lane(Lit.BY_SKY_ROUGHNESS, t)]
    smooth, rough = rows[lane(Lit.MIRROR + k, t)], rows[lane(Lit.MIRROR + 8 + k, t)]
    smooth += (rows[lane(Lit.MIRROR + 4 + k, t)] - smooth) * across
    rough += (rows[lane(Lit.MIRROR + 12 + k, t)] - rough) * across
    return smooth + (rough - smooth) * down


@lanes
def fill_base(rows):
    """Fill what no lamp changes: how light is shared between surface and body, and what both have of the sky.

    What the lobe loses by counting only the first reflection is given back by its colour (Turquin 2019).
    """
    for t in range(LANES):
        a, b = _albedo_of(t, rows)
        lost, open_ = F1 / (a + b) - F1, rows[lane(OCCLUSION, t)]
        for k in range(3):
            f0, irradiance = rows[lane(SPECULAR + k, t)], rows[lane(Lit.IRRADIANCE + k, t)]
            irradiance += (rows[lane(Lit.IRRADIANCE + 4 + k, t)] - irradiance) * rows[lane(Lit.BY_NORMAL, t)]
            more = F1 + f0 * lost
            back = min((f0 * a + b) * more, F1)
            body = rows[lane(DIFFUSE + k, t)] * (F1 - back)
            rows[lane(Lit.LOBE_GAIN + k, t)], rows[lane(Lit.BODY + k, t)] = more, body
            rows[lane(Lit.SKY_BODY + k, t)] = body * irradiance * open_
            rows[lane(Lit.SKY_SURFACE + k, t)] = back * _mirror_of(t, k, rows) * open_


@lanes
def fill_coat(rows):
    """Fill what the coat throws back, and what it leaves of all below it (KHR_materials_clearcoat)."""
    for t in range(LANES):
        a, b = _albedo_of(t, rows)
        grazing = F1 - min(max(rows[lane(Lit.COAT_N_DOT_V, t)], np.float32(1e-3)), F1)
        square = grazing * grazing
        fresnel = COAT_FACING + (F1 - COAT_FACING) * square * square * grazing
        part = min(max(rows[lane(COAT, t)], F0), F1) * fresnel
        rows[lane(Lit.COAT_LOBE, t)], rows[lane(Lit.TRANSMITTED, t)] = part / (a + b), F1 - part
        for k in range(3):
            rows[lane(Lit.COAT_SKY + k, t)] = part * _mirror_of(t, k, rows) * rows[lane(OCCLUSION, t)]


@inlined
def _bare(rows):
    """Fill what there is of a coat where there is none."""
    for t in range(LANES):
        rows[lane(Lit.TRANSMITTED, t)] = F1
        for k in range(3):
            rows[lane(Lit.COAT_SKY + k, t)] = F0


@inlined
def _fill_lamp(lamp, first, count, lamps, ways):
    """Lay the directions to a lamp out, and how much of it arrives."""
    start, own = lamps.starts[INDEX(lamp)], INDEX(lamp)
    for k in range(3):
        if lamps.steps[own] == 0:
            towards = lamps.ways[INDEX(start), INDEX(k)]
            for t in range(LANES):
                ways[lane(Way.TOWARDS + k, t)] = towards
        else:
            for t in range(count):
                ways[lane(Way.TOWARDS + k, t)] = lamps.ways[INDEX(start + first + t), INDEX(k)]
    for t in range(count):
        ways[lane(Way.ARRIVING, t)] = lamps.arriving[own, INDEX(first + t)]


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
        n0, n1, n2 = rows[lane(NORMAL, t)], rows[lane(NORMAL + 1, t)], rows[lane(NORMAL + 2, t)]
        v0, v1, v2 = rows[lane(Lit.EYE, t)], rows[lane(Lit.EYE + 1, t)], rows[lane(Lit.EYE + 2, t)]
        l0, l1, l2 = ways[lane(Way.TOWARDS, t)], ways[lane(Way.TOWARDS + 1, t)], ways[lane(Way.TOWARDS + 2, t)]
        n_v = min(max(rows[lane(Lit.N_DOT_V, t)], np.float32(1e-3)), F1)
        n_l = min(max(n0 * l0 + n1 * l1 + n2 * l2, F0), F1)
        falls = n_l * ways[lane(Way.ARRIVING, t)]
        hx, hy, hz = v0 + l0, v1 + l1, v2 + l2
        length = F1 / max(math.sqrt(hx * hx + hy * hy + hz * hz), np.float32(1e-6))
        n_h = min(max((n0 * hx + n1 * hy + n2 * hz) * length, F0), F1)
        v_h = min(max((v0 * hx + v1 * hy + v2 * hz) * length, F0), F1)
        lobe = falls * _lobe(n_l, n_v, n_h, rows[lane(ROUGHNESS, t)])
        grazing = F1 - v_h
        grazing *= grazing * grazing * grazing * grazing
        for k in range(3):
            f0 = rows[lane(SPECULAR + k, t)]
            sums[lane(Sum.BODY + k, t)] += falls * colour[k]
            sums[lane(Sum.SURFACE + k, t)] += lobe * (f0 + (F1 - f0) * grazing) * colour[k]


@lanes
def shine_on_coat(colour, rows, ways, sums):
    """Add what the coat throws of a lamp's light towards the eye, by its own normal and roughness."""
    for t in range(LANES):
        n0, n1 = rows[lane(COAT_NORMAL, t)], rows[lane(COAT_NORMAL + 1, t)]
        n2 = rows[lane(COAT_NORMAL + 2, t)]
        l0, l1, l2 = ways[lane(Way.TOWARDS, t)], ways[lane(Way.TOWARDS + 1, t)], ways[lane(Way.TOWARDS + 2, t)]
        hx, hy, hz = rows[lane(Lit.EYE, t)] + l0, rows[lane(Lit.EYE + 1, t)] + l1, rows[lane(Lit.EYE + 2, t)] + l2
        n_v = min(max(rows[lane(Lit.COAT_N_DOT_V, t)], np.float32(1e-3)), F1)
        n_l = min(max(n0 * l0 + n1 * l1 + n2 * l2, F0), F1)
        length = F1 / max(math.sqrt(hx * hx + hy * hy + hz * hz), np.float32(1e-6))
        n_h = min(max((n0 * hx + n1 * hy + n2 * hz) * length, F0), F1)
        lobe = n_l * ways[lane(Way.ARRIVING, t)] * _lobe(n_l, n_v, n_h, rows[lane(COAT_ROUGHNESS, t)])
        lobe *= rows[lane(Lit.COAT_LOBE, t)]
        for k in range(3):
            sums[lane(Sum.COAT + k, t)] += lobe * colour[k]


@lanes
def add_up(rows, sums, shining):
    """Fill the light that leaves towards the eye in its parts."""
    for t in range(LANES):
        for k in range(3):
            body = rows[lane(Lit.BODY + k, t)]
            shining[lane(Leaving.BODY + k, t)] = sums[lane(Sum.BODY + k, t)] * body * np.float32(1.0 / math.pi)
            shining[lane(Leaving.SURFACE + k, t)] = sums[lane(Sum.SURFACE + k, t)] * rows[lane(Lit.LOBE_GAIN + k, t)]
            shining[lane(Leaving.SKY_BODY + k, t)] = rows[lane(Lit.SKY_BODY + k, t)]
            shining[lane(Leaving.SKY_SURFACE + k, t)] = rows[lane(Lit.SKY_SURFACE + k, t)]
            shining[lane(Leaving.SUM + k, t)] = (
                shining[lane(Leaving.BODY + k, t)]
                + shining[lane(Leaving.SURFACE + k, t)]
                + shining[lane(Leaving.SKY_BODY + k, t)]
                + shining[lane(Leaving.SKY_SURFACE + k, t)]
            )


@lanes
def cover(rows, sums, shining):
    """Add what glows, dim all that lies below the coat, and add what the coat throws back."""
    for t in range(LANES):
        kept = rows[lane(Lit.TRANSMITTED, t)]
        for k in range(3):
            coat = sums[lane(Sum.COAT + k, t)] + rows[lane(Lit.COAT_SKY + k, t)]
            glow = rows[lane(EMISSION + k, t)] * kept
            for part in range(4):
                shining[lane(3 * part + k, t)] *= kept
            shining[lane(Leaving.COAT + k, t)], shining[lane(Leaving.EMISSION + k, t)] = coat, glow
            shining[lane(Leaving.SUM + k, t)] = shining[lane(Leaving.SUM + k, t)] * kept + coat + glow


@inlined
def _store(first, count, shining, out):
    """Store the light of points: the sum, or its parts."""
    parts = out.shape[1]
    for t in range(count):
        p = INDEX(first + t)
        if parts == 1:
            out[p, 0, 0] = shining[lane(Leaving.SUM, t)]
            out[p, 0, 1] = shining[lane(Leaving.SUM + 1, t)]
            out[p, 0, 2] = shining[lane(Leaving.SUM + 2, t)]
        else:
            for part in range(parts):
                for k in range(3):
                    out[p, INDEX(part), INDEX(k)] = shining[lane(3 * part + k, t)]


@kernel
def light_points(surface, lamps, sky, albedo, scratch, at, out):
    """Fill the light that leaves each point towards the eye: `out` (N, 1, 3) the sum, (N, 6, 3) its parts; see `light.py`.

    scratch : (SCRATCH,) zeros.
    at : (3 * LANES,) zeros.
    """
    rows, ways = scratch[: Lit.END * LANES], scratch[Lit.END * LANES : (Lit.END + Way.END) * LANES]
    sums = scratch[(Lit.END + Way.END) * LANES : (Lit.END + Way.END + Sum.END) * LANES]
    shining, here = scratch[(Lit.END + Way.END + Sum.END) * LANES :], at[:LANES]
    has_optional = surface.values.shape[1] > SURFACE_COLUMNS
    for first in range(0, out.shape[0], LANES):
        count = min(LANES, out.shape[0] - first)
        _fill_points(first, count, surface, here, rows)
        face_eye(NORMAL, ROUGHNESS, Lit.N_DOT_V, rows)
        _read_albedo(ROUGHNESS, Lit.N_DOT_V, albedo, here, rows)
        _read_sky(NORMAL, ROUGHNESS, Lit.N_DOT_V, count, sky, at, rows)
        fill_base(rows)
        coated = False
        for t in range(LANES if has_optional else 0):
            coated |= rows[lane(COAT, t)] > F0
        if coated:
            face_eye(COAT_NORMAL, COAT_ROUGHNESS, Lit.COAT_N_DOT_V, rows)
            _read_albedo(COAT_ROUGHNESS, Lit.COAT_N_DOT_V, albedo, here, rows)
            _read_sky(COAT_NORMAL, COAT_ROUGHNESS, Lit.COAT_N_DOT_V, count, sky, at, rows)
            fill_coat(rows)
        elif has_optional:
            _bare(rows)
        for row in range(Sum.END):
            for t in range(LANES):
                sums[lane(row, t)] = F0
        for lamp in range(lamps.starts.shape[0]):
            _fill_lamp(lamp, first, count, lamps, ways)
            own = INDEX(lamp)
            colour = lamps.colours[own, 0], lamps.colours[own, 1], lamps.colours[own, 2]
            shine(colour, rows, ways, sums)
            if coated:
                shine_on_coat(colour, rows, ways, sums)
        add_up(rows, sums, shining)
        if has_optional:
            cover(rows, sums, shining)
        _store(first, count, shining, out)
