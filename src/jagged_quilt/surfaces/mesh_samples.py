"""Places all over a mesh, no farther from each other than asked: what its vertices alone are too few for."""

from __future__ import annotations

from functools import cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.mesh_points import points_on


class MeshNet(NamedTuple):
    """Points on a mesh, and the small triangles between them, (T, 3)."""

    points: Points
    triangles: NDArray[np.int64]


def spacing_for(mesh: Mesh, wanted: float, most: int) -> float:
    """Return metres between places that make no more than about so many of them: what is wanted, or more."""
    corners = mesh.position[mesh.triangles].astype(np.float64)
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum()
    return max(wanted, float(np.sqrt(area / most)), 1e-9)


def mesh_net(mesh: Mesh, spacing: float) -> MeshNet:
    """Return the mesh with every triangle cut into as many small ones as bring places within `spacing` metres.

    What lies along an edge stands once for each triangle beside it.
    """
    corners = mesh.position[mesh.triangles].astype(np.float64)
    longest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
    cuts = np.maximum(1, np.ceil(longest / spacing)).astype(np.int64)
    which, shares, small, first = [], [], [], 0
    for count in np.unique(cuts):
        own = np.flatnonzero(cuts == count)
        positions, triangles = _cut(int(count))
        which.append(np.repeat(own, len(positions)))
        shares.append(np.tile(positions, (len(own), 1)))
        small.append((first + len(positions) * np.arange(len(own))[:, None, None] + triangles).reshape(-1, 3))
        first += len(own) * len(positions)
    points = points_on(mesh, np.concatenate(which).astype(np.int32), np.concatenate(shares))
    return MeshNet(points, np.concatenate(small))


@cache
def _cut(count: int) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
    """The shares of the second and third corner of the places in a triangle cut `count` times along each side, and the
    triangles between them."""
    row, column = np.meshgrid(np.arange(count + 1), np.arange(count + 1), indexing="ij")
    inside = row + column <= count
    number = np.full(row.shape, -1)
    number[inside] = np.arange(inside.sum())
    shares = np.stack([column[inside], row[inside]], axis=1).astype(np.float32) / np.float32(count)
    upright = np.stack([number[:-1, :-1], number[:-1, 1:], number[1:, :-1]], axis=-1).reshape(-1, 3)
    hanging = np.stack([number[:-1, 1:], number[1:, 1:], number[1:, :-1]], axis=-1).reshape(-1, 3)
    every = np.concatenate([upright, hanging])
    return shares, every[(every >= 0).all(axis=1)].astype(np.int64)
