"""Triangles to points, as loops."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel

NOBODY = -1  # the owner of a texel that no triangle touches


@inlined
def _gradients(a, b, c, position, uv, out):
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
def _blend_corners(values, a, b, c, wa, wb, wc, column):
    return wa * values[a, column] + wb * values[b, column] + wc * values[c, column]


@inlined
def _take_corner(which, v, position, normal, tangent, corners):
    """Fill the column of a corner in `corners` (9, 3): its place, normal and tangent."""
    for axis in range(3):
        corners[axis, which] = position[v, axis]
        corners[3 + axis, which] = normal[v, axis]
        corners[6 + axis, which] = tangent[v, axis]


@inlined
def _mixed(corners, row, wa, wb, wc):
    return wa * corners[row, 0] + wb * corners[row, 1] + wc * corners[row, 2]


@inlined
def _fill_frame(i, wa, wb, wc, hand, corners, out_position, out_normal, out_tangent):
    """Fill place, normal and tangent at a place of a triangle; the tangent is laid square to the normal."""
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
        if not _gradients(a, b, c, position, uv, one):
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


@inlined
def _edge(ax, ay, bx, by):
    """An edge as numbers: dx, dy, and what makes dx y - dy x + c how far inside of it a place lies, times its length; and how
    much of that a texel's square reaches from its centre."""
    dx, dy = bx - ax, by - ay
    return dx, dy, dy * ax - dx * ay, 0.5 * (abs(dx) + abs(dy))


@kernel
def claim_texels(first_row, last_row, rows, columns, which, uv, triangles, owner, away, clash):
    """Give every texel of some rows to a triangle that touches it: one that holds its centre, else the nearest.

    owner, away : (last_row - first_row, columns); the triangle, and the distance in texels from centre to triangle.
    clash : (3,) int64; how many centres lie in more than one triangle, and the first two of those.
    """
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
                        clash[0] += 1
                    else:
                        owner[r, at], away[r, at] = t, 0.0
                elif ab >= -reach1 and bc >= -reach2 and ca >= -reach3 and (owner[r, at] == NOBODY or away[r, at] > 0.0):
                    far = min(_from_edge(x, y, ax, ay, bx, by), _from_edge(x, y, bx, by, cx, cy),
                              _from_edge(x, y, cx, cy, ax, ay))  # fmt: skip
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
def texel_sides(rows, columns, position, uv, triangles, one, out):
    """Fill the metres that a texel covers on each triangle, along u and along v; one : (4, 3) float64, scratch."""
    for t in range(triangles.shape[0]):
        a, b, c = np.uint64(triangles[t, 0]), np.uint64(triangles[t, 1]), np.uint64(triangles[t, 2])
        out[t, 0], out[t, 1] = 1e-9, 1e-9
        if _gradients(a, b, c, position, uv, one):
            out[t, 0] = max(math.sqrt(one[2, 0] ** 2 + one[2, 1] ** 2 + one[2, 2] ** 2) / columns, 1e-9)
            out[t, 1] = max(math.sqrt(one[3, 0] ** 2 + one[3, 1] ** 2 + one[3, 2] ** 2) / rows, 1e-9)


@kernel
def layout_points(
    texels, owner, rows, columns, position, normal, tangent, uv, colour, triangles, sides, one, corners, out_position,
    out_normal, out_tangent, out_footprint, out_uv, out_gradient, out_steps, out_colour
):  # fmt: skip
    """Fill the points of texels, by number row by row, each on its triangle; centres outside are moved to its nearest edge.

    Arrays of no rows are left out. one : (4, 3) float64 and corners : (9, 3) float32, scratch.
    """
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
            _take_corner(0, a, position, normal, tangent, corners)
            _take_corner(1, b, position, normal, tangent, corners)
            _take_corner(2, c, position, normal, tangent, corners)
            if out_gradient.shape[0] > 0 or out_steps.shape[0] > 0:
                _gradients(a, b, c, position, uv, one)
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
        _fill_frame(i, wa, wb, wc, tangent[a, 3], corners, out_position, out_normal, out_tangent)
        out_uv[i, 0], out_uv[i, 1] = x, y
        out_footprint[i, 0], out_footprint[i, 1] = sides[t, 0], sides[t, 1]
        if out_gradient.shape[0] > 0:
            for side in range(2):
                for axis in range(3):
                    out_gradient[i, side, axis] = one[side, axis]
        if out_steps.shape[0] > 0:
            for axis in range(3):
                out_steps[i, 0, axis], out_steps[i, 1, axis] = one[2, axis] / columns, one[3, axis] / rows
        if out_colour.shape[0] > 0:
            for channel in range(4):
                out_colour[i, channel] = _blend_corners(colour, a, b, c, wa, wb, wc, channel)


@kernel
def scatter_rows(texels, values, target):
    """Put the rows of `values` to where `texels` says."""
    for i in range(texels.shape[0]):
        at = np.uint64(texels[i])
        for channel in range(values.shape[1]):
            target[at, channel] = values[i, channel]


@kernel
def nearest_texels(owned, rows, columns, near_row, near_column):
    """Fill the row and column of the nearest owned texel for each texel, -1 where there is none; all (rows, columns).

    Two sweeps in which every texel asks its neighbours whose nearest is nearer (Danielsson 1980, with eight neighbours).
    """
    for row in range(rows):
        for column in range(columns):
            near_row[row, column] = row if owned[row, column] else -1
            near_column[row, column] = column if owned[row, column] else -1
    for sweep in range(2):
        for step in range(rows):
            row = rows - 1 - step if sweep else step
            other = row + 1 if sweep else row - 1
            if 0 <= other < rows:
                for column in range(columns):
                    if not owned[row, column]:
                        for there in range(max(column - 1, 0), min(column + 2, columns)):
                            _ask(row, column, other, there, near_row, near_column)
            for column in range(1, columns):
                if not owned[row, column]:
                    _ask(row, column, row, column - 1, near_row, near_column)
            for column in range(columns - 2, -1, -1):
                if not owned[row, column]:
                    _ask(row, column, row, column + 1, near_row, near_column)


@inlined
def _ask(row, column, other_row, other_column, near_row, near_column):
    their_row, their_column = near_row[other_row, other_column], near_column[other_row, other_column]
    if their_row < 0:
        return
    mine_row, mine_column = near_row[row, column], near_column[row, column]
    far = (their_row - row) * (their_row - row) + (their_column - column) * (their_column - column)
    if mine_row < 0 or far < (mine_row - row) * (mine_row - row) + (mine_column - column) * (mine_column - column):
        near_row[row, column], near_column[row, column] = their_row, their_column


@kernel
def draw_triangles(places, triangles, first_row, last_row, columns, depth, seen, shares):
    """Fill which triangle each pixel of some rows sees first.

    places : (V, 3) float64; pixel across, pixel down, and 1 / distance ahead (0 or less: behind the eye).
    depth, seen, shares : (rows, columns), and the weights of the second and third corner, true in space.
    """
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        za, zb, zc = places[a, 2], places[b, 2], places[c, 2]
        if za <= 0.0 or zb <= 0.0 or zc <= 0.0:
            continue
        ax, ay, bx, by, cx, cy = places[a, 0], places[a, 1], places[b, 0], places[b, 1], places[c, 0], places[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0:
            continue
        left, right = max(math.ceil(min(ax, bx, cx) - 0.5), 0), min(math.floor(max(ax, bx, cx) - 0.5), columns - 1)
        top = max(math.ceil(min(ay, by, cy) - 0.5), first_row)
        bottom = min(math.floor(max(ay, by, cy) - 0.5), last_row - 1)
        for row in range(top, bottom + 1):
            for column in range(left, right + 1):
                x, y = column + 0.5, row + 0.5
                wb = ((x - ax) * (cy - ay) - (y - ay) * (cx - ax)) / area
                wc = ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) / area
                wa = 1.0 - wb - wc
                if wa < -1e-9 or wb < -1e-9 or wc < -1e-9:
                    continue
                near = wa * za + wb * zb + wc * zc
                r = row - first_row
                if near > depth[r, column]:
                    depth[r, column], seen[r, column] = near, t
                    shares[r, column, 0], shares[r, column, 1] = wb * zb / near, wc * zc / near


@kernel
def seen_points(
    which, shares, position, normal, tangent, uv, colour, triangles, one, corners, out_position, out_normal, out_tangent,
    out_uv, out_gradient, out_colour
):  # fmt: skip
    """Fill points at places of triangles: which (N,), shares (N, 2) of their second and third corners."""
    for i in range(which.shape[0]):
        t = which[i]
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        wb, wc = shares[i, 0], shares[i, 1]
        wa = np.float32(1.0) - wb - wc
        _take_corner(0, a, position, normal, tangent, corners)
        _take_corner(1, b, position, normal, tangent, corners)
        _take_corner(2, c, position, normal, tangent, corners)
        _fill_frame(i, wa, wb, wc, tangent[a, 3], corners, out_position, out_normal, out_tangent)
        if out_uv.shape[0] > 0:
            out_uv[i, 0], out_uv[i, 1] = _blend_corners(uv, a, b, c, wa, wb, wc, 0), _blend_corners(uv, a, b, c, wa, wb, wc, 1)
            whole = _gradients(a, b, c, position, uv, one)
            for side in range(2):
                for axis in range(3):
                    out_gradient[i, side, axis] = one[side, axis] if whole else 0.0
        if out_colour.shape[0] > 0:
            for channel in range(4):
                out_colour[i, channel] = _blend_corners(colour, a, b, c, wa, wb, wc, channel)
