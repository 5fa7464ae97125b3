"""Drawing triangles of which parts are not there: what is cut out is drawn again with what lies beyond, layer after layer."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.mesh_points import points_on

_sight_kernels = kernels_of("jagged_quilt.surfaces._sight_kernels")

_MOST = 32  # layers of what is cut out that a ray goes through

IsThere: TypeAlias = Callable[[NDArray[np.int32], NDArray[np.float32], NDArray[np.int64]], NDArray[np.bool_]]
"""Says whether places of triangles are there: which (N,), shares (N, 2), and the pixels from which they are seen (N,)."""

Holes: TypeAlias = Callable[[int], Callable[[Points], NDArray[np.bool_]] | None]
"""Gives, of a part by its number, what says whether points of it are there; None where all of it is."""
_Some: TypeAlias = NDArray[np.intp]

_EVERYTHING = frozen(np.empty((0, 0)), np.float64)


def draw_there(
    positions: NDArray[np.float64],
    triangles: NDArray[np.int32],
    rows: tuple[int, int],
    depth: NDArray[np.float64],
    seen: NDArray[np.int32],
    shares: NDArray[np.float32],
    is_there: IsThere | None = None,
    asked: NDArray[np.int64] | None = None,
) -> None:
    """Fill which triangle each pixel of some rows sees first; with `is_there`, the first that is there.

    Parameters
    ----------
    places : (V, 3) float64
        As `draw_triangles` takes them.
    rows : (int, int)
        First, and one past the last.
    depth, seen, shares : (R, C), (R, C) and (R, C, 2)
        Filled: 1 / distance ahead or 0, the triangle or -1, and the shares of its second and third corner.
    asked : (P,) int64, optional
        Of the pixels, those that matter; the others may keep what is not there.
    """
    columns = depth.shape[1]
    _sight_kernels.draw_triangles(positions, triangles, rows, columns, _EVERYTHING, depth, seen, shares)
    if is_there is None:
        return
    near, which, corners = depth.reshape(-1), seen.reshape(-1), shares.reshape(-1, 2)
    open_ = np.arange(len(near)) if asked is None else asked
    beyond = np.zeros_like(depth)
    for _ in range(_MOST):
        open_ = open_[which[open_] >= 0]
        gone = open_[~is_there(which[open_], corners[open_], open_)]
        if not len(gone):
            return
        beyond[...] = 0
        beyond.reshape(-1)[gone] = near[gone] * (1 - 1e-9)
        near[gone], which[gone] = 0, -1
        _sight_kernels.draw_triangles(positions, triangles, rows, columns, beyond, depth, seen, shares)
        open_ = gone
    near[open_], which[open_] = 0, -1


def holes_of_parts(
    mesh: Mesh, before: int, holes: Holes
) -> Callable[[NDArray[np.int32], Callable[[_Some], Points]], NDArray[np.bool_]] | None:
    """Return what says whether places of triangles (N,) are there, given what makes points of some of them; None where all of
    the mesh is.

    before : the number of its first part.
    """
    asked = [(part, holes(before + index)) for index, part in enumerate(mesh.parts)]
    if all(is_there is None for _, is_there in asked):
        return None

    def is_there(which: NDArray[np.int32], points: Callable[[_Some], Points]) -> NDArray[np.bool_]:
        out = np.ones(len(which), bool)
        for part, own in asked:
            some = np.flatnonzero((which >= part.first) & (which < part.last))
            if own is not None and len(some):
                out[some] = own(points(some))
        return out

    return is_there


def holes_in_shadow(mesh: Mesh, before: int, holes: Holes, footprint: float) -> IsThere | None:
    """Return what says whether places of a mesh's triangles are there as a light sees them, `footprint` metres for a place of
    its map; None where all of the mesh is."""
    asked = holes_of_parts(mesh, before, holes)
    if asked is None:
        return None

    def is_there(which: NDArray[np.int32], shares: NDArray[np.float32], _pixels: NDArray[np.int64]) -> NDArray[np.bool_]:
        wide = lambda points: replace(points, footprint=frozen(np.full((len(points), 2), footprint), np.float32))
        return asked(which, lambda some: wide(points_on(mesh, which[some], shares[some])))

    return is_there
