"""Rays against triangles, as loops: a complete binary tree of boxes over triangles in the order of a space-filling curve."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel

LEAF = 4  # triangles in a box at the bottom


class TreeRows(NamedTuple):
    """Boxes and triangles: node n has the children 2 n and 2 n + 1, and the bottom row begins at node `leaves`."""

    boxes: NDArray[np.float32]  # (2 * leaves, 6) lowest x, y, z and highest; node 0 is none
    corners: NDArray[np.float32]  # (T, 9), padded to leaves * LEAF with triangles that have no extent
    leaves: int


@inlined
def _meets_box(box, boxes, origin, inverse, far):
    (ox, oy, oz), (ix, iy, iz) = origin, inverse
    ax, bx = (boxes[box, 0] - ox) * ix, (boxes[box, 3] - ox) * ix
    ay, by = (boxes[box, 1] - oy) * iy, (boxes[box, 4] - oy) * iy
    az, bz = (boxes[box, 2] - oz) * iz, (boxes[box, 5] - oz) * iz
    near = max(max(min(ax, bx), min(ay, by)), min(az, bz))
    away = min(min(max(ax, bx), max(ay, by)), max(az, bz))
    return max(near, np.float32(0)) <= min(away, far)


@inlined
def _meets(t, c, origin, way, far):
    """Whether a ray meets a triangle before `far` (Moeller and Trumbore 1997)."""
    (ox, oy, oz), (dx, dy, dz) = origin, way
    ux, uy, uz = c[t, 3] - c[t, 0], c[t, 4] - c[t, 1], c[t, 5] - c[t, 2]
    vx, vy, vz = c[t, 6] - c[t, 0], c[t, 7] - c[t, 1], c[t, 8] - c[t, 2]
    px, py, pz = dy * vz - dz * vy, dz * vx - dx * vz, dx * vy - dy * vx
    det = ux * px + uy * py + uz * pz
    if det == 0:
        return False
    inverse = np.float32(1) / det
    sx, sy, sz = ox - c[t, 0], oy - c[t, 1], oz - c[t, 2]
    a = (sx * px + sy * py + sz * pz) * inverse
    qx, qy, qz = sy * uz - sz * uy, sz * ux - sx * uz, sx * uy - sy * ux
    b = (dx * qx + dy * qy + dz * qz) * inverse
    reached = (vx * qx + vy * qy + vz * qz) * inverse
    return a >= 0 and b >= 0 and a + b <= 1 and 0 < reached < far


@inlined
def _is_stopped(tree, origin, way, far):
    """Whether anything lies on the way. Boxes that are missed are left by the next one to the right (no stack)."""
    tiny, (dx, dy, dz) = np.float32(1e-20), way
    ix = np.float32(1) / (dx if abs(dx) > tiny else tiny)
    iy = np.float32(1) / (dy if abs(dy) > tiny else tiny)
    iz = np.float32(1) / (dz if abs(dz) > tiny else tiny)
    inverse, node = (ix, iy, iz), 1
    while node > 0:
        if _meets_box(node, tree.boxes, origin, inverse, far):
            if node < tree.leaves:
                node *= 2
                continue
            first = (node - tree.leaves) * LEAF
            for t in range(first, first + LEAF):
                if _meets(t, tree.corners, origin, way, far):
                    return True
        while node & 1:
            node >>= 1
        node += 1 if node > 0 else 0
    return False


@kernel
def hidden_share(position, normal, ways, off, reach, tree, out):
    """Fill which share of some ways (D, 3), z along the normal, meets something within reach of each point."""
    for p in range(position.shape[0]):
        nx, ny, nz = normal[p, 0], normal[p, 1], normal[p, 2]
        sign = np.float32(1) if nz >= 0 else np.float32(-1)  # a frame without branches (Duff et al. 2017)
        a = np.float32(-1) / (sign + nz)
        b = nx * ny * a
        tx, ty, tz = np.float32(1) + sign * nx * nx * a, sign * b, -sign * nx
        sx, sy, sz = b, sign + ny * ny * a, -ny
        origin = position[p, 0] + off * nx, position[p, 1] + off * ny, position[p, 2] + off * nz
        stopped = 0
        for w in range(ways.shape[0]):
            u, v, n = ways[w, 0], ways[w, 1], ways[w, 2]
            way = u * tx + v * sx + n * nx, u * ty + v * sy + n * ny, u * tz + v * sz + n * nz
            if _is_stopped(tree, origin, way, reach):
                stopped += 1
        out[p] = np.float32(stopped) / np.float32(ways.shape[0])
