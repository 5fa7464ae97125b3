"""Triangles to points, as loops: what all who walk over a mesh share, and what its vertices tell."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel


@inlined
def gradients_of(a, b, c, position, uv, out):
    """Fill how u and v grow over a triangle, 1/m, and how far the place moves with u and with v, m: (4, 3).

    From the dual basis of its edges; False where the triangle has no extent, in space or in uv.
    """
    e0, e1, e2 = position[b, 0] - position[a, 0], position[b, 1] - position[a, 1], position[b, 2] - position[a, 2]
    f0, f1, f2 = position[c, 0] - position[a, 0], position[c, 1] - position[a, 1], position[c, 2] - position[a, 2]
    n0, n1, n2 = e1 * f2 - e2 * f1, e2 * f0 - e0 * f2, e0 * f1 - e1 * f0
    square = n0 * n0 + n1 * n1 + n2 * n2
    bu, bv = uv[b, 0] - uv[a, 0], uv[b, 1] - uv[a, 1]
    cu, cv = uv[c, 0] - uv[a, 0], uv[c, 1] - uv[a, 1]
    area = bu * cv - bv * cu
    if square <= 1e-30 or abs(area) < 1e-14:
        return False
    g0, g1, g2 = (f1 * n2 - f2 * n1) / square, (f2 * n0 - f0 * n2) / square, (f0 * n1 - f1 * n0) / square
    h0, h1, h2 = (n1 * e2 - n2 * e1) / square, (n2 * e0 - n0 * e2) / square, (n0 * e1 - n1 * e0) / square
    out[0, 0], out[0, 1], out[0, 2] = bu * g0 + cu * h0, bu * g1 + cu * h1, bu * g2 + cu * h2
    out[1, 0], out[1, 1], out[1, 2] = bv * g0 + cv * h0, bv * g1 + cv * h1, bv * g2 + cv * h2
    out[2, 0], out[2, 1], out[2, 2] = (cv * e0 - bv * f0) / area, (cv * e1 - bv * f1) / area, (cv * e2 - bv * f2) / area
    out[3, 0], out[3, 1], out[3, 2] = (bu * f0 - cu * e0) / area, (bu * f1 - cu * e1) / area, (bu * f2 - cu * e2) / area
    return True


@inlined
def blend_corners(values, a, b, c, wa, wb, wc, column):
    return wa * values[a, column] + wb * values[b, column] + wc * values[c, column]


@inlined
def take_corner(which, v, mesh, corners):
    """Fill the column of a corner in `corners` (9, 3): its place, normal and tangent."""
    for axis in range(3):
        corners[axis, which] = mesh.position[v, axis]
        corners[3 + axis, which] = mesh.normal[v, axis]
        corners[6 + axis, which] = mesh.tangent[v, axis]


@inlined
def _mixed(corners, row, wa, wb, wc):
    return wa * corners[row, 0] + wb * corners[row, 1] + wc * corners[row, 2]


@inlined
def fill_frame(i, shares, hand, corners, out):
    """Fill place, normal and tangent at a place of a triangle; the tangent is laid square to the normal."""
    wa, wb, wc = shares
    out_position, out_normal, out_tangent = out.position, out.normal, out.tangent
    out_position[i, 0] = _mixed(corners, 0, wa, wb, wc)
    out_position[i, 1] = _mixed(corners, 1, wa, wb, wc)
    out_position[i, 2] = _mixed(corners, 2, wa, wb, wc)
    n0, n1, n2 = _mixed(corners, 3, wa, wb, wc), _mixed(corners, 4, wa, wb, wc), _mixed(corners, 5, wa, wb, wc)
    square = n0 * n0 + n1 * n1 + n2 * n2
    if square < np.float32(1e-12):
        n0, n1, n2, square = corners[3, 0], corners[4, 0], corners[5, 0], np.float32(1.0)
    unit = np.float32(1.0) / math.sqrt(square)
    n0, n1, n2 = n0 * unit, n1 * unit, n2 * unit
    t0, t1, t2 = _mixed(corners, 6, wa, wb, wc), _mixed(corners, 7, wa, wb, wc), _mixed(corners, 8, wa, wb, wc)
    out = t0 * n0 + t1 * n1 + t2 * n2
    t0, t1, t2 = t0 - out * n0, t1 - out * n1, t2 - out * n2
    square = t0 * t0 + t1 * t1 + t2 * t2
    if square < np.float32(1e-12):
        t0, t1, t2 = _any_side(n0, n1, n2)
        square = t0 * t0 + t1 * t1 + t2 * t2
    unit = np.float32(1.0) / math.sqrt(square)
    out_normal[i, 0], out_normal[i, 1], out_normal[i, 2] = n0, n1, n2
    out_tangent[i, 0], out_tangent[i, 1], out_tangent[i, 2] = t0 * unit, t1 * unit, t2 * unit
    out_tangent[i, 3] = hand


@inlined
def _any_side(n0, n1, n2):
    """World +X laid into the surface, or world -Z where the normal is nearly +-X."""
    one = np.float32(1.0)
    if abs(n0) > np.float32(0.999):
        return n2 * n0, n2 * n1, n2 * n2 - one
    return one - n0 * n0, -n0 * n1, -n0 * n2


@kernel
def fill_sides(normal, tangent):
    """Fill a tangent for every normal where there are no coordinates to tell one."""
    for i in range(normal.shape[0]):
        t0, t1, t2 = _any_side(normal[i, 0], normal[i, 1], normal[i, 2])
        unit = 1.0 / math.sqrt(t0 * t0 + t1 * t1 + t2 * t2)
        tangent[i, 0], tangent[i, 1], tangent[i, 2], tangent[i, 3] = t0 * unit, t1 * unit, t2 * unit, 1.0


@kernel
def vertex_areas(position, triangles, out):
    """Add a third of each triangle's area to its vertices."""
    for t in range(triangles.shape[0]):
        a, b, c = np.uint64(triangles[t, 0]), np.uint64(triangles[t, 1]), np.uint64(triangles[t, 2])
        e0, e1, e2 = position[b, 0] - position[a, 0], position[b, 1] - position[a, 1], position[b, 2] - position[a, 2]
        f0, f1, f2 = position[c, 0] - position[a, 0], position[c, 1] - position[a, 1], position[c, 2] - position[a, 2]
        n0, n1, n2 = e1 * f2 - e2 * f1, e2 * f0 - e0 * f2, e0 * f1 - e1 * f0
        third = np.float32(math.sqrt(n0 * n0 + n1 * n1 + n2 * n2) * np.float32(1.0 / 6.0))
        out[a] += third
        out[b] += third
        out[c] += third


@kernel
def vertex_gradients(position, uv, triangles, one, weights, out):
    """Fill the mean gradients of uv at each vertex, (V, 6), by area; `one` (4, 3) float64 and `weights` (V,) are scratch."""
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        if not gradients_of(a, b, c, position, uv, one):
            continue
        # |grad u x grad v| is area in uv over area in space
        area = abs((uv[b, 0] - uv[a, 0]) * (uv[c, 1] - uv[a, 1]) - (uv[b, 1] - uv[a, 1]) * (uv[c, 0] - uv[a, 0]))
        for corner in range(3):
            v = triangles[t, corner]
            weights[v] += area
            for row in range(2):
                for axis in range(3):
                    out[v, 3 * row + axis] += area * one[row, axis]
    for v in range(out.shape[0]):
        if weights[v] > 0.0:
            for column in range(6):
                out[v, column] /= weights[v]


@kernel
def touch_texels(uv, triangles, taken):
    """Mark the texels, (rows, columns), that triangles touch in uv."""
    rows, columns = taken.shape
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, bx, by = uv[a, 0] * float(columns), uv[a, 1] * float(rows), uv[b, 0] * float(columns), uv[b, 1] * float(rows)
        cx, cy = uv[c, 0] * float(columns), uv[c, 1] * float(rows)
        if (bx - ax) * (cy - ay) - (by - ay) * (cx - ax) < 0.0:
            bx, by, cx, cy = cx, cy, bx, by
        left, right = max(math.floor(min(ax, bx, cx)), 0), min(math.floor(max(ax, bx, cx)), columns - 1)
        top, bottom = max(math.floor(min(ay, by, cy)), 0), min(math.floor(max(ay, by, cy)), rows - 1)
        for row in range(top, bottom + 1):
            for column in range(left, right + 1):
                x, y = column + 0.5, row + 0.5
                inside = _reaches(ax, ay, bx, by, x, y) and _reaches(bx, by, cx, cy, x, y)
                if inside and _reaches(cx, cy, ax, ay, x, y):
                    taken[row, column] = True


@inlined
def _reaches(ax, ay, bx, by, x, y):
    """Whether a texel's square reaches to the inner side of an edge."""
    dx, dy = bx - ax, by - ay
    return dx * (y - ay) - dy * (x - ax) >= -0.5 * (abs(dx) + abs(dy))
