"""The texture layout of a mesh, as loops: whose each texel is, its point, and what it is padded with."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel
from jagged_quilt.meshes._kernels import blend_corners, fill_frame, gradients_of, take_corner

NOBODY = -1  # the owner of a texel that no triangle touches


@inlined
def _edge(ax, ay, bx, by):
    """An edge as numbers: dx, dy, and what makes dx y - dy x + c how far inside of it a place lies, times its length; and how
    much of that a texel's square reaches from its centre."""
    dx, dy = bx - ax, by - ay
    return dx, dy, dy * ax - dx * ay, 0.5 * (abs(dx) + abs(dy))


@kernel
def claim_texels(first_row, last_row, size, which, mesh, owner, away, clash):
    """Give every texel of some rows to a triangle that touches it: one that holds its centre, else the nearest.

    owner, away : (last_row - first_row, columns); the triangle, and the distance in texels from centre to triangle.
    size : rows and columns of the whole.
    clash : (3,) int64; how many centres lie in more than one triangle, and the first two of those.
    """
    (rows, columns), uv, triangles = size, mesh.uv, mesh.triangles
    for w in range(which.shape[0]):
        t = which[w]
        a, b, c = np.uint64(triangles[t, 0]), np.uint64(triangles[t, 1]), np.uint64(triangles[t, 2])
        ax, ay, bx, by = uv[a, 0] * float(columns), uv[a, 1] * float(rows), uv[b, 0] * float(columns), uv[b, 1] * float(rows)
        cx, cy = uv[c, 0] * float(columns), uv[c, 1] * float(rows)
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if abs(area) < 1e-9:
            continue
        if area < 0.0:
            bx, by, cx, cy = cx, cy, bx, by
        left, right = max(math.floor(min(ax, bx, cx)), 0), min(math.floor(max(ax, bx, cx)), columns - 1)
        top, bottom = max(math.floor(min(ay, by, cy)), first_row), min(math.floor(max(ay, by, cy)), last_row - 1)
        dx1, dy1, c1, reach1 = _edge(ax, ay, bx, by)
        dx2, dy2, c2, reach2 = _edge(bx, by, cx, cy)
        dx3, dy3, c3, reach3 = _edge(cx, cy, ax, ay)
        for row in range(top, bottom + 1):
            y, r = row + 0.5, np.uint64(row - first_row)
            row1, row2, row3 = dx1 * y + c1, dx2 * y + c2, dx3 * y + c3
            for column in range(left, right + 1):
                x, at = column + 0.5, np.uint64(column)
                ab, bc, ca = row1 - dy1 * x, row2 - dy2 * x, row3 - dy3 * x
                if ab > 1e-9 and bc > 1e-9 and ca > 1e-9:
                    if owner[r, at] != NOBODY and away[r, at] <= 0.0:
                        if clash[0] == 0:
                            clash[1], clash[2] = owner[r, at], t
                        if away[r, at] == 0.0:  # a texel counts once, however many triangles lie there
                            away[r, at] = -1.0
                            clash[0] += 1
                    else:
                        owner[r, at], away[r, at] = t, 0.0
                elif ab >= -reach1 and bc >= -reach2 and ca >= -reach3 and (owner[r, at] == NOBODY or away[r, at] > 0.0):
                    far = min(
                        _from_edge(x, y, ax, ay, bx, by), _from_edge(x, y, bx, by, cx, cy), _from_edge(x, y, cx, cy, ax, ay)
                    )
                    far = max(far, 1e-6)  # a centre on an edge is nobody's own
                    if owner[r, at] == NOBODY or far < away[r, at]:
                        owner[r, at], away[r, at] = t, far


@inlined
def _to_segment(x, y, ax, ay, bx, by):
    """The nearest place of a line between two others."""
    dx, dy = bx - ax, by - ay
    along = ((x - ax) * dx + (y - ay) * dy) / max(dx * dx + dy * dy, 1e-30)
    along = min(max(along, 0.0), 1.0)
    return ax + along * dx, ay + along * dy


@inlined
def _from_edge(x, y, ax, ay, bx, by):
    """Distance of a place from a line between two others."""
    px, py = _to_segment(x, y, ax, ay, bx, by)
    return math.hypot(x - px, y - py)


@kernel
def texel_sides(rows, columns, mesh, one, out):
    """Fill the metres that a texel covers on each triangle, along u and along v; one : (4, 3) float64, scratch."""
    position, uv, triangles = mesh.position, mesh.uv, mesh.triangles
    for t in range(triangles.shape[0]):
        a, b, c = np.uint64(triangles[t, 0]), np.uint64(triangles[t, 1]), np.uint64(triangles[t, 2])
        out[t, 0], out[t, 1] = 1e-9, 1e-9
        if gradients_of(a, b, c, position, uv, one):
            out[t, 0] = max(math.sqrt(one[2, 0] ** 2 + one[2, 1] ** 2 + one[2, 2] ** 2) / columns, 1e-9)
            out[t, 1] = max(math.sqrt(one[3, 0] ** 2 + one[3, 1] ** 2 + one[3, 2] ** 2) / rows, 1e-9)


@kernel
def layout_points(texels, owner, size, mesh, sides, scratch, shares, out):
    """Fill the points of texels, by number row by row, each on its triangle; centres outside are moved to its nearest edge.

    size : rows and columns; arrays of no rows are left out. shares : (N, 2), how much the second and the third corner count.
    scratch : (4, 3) float64, and (9, 3) float32 for the three corners.
    """
    (one, corners), (rows, columns), uv, triangles = scratch, size, mesh.uv, mesh.triangles
    out_gradient, out_steps, out_colour = out.uv_gradient, out.steps, out.colour
    before, row, begins = -1, 0, 0
    by_column, by_row = 1.0 / columns, 1.0 / rows
    a = b = c = np.uint64(0)
    ax = ay = bx = by = cx = cy = area = 1.0
    for i in range(texels.shape[0]):
        t = owner[i]
        if t != before:  # neighbours mostly lie on one triangle
            before = t
            a, b, c = np.uint64(triangles[t, 0]), np.uint64(triangles[t, 1]), np.uint64(triangles[t, 2])
            ax, ay, bx, by = float(uv[a, 0]), float(uv[a, 1]), float(uv[b, 0]), float(uv[b, 1])
            cx, cy = float(uv[c, 0]), float(uv[c, 1])
            area = 1.0 / ((bx - ax) * (cy - ay) - (by - ay) * (cx - ax))
            take_corner(0, a, mesh, corners)
            take_corner(1, b, mesh, corners)
            take_corner(2, c, mesh, corners)
            if out_gradient.shape[0] > 0 or out_steps.shape[0] > 0:
                gradients_of(a, b, c, mesh.position, uv, one)
        if texels[i] >= begins + columns or i == 0:
            row = texels[i] // columns
            begins = row * columns
        x, y = (texels[i] - begins + 0.5) * by_column, (row + 0.5) * by_row
        wb = ((x - ax) * (cy - ay) - (y - ay) * (cx - ax)) * area
        wc = ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) * area
        if wb < 0.0 or wc < 0.0 or wb + wc > 1.0:
            qx, qy = _to_segment(x, y, ax, ay, bx, by)
            far = (x - qx) ** 2 + (y - qy) ** 2
            px, py = _to_segment(x, y, bx, by, cx, cy)
            near = (x - px) ** 2 + (y - py) ** 2
            if near < far:
                qx, qy, far = px, py, near
            px, py = _to_segment(x, y, cx, cy, ax, ay)
            if (x - px) ** 2 + (y - py) ** 2 < far:
                qx, qy = px, py
            x, y = qx, qy
            wb = ((x - ax) * (cy - ay) - (y - ay) * (cx - ax)) * area
            wc = ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) * area
        wa = np.float32(1.0 - wb - wc)
        wb, wc = np.float32(wb), np.float32(wc)
        fill_frame(i, (wa, wb, wc), mesh.tangent[a, 3], corners, out)
        if shares.shape[0] > 0:
            shares[i, 0], shares[i, 1] = wb, wc
        if out.uv.shape[0] > 0:
            out.uv[i, 0], out.uv[i, 1] = x, y
        out.footprint[i, 0], out.footprint[i, 1] = sides[t, 0], sides[t, 1]
        if out_gradient.shape[0] > 0:
            for side in range(2):
                for axis in range(3):
                    out_gradient[i, side, axis] = one[side, axis]
        if out_steps.shape[0] > 0:
            for axis in range(3):
                out_steps[i, 0, axis], out_steps[i, 1, axis] = one[2, axis] / columns, one[3, axis] / rows
        if out_colour.shape[0] > 0:
            for channel in range(4):
                out_colour[i, channel] = blend_corners(mesh.colour, a, b, c, wa, wb, wc, channel)


@kernel
def own_coordinates(owner, shares, mesh, one, out):
    """Fill uv, their gradients and tangents along them, of points that are laid out by other uv.

    owner : (N,) the triangle of each. shares : (N, 2), how much its second and its third corner count. one : (4, 3) float64,
    scratch.
    """
    triangles, uv = mesh.triangles, mesh.uv
    for i in range(owner.shape[0]):
        t = owner[i]
        a, b, c = np.uint64(triangles[t, 0]), np.uint64(triangles[t, 1]), np.uint64(triangles[t, 2])
        wb, wc = shares[i, 0], shares[i, 1]
        wa = np.float32(1.0) - wb - wc
        out.uv[i, 0] = blend_corners(uv, a, b, c, wa, wb, wc, 0)
        out.uv[i, 1] = blend_corners(uv, a, b, c, wa, wb, wc, 1)
        n0, n1, n2 = out.normal[i, 0], out.normal[i, 1], out.normal[i, 2]
        t0 = blend_corners(mesh.tangent, a, b, c, wa, wb, wc, 0)
        t1 = blend_corners(mesh.tangent, a, b, c, wa, wb, wc, 1)
        t2 = blend_corners(mesh.tangent, a, b, c, wa, wb, wc, 2)
        along = t0 * n0 + t1 * n1 + t2 * n2
        t0, t1, t2 = t0 - along * n0, t1 - along * n1, t2 - along * n2
        unit = np.float32(1.0) / np.float32(math.sqrt(max(t0 * t0 + t1 * t1 + t2 * t2, np.float32(1e-20))))
        out.uv_tangent[i, 0], out.uv_tangent[i, 1], out.uv_tangent[i, 2] = t0 * unit, t1 * unit, t2 * unit
        out.uv_tangent[i, 3] = mesh.tangent[a, 3]
        if out.uv_gradient.shape[0] > 0:
            whole = gradients_of(a, b, c, mesh.position, uv, one)
            for side in range(2):
                for axis in range(3):
                    out.uv_gradient[i, side, axis] = one[side, axis] if whole else 0.0
