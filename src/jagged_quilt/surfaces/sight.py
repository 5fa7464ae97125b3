"""What a picture sees of a mesh."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces import _sight_kernels
from jagged_quilt.surfaces.uv_canvas import empty_points, filled_points

_MAP = 2048
_NONE = frozen(np.empty((0, 3)), np.float32)


def points_on(mesh: Mesh, which: NDArray[np.int32], shares: NDArray[np.float32]) -> Points:
    """Return points on triangles `which` (N,), `shares` (N, 2) of their second and third corners; footprint 1 m."""
    out = empty_points(len(which), mesh, steps=False)
    out.footprint[:] = 1
    _sight_kernels.seen_points(
        frozen(which, np.int32), frozen(shares, np.float32), mesh.rows, np.empty((4, 3)), np.empty((9, 3), np.float32), out
    )
    return mesh.in_world(filled_points(out))


class ShadowMap:
    """What of some meshes stands between a place and a far light: a picture of them as the light sees them."""

    def __init__(self, meshes: list[Mesh], towards: NDArray[np.float64]) -> None:
        side = np.cross(towards, [0.0, 1.0, 0.0] if abs(towards[1]) < 0.99 else [1.0, 0.0, 0.0])
        side /= np.linalg.norm(side)
        self._axes = np.stack([side, np.cross(towards, side), towards])
        places = [mesh.world @ self._axes.T for mesh in meshes]
        low, high = (np.min([p.min(axis=0) for p in places], axis=0), np.max([p.max(axis=0) for p in places], axis=0))
        self._low = low
        self._scale = (_MAP - 2) / max(float((high - low)[:2].max()), 1e-6)
        self._nearest = np.zeros((_MAP, _MAP))
        seen, shares = np.empty((_MAP, _MAP), np.int32), np.empty((_MAP, _MAP, 2), np.float32)
        for mesh, place in zip(meshes, places, strict=True):
            _sight_kernels.draw_triangles(
                frozen(self._on_map(place), np.float64), mesh.triangles, 0, _MAP, _MAP, self._nearest, seen, shares
            )

    def _on_map(self, place: NDArray[np.float64]) -> NDArray[np.float64]:
        """Map columns and rows, and metres towards the light, from 1 for the farthest."""
        flat = (place[:, :2] - self._low[:2]) * self._scale + 1
        return np.column_stack([flat, place[:, 2] - self._low[2] + 1])

    def free(self, points: Points) -> NDArray[np.float32]:
        """Return how free the way to the light is at each point, 0..1, (N,), as the mean over 3 x 3 of the map's places."""
        out = np.empty(len(points), np.float32)
        rows = _sight_kernels.SeenRows(points.position, _NONE if points.rest is None else points.rest, points.normal)
        _sight_kernels.free_of_map(
            rows, frozen(self._axes, np.float64), frozen(self._low, np.float64), self._scale, self._nearest, out
        )
        return out
