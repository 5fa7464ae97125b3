"""What a mesh tells masks of itself as a whole."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import positive
from jagged_quilt.foundation.fields import Answer
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.mesh_distance import EdgeOnMesh, mesh_distance
from jagged_quilt.surfaces.mesh_occlusion import SampleField, mesh_occlusion

_CELLS = 8.0  # per scale, along each axis: how finely a curvature looks at its surroundings
_NEAREST = 64


if TYPE_CHECKING:
    from scipy.spatial import cKDTree


@dataclass(frozen=True, slots=True, eq=False)
class VertexField:
    """A number for every vertex, read between the nearest ones."""

    tree: cKDTree
    values: NDArray[np.float32]
    origin: tuple[float, float, float]

    def at(self, points: Points) -> NDArray[np.float32]:
        """Return the number at each point, (N,), from the four nearest vertices by the inverse of their distance."""
        away, which = map(np.asarray, self.tree.query(points.world - self.origin, k=min(4, len(self.values))))
        away, which = away.reshape(len(points), -1), which.reshape(len(points), -1)
        weight = 1 / np.maximum(away, 1e-9)
        return np.asarray((self.values[which] * weight).sum(axis=1) / weight.sum(axis=1), np.float32)


@dataclass(frozen=True, slots=True, eq=False)
class MeshFields:
    """What masks by curvature, hidden sky and distance, and warped masks, ask of a mesh."""

    mesh: Mesh

    @property
    def surface(self) -> Mesh:
        """The mesh."""
        return self.mesh

    def curvature(self, scale: float) -> VertexField:
        """Return the mean curvature in 1/m, above 0 on ridges: what is about `scale` metres across tells.

        The mean, over the surface within `scale` / 2 and facing the same way, of how the normal turns along the way there,
        dn . dp / dp . dp, weighted by a Gaussian of `scale` / 4 and by area.
        """
        return self._curvature(positive("scale", scale, "m"))

    def _curvature(self, scale: float) -> VertexField:
        from scipy.spatial import cKDTree

        positions, normals, areas = self._cells(scale / _CELLS)
        own, facing = self.mesh.position.astype(np.float64), self.mesh.normal.astype(np.float64)
        count = min(_NEAREST, len(positions))
        found = cKDTree(positions).query(own, k=count, distance_upper_bound=scale / 2)
        away, which = (np.asarray(each).reshape(len(own), count) for each in found)
        bent = np.zeros(len(own))
        for first in range(0, len(own), 1 << 15):
            part = slice(first, first + (1 << 15))
            near = np.minimum(which[part], len(positions) - 1)
            way, turn = positions[near] - own[part, None], normals[near] - facing[part, None]
            square = np.einsum("nkd,nkd->nk", way, way)
            weight = np.exp(-8 * np.minimum(away[part], scale) ** 2 / scale**2) * areas[near] * square
            weight *= np.isfinite(away[part]) & (np.einsum("nkd,nd->nk", normals[near], facing[part]) > 0)
            curved = np.einsum("nkd,nkd->nk", way, turn) / np.maximum(square, 1e-20)
            bent[part] = (curved * weight).sum(axis=1) / np.maximum(weight.sum(axis=1), 1e-20)
        return VertexField(cKDTree(own), bent.astype(np.float32), self.mesh.origin)

    def _cells(self, size: float) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
        """The mean place and normal, and the area, of what lies in each cell of space and faces the same way."""
        points = self.mesh.points()
        area = np.prod(points.footprint.astype(np.float64), axis=1)
        cell = np.floor(self.mesh.position / size).astype(np.int64)
        cell -= cell.min(axis=0)
        faces = np.argmax(np.abs(points.normal), axis=1)
        side = 2 * faces + (np.take_along_axis(points.normal, faces[:, None], 1)[:, 0] > 0)
        spans = cell.max(axis=0) + 1
        key = ((cell[:, 0] * spans[1] + cell[:, 1]) * spans[2] + cell[:, 2]) * 6 + side
        _, which = np.unique(key, return_inverse=True)
        total = np.bincount(which, area).astype(np.float64)
        mean = lambda values: np.stack([np.bincount(which, values[:, a] * area) for a in range(3)], 1) / total[:, None]
        normals = mean(points.normal)
        normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
        return mean(self.mesh.position), normals, total

    def ambient_occlusion(self, reach: float) -> SampleField:
        """Return how much of what lies before the surface the mesh itself hides, 0..1; see `mesh_occlusion`."""
        return mesh_occlusion(self.mesh, positive("reach", reach, "m"))

    def edge_distance(self, answer: Answer, texels: int) -> EdgeOnMesh:
        """Return metres through space to where an answer passes one half on the mesh; see `mesh_distance`."""
        return mesh_distance(self.mesh, answer, texels)
