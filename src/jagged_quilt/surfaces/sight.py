"""What a picture sees of a mesh."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.peeling import IsThere, draw_there

_sight_kernels = kernels_of("jagged_quilt.surfaces._sight_kernels")

_MAP, _FACE = 2048, 1024
_CUTS = 6
_NONE = frozen(np.empty((0, 3)), np.float32)
NO_HOLES: Mapping[int, IsThere] = MappingProxyType({})


class ShadowMap:
    """What of some meshes stands between a place and a far light: a picture of them as the light sees them."""

    def __init__(self, meshes: list[Mesh], towards: NDArray[np.float64], holes: Mapping[int, IsThere] = NO_HOLES) -> None:
        """holes : by the number of a mesh, what says which places of its triangles are there."""
        side = np.cross(towards, [0.0, 1.0, 0.0] if abs(towards[1]) < 0.99 else [1.0, 0.0, 0.0])
        side /= np.linalg.norm(side)
        self._axes = np.stack([side, np.cross(towards, side), towards])
        turned = [mesh.world @ self._axes.T for mesh in meshes]
        low, high = (np.min([p.min(axis=0) for p in turned], axis=0), np.max([p.max(axis=0) for p in turned], axis=0))
        self._low = low
        self._scale = (_MAP - 2) / max(float((high - low)[:2].max()), 1e-6)
        self._nearest = np.zeros((_MAP, _MAP))
        seen, shares = np.full((_MAP, _MAP), -1, np.int32), np.empty((_MAP, _MAP, 2), np.float32)
        for number, (mesh, vertices) in enumerate(zip(meshes, turned, strict=True)):
            on_map = frozen(self._on_map(vertices), np.float64)
            if number in holes:
                own, seen[...] = np.zeros_like(self._nearest), -1
                draw_there(on_map, mesh.triangles, (0, _MAP), own, seen, shares, holes[number])
                np.maximum(self._nearest, own, out=self._nearest)
            else:
                draw_there(on_map, mesh.triangles, (0, _MAP), self._nearest, seen, shares)

    def _on_map(self, vertices: NDArray[np.float64]) -> NDArray[np.float64]:
        """Map columns and rows, and metres towards the light, from 1 for the farthest."""
        flat = (vertices[:, :2] - self._low[:2]) * self._scale + 1
        return np.column_stack([flat, vertices[:, 2] - self._low[2] + 1])

    def free(self, points: Points) -> NDArray[np.float32]:
        """Return how free the way to the light is at each point, 0..1, (N,), as the mean over 3 x 3 of the map's places."""
        out = np.empty(len(points), np.float32)
        rows = _sight_kernels.SeenRows(points.position, _NONE if points.rest is None else points.rest, points.normal)
        _sight_kernels.free_of_map(
            rows, frozen(self._axes, np.float64), frozen(self._low, np.float64), self._scale, self._nearest, out
        )
        return out


class LampMap:
    """What of some meshes stands between a place and a lamp: six pictures of them, one to each side, as the lamp sees them."""

    def __init__(self, meshes: list[Mesh], lamp: tuple[float, float, float], holes: Mapping[int, IsThere] = NO_HOLES) -> None:
        """holes : by the number of a mesh, what says which places of its triangles are there."""
        self._lamp = np.array(lamp, np.float64)
        self._nearest = np.zeros((6, _FACE, _FACE))
        for number, mesh in enumerate(meshes):
            whole = mesh.world[mesh.triangles] - self._lamp
            corners, which = _cut_small(whole)
            triangles = frozen(np.arange(3 * len(corners), dtype=np.int32).reshape(-1, 3), np.int32)
            is_there = _there_of_cut(holes[number], whole, corners, which) if number in holes else None
            for side in range(6):
                turned, _ = _on_face(corners.reshape(-1, 3), side)
                seen, shares = np.full((_FACE, _FACE), -1, np.int32), np.empty((_FACE, _FACE, 2), np.float32)
                own = np.zeros((_FACE, _FACE))
                draw_there(frozen(turned, np.float64), triangles, (0, _FACE), own, seen, shares, is_there)
                np.maximum(self._nearest[side], own, out=self._nearest[side])

    def free(self, points: Points) -> NDArray[np.float32]:
        """Return how free the way to the lamp is at each point, 0..1, (N,), as the mean over 3 x 3 of the pictures' places."""
        ways = points.world - self._lamp
        side = np.abs(ways).argmax(axis=1)
        side = 2 * side + (ways[np.arange(len(ways)), side] < 0)
        free = np.ones(len(ways), np.float32)
        for face in range(6):
            rows = np.flatnonzero(side == face)
            if not len(rows) or not self._nearest[face].any():
                continue
            turned, ahead = _on_face(ways[rows], face)
            far = np.linalg.norm(ways[rows], axis=1)
            lean = np.clip(-np.einsum("nd,nd->n", points.normal[rows], ways[rows]) / np.maximum(far, 1e-9), 0.1, 1)
            texel = 2 * ahead / _FACE
            lifted = 1 / np.maximum(ahead - texel * (2.5 * np.sqrt(1 - lean**2) / lean + 1), 1e-9)
            column, row = (np.floor(turned[:, axis]).astype(int) for axis in (0, 1))
            behind = np.zeros(len(rows))
            for down in (-1, 0, 1):
                for across in (-1, 0, 1):
                    at = np.clip(row + down, 0, _FACE - 1), np.clip(column + across, 0, _FACE - 1)
                    behind += self._nearest[face][at] > lifted
            free[rows] = 1 - behind / 9
        return free


def _on_face(ways: NDArray[np.float64], side: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Where ways from a lamp lie on its picture to one side (x, -x, y, -y, z, -z): places across and down, and 1 / metres
    ahead, (V, 3); and the metres ahead."""
    axis, sign = side // 2, 1 - 2 * (side % 2)
    ahead = sign * ways[:, axis]
    near = np.where(ahead > 1e-6, 1 / np.maximum(ahead, 1e-6), 0.0)
    across, down = ways[:, (axis + 1) % 3] * near, ways[:, (axis + 2) % 3] * near
    return np.column_stack([_FACE / 2 * (1 + across), _FACE / 2 * (1 + down), near]), ahead


def _cut_small(corners: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """Cut triangles (T, 3, 3) that are large beside their distance from the origin in four, so that none spans a wide angle.

    One that reaches behind a picture's eye cannot be drawn on it. Return also which triangle each is a part of.
    """
    which = np.arange(len(corners), dtype=np.int32)
    for _ in range(_CUTS):
        edge = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
        large = edge > 0.7 * np.linalg.norm(corners, axis=2).min(axis=1)
        if not large.any():
            break
        a, b, c = (corners[large, n] for n in range(3))
        ab, bc, ca = (a + b) / 2, (b + c) / 2, (c + a) / 2
        cut = [np.stack(each, axis=1) for each in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))]
        corners = np.concatenate([corners[~large], *cut])
        which = np.concatenate([which[~large], *(which[large] for _ in cut)])
    return corners, which


def _there_of_cut(
    is_there: IsThere, whole: NDArray[np.float64], corners: NDArray[np.float64], which: NDArray[np.int32]
) -> IsThere:
    """What says whether places of parts of triangles are there, by what says it of the whole ones."""

    def of_parts(part: NDArray[np.int32], shares: NDArray[np.float32], pixels: NDArray[np.int64]) -> NDArray[np.bool_]:
        own = corners[part]
        vertices = own[:, 0] + shares[:, :1] * (own[:, 1] - own[:, 0]) + shares[:, 1:] * (own[:, 2] - own[:, 0])
        first, second, third = (whole[which[part], corner] for corner in range(3))
        u, v, way = second - first, third - first, vertices - first
        uu, uv, vv = (np.einsum("nd,nd->n", a, b) for a, b in ((u, u), (u, v), (v, v)))
        wu, wv = np.einsum("nd,nd->n", way, u), np.einsum("nd,nd->n", way, v)
        area = np.maximum(uu * vv - uv * uv, 1e-300)
        of_whole = np.stack([(vv * wu - uv * wv) / area, (uu * wv - uv * wu) / area], axis=1)
        return is_there(which[part], np.clip(of_whole, 0, 1).astype(np.float32), pixels)

    return of_parts
