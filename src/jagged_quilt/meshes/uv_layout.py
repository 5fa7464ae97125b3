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
        self._which = np.flatnonzero(has_extent)
        self._top = np.floor(corners[has_extent, :, 1].min(axis=1) * self.texels[0])
        self._bottom = np.floor(corners[has_extent, :, 1].max(axis=1) * self.texels[0])

    def piece(self, first_row: int, last_row: int) -> LayoutPiece:
        """Return which texels of some rows are covered, and by which triangles; the same by rows as at once."""
        rows, columns = self.texels
        owner = np.full((last_row - first_row, columns), _kernels.NOBODY, np.int32)
        away = np.empty(owner.shape, np.float32)
        clash = np.zeros(3, np.int64)
        which = self._which[(self._bottom >= first_row) & (self._top < last_row)]
        assert self.mesh.uv is not None
        _kernels.claim_texels(first_row, last_row, rows, columns, which, self.mesh.uv, self.mesh.triangles, owner, away, clash)
        texels = np.flatnonzero(owner.ravel() != _kernels.NOBODY)
        pair = (int(clash[1]), int(clash[2])) if clash[0] else None
        return LayoutPiece(texels + first_row * columns, owner.ravel()[texels], int(clash[0]), pair)

    def points(self, piece: LayoutPiece) -> Points:
        """Return the points of a piece's texels."""
        mesh, count = self.mesh, len(piece.texels)
        has_colour = mesh.colour is not None
        shapes = {"position": (3,), "normal": (3,), "tangent": (4,), "footprint": (2,), "uv": (2,), "uv_gradient": (2, 3),
                  "steps": (2, 3), "colour": (4,)}  # fmt: skip
        out = {name: np.empty((count if name != "colour" or has_colour else 0, *shape), np.float32)
               for name, shape in shapes.items()}  # fmt: skip
        colour = mesh.colour if mesh.colour is not None else np.empty((0, 4), np.float32)
        _kernels.layout_points(piece.texels, piece.triangles, *self.texels, mesh.position, mesh.normal, mesh.tangent, mesh.uv,
                               colour, mesh.triangles, np.empty((4, 3)), *out.values())  # fmt: skip
        for array in out.values():
            array.flags.writeable = False
        return Points(**(out if has_colour else {name: array for name, array in out.items() if name != "colour"}))


def padded(values: NDArray[np.generic], covered: NDArray[np.bool_], padding: int) -> NDArray[np.int32]:
    """Grow covered texels outwards over an image, in place, by the nearest of them; return who is the nearest, (H W,) int32.

    Parameters
    ----------
    values : (H, W) or (H, W, C)
    covered : (H, W) bool
    padding : int
        Texels; 2^m keeps the background out of m mips.
    """
    nearest = nearest_covered(covered)
    grow_by(nearest, covered, padding, values)
    return nearest


def nearest_covered(covered: NDArray[np.bool_]) -> NDArray[np.int32]:
    """Return the number of the nearest covered texel of each one, (H W,) int32; -1 where none is."""
    nearest = np.empty(covered.size, np.int32)
    _kernels.nearest_texels(np.ascontiguousarray(covered).ravel(), *covered.shape, nearest)
    return nearest


def grow_by(nearest: NDArray[np.int32], covered: NDArray[np.bool_], padding: int, values: NDArray[np.generic]) -> None:
    """Fill texels up to `padding` away from covered ones with the value of the nearest, in place."""
    flat = values.reshape(covered.size, -1)
    _kernels.grow(nearest, np.ascontiguousarray(covered).ravel(), covered.shape[1], padding, flat)
