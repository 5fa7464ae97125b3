"""How far it is, through space, from places on a mesh to where an answer passes one half on it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.fields import Answer
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.mesh_samples import mesh_net, spacing_for

_MOST = 1 << 19  # places at which the answer is asked
_BESIDE = 6  # pieces of the edge that are looked at
_FAR = 1e6  # metres, where there is no edge at all


if TYPE_CHECKING:
    from scipy.spatial import cKDTree


@dataclass(frozen=True, slots=True, eq=False)
class EdgeOnMesh:
    """Metres to the edge of an answer, below 0 where it is one half or more.

    Attributes
    ----------
    answer : callable
    tree : cKDTree or None
        Of the middles of the pieces of the edge; None where there is no edge.
    pieces : (S, 2, 3) float64
        Where each begins and ends, metres from the origin.
    origin : (x, y, z)
    """

    answer: Answer
    tree: cKDTree | None
    pieces: NDArray[np.float64]
    origin: tuple[float, float, float]

    def at(self, points: Points) -> NDArray[np.float32]:
        """Return the distance at each point, (N,)."""
        away = np.full(len(points), _FAR) if self.tree is None else self._away(self.tree, points.world - self.origin)
        return np.where(self.answer(points) >= 0.5, -away, away).astype(np.float32)

    def _away(self, tree: cKDTree, positions: NDArray[np.float64]) -> NDArray[np.float64]:
        count = min(_BESIDE, len(self.pieces))
        which = np.asarray(tree.query(positions, k=count)[1]).reshape(len(positions), -1)
        begin, way = self.pieces[which, 0], self.pieces[which, 1] - self.pieces[which, 0]
        off = positions[:, None] - begin
        square = np.maximum(np.einsum("nkd,nkd->nk", way, way), 1e-30)
        share = np.clip(np.einsum("nkd,nkd->nk", off, way) / square, 0, 1)
        return np.asarray(np.linalg.norm(off - share[..., None] * way, axis=2).min(axis=1))


def mesh_distance(mesh: Mesh, answer: Answer, texels: int) -> EdgeOnMesh:
    """Return how far the edge of an answer is, straight through space.

    Triangles are cut until places lie as far apart as texels would, so many along the longest side of the mesh; the edge runs
    straight through each small triangle, between where linear interpolation places it on two of its sides.
    """
    from scipy.spatial import cKDTree

    low, high = mesh.bounds
    net = mesh_net(mesh, spacing_for(mesh, float((high - low).max()) / texels, _MOST))
    inside = answer(net.points)
    positions, own = net.points.world - mesh.origin, inside[net.triangles].astype(np.float64)
    ends, found = [], []
    for side in range(3):
        a, b = own[:, side], own[:, (side + 1) % 3]
        crosses = (a >= 0.5) != (b >= 0.5)
        share = np.divide(0.5 - a, b - a, out=np.zeros(len(a)), where=crosses)[:, None]
        start, end = positions[net.triangles[:, side]], positions[net.triangles[:, (side + 1) % 3]]
        ends.append(start + share * (end - start))
        found.append(crosses)
    cut = np.flatnonzero(np.any(found, axis=0))
    if not len(cut):
        return EdgeOnMesh(answer, None, np.empty((0, 2, 3)), mesh.origin)
    order = np.argsort(~np.stack(found, axis=1)[cut], axis=1, kind="stable")[:, :2]  # the two sides that it crosses
    pieces = np.stack(ends, axis=1)[cut[:, None], order]
    return EdgeOnMesh(answer, cKDTree(pieces.mean(axis=1)), pieces, mesh.origin)
