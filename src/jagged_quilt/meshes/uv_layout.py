"""The texture layout of a mesh: which triangle every texel belongs to, and its point."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import whole_number_in
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes import _kernels
from jagged_quilt.meshes.mesh import Mesh

_OUTSIDE = 1e-4  # of the layout: uv may lie so far beyond 0 and 1


@dataclass(frozen=True, slots=True, eq=False)
class LayoutPiece:
    """Some rows of a layout.

    Attributes
    ----------
    texels : (N,) int64
        The covered texels, by number row by row from the top left of the whole layout.
    triangles : (N,) int32
        Whose each is.
    overlaps : int
        How many texels have their centre in more than one triangle.
    clash : (int, int) or None
        The first two triangles that lie on each other.
    """

    texels: NDArray[np.int64]
    triangles: NDArray[np.int32]
    overlaps: int
    clash: tuple[int, int] | None


class UvLayout:
    """A mesh laid out flat by its uv.

    Every texel that a triangle touches is covered: by a triangle that holds its centre, else by the nearest one; its point is
    then the nearest place of that triangle.

    Parameters
    ----------
    texels : int or (int, int)
        Along each side, or rows and columns.

    Raises
    ------
    ShapeError, RangeError
        If the mesh has no uv, they reach outside of 0..1, or no triangle has extent in uv.
    """

    def __init__(self, mesh: Mesh, texels: int | tuple[int, int]) -> None:
        if mesh.uv is None:
            raise ShapeError("the mesh has no uv to bake into; unwrap it first, or blend at its vertices")
        rows, columns = (texels, texels) if isinstance(texels, int) else texels
        self.mesh = mesh
        self.texels = whole_number_in("texels", rows, 1, 1 << 17), whole_number_in("texels", columns, 1, 1 << 17)
        corners = mesh.uv[mesh.triangles].astype(np.float64)
        low, high = corners.min(axis=(0, 1)), corners.max(axis=(0, 1))
        if (low < -_OUTSIDE).any() or (high > 1 + _OUTSIDE).any():
            raise RangeError(f"uv must lie within 0 to 1 to be baked into; they reach from ({low[0]:.3g}, {low[1]:.3g}) to "
                             f"({high[0]:.3g}, {high[1]:.3g}); unwrap the mesh")  # fmt: skip
        edges = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
        has_extent = np.abs(edges[0][:, 0] * edges[1][:, 1] - edges[0][:, 1] * edges[1][:, 0]) > 1e-14
        self.without_extent = int((~has_extent).sum())
        """How many triangles have no extent in uv, and so no texel."""
        if not has_extent.any():
            raise RangeError("no triangle has any extent in uv; unwrap the mesh")
        top = np.floor(corners[has_extent, :, 1].min(axis=1) * self.texels[0])
        order = np.argsort(top, kind="stable")
        self._which, self._top = np.flatnonzero(has_extent)[order], top[order]
        self._bottom = np.floor(corners[has_extent, :, 1].max(axis=1) * self.texels[0])[order]
        self._sides = np.empty((len(mesh.triangles), 2), np.float32)
        _kernels.texel_sides(*self.texels, mesh.position, mesh.uv, mesh.triangles, np.empty((4, 3)), self._sides)
        self._tallest = float((self._bottom - self._top).max())

    def piece(self, first_row: int, last_row: int) -> LayoutPiece:
        """Return which texels of some rows are covered, and by which triangles; the same by rows as at once."""
        rows, columns = self.texels
        owner = np.full((last_row - first_row, columns), _kernels.NOBODY, np.int32)
        away = np.empty(owner.shape, np.float32)
        clash = np.zeros(3, np.int64)
        near = slice(*np.searchsorted(self._top, (first_row - self._tallest, last_row)))
        which = np.sort(self._which[near][self._bottom[near] >= first_row])
        assert self.mesh.uv is not None
        _kernels.claim_texels(first_row, last_row, rows, columns, which, self.mesh.uv, self.mesh.triangles, owner, away, clash)
        texels = np.flatnonzero(owner.ravel() != _kernels.NOBODY)
        pair = (int(clash[1]), int(clash[2])) if clash[0] else None
        return LayoutPiece(texels + first_row * columns, owner.ravel()[texels], int(clash[0]), pair)

    def points(self, piece: LayoutPiece, *, gradients: bool = True, steps: bool = True) -> Points:
        """Return the points of a piece's texels; without the gradients of uv and the true steps where nobody asks for them."""
        mesh, count = self.mesh, len(piece.texels)
        shapes = {"position": (3,), "normal": (3,), "tangent": (4,), "footprint": (2,), "uv": (2,), "uv_gradient": (2, 3),
                  "steps": (2, 3), "colour": (4,)}  # fmt: skip
        left_out = {"uv_gradient": not gradients, "steps": not steps, "colour": mesh.colour is None}
        out = {name: np.empty((0 if left_out.get(name) else count, *shape), np.float32) for name, shape in shapes.items()}
        colour = mesh.colour if mesh.colour is not None else np.empty((0, 4), np.float32)
        _kernels.layout_points(
            piece.texels, piece.triangles, *self.texels, mesh.position, mesh.normal, mesh.tangent, mesh.uv, colour,
            mesh.triangles, self._sides, np.empty((4, 3)), np.empty((9, 3), np.float32), *out.values(),
        )  # fmt: skip
        for array in out.values():
            array.flags.writeable = False
        return Points(**{name: array for name, array in out.items() if not left_out.get(name)})


class Padding:
    """Which covered texel is the nearest of every texel of a layout.

    Parameters
    ----------
    covered : (H, W) bool
    """

    def __init__(self, covered: NDArray[np.bool_]) -> None:
        near_row, near_column = np.empty(covered.shape, np.int32), np.empty(covered.shape, np.int32)
        _kernels.nearest_texels(np.ascontiguousarray(covered), *covered.shape, near_row, near_column)
        self._bare = np.flatnonzero(~covered)
        row, column = near_row.reshape(-1)[self._bare].astype(np.int64), near_column.reshape(-1)[self._bare]
        self._nearest = np.where(row < 0, self._bare, row * covered.shape[1] + column)
        away = np.hypot(row - self._bare // covered.shape[1], column - self._bare % covered.shape[1])
        self._away = np.where(row < 0, np.inf, away)

    def grow(self, values: NDArray[np.generic], padding: int) -> None:
        """Fill texels around covered ones with the value of the nearest, in place: at least those up to `padding` away along
        both axes; values : (H W, ...)."""
        reached = self._away <= padding * np.sqrt(2)
        values[self._bare[reached]] = values[self._nearest[reached]]


def put_rows(texels: NDArray[np.int64], values: NDArray[np.generic], target: NDArray[np.generic]) -> None:
    """Put the rows of `values`, (N,) or (N, C), into the rows `texels` of `target`, (M, C)."""
    _kernels.scatter_rows(texels, values.reshape(len(values), -1), target)
