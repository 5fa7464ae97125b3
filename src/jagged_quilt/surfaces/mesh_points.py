"""Points on the triangles of a mesh."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes._rows import FilledPoints
from jagged_quilt.meshes.mesh import Mesh

_sight_kernels = kernels_of("jagged_quilt.surfaces._sight_kernels")


def empty_points(count: int, mesh: Mesh, *, gradients: bool = True, steps: bool = True, laid: bool = False) -> FilledPoints:
    """Return room for points on a mesh: with uv and colour where it has them, gradients and steps where they are asked for,
    and tangents along uv of their own where they are laid out otherwise."""
    rows = lambda there, *shape: np.empty((count if there else 0, *shape), np.float32)
    has_uv = mesh.uv is not None
    return FilledPoints(
        rows(True, 3),
        rows(True, 3),
        rows(True, 4),
        rows(True, 2),
        rows(has_uv, 2),
        rows(has_uv and gradients, 2, 3),
        rows(steps, 2, 3),
        rows(mesh.colour is not None, 4),
        rows(laid and has_uv and mesh.layout is not None, 4),
        rows(False, 3),
    )


def filled_points(out: FilledPoints) -> Points:
    """Return points that a kernel filled; what has no rows is left out."""
    for array in out:
        array.flags.writeable = False
    needed = ("position", "normal", "tangent", "footprint")
    return Points(**{name: array for name, array in out._asdict().items() if len(array) or name in needed})


def points_on(mesh: Mesh, which: NDArray[np.int32], shares: NDArray[np.float32]) -> Points:
    """Return points on triangles `which` (N,), `shares` (N, 2) of their second and third corners; footprint 1 m."""
    out = empty_points(len(which), mesh, steps=False)
    out.footprint[:] = 1
    _sight_kernels.seen_points(
        frozen(which, np.int32), frozen(shares, np.float32), mesh.rows, np.empty((4, 3)), np.empty((9, 3), np.float32), out
    )
    return mesh.in_world(filled_points(out))
