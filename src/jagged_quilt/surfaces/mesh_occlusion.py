"""How much of what lies before a mesh the mesh itself hides: rays from places all over it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.work import ANYHOW
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.mesh_samples import mesh_net, spacing_for

if TYPE_CHECKING:
    from scipy.spatial import cKDTree

    from jagged_quilt.surfaces import _cast_kernels
else:
    _cast_kernels = kernels_of("jagged_quilt.surfaces._cast_kernels")

_WAYS = 96
_MOST, _PER_REACH, _PER_SIZE = 1 << 16, 8.0, 128.0  # places; how many of them to the reach, and to the size of the mesh
_BESIDE = 8  # places that tell of a point
_AT_ONCE = 1 << 10


@dataclass(frozen=True, slots=True, eq=False)
class SampleField:
    """A number at places all over a mesh, read between those around a point that face as it does."""

    tree: cKDTree
    normals: NDArray[np.float32]
    values: NDArray[np.float32]
    origin: tuple[float, float, float]

    def at(self, points: Points) -> NDArray[np.float32]:
        """Return the number at each point, (N,): by the inverse square of distance, of places that face the same way."""
        count = min(_BESIDE, len(self.values))
        away, which = map(np.asarray, self.tree.query(points.world - self.origin, k=count))
        away, which = away.reshape(len(points), -1), which.reshape(len(points), -1)
        alike = np.einsum("nkd,nd->nk", self.normals[which], points.normal)
        weight = np.maximum(alike, 1e-3) ** 4 / np.maximum(away, 1e-6) ** 2
        return np.asarray((self.values[which] * weight).sum(axis=1) / weight.sum(axis=1), np.float32)


def mesh_occlusion(mesh: Mesh, reach: float) -> SampleField:
    """Return which share, 0..1, of what lies before the surface, weighted by the cosine, the mesh hides within `reach` metres.

    96 rays from each of many places (Zhukov et al. 1998); triangles stop them from both sides.
    """
    from scipy.spatial import cKDTree

    low, high = mesh.bounds
    size = float((high - low).max())
    spacing = spacing_for(mesh, min(reach / _PER_REACH, size / _PER_SIZE), _MOST)
    points = mesh_net(mesh, spacing).points
    positions = (points.world - mesh.origin).astype(np.float32)
    cell = np.column_stack([np.floor(positions / spacing), np.rint(2 * points.normal)]).astype(np.int64)
    kept = np.sort(np.unique(cell, axis=0, return_index=True)[1])  # one of those that stand together and face alike
    positions, normals = frozen(positions[kept], np.float32), frozen(points.normal[kept], np.float32)
    tree, out, off = _tree_of(mesh), np.empty(len(positions), np.float32), np.float32(max(1e-4 * size, 1e-3 * min(reach, size)))

    def cast(part: slice) -> None:
        _cast_kernels.hidden_share(positions[part], normals[part], _ways(), off, np.float32(reach), tree, out[part])

    ANYHOW.through([slice(n, n + _AT_ONCE) for n in range(0, len(positions), _AT_ONCE)], cast, step="casting rays")
    return SampleField(cKDTree(positions), normals, out, mesh.origin)


def _ways() -> NDArray[np.float32]:
    """Ways over a half sphere about +Z, as many to a side as a cosine has there: a spiral."""
    n = np.arange(_WAYS)
    radius, angle = np.sqrt((n + 0.5) / _WAYS), n * np.pi * (3 - np.sqrt(5))
    return frozen(np.stack([radius * np.cos(angle), radius * np.sin(angle), np.sqrt(1 - radius**2)], axis=1), np.float32)


def _tree_of(mesh: Mesh) -> _cast_kernels.TreeRows:
    """The triangles in the order of a space-filling curve (Morton), with the boxes above them."""
    corners = mesh.position[mesh.triangles].astype(np.float32)
    middle = corners.mean(axis=1)
    low, high = middle.min(axis=0), middle.max(axis=0)
    cell = ((middle - low) / max(float((high - low).max()), 1e-12) * 1023).astype(np.int64)
    key = sum((((cell[:, axis] >> bit) & 1) << (3 * bit + axis)) for bit in range(10) for axis in range(3))
    corners = corners[np.argsort(key, kind="stable")]
    leaves = 1 << max(1, int(np.ceil(np.log2(max(1, -(-len(corners) // _cast_kernels.LEAF))))))
    padded = np.repeat(corners[-1:, :1].repeat(3, axis=1), leaves * _cast_kernels.LEAF, axis=0)
    padded[: len(corners)] = corners
    boxes = np.empty((2 * leaves, 6), np.float32)
    groups = padded.reshape(leaves, -1, 3)
    boxes[leaves:, :3], boxes[leaves:, 3:] = groups.min(axis=1), groups.max(axis=1)
    first = leaves
    while first > 1:
        pairs = boxes[first : 2 * first].reshape(-1, 2, 6)
        first //= 2
        boxes[first : 2 * first] = np.concatenate([pairs[:, :, :3].min(axis=1), pairs[:, :, 3:].max(axis=1)], axis=1)
    boxes[0] = 0
    slack = 1e-6 * float(max(np.abs(low).max(), np.abs(high).max(), 1e-9))
    boxes[1:, :3] -= slack
    boxes[1:, 3:] += slack
    return _cast_kernels.TreeRows(frozen(boxes, np.float32), frozen(padded.reshape(-1, 9), np.float32), leaves)
