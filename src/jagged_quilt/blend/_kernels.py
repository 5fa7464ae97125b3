"""The blend, as loops over blocks of texels: almost all of it runs in vector lanes, one texel to a lane.

A place is the k-th heaviest layer of each texel of a block. A chart is a way in which textures lie on the surface; layers
share one where they differ by no more than tile and sharpness. It has three planes, X, Y and Z, of which some charts use
but one. A pass is one place seen on one plane of its chart, at one of two mip levels, at one of up to 16 steps along the
footprint.

    spread    scalar   lays points and the layers of their places out in rows, one column per texel
    chart     lanes    where each texel lies on the planes of a chart, in metres, with footprint and gradients
    locate    lanes    where the four texels around each lane's sample lie, and the place between them
    fetch     scalar   reads those texels from all arrays
    rise      lanes    how high each place's surface is
    weigh     lanes    lets the taller layer show, as weights that sum to 1
    mix       lanes    decodes a pass's texels and adds them by weight: colour in linear light, slopes along the surface
    turn      lanes    tilts the surface's normal by the slopes
    encode    scalar   stores bytes

Passes that no texel of the block needs are left out, so a block costs what shows in it. Fetching is a phase of its own
because plain loads are fast everywhere, while gather instructions took twice as long where they were measured. Buffers are
flat, and their rows a constant apart, so that LLVM sees that rows do not overlap.

Nothing is checked and nothing is allocated here: `blender.py` does both. All of it stands in one file because the
compiler's cache on disk does not see a change in another.
"""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import check, inlined, kernel, lanes

B = 128  # lanes: texels of a block, and columns of every row; all loops run over all of them, whatever the block holds
TILE_ROWS, TILE_COLUMNS = 8, 16  # a block of a grid: such texels share more layers, planes and texture than a row does

# Columns of `layers` (float32), one row per layer.
HARDNESS, RELIEF, LEVEL_BIAS, SHARPNESS, LOOKS, MOST_TAPS, LAYER_COLUMNS = 0, 1, 2, 3, 4, 5, 6
# Values of SHARPNESS that mean something else: one plane only, or the plane that a place faces most.
ONLY_Y, FACED_MOST, ONLY_Z = 0.0, -1.0, -2.0
# LOOKS is wrap_u + 4 wrap_v + 16 filter.
REPEAT, CLAMP, MIRROR = 0, 1, 2
NEAREST, BILINEAR, TRILINEAR, ANISOTROPIC = 0, 1, 2, 3
# Columns of `charts` (float32): the kind; a bit for each plane that is used; the chart's axes in the world, row by row, and
# its origin; metres on the surface to metres of the pattern: the offset first, then 2 x 2; a row of `warps` or -1; whether
# slopes go along unit directions; whether the true steps between texels are used; the radius, or metres of one unit of uv;
# how much longer the pattern lies around; the cosines of slope, and a camera with metres, between which side planes come in.
KIND, PLANES, AXES, ORIGIN, OFFSET, TURN, WARP, CHEAP, FINE, RADIUS, AROUND = 0, 1, 2, 11, 14, 16, 20, 21, 22, 23, 24
SLOPE_FROM, SLOPE_TO, EYE, NEAR, FAR, CHART_COLUMNS = 25, 26, 27, 30, 31, 32
FLAT_CHART, UV_CHART, SPHERE_CHART, TUBE_CHART = 0, 1, 2, 3
# Rows of `frame`: normal, tangent, handedness, the footprint's steps along tangent and bitangent as vectors, position, uv and
# its gradients, the true steps to the next texels, and how a warp moves the place and a step along tangent and bitangent.
NX, NY, NZ, TX, TY, TZ, HAND, SX, X, Y, Z = 0, 1, 2, 3, 4, 5, 6, 7, 13, 14, 15
UV, UV_GRADIENT, TRUE_STEPS, WARPED, FRAME_ROWS = 16, 18, 24, 30, 39
# Rows of `moved`: the place on which a chart looks, and the two steps from it.
MOVED_STEPS, MOVED_ROWS = 3, 9
# Rows of a plane in `laid`: u and v in metres of the pattern, the base-2 logarithm of the footprint, the gradients of u and v
# in the world, and the footprint's steps in u and v; or, for true steps, its longer axis and the logarithms of both axes.
U, V, LEVEL, GRADIENT_U, GRADIENT_V, STEPS, PLANE_ROWS = 0, 1, 2, 3, 6, 9, 13
LONG_U, LONG_V, LONGER, SHORTER = 9, 10, 11, 12
# Rows of a chart in `laid` after its three planes: the logarithms of |n|, and how much the sides count.
FACING, SIDES, LAID_ROWS = 39, 42, 43
# Rows of a place in `places`: its weight, then the columns of its layer.
WEIGHT, HARD, LOW, BIAS, SHARP, LOOK, TAPS, PLACE_ROWS = 0, 1, 2, 3, 4, 5, 6, 7
# Rows of a blended texel, and after them the sum by which slopes tilt the normal.
DIFFUSE, NORMAL, ROUGHNESS, SPECULAR, OCCLUSION, HEIGHT, OUTPUTS = 0, 3, 6, 7, 10, 11, 12
TILT, SUM_ROWS = 12, 15
SURVEYED = 13  # columns of what `survey_points` tells: the first nine rows of a plane, then plane, share, reads and mip

PLANE_CUT = 0.02  # a projection plane with less than this share is left out; the others fade so that no edge shows
HEIGHT_FLOOR = 0.1  # what the deepest pit of a layer still counts beside the tallest relief
FLATTEST = 1.0 / 128.0  # the least z of a detail normal, so that slopes are finite

# An unsigned index needs no test for "from the end"; the compiler cannot see that our signed ones are never negative.
INDEX = np.uint64
F0, F1, F2, HALF = np.float32(0.0), np.float32(1.0), np.float32(2.0), np.float32(0.5)
BYTE_SCALE = np.float32(1.0 / 255.0)
THIRD = np.int32(-1431655765)  # the inverse of 3 modulo 2^32: exact division where 3 divides
# sRGB to linear light above the straight part: a polynomial fitted to the curve at the 8-bit values, in the error that
# counts, that of the value when it is encoded again: at most 0.05 of an 8-bit step.
C0, C1, C2 = np.float32(0.0010635564103722572), np.float32(0.028081538155674934), np.float32(0.5619546175003052)
C3, C4 = np.float32(0.5238565802574158), np.float32(-0.11539348214864731)
STRAIGHT_END, STRAIGHT_SCALE = np.float32(0.04045), np.float32(1.0 / 12.92)
# log2(m) for 1 <= m < 2 is (m - 1) + (m - 1) (2 - m) times this polynomial, within 2.3e-6.
L0, L1, L2 = np.float32(1.02189008), np.float32(-1.03072803), np.float32(0.62486182)
L3, L4 = np.float32(-0.19932005), np.float32(0.0258411)
# 2^m for 0 <= m < 1 is 1 + m + m (m - 1) times this polynomial, within 1.3e-07.
E0, E1 = np.float32(0.30684702), np.float32(0.066699897)
E2, E3 = np.float32(0.0108446003), np.float32(0.00189684984)


@inlined
def _log2(x):
    """Base-2 logarithm of a positive number, from its exponent and a polynomial of its mantissa."""
    bits = np.float32(x).view(np.int32)
    exponent = np.float32((bits >> np.int32(23)) - np.int32(127))
    m = np.int32((bits & np.int32(0x7FFFFF)) | np.int32(0x3F800000)).view(np.float32)
    curve = (((L4 * m + L3) * m + L2) * m + L1) * m + L0
    return exponent + (m - F1) + (m - F1) * (F2 - m) * curve


@inlined
def _exp2(x):
    """2 to the power of a number from -126 to 127."""
    whole = np.floor(x)
    m = x - whole
    curve = ((E3 * m + E2) * m + E1) * m + E0
    power = np.int32((np.int32(whole) + np.int32(127)) << np.int32(23)).view(np.float32)
    return power * (F1 + m + m * (m - F1) * curve)


@inlined
def spread_points(who, positions, normals, tangents, footprints, frame):
    """Lay points out in rows."""
    for t in range(B):
        p = INDEX(who[t])
        nx, ny, nz = normals[p, 0], normals[p, 1], normals[p, 2]
        tx, ty, tz, hand = tangents[p, 0], tangents[p, 1], tangents[p, 2], tangents[p, 3]
        frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t] = nx, ny, nz
        frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t], frame[HAND * B + t] = tx, ty, tz, hand
        along, across = footprints[p, 0], footprints[p, 1]
        frame[SX * B + t], frame[(SX + 1) * B + t], frame[(SX + 2) * B + t] = along * tx, along * ty, along * tz
        frame[(SX + 3) * B + t] = across * (ny * tz - nz * ty)
        frame[(SX + 4) * B + t] = across * (nz * tx - nx * tz)
        frame[(SX + 5) * B + t] = across * (nx * ty - ny * tx)
        frame[X * B + t], frame[Y * B + t], frame[Z * B + t] = positions[p, 0], positions[p, 1], positions[p, 2]


@inlined
def spread_rows(who, values, row, frame):
    """Lay (N, columns) out in as many rows from `row` on."""
    for column in range(values.shape[1]):
        for t in range(B):
            frame[INDEX((row + column) * B + t)] = values[INDEX(who[t]), INDEX(column)]


@inlined
def spread_layers(
    who, is_plain, layer_index, layer_weight, layers, tile_of, slice_of, chart_of, places, tiles, slices, charts_at
):  # fmt: skip
    """Lay places out in rows; return how many hold anything.

    charts_at : (B,) each; the chart of each lane where lanes have several, else its first is negative: -1 - chart.
    """
    most, end = 0, LOOK if is_plain else PLACE_ROWS
    for k in range(layer_weight.shape[1]):
        place, heaviest = INDEX(PLACE_ROWS * B * k), F0
        first, alike = layer_index[INDEX(who[0]), INDEX(k)], True
        for t in range(B):
            p = INDEX(who[t])
            weight = layer_weight[p, INDEX(k)]
            places[place + INDEX(t)] = weight
            heaviest = max(heaviest, weight)
            alike &= layer_index[p, INDEX(k)] == first
        if heaviest <= 0:
            continue
        most = k + 1
        if alike:
            layer = INDEX(first)
            for row in range(HARD, end):
                value = layers[layer, INDEX(row - HARD)]
                for t in range(B):
                    places[place + INDEX(row * B + t)] = value
            for t in range(B):
                tiles[INDEX(B * k + t)] = tile_of[layer]
                slices[INDEX(B * k + t)] = slice_of[layer]
            charts_at[INDEX(B * k)] = -1 - chart_of[layer]
            continue
        chart, one_chart = np.int32(-1), True
        for t in range(B):
            layer = INDEX(layer_index[INDEX(who[t]), INDEX(k)])
            for row in range(HARD, end):
                places[place + INDEX(row * B + t)] = layers[layer, INDEX(row - HARD)]
            tiles[INDEX(B * k + t)] = tile_of[layer]
            slices[INDEX(B * k + t)] = slice_of[layer]
            charts_at[INDEX(B * k + t)] = chart_of[layer]
            if places[place + INDEX(t)] > 0:
                one_chart &= chart < 0 or chart == chart_of[layer]
                chart = chart_of[layer]
        if one_chart:
            charts_at[INDEX(B * k)] = -1 - chart
    return most


@lanes
def move(is_fine, is_warped, frame, moved):
    """Fill the place on which a chart looks, and the steps from it."""
    steps = INDEX((TRUE_STEPS if is_fine else SX) * B)
    for axis in range(3):
        for t in range(B):
            moved[axis * B + t] = frame[(X + axis) * B + t]
            moved[(MOVED_STEPS + axis) * B + t] = frame[steps + INDEX(axis * B + t)]
            moved[(MOVED_STEPS + 3 + axis) * B + t] = frame[steps + INDEX((3 + axis) * B + t)]
    if is_warped:
        for t in range(B):
            nx, ny, nz = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t]
            tx, ty, tz = frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t]
            bx, by, bz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
            for step in range(2):
                s0 = moved[(MOVED_STEPS + 3 * step) * B + t]
                s1 = moved[(MOVED_STEPS + 3 * step + 1) * B + t]
                s2 = moved[(MOVED_STEPS + 3 * step + 2) * B + t]
                along, across = s0 * tx + s1 * ty + s2 * tz, s0 * bx + s1 * by + s2 * bz
                for axis in range(3):
                    moved[(MOVED_STEPS + 3 * step + axis) * B + t] += (
                        along * frame[(WARPED + 3 + axis) * B + t] + across * frame[(WARPED + 6 + axis) * B + t]
                    )
            for axis in range(3):
                moved[axis * B + t] += frame[(WARPED + axis) * B + t]


@inlined
def _pattern(charts, c):
    """How a chart turns metres on the surface to metres of the pattern: the offset, 2 x 2, and whether it keeps the steps."""
    o, t = OFFSET, TURN
    return charts[c, o], charts[c, o + 1], charts[c, t], charts[c, t + 1], charts[c, t + 2], charts[c, t + 3], charts[c, FINE]


@inlined
def _store(i, pattern, u, v, s0, s1, s2, s3, gu0, gu1, gu2, gv0, gv1, gv2, laid):
    """Store what lies on a plane, as metres of the pattern; the longer of the steps gives the level."""
    offset_u, offset_v, a, b, d, e, is_fine = pattern
    u, v = u - offset_u, v - offset_v
    laid[i + INDEX(U * B)], laid[i + INDEX(V * B)] = a * u + b * v, d * u + e * v
    s0, s1, s2, s3 = a * s0 + b * s1, d * s0 + e * s1, a * s2 + b * s3, d * s2 + e * s3
    longer = max(s0 * s0 + s1 * s1, s2 * s2 + s3 * s3, np.float32(1e-20))
    laid[i + INDEX(LEVEL * B)] = HALF * _log2(longer)
    if is_fine > 0:
        laid[i + INDEX(STEPS * B)], laid[i + INDEX((STEPS + 1) * B)] = s0, s1
        laid[i + INDEX((STEPS + 2) * B)], laid[i + INDEX((STEPS + 3) * B)] = s2, s3
    laid[i + INDEX(GRADIENT_U * B)] = a * gu0 + b * gv0
    laid[i + INDEX((GRADIENT_U + 1) * B)] = a * gu1 + b * gv1
    laid[i + INDEX((GRADIENT_U + 2) * B)] = a * gu2 + b * gv2
    laid[i + INDEX(GRADIENT_V * B)] = d * gu0 + e * gv0
    laid[i + INDEX((GRADIENT_V + 1) * B)] = d * gu1 + e * gv1
    laid[i + INDEX((GRADIENT_V + 2) * B)] = d * gu2 + e * gv2


@lanes
def lay_plane(c, plane, charts, frame, moved, laid):
    """Fill where each texel lies on a plane of a flat chart, seen from outside: u to the right and v downwards."""
    across = AXES + (6 if plane == 0 else 0)  # the axis along which u runs, and that of v, on the planes X, Y and Z
    down = AXES + (6 if plane == 1 else 3)
    out = AXES + 3 * plane
    ux, uy, uz = charts[c, across], charts[c, across + 1], charts[c, across + 2]
    vx, vy, vz = charts[c, down], charts[c, down + 1], charts[c, down + 2]
    ox, oy, oz = charts[c, out], charts[c, out + 1], charts[c, out + 2]
    px, py, pz = charts[c, ORIGIN], charts[c, ORIGIN + 1], charts[c, ORIGIN + 2]
    row = INDEX((LAID_ROWS * c + PLANE_ROWS * plane) * B)
    facing, pattern = INDEX((LAID_ROWS * c + FACING + plane) * B), _pattern(charts, c)
    d = MOVED_STEPS
    for t in range(B):
        n = ox * frame[NX * B + t] + oy * frame[NY * B + t] + oz * frame[NZ * B + t]
        side = F1 if n >= 0 else -F1
        to_u = -side if plane == 0 else (F1 if plane == 1 else side)
        to_v = side if plane == 1 else -F1
        x, y, z = moved[t] - px, moved[B + t] - py, moved[2 * B + t] - pz
        a0, a1, a2 = moved[d * B + t], moved[(d + 1) * B + t], moved[(d + 2) * B + t]
        b0, b1, b2 = moved[(d + 3) * B + t], moved[(d + 4) * B + t], moved[(d + 5) * B + t]
        _store(
            row + INDEX(t), pattern, to_u * (ux * x + uy * y + uz * z), to_v * (vx * x + vy * y + vz * z),
            to_u * (ux * a0 + uy * a1 + uz * a2), to_v * (vx * a0 + vy * a1 + vz * a2),
            to_u * (ux * b0 + uy * b1 + uz * b2), to_v * (vx * b0 + vy * b1 + vz * b2),
            to_u * ux, to_u * uy, to_u * uz, to_v * vx, to_v * vy, to_v * vz, laid,
        )  # fmt: skip
        laid[facing + INDEX(t)] = _log2(max(abs(n), np.float32(1e-30)))


@lanes
def lay_by_uv(c, charts, frame, moved, laid):
    """Fill where each texel lies by the surface's own coordinates, on the plane Y."""
    metres, cheap = charts[c, RADIUS], charts[c, CHEAP] > 0
    row, d, g, pattern = INDEX((LAID_ROWS * c + PLANE_ROWS) * B), MOVED_STEPS, UV_GRADIENT, _pattern(charts, c)
    for t in range(B):
        gu0, gu1, gu2 = metres * frame[g * B + t], metres * frame[(g + 1) * B + t], metres * frame[(g + 2) * B + t]
        gv0, gv1, gv2 = metres * frame[(g + 3) * B + t], metres * frame[(g + 4) * B + t], metres * frame[(g + 5) * B + t]
        x, y, z = moved[t] - frame[X * B + t], moved[B + t] - frame[Y * B + t], moved[2 * B + t] - frame[Z * B + t]
        u = metres * frame[UV * B + t] + gu0 * x + gu1 * y + gu2 * z
        v = metres * frame[(UV + 1) * B + t] + gv0 * x + gv1 * y + gv2 * z
        a0, a1, a2 = moved[d * B + t], moved[(d + 1) * B + t], moved[(d + 2) * B + t]
        b0, b1, b2 = moved[(d + 3) * B + t], moved[(d + 4) * B + t], moved[(d + 5) * B + t]
        s0, s1 = gu0 * a0 + gu1 * a1 + gu2 * a2, gv0 * a0 + gv1 * a1 + gv2 * a2
        s2, s3 = gu0 * b0 + gu1 * b1 + gu2 * b2, gv0 * b0 + gv1 * b1 + gv2 * b2
        if cheap:  # along tangent and bitangent, which points up in the image
            nx, ny, nz, hand = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t], -frame[HAND * B + t]
            gu0, gu1, gu2 = frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t]
            gv0, gv1, gv2 = hand * (ny * gu2 - nz * gu1), hand * (nz * gu0 - nx * gu2), hand * (nx * gu1 - ny * gu0)
        _store(row + INDEX(t), pattern, u, v, s0, s1, s2, s3, gu0, gu1, gu2, gv0, gv1, gv2, laid)


@inlined
def lay_around(c, charts, frame, moved, laid):
    """Fill where each texel lies around an axis, on the plane Y: on a sphere or on a tube.

    Everything comes from the position by its derivative, so nothing happens where u begins again.
    """
    is_sphere = charts[c, KIND] == SPHERE_CHART
    radius, around = charts[c, RADIUS], charts[c, AROUND]
    row, d, pattern = INDEX((LAID_ROWS * c + PLANE_ROWS) * B), MOVED_STEPS, _pattern(charts, c)
    tiny = np.float32(1e-6) * radius
    for t in range(B):
        x, y, z = moved[t] - charts[c, ORIGIN], moved[B + t] - charts[c, ORIGIN + 1], moved[2 * B + t] - charts[c, ORIGIN + 2]
        q0 = charts[c, AXES] * x + charts[c, AXES + 1] * y + charts[c, AXES + 2] * z
        q1 = charts[c, AXES + 3] * x + charts[c, AXES + 4] * y + charts[c, AXES + 5] * z
        q2 = charts[c, AXES + 6] * x + charts[c, AXES + 7] * y + charts[c, AXES + 8] * z
        from_axis = max(np.float32(math.sqrt(q0 * q0 + q2 * q2)), tiny)
        u = around * radius * np.float32(math.atan2(q0, q2))
        c0, c1, c2 = around * radius * q2 / (from_axis * from_axis), F0, -around * radius * q0 / (from_axis * from_axis)
        if is_sphere:
            away = max(np.float32(math.sqrt(q0 * q0 + q1 * q1 + q2 * q2)), tiny)
            v = radius * np.float32(math.atan2(from_axis, q1))
            scale = radius / (away * away)
            e0, e1, e2 = scale * q0 * q1 / from_axis, -scale * from_axis, scale * q2 * q1 / from_axis
        else:
            v, e0, e1, e2 = -q1, F0, -F1, F0
        gu0 = charts[c, AXES] * c0 + charts[c, AXES + 3] * c1 + charts[c, AXES + 6] * c2
        gu1 = charts[c, AXES + 1] * c0 + charts[c, AXES + 4] * c1 + charts[c, AXES + 7] * c2
        gu2 = charts[c, AXES + 2] * c0 + charts[c, AXES + 5] * c1 + charts[c, AXES + 8] * c2
        gv0 = charts[c, AXES] * e0 + charts[c, AXES + 3] * e1 + charts[c, AXES + 6] * e2
        gv1 = charts[c, AXES + 1] * e0 + charts[c, AXES + 4] * e1 + charts[c, AXES + 7] * e2
        gv2 = charts[c, AXES + 2] * e0 + charts[c, AXES + 5] * e1 + charts[c, AXES + 8] * e2
        a0, a1, a2 = moved[d * B + t], moved[(d + 1) * B + t], moved[(d + 2) * B + t]
        b0, b1, b2 = moved[(d + 3) * B + t], moved[(d + 4) * B + t], moved[(d + 5) * B + t]
        _store(
            row + INDEX(t), pattern, u, v, gu0 * a0 + gu1 * a1 + gu2 * a2, gv0 * a0 + gv1 * a1 + gv2 * a2,
            gu0 * b0 + gu1 * b1 + gu2 * b2, gv0 * b0 + gv1 * b1 + gv2 * b2, gu0, gu1, gu2, gv0, gv1, gv2, laid,
        )  # fmt: skip


@lanes
def bend_gradients(row, frame, laid):
    """Let gradients follow a warp: a step along the surface moves the place by more than itself."""
    for t in range(B):
        nx, ny, nz = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t]
        tx, ty, tz = frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t]
        bx, by, bz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
        w3, w4, w5 = frame[(WARPED + 3) * B + t], frame[(WARPED + 4) * B + t], frame[(WARPED + 5) * B + t]
        w6, w7, w8 = frame[(WARPED + 6) * B + t], frame[(WARPED + 7) * B + t], frame[(WARPED + 8) * B + t]
        for which in range(2):
            first = row + INDEX((GRADIENT_U + 3 * which) * B + t)
            g0, g1, g2 = laid[first], laid[first + INDEX(B)], laid[first + INDEX(2 * B)]
            along, across = g0 * w3 + g1 * w4 + g2 * w5, g0 * w6 + g1 * w7 + g2 * w8
            laid[first] = g0 + along * tx + across * bx
            laid[first + INDEX(B)] = g1 + along * ty + across * by
            laid[first + INDEX(2 * B)] = g2 + along * tz + across * bz


@lanes
def unit_gradients(row, frame, laid):
    """Lay the gradients into the surface and make them unit: slopes are then taken as they are."""
    for t in range(B):
        nx, ny, nz = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t]
        for which in range(2):
            first = row + INDEX((GRADIENT_U + 3 * which) * B + t)
            g0, g1, g2 = laid[first], laid[first + INDEX(B)], laid[first + INDEX(2 * B)]
            out = g0 * nx + g1 * ny + g2 * nz
            g0, g1, g2 = g0 - out * nx, g1 - out * ny, g2 - out * nz
            scale = F1 / math.sqrt(max(g0 * g0 + g1 * g1 + g2 * g2, np.float32(1e-12)))
            laid[first], laid[first + INDEX(B)], laid[first + INDEX(2 * B)] = g0 * scale, g1 * scale, g2 * scale


@lanes
def both_axes(row, laid):
    """Turn the footprint's steps on a plane into the axes of the ellipse that they span: the longer as a vector, then the
    base-2 logarithms of both lengths."""
    tiny = np.float32(1e-20)
    for t in range(B):
        i = row + INDEX(t)
        s0, s1 = laid[i + INDEX(STEPS * B)], laid[i + INDEX((STEPS + 1) * B)]
        s2, s3 = laid[i + INDEX((STEPS + 2) * B)], laid[i + INDEX((STEPS + 3) * B)]
        uu, vv, uv = s0 * s0 + s2 * s2, s1 * s1 + s3 * s3, s0 * s1 + s2 * s3
        half, apart = HALF * (uu + vv), HALF * (uu - vv)
        root = math.sqrt(apart * apart + uv * uv)
        longer, area = half + root, abs(s0 * s3 - s1 * s2)
        # The eigenvector of the longer axis, from whichever row of the matrix has more to say.
        x, y = (apart + root, uv) if apart >= 0 else (uv, root - apart)
        scale = math.sqrt(longer / max(x * x + y * y, tiny))
        laid[i + INDEX(LONG_U * B)], laid[i + INDEX(LONG_V * B)] = x * scale, y * scale
        log = HALF * _log2(max(longer, tiny))
        laid[i + INDEX(LEVEL * B)] = log
        laid[i + INDEX(LONGER * B)] = log
        laid[i + INDEX(SHORTER * B)] = HALF * _log2(max(area * area / max(longer, tiny), tiny))


@lanes
def limit_sides(c, charts, frame, laid):
    """Fill how much the side planes count: by slope, and by the distance from a camera."""
    low, high = charts[c, SLOPE_FROM], charts[c, SLOPE_TO]  # cosines: the first is the larger one
    ex, ey, ez, near, far = charts[c, EYE], charts[c, EYE + 1], charts[c, EYE + 2], charts[c, NEAR], charts[c, FAR]
    by_slope = F1 / max(low - high, np.float32(1e-6))
    by_distance = F1 / max(far - near, np.float32(1e-6))
    row = INDEX((LAID_ROWS * c + SIDES) * B)
    for t in range(B):
        up = charts[c, AXES + 3] * frame[NX * B + t] + charts[c, AXES + 4] * frame[NY * B + t]
        up = abs(up + charts[c, AXES + 5] * frame[NZ * B + t])
        x, y, z = frame[X * B + t] - ex, frame[Y * B + t] - ey, frame[Z * B + t] - ez
        steep = min(max((low - up) * by_slope, F0), F1) if low < F1 else F1
        away = min(max((math.sqrt(x * x + y * y + z * z) - near) * by_distance, F0), F1) if far > 0 else F1
        laid[row + INDEX(t)] = steep * away


@inlined
def lay_chart(c, who, charts, warps, frame, moved, laid):
    """Fill everything that a chart tells of the block's texels."""
    warp = int(charts[c, WARP])
    if warp >= 0:
        spread_rows(who, warps[warp], WARPED, frame)
    move(charts[c, FINE] > 0, warp >= 0, frame, moved)
    kind, planes = charts[c, KIND], int(charts[c, PLANES])
    if kind == UV_CHART:
        lay_by_uv(c, charts, frame, moved, laid)
    elif kind != FLAT_CHART:
        lay_around(c, charts, frame, moved, laid)
    for plane in range(3):
        if not planes >> plane & 1:
            continue
        if kind == FLAT_CHART:
            lay_plane(c, plane, charts, frame, moved, laid)
        row = INDEX((LAID_ROWS * c + PLANE_ROWS * plane) * B)
        if charts[c, FINE] > 0:
            both_axes(row, laid)
        if warp >= 0:
            bend_gradients(row, frame, laid)
        if charts[c, CHEAP] > 0:
            unit_gradients(row, frame, laid)
    limit_sides(c, charts, frame, laid)


@inlined
def copy_charts(k, charts_at, to, laid):
    """Bring the rows of several charts together for one place, lane by lane."""
    for t in range(B):
        own = INDEX(LAID_ROWS * B * charts_at[INDEX(B * k + t)] + t)
        for row in range(LAID_ROWS):
            laid[INDEX(to + row * B + t)] = laid[own + INDEX(row * B)]


@lanes
def share_planes(k, start, laid, places, counts):
    """Fill how much each plane counts for a place, from the rows of its chart, which begin at `start`.

    |n| to the power of sharpness, small ones cut, summing to 1; or all of one plane.
    """
    weight, sharp = INDEX(PLACE_ROWS * B * k), INDEX((PLACE_ROWS * k + SHARP) * B)
    out, facing = INDEX(3 * B * k), INDEX(start + FACING * B)
    for t in range(B):
        i = INDEX(t)
        sharpness = places[sharp + i]
        towards_x, towards_y = laid[facing + i], laid[facing + INDEX(B) + i]
        towards_z, sides = laid[facing + INDEX(2 * B) + i], laid[facing + INDEX(3 * B) + i]
        x = _exp2(max(sharpness * towards_x, np.float32(-100.0)))
        y = _exp2(max(sharpness * towards_y, np.float32(-100.0)))
        z = _exp2(max(sharpness * towards_z, np.float32(-100.0)))
        cut = np.float32(PLANE_CUT) * (x + y + z)
        x, y, z = max(x - cut, F0), max(y - cut, F0), max(z - cut, F0)
        scale = sides / (x + y + z)
        x, z = x * scale, z * scale
        y = y * scale + (F1 - sides)
        faced_y = towards_y >= max(towards_x, towards_z)
        faced_x = towards_x >= towards_z
        most_x, most_y = (F0 if faced_y else (F1 if faced_x else F0)), (F1 if faced_y else F0)
        is_box, is_one = sharpness == np.float32(FACED_MOST), sharpness <= 0
        one_y = F1 if sharpness == np.float32(ONLY_Y) else F0
        x = (most_x if is_box else F0) if is_one else x
        y = (most_y if is_box else one_y) if is_one else y
        z = (F1 - most_x - most_y if is_box else F1 - one_y) if is_one else z
        shown = F1 if places[weight + i] > 0 else F0
        counts[out + i], counts[out + INDEX(B) + i], counts[out + INDEX(2 * B) + i] = shown * x, shown * y, shown * z


@lanes
def largest(row, rows):
    """Return the largest value, from 0, of a row."""
    start, most = INDEX(row * B), F0
    for t in range(B):
        most = max(most, rows[start + INDEX(t)])
    return most


@lanes
def plan_taps(k, plane, start, laid, places, counts, taps):
    """Fill how many samples are taken along the longer axis of the footprint; return the largest."""
    row, look = INDEX(start + PLANE_ROWS * B * plane), INDEX((PLACE_ROWS * k + LOOK) * B)
    bias, limit = INDEX((PLACE_ROWS * k + BIAS) * B), INDEX((PLACE_ROWS * k + TAPS) * B)
    count, out, most = INDEX((3 * k + plane) * B), INDEX((3 * k + plane) * B), F1
    for t in range(B):
        i = INDEX(t)
        longer = laid[row + INDEX(LONGER * B) + i] + places[bias + i]
        shorter = max(laid[row + INDEX(SHORTER * B) + i] + places[bias + i], F0)
        is_fine = places[look + i] >= np.float32(16 * ANISOTROPIC)
        ratio = _exp2(min(max(longer - shorter, F0), np.float32(8.0))) if is_fine else F1
        wanted = min(np.ceil(ratio - np.float32(1e-3)), places[limit + i])
        wanted = wanted if counts[count + i] > 0 else F1
        taps[out + i] = max(wanted, F1)
        most = max(most, wanted)
    return most


@inlined
def _level_start(full, bits, slice_count):
    """Levels lie one after the other: before this one lie slices * (4^full + ... + 4^(bits + 1)) texels."""
    before = np.int32((np.int32(4) << (full + full)) - (np.int32(4) << (bits + bits)))
    return np.int32(np.int32(before * THIRD) * np.int32(slice_count))


@lanes
def locate(side_bits, slice_count, level, k, plane, sample, start, laid, places, counts, tiles, slices, at, between, shares):
    """Fill where the four texels around each lane's sample lie, the place between them, and its share.

    start : where the rows of the place's chart begin in `laid`.
    level : -1 reads the full size only; 0 the mip level that the footprint chooses and 1 the next smaller one, which share
        by how far the footprint lies between them. A lane without a share reads texel 0, which is always in the cache.
    """
    count, bias = INDEX((3 * k + plane) * B), INDEX((PLACE_ROWS * k + BIAS) * B)
    row = INDEX(start + PLANE_ROWS * B * plane)
    u, v, wanted = row + INDEX(U * B), row + INDEX(V * B), row + INDEX(LEVEL * B)
    place, pair, own = INDEX(k * B), INDEX(2 * sample * B), INDEX(sample * B)
    full = np.int32(side_bits)
    highest = np.float32(side_bits)
    for t in range(B):
        i = INDEX(t)
        share = counts[count + i]
        bits = full
        first = np.int32(0)
        if level >= 0:
            mip = min(max(laid[wanted + i] + places[bias + i], F0), highest)
            whole = min(np.int32(mip), np.int32(full - np.int32(1)))
            fraction = mip - np.float32(whole)
            share *= fraction if level else F1 - fraction
            bits = np.int32(full - whole - np.int32(level))
            first = _level_start(full, bits, slice_count)
        sides = np.int32(np.int32(1) << bits)
        side, mask = np.float32(sides), np.int32(sides - np.int32(1))
        tile = tiles[place + i]
        tile_u, tile_v = float(laid[u + i]) * tile, float(laid[v + i]) * tile
        x = np.float32(tile_u - np.floor(tile_u)) * side - HALF
        y = np.float32(tile_v - np.floor(tile_v)) * side - HALF
        x_floor, y_floor = np.floor(x), np.floor(y)
        between[pair + i], between[pair + INDEX(B) + i] = x - x_floor, y - y_floor
        x0, y0 = np.int32(x_floor) & mask, np.int32(y_floor) & mask
        x1, y1 = np.int32(x0 + np.int32(1)) & mask, np.int32(y0 + np.int32(1)) & mask
        first = np.int32(first + (slices[place + i] << (bits + bits)))
        top, bottom = np.int32(first + (y0 << bits)), np.int32(first + (y1 << bits))
        shares[own + i] = share
        read = np.int32(-1) if share > 0 else np.int32(0)
        at[t], at[B + t] = np.int32(top + x0) & read, np.int32(top + x1) & read
        at[2 * B + t], at[3 * B + t] = np.int32(bottom + x0) & read, np.int32(bottom + x1) & read


@inlined
def _unwrapped(turns, wrap):
    """The place in tiles that a wrap mode reads, from -1 to 2."""
    half = HALF * turns
    if wrap == REPEAT:
        return np.float32(turns - np.floor(turns))
    if wrap == MIRROR:
        return np.float32(2.0 * (half - np.floor(half)))
    return np.float32(min(max(turns, -1.0), 2.0))


@inlined
def _folded(i, wrap, sides):
    """The texel that a wrap mode reads for one that may lie outside."""
    mask = np.int32(sides - np.int32(1))
    if wrap == REPEAT:
        return i & mask
    if wrap == MIRROR:
        j = i & np.int32(np.int32(2) * sides - np.int32(1))
        return j if j <= mask else np.int32(np.int32(2) * sides - np.int32(1) - j)
    return min(max(i, np.int32(0)), mask)


@lanes
def locate_any(side_bits, slice_count, level, tap, k, plane, sample, start, laid, places, counts, taps, tiles, slices, at,
               between, shares):  # fmt: skip
    """The same for layers of any wrap mode and filter; `tap` is which of several samples along the footprint."""
    count, bias = INDEX((3 * k + plane) * B), INDEX((PLACE_ROWS * k + BIAS) * B)
    look, row = INDEX((PLACE_ROWS * k + LOOK) * B), INDEX(start + PLANE_ROWS * B * plane)
    place, pair, own = INDEX(k * B), INDEX(2 * sample * B), INDEX(sample * B)
    full = np.int32(side_bits)
    highest = np.float32(side_bits)
    for t in range(B):
        i = INDEX(t)
        looks = np.int32(places[look + i])
        wrap_u, wrap_v, mode = looks & np.int32(3), (looks >> np.int32(2)) & np.int32(3), looks >> np.int32(4)
        is_fine = mode == ANISOTROPIC
        several = taps[count + i] if is_fine else F1
        wanted = laid[row + INDEX(LEVEL * B) + i]
        if is_fine:
            wanted = max(laid[row + INDEX(LONGER * B) + i] - _log2(several), laid[row + INDEX(SHORTER * B) + i])
        mip = min(max(wanted + places[bias + i], F0), highest) if mode >= TRILINEAR else F0
        whole = min(np.int32(mip), np.int32(max(full - np.int32(1), np.int32(0))))
        fraction = mip - np.float32(whole)
        share = counts[count + i] * (fraction if level > 0 else F1 - fraction)
        share = share / several if np.float32(tap) < several else F0
        bits = np.int32(max(full - whole - np.int32(max(level, 0)), 0))
        first = np.int32(_level_start(full, bits, slice_count) + (slices[place + i] << (bits + bits)))
        sides = np.int32(np.int32(1) << bits)
        side = np.float32(sides)
        along = (np.float32(tap) + HALF) / several - HALF if is_fine else F0
        tile = tiles[place + i]
        tile_u = float(laid[row + INDEX(U * B) + i] + along * laid[row + INDEX(LONG_U * B) + i]) * tile
        tile_v = float(laid[row + INDEX(V * B) + i] + along * laid[row + INDEX(LONG_V * B) + i]) * tile
        lower = F0 if mode == NEAREST else HALF
        x = _unwrapped(tile_u, wrap_u) * side - lower
        y = _unwrapped(tile_v, wrap_v) * side - lower
        x_floor, y_floor = np.floor(x), np.floor(y)
        between[pair + i] = F0 if mode == NEAREST else x - x_floor
        between[pair + INDEX(B) + i] = F0 if mode == NEAREST else y - y_floor
        x0, y0 = np.int32(x_floor), np.int32(y_floor)
        x1, y1 = np.int32(x0 + np.int32(1)), np.int32(y0 + np.int32(1))
        x0, x1 = _folded(x0, wrap_u, sides), _folded(x1, wrap_u, sides)
        y0, y1 = _folded(y0, wrap_v, sides), _folded(y1, wrap_v, sides)
        top, bottom = np.int32(first + (y0 << bits)), np.int32(first + (y1 << bits))
        shares[own + i] = share
        read = np.int32(-1) if share > 0 else np.int32(0)
        at[t], at[B + t] = np.int32(top + x0) & read, np.int32(top + x1) & read
        at[2 * B + t], at[3 * B + t] = np.int32(bottom + x0) & read, np.int32(bottom + x1) & read


@inlined
def fetch(texels, sample, at, around):
    """Read the four texels around each lane's sample from every array; around : (samples, arrays, corners, B), flat."""
    arrays = texels.shape[1]
    first = INDEX(4 * B * arrays * sample)
    second, third = first + INDEX(4 * B), first + INDEX(8 * B)
    if arrays == 2:
        for t in range(4 * B):
            texel = INDEX(np.uint32(at[t]))
            around[first + INDEX(t)] = texels[texel, 0]
            around[second + INDEX(t)] = texels[texel, 1]
    elif arrays == 3:
        for t in range(4 * B):
            texel = INDEX(np.uint32(at[t]))
            around[first + INDEX(t)] = texels[texel, 0]
            around[second + INDEX(t)] = texels[texel, 1]
            around[third + INDEX(t)] = texels[texel, 2]
    else:
        for array in range(arrays):
            for t in range(4 * B):
                around[first + INDEX(4 * B * array + t)] = texels[INDEX(np.uint32(at[t])), array]


@inlined
def _plain(texel, mask, scale):
    """One channel, 0..1, as it is stored. It is not shifted down: scale holds 1 / 255 and the channel's place."""
    return np.float32(np.uint32(texel & mask)) * scale


@inlined
def _linear(texel, mask, s):
    """One channel, 0..1, as linear light of its sRGB value; s is the scale that brings it to 0..1."""
    x = np.float32(np.int32(texel & mask))
    curved = (((C4 * s * s * s * s * x + C3 * s * s * s) * x + C2 * s * s) * x + C1 * s) * x + C0
    return x * (STRAIGHT_SCALE * s) if x <= STRAIGHT_END / s else curved


@inlined
def _channel(channel):
    """The mask of a channel of a texel, and what brings it to 0..1."""
    return np.uint32(np.uint32(255) << np.uint32(8 * channel)), np.float32(BYTE_SCALE / np.float32(1 << (8 * channel)))


@inlined
def _corner_weights(fx, fy):
    both = fx * fy
    return F1 - fx - fy + both, fx - both, fy - both, both


@lanes
def rise(k, sample, channel, corners, around, between, shares, places, heights, tall):
    """Decode the height of each lane's sample, and add its share to how high the place is."""
    mask, scale = _channel(channel)
    a, pair, own = INDEX(corners), INDEX(2 * B * sample), INDEX(B * sample)
    low, place = INDEX((PLACE_ROWS * k + LOW) * B), INDEX(k * B)
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = _corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        h = places[low + i] * (
            wa * _plain(around[a + i], mask, scale) + wb * _plain(around[a + INDEX(B) + i], mask, scale)
            + wc * _plain(around[a + INDEX(2 * B) + i], mask, scale) + wd * _plain(around[a + INDEX(3 * B) + i], mask, scale)
        )  # fmt: skip
        heights[own + i] = h
        tall[place + i] += shares[own + i] * h


@lanes
def rise_flat(k, sample, value, shares, places, heights, tall):
    """The same where no array holds height."""
    own, low, place = INDEX(B * sample), INDEX((PLACE_ROWS * k + LOW) * B), INDEX(k * B)
    for t in range(B):
        i = INDEX(t)
        h = value * places[low + i]
        heights[own + i] = h
        tall[place + i] += shares[own + i] * h


@lanes
def weigh(most, places, tall, tallest, kept, whole):
    """Let the taller layer show where layers meet; `kept` then sums to 1 over the places of a texel.

    A place's tallness is `weight * (relief * height + HEIGHT_FLOOR)`; what it keeps is
    `weight * max(0, 1 - hardness * (1 - tallness / the tallest))`.
    """
    for t in range(B):
        tallest[t] = np.float32(1e-12)
        whole[t] = np.float32(1e-12)
    for k in range(most):
        weight, own = INDEX(PLACE_ROWS * B * k), INDEX(B * k)
        for t in range(B):
            i = INDEX(t)
            tallness = places[weight + i] * (tall[own + i] + np.float32(HEIGHT_FLOOR))
            tall[own + i] = tallness
            tallest[t] = max(tallest[t], tallness)
    for t in range(B):
        tallest[t] = F1 / tallest[t]
    for k in range(most):
        weight, own, hard = INDEX(PLACE_ROWS * B * k), INDEX(B * k), INDEX((PLACE_ROWS * k + HARD) * B)
        for t in range(B):
            i = INDEX(t)
            share = places[weight + i] * max(F0, F1 - places[hard + i] * (F1 - tall[own + i] * tallest[t]))
            kept[own + i] = share
            whole[t] += share
    for t in range(B):
        whole[t] = F1 / whole[t]
    for k in range(most):
        own = INDEX(B * k)
        for t in range(B):
            kept[own + INDEX(t)] *= whole[t]


@lanes
def weights_of_pass(k, sample, kept, shares, weight):
    """Fill what each lane's sample weighs in the end; return the largest."""
    place, own = INDEX(k * B), INDEX(B * sample)
    largest = F0
    for t in range(B):
        w = kept[place + INDEX(t)] * shares[own + INDEX(t)]
        weight[t] = w
        largest = max(largest, w)
    return largest


@lanes
def mix_colour(sample, array, corners, around, between, weight, channels):
    """Add three sRGB-encoded channels of an array by weight, as linear light."""
    pair, a, total = INDEX(2 * B * sample), INDEX(corners), INDEX(4 * B * array)
    m0, m1, m2 = np.uint32(0xFF), np.uint32(0xFF00), np.uint32(0xFF0000)
    s0, s1, s2 = BYTE_SCALE, np.float32(BYTE_SCALE / np.float32(256)), np.float32(BYTE_SCALE / np.float32(65536))
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = _corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        w = weight[t]
        wa, wb, wc, wd = wa * w, wb * w, wc * w, wd * w
        ta, tb = around[a + i], around[a + INDEX(B) + i]
        tc, td = around[a + INDEX(2 * B) + i], around[a + INDEX(3 * B) + i]
        red = wa * _linear(ta, m0, s0) + wb * _linear(tb, m0, s0) + wc * _linear(tc, m0, s0) + wd * _linear(td, m0, s0)
        green = wa * _linear(ta, m1, s1) + wb * _linear(tb, m1, s1) + wc * _linear(tc, m1, s1) + wd * _linear(td, m1, s1)
        blue = wa * _linear(ta, m2, s2) + wb * _linear(tb, m2, s2) + wc * _linear(tc, m2, s2) + wd * _linear(td, m2, s2)
        channels[total + i] += red
        channels[total + INDEX(B) + i] += green
        channels[total + INDEX(2 * B) + i] += blue


@lanes
def mix_data(sample, array, channel, corners, around, between, weight, channels):
    """Add one channel of an array by weight, as it is."""
    mask, scale = _channel(channel)
    pair, a, total = INDEX(2 * B * sample), INDEX(corners), INDEX(B * (4 * array + channel))
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = _corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        channels[total + i] += weight[t] * (
            wa * _plain(around[a + i], mask, scale) + wb * _plain(around[a + INDEX(B) + i], mask, scale)
            + wc * _plain(around[a + INDEX(2 * B) + i], mask, scale) + wd * _plain(around[a + INDEX(3 * B) + i], mask, scale)
        )  # fmt: skip


@lanes
def mix_normals(sample, row, channel_x, channel_y, corners_x, corners_y, around, between, weight, laid, sums):
    """Add the slopes of two-channel normals by weight, as vectors along the gradients of u and v.

    A detail normal (x, y, z) in the image's own axes has the slopes -x / z along u and y / z along v; the surface's normal
    tilts by x / z grad u - y / z grad v (the surface gradient, Mikkelsen 2020).

    row : where the plane's rows begin in `laid`.
    """
    mask_x, scale_x = _channel(channel_x)
    mask_y, scale_y = _channel(channel_y)
    pair, a, b, g = INDEX(2 * B * sample), INDEX(corners_x), INDEX(corners_y), INDEX(row + GRADIENT_U * B)
    for t in range(B):
        i = INDEX(t)
        wa, wb, wc, wd = _corner_weights(between[pair + i], between[pair + INDEX(B) + i])
        x = (wa * _plain(around[a + i], mask_x, scale_x) + wb * _plain(around[a + INDEX(B) + i], mask_x, scale_x)
             + wc * _plain(around[a + INDEX(2 * B) + i], mask_x, scale_x)
             + wd * _plain(around[a + INDEX(3 * B) + i], mask_x, scale_x))  # fmt: skip
        y = (wa * _plain(around[b + i], mask_y, scale_y) + wb * _plain(around[b + INDEX(B) + i], mask_y, scale_y)
             + wc * _plain(around[b + INDEX(2 * B) + i], mask_y, scale_y)
             + wd * _plain(around[b + INDEX(3 * B) + i], mask_y, scale_y))  # fmt: skip
        x, y = F2 * x - F1, F2 * y - F1
        slope = weight[t] / max(math.sqrt(max(F0, F1 - x * x - y * y)), np.float32(FLATTEST))
        x, y = x * slope, y * slope
        sums[TILT * B + t] += x * laid[g + i] - y * laid[g + INDEX(3 * B) + i]
        sums[(TILT + 1) * B + t] += x * laid[g + INDEX(B) + i] - y * laid[g + INDEX(4 * B) + i]
        sums[(TILT + 2) * B + t] += x * laid[g + INDEX(2 * B) + i] - y * laid[g + INDEX(5 * B) + i]


@lanes
def mix_height(sample, heights, weight, sums):
    """Add height by weight."""
    own = INDEX(B * sample)
    for t in range(B):
        sums[HEIGHT * B + t] += weight[t] * heights[own + INDEX(t)]


@lanes
def turn(world_normals, frame, sums):
    """Fill the blended normals, unit: the surface's own, tilted by what lies in the surface of the sum of slopes."""
    for t in range(B):
        n0, n1, n2 = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t]
        d0, d1, d2 = sums[TILT * B + t], sums[(TILT + 1) * B + t], sums[(TILT + 2) * B + t]
        upright = F1 - (d0 * n0 + d1 * n1 + d2 * n2)
        w0, w1, w2 = d0 + n0 * upright, d1 + n1 * upright, d2 + n2 * upright
        unit = F1 / math.sqrt(w0 * w0 + w1 * w1 + w2 * w2)
        w0, w1, w2 = w0 * unit, w1 * unit, w2 * unit
        t0, t1, t2 = frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t]
        bitangent = w0 * (n1 * t2 - n2 * t1) + w1 * (n2 * t0 - n0 * t2) + w2 * (n0 * t1 - n1 * t0)
        sums[NORMAL * B + t] = w0 if world_normals else w0 * t0 + w1 * t1 + w2 * t2
        sums[(NORMAL + 1) * B + t] = w1 if world_normals else frame[HAND * B + t] * bitangent
        sums[(NORMAL + 2) * B + t] = w2 if world_normals else w0 * n0 + w1 * n1 + w2 * n2


@lanes
def quantise(table_top, sums, steps):
    """Fill which step of its scale each output lies on: of the table for colour, of 255 for data, of 65535 for height."""
    for t in range(B):
        for c in range(3):
            steps[(DIFFUSE + c) * B + t] = np.int32(min(max(sums[(DIFFUSE + c) * B + t], F0), F1) * table_top + HALF)
            steps[(SPECULAR + c) * B + t] = np.int32(min(max(sums[(SPECULAR + c) * B + t], F0), F1) * table_top + HALF)
            level = HALF * sums[(NORMAL + c) * B + t] + HALF
            steps[(NORMAL + c) * B + t] = np.int32(min(max(level, F0), F1) * np.float32(255.0) + HALF)
        steps[ROUGHNESS * B + t] = np.int32(min(max(sums[ROUGHNESS * B + t], F0), F1) * np.float32(255.0) + HALF)
        steps[OCCLUSION * B + t] = np.int32(min(max(sums[OCCLUSION * B + t], F0), F1) * np.float32(255.0) + HALF)
        steps[HEIGHT * B + t] = np.int32(min(max(sums[HEIGHT * B + t], F0), F1) * np.float32(65535.0) + HALF)


@inlined
def encode(who, count, where, steps, encode_table, diffuse, normal, roughness, specular, occlusion, height):
    """Store quantised texels: colour as sRGB bytes, data as bytes, height as 16 bits; at `where` of their point, if any."""
    for t in range(count):
        p = INDEX(who[t]) if where.shape[0] == 0 else INDEX(where[INDEX(who[t])])
        diffuse[p, 0] = encode_table[INDEX(np.uint32(steps[DIFFUSE * B + t]))]
        diffuse[p, 1] = encode_table[INDEX(np.uint32(steps[(DIFFUSE + 1) * B + t]))]
        diffuse[p, 2] = encode_table[INDEX(np.uint32(steps[(DIFFUSE + 2) * B + t]))]
        specular[p, 0] = encode_table[INDEX(np.uint32(steps[SPECULAR * B + t]))]
        specular[p, 1] = encode_table[INDEX(np.uint32(steps[(SPECULAR + 1) * B + t]))]
        specular[p, 2] = encode_table[INDEX(np.uint32(steps[(SPECULAR + 2) * B + t]))]
        normal[p, 0] = steps[NORMAL * B + t]
        normal[p, 1] = steps[(NORMAL + 1) * B + t]
        normal[p, 2] = steps[(NORMAL + 2) * B + t]
        roughness[p], occlusion[p], height[p] = (
            steps[ROUGHNESS * B + t],
            steps[OCCLUSION * B + t],
            steps[HEIGHT * B + t],
        )


@check
def first_bad_weights(layer_index, layer_weight, layers):
    """Return the first point whose weights name no layer, are below 0, or do not sum to 1; -1 if all are good."""
    for p in range(layer_weight.shape[0]):
        total = F0
        good = True
        for k in range(layer_weight.shape[1]):
            w = layer_weight[p, k]
            total += w
            good &= w >= 0 and layer_index[p, k] < layers
        if not (good and abs(total - F1) <= np.float32(1e-4)):
            return p
    return -1


@inlined
def choose_points(block, points, columns, who):
    """Fill which points a block takes; return how many, the rest of the lanes repeat the last.

    columns : 0 takes points in order; else they are rows of a grid so wide, and a block is a tile of it.
    """
    count = 0
    if columns == 0:
        for p in range(block * B, min(block * B + B, points)):
            who[INDEX(count)] = p
            count += 1
    else:
        across = (columns + TILE_COLUMNS - 1) // TILE_COLUMNS
        top, left = block // across * TILE_ROWS, block % across * TILE_COLUMNS
        for row in range(top, min(top + TILE_ROWS, points // columns)):
            for column in range(left, min(left + TILE_COLUMNS, columns)):
                who[INDEX(count)] = row * columns + column
                count += 1
    for t in range(count, B):
        who[INDEX(t)] = who[INDEX(count - 1)]
    return count


@inlined
def block_count(points, columns):
    """How many blocks hold all points."""
    if columns == 0:
        return (points + B - 1) // B
    return ((points // columns + TILE_ROWS - 1) // TILE_ROWS) * ((columns + TILE_COLUMNS - 1) // TILE_COLUMNS)


@inlined
def _mix_pass(sample, row, arrays, is_colour, role_row, mixed, around, between, weight, heights, channels, laid, sums):
    """Add a pass to the sums of the channels that roles read, of slopes on its plane, and of height."""
    first = 4 * B * arrays * sample
    for array in range(arrays):
        if is_colour[array]:
            mix_colour(sample, array, first + 4 * B * array, around, between, weight, channels)
        for channel in range(4):
            if mixed[4 * array + channel]:
                mix_data(sample, array, channel, first + 4 * B * array, around, between, weight, channels)
    x, y = role_row[NORMAL], role_row[NORMAL + 1]
    if x >= 0:
        mix_normals(sample, row, x % 4, y % 4, first + 4 * B * (x // 4), first + 4 * B * (y // 4), around, between, weight,
                    laid, sums)  # fmt: skip
    mix_height(sample, heights, weight, sums)


@inlined
def lay_places(most, who, charts, warps, charts_at, frame, moved, places, counts, is_laid, laid_at, laid):
    """Lay the block on every chart that its places need; fill where the rows of each place begin, and its planes' shares."""
    for c in range(charts.shape[0]):
        is_laid[INDEX(c)] = 0
    for k in range(most):
        several = charts_at[INDEX(B * k)] >= 0
        for t in range(B if several else 1):
            c = charts_at[INDEX(B * k + t)] if several else -1 - charts_at[INDEX(B * k)]
            if not is_laid[INDEX(c)]:
                is_laid[INDEX(c)] = 1
                lay_chart(c, who, charts, warps, frame, moved, laid)
        if several:
            laid_at[INDEX(k)] = LAID_ROWS * B * (charts.shape[0] + k)
            copy_charts(k, charts_at, laid_at[INDEX(k)], laid)
        else:
            laid_at[INDEX(k)] = LAID_ROWS * B * (-1 - charts_at[INDEX(B * k)])
        share_planes(k, laid_at[INDEX(k)], laid, places, counts)


@inlined
def spread(
    who, is_plain, positions, normals, tangents, footprints, uvs, uv_gradients, true_steps, layer_index, layer_weight, layers,
    tile_of, slice_of, chart_of, frame, places, tiles, slices, charts_at
):  # fmt: skip
    """Lay points and places out in rows; return how many places hold anything."""
    spread_points(who, positions, normals, tangents, footprints, frame)
    if uvs.shape[0] > 0:
        spread_rows(who, uvs, UV, frame)
        spread_rows(who, uv_gradients, UV_GRADIENT, frame)
    if true_steps.shape[0] > 0:
        spread_rows(who, true_steps, TRUE_STEPS, frame)
    return spread_layers(who, is_plain, layer_index, layer_weight, layers, tile_of, slice_of, chart_of, places, tiles, slices,
                         charts_at)  # fmt: skip


@kernel
def blend_block(
    who, positions, normals, tangents, footprints, uvs, uv_gradients, true_steps, warps, layer_index, layer_weight,
    layers, tile_of, slice_of, chart_of, charts, texels, is_colour, side_bits, slice_count, levels, is_plain, role_row, mixed,
    neutral, world_normals, frame, moved, places, counts, taps, tiles, slices, charts_at, is_laid, laid_at, laid, pass_place,
    pass_plane, at, around, between, shares, heights, tall, tallest, kept, whole, weight, channels, sums
):  # fmt: skip
    """Blend the points `who` into the columns of `sums`."""
    most = spread(who, is_plain, positions, normals, tangents, footprints, uvs, uv_gradients, true_steps, layer_index,
                  layer_weight, layers, tile_of, slice_of, chart_of, frame, places, tiles, slices, charts_at)  # fmt: skip
    lay_places(most, who, charts, warps, charts_at, frame, moved, places, counts, is_laid, laid_at, laid)
    for t in range(most * B):
        tall[INDEX(t)] = F0
    for t in range(SUM_ROWS * B):
        sums[t] = F0
    arrays = texels.shape[1]
    for t in range(4 * B * arrays):
        channels[INDEX(t)] = F0
    high = role_row[HEIGHT]
    steps = 2 if levels > 1 else 1
    passes = 0
    for k in range(most):
        start = laid_at[INDEX(k)]
        for plane in range(3):
            if not largest(3 * k + plane, counts) > 0:
                continue
            several = 1 if is_plain else int(plan_taps(k, plane, start, laid, places, counts, taps))
            for tap in range(several):
                for step in range(steps):
                    level = step if levels > 1 else -1
                    if is_plain:
                        locate(side_bits, slice_count, level, k, plane, passes, start, laid, places, counts, tiles, slices, at,
                               between, shares)  # fmt: skip
                    else:
                        locate_any(side_bits, slice_count, level, tap, k, plane, passes, start, laid, places, counts, taps,
                                   tiles, slices, at, between, shares)  # fmt: skip
                    if levels > 1 and not largest(passes, shares) > 0:
                        continue
                    fetch(texels, passes, at, around)
                    if high >= 0:
                        rise(k, passes, high % 4, 4 * B * (arrays * passes + high // 4), around, between, shares, places,
                             heights, tall)  # fmt: skip
                    else:
                        rise_flat(k, passes, neutral[HEIGHT], shares, places, heights, tall)
                    pass_place[INDEX(passes)], pass_plane[INDEX(passes)] = k, plane
                    passes += 1
    weigh(most, places, tall, tallest, kept, whole)
    for sample in range(passes):
        k = pass_place[INDEX(sample)]
        if weights_of_pass(k, sample, kept, shares, weight) > 0:
            row = laid_at[INDEX(k)] + PLANE_ROWS * B * pass_plane[INDEX(sample)]
            _mix_pass(sample, row, arrays, is_colour, role_row, mixed, around, between, weight, heights, channels, laid,
                      sums)  # fmt: skip
    for role in range(OUTPUTS):
        if role != HEIGHT and not NORMAL <= role < NORMAL + 3:
            row = role_row[role]
            for t in range(B):
                sums[INDEX(role * B + t)] = channels[INDEX(row * B + t)] if row >= 0 else neutral[role]
    turn(world_normals, frame, sums)
    return passes


@kernel
def blend_points(
    values, columns, positions, normals, tangents, footprints, uvs, uv_gradients, true_steps, warps, layer_index, layer_weight,
    layers, tile_of, slice_of, chart_of, charts, texels, is_colour, side_bits, slice_count, levels, is_plain, role_row, mixed,
    neutral, world_normals, who, frame, moved, places, counts, taps, tiles, slices, charts_at, is_laid, laid_at, laid,
    pass_place, pass_plane, at, around, between, shares, heights, tall, tallest, kept, whole, weight, channels, sums, steps
):  # fmt: skip
    """Blend every point into `values` (N, OUTPUTS), linear."""
    points = positions.shape[0]
    for block in range(block_count(points, columns)):
        count = choose_points(block, points, columns, who)
        blend_block(
            who, positions, normals, tangents, footprints, uvs, uv_gradients, true_steps, warps, layer_index,
            layer_weight, layers, tile_of, slice_of, chart_of, charts, texels, is_colour, side_bits, slice_count, levels,
            is_plain, role_row, mixed, neutral, world_normals, frame, moved, places, counts, taps, tiles, slices, charts_at,
            is_laid, laid_at, laid, pass_place, pass_plane, at, around, between, shares, heights, tall, tallest, kept, whole,
            weight, channels, sums,
        )  # fmt: skip
        for t in range(count):
            for c in range(OUTPUTS):
                values[INDEX(who[t]), c] = sums[c * B + t]


@kernel
def blend_encoded(
    where, encode_table, diffuse, normal, roughness, specular, occlusion, height,
    columns, positions, normals, tangents, footprints, uvs, uv_gradients, true_steps, warps, layer_index, layer_weight,
    layers, tile_of, slice_of, chart_of, charts, texels, is_colour, side_bits, slice_count, levels, is_plain, role_row, mixed,
    neutral, world_normals, who, frame, moved, places, counts, taps, tiles, slices, charts_at, is_laid, laid_at, laid,
    pass_place, pass_plane, at, around, between, shares, heights, tall, tallest, kept, whole, weight, channels, sums, steps
):  # fmt: skip
    """Blend every point into finished texels."""
    points = positions.shape[0]
    for block in range(block_count(points, columns)):
        count = choose_points(block, points, columns, who)
        blend_block(
            who, positions, normals, tangents, footprints, uvs, uv_gradients, true_steps, warps, layer_index,
            layer_weight, layers, tile_of, slice_of, chart_of, charts, texels, is_colour, side_bits, slice_count, levels,
            is_plain, role_row, mixed, neutral, world_normals, frame, moved, places, counts, taps, tiles, slices, charts_at,
            is_laid, laid_at, laid, pass_place, pass_plane, at, around, between, shares, heights, tall, tallest, kept, whole,
            weight, channels, sums,
        )  # fmt: skip
        quantise(np.float32(encode_table.shape[0] - 1), sums, steps)
        encode(who, count, where, steps, encode_table, diffuse, normal, roughness, specular, occlusion, height)


@kernel
def survey_points(
    values, columns, positions, normals, tangents, footprints, uvs, uv_gradients, true_steps, warps, layer_index, layer_weight,
    layers, tile_of, slice_of, chart_of, charts, texels, is_colour, side_bits, slice_count, levels, is_plain, role_row, mixed,
    neutral, world_normals, who, frame, moved, places, counts, taps, tiles, slices, charts_at, is_laid, laid_at, laid,
    pass_place, pass_plane, at, around, between, shares, heights, tall, tallest, kept, whole, weight, channels, sums, steps
):  # fmt: skip
    """Fill what the blend goes by at every point, for its heaviest layer: SURVEYED columns, see `survey.py`."""
    points = positions.shape[0]
    for block in range(block_count(points, columns)):
        count = choose_points(block, points, columns, who)
        most = spread(who, False, positions, normals, tangents, footprints, uvs, uv_gradients, true_steps, layer_index,
                      layer_weight, layers, tile_of, slice_of, chart_of, frame, places, tiles, slices, charts_at)  # fmt: skip
        lay_places(most, who, charts, warps, charts_at, frame, moved, places, counts, is_laid, laid_at, laid)
        for t in range(count):
            p, read, heaviest = INDEX(who[t]), F0, 0
            for k in range(most):
                if places[INDEX(PLACE_ROWS * B * k + t)] > places[INDEX(PLACE_ROWS * B * heaviest + t)]:
                    heaviest = k
                for plane in range(3):
                    read += F1 if counts[INDEX((3 * k + plane) * B + t)] > 0 else F0
            plane = 0
            for other in range(1, 3):
                if counts[INDEX((3 * heaviest + other) * B + t)] > counts[INDEX((3 * heaviest + plane) * B + t)]:
                    plane = other
            row = INDEX(laid_at[INDEX(heaviest)] + PLANE_ROWS * B * plane + t)
            for c in range(9):
                values[p, c] = laid[row + INDEX(c * B)]
            values[p, 9] = plane
            values[p, 10] = counts[INDEX((3 * heaviest + plane) * B + t)]
            values[p, 11] = read
            mip = laid[row + INDEX(LEVEL * B)] + places[INDEX((PLACE_ROWS * heaviest + BIAS) * B + t)]
            if places[INDEX((PLACE_ROWS * heaviest + LOOK) * B + t)] >= 16 * ANISOTROPIC:
                shorter = laid[row + INDEX(SHORTER * B)] + places[INDEX((PLACE_ROWS * heaviest + BIAS) * B + t)]
                ratio = _exp2(min(max(mip - max(shorter, F0), F0), np.float32(8.0)))
                ratio = min(np.ceil(ratio - np.float32(1e-3)), places[INDEX((PLACE_ROWS * heaviest + TAPS) * B + t)])
                mip = max(mip - _log2(max(ratio, F1)), shorter)
            values[p, 12] = mip
