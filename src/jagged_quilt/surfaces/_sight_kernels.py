"""What a picture sees of a mesh, as loops."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import kernel
from jagged_quilt.meshes._kernels import blend_corners, fill_frame, gradients_of, take_corner


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
def seen_points(which, shares, mesh, one, corners, out):
    """Fill points at places of triangles: which (N,), shares (N, 2) of their second and third corners."""
    triangles, out_uv, out_gradient, out_colour = mesh.triangles, out.uv, out.uv_gradient, out.colour
    for i in range(which.shape[0]):
        t = which[i]
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        wb, wc = shares[i, 0], shares[i, 1]
        wa = np.float32(1.0) - wb - wc
        take_corner(0, a, mesh, corners)
        take_corner(1, b, mesh, corners)
        take_corner(2, c, mesh, corners)
        fill_frame(i, (wa, wb, wc), mesh.tangent[a, 3], corners, out)
        if out_uv.shape[0] > 0:
            out_uv[i, 0] = blend_corners(mesh.uv, a, b, c, wa, wb, wc, 0)
            out_uv[i, 1] = blend_corners(mesh.uv, a, b, c, wa, wb, wc, 1)
            whole = gradients_of(a, b, c, mesh.position, mesh.uv, one)
            for side in range(2):
                for axis in range(3):
                    out_gradient[i, side, axis] = one[side, axis] if whole else 0.0
        if out_colour.shape[0] > 0:
            for channel in range(4):
                out_colour[i, channel] = blend_corners(mesh.colour, a, b, c, wa, wb, wc, channel)
