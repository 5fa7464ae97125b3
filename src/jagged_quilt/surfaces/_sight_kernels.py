"""What a picture sees of a mesh, as loops."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel
from jagged_quilt.meshes._kernels import blend_corners, fill_frame, gradients_of, take_corner


@kernel
def draw_triangles(corners, triangles, rows, columns, beyond, depth, seen, shares):
    """Fill which triangle each pixel of some rows sees first.

    rows : the first, and one past the last.
    places : (V, 3) float64; pixel across, pixel down, and 1 / distance ahead (0 or less: behind the eye).
    beyond : (rows, columns), the depth beyond which each pixel looks; (0, 0) where all are looked at.
    depth, seen, shares : (rows, columns), and the weights of the second and third corner, true in space.
    """
    first_row, last_row = rows
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        za, zb, zc = corners[a, 2], corners[b, 2], corners[c, 2]
        if za <= 0.0 or zb <= 0.0 or zc <= 0.0:
            continue
        ax, ay, bx, by, cx, cy = corners[a, 0], corners[a, 1], corners[b, 0], corners[b, 1], corners[c, 0], corners[c, 1]
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
                if near > depth[r, column] and (beyond.shape[0] == 0 or near < beyond[r, column]):
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


@inlined
def _dot(a, b, row):
    return a[0] * b[row, 0] + a[1] * b[row, 1] + a[2] * b[row, 2]


@kernel
def free_of_map(points, axes, low, scale, nearest, out):
    """Fill how free the way to a light is, 0..1, as the mean over 3 x 3 of the places of its map.

    axes (3, 3): right, up and towards the light; low (3,) is the map's corner, scale its places per metre, and nearest (M, M)
    how far towards the light something stands, from 1 on, or 0.
    """
    side, texel = nearest.shape[0], 1.0 / scale
    for i in range(out.shape[0]):
        position = (np.float64(points.position[i, 0]), np.float64(points.position[i, 1]), np.float64(points.position[i, 2]))
        if points.rest.shape[0] > 0:
            position = (position[0] + points.rest[i, 0], position[1] + points.rest[i, 1], position[2] + points.rest[i, 2])
        across, down = (_dot(position, axes, 0) - low[0]) * scale + 1.0, (_dot(position, axes, 1) - low[1]) * scale + 1.0
        out[i] = np.float32(1.0)
        if not (across > -1.0 and across < side + 1.0 and down > -1.0 and down < side + 1.0):
            continue
        normal = (np.float64(points.normal[i, 0]), np.float64(points.normal[i, 1]), np.float64(points.normal[i, 2]))
        lean = min(max(_dot(normal, axes, 2), 0.1), 1.0)
        lifted = _dot(position, axes, 2) - low[2] + 1.0 + texel * (2.5 * math.sqrt(1.0 - lean * lean) / lean + 1.0)
        lifted = max(lifted, 0.0)  # farther from the light than all: what is 0 in the map stops no light
        column, row, behind = math.floor(across), math.floor(down), 0
        for r in range(max(row - 1, 0), min(row + 2, side)):
            for c in range(max(column - 1, 0), min(column + 2, side)):
                behind += 1 if nearest[r, c] > lifted else 0
        out[i] = np.float32((9 - behind) / 9.0)


class SeenRows(NamedTuple):
    """Points as a camera sees them: their places, and what a pixel covers there."""

    position: NDArray[np.float32]
    rest: NDArray[np.float32]
    normal: NDArray[np.float32]


@kernel
def cover_pixels(normals, rays, across, ways, footprint, steps):
    """Fill what a pixel covers of the surface, `across` (N,) metres at a right angle to its ray.

    ways (2, 3): to the right and down in the picture.
    """
    for i in range(across.shape[0]):
        nx, ny, nz = np.float64(normals[i, 0]), np.float64(normals[i, 1]), np.float64(normals[i, 2])
        rx, ry, rz = np.float64(rays[i, 0]), np.float64(rays[i, 1]), np.float64(rays[i, 2])
        facing = nx * rx + ny * ry + nz * rz
        side = across[i] / math.sqrt(max(abs(facing), 0.05))
        footprint[i, 0] = footprint[i, 1] = side
        least = facing
        if abs(facing) < 0.02:
            least = 0.02 if facing >= 0.0 else -0.02
        for way in range(2):
            sx, sy, sz = across[i] * ways[way, 0], across[i] * ways[way, 1], across[i] * ways[way, 2]
            back = (nx * sx + ny * sy + nz * sz) / least
            steps[i, way, 0], steps[i, way, 1], steps[i, way, 2] = sx - rx * back, sy - ry * back, sz - rz * back


@kernel
def look_through(pixels, rows, columns, ways, out):
    """Fill the unit directions through the centres of pixels; ways (3, 3): ahead, to the right border, to the top border."""
    for i in range(pixels.shape[0]):
        row, column = pixels[i] // columns, pixels[i] % columns
        down, across = 1.0 - 2.0 * (row + 0.5) / rows, 2.0 * (column + 0.5) / columns - 1.0
        x = ways[0, 0] + across * ways[1, 0] + down * ways[2, 0]
        y = ways[0, 1] + across * ways[1, 1] + down * ways[2, 1]
        z = ways[0, 2] + across * ways[1, 2] + down * ways[2, 2]
        unit = 1.0 / math.sqrt(x * x + y * y + z * z)
        out[i, 0], out[i, 1], out[i, 2] = x * unit, y * unit, z * unit
