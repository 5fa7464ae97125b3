"""The texture layout of a mesh as a canvas: which triangle every texel belongs to, and its point."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from copy import copy
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import TEXELS, Block, CanvasPart, Piece, Region, Where, bands, checked_texels
from jagged_quilt.foundation.checks import frozen, whole_number_in
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.padding import PADDING
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.mesh_fields import MeshFields
from jagged_quilt.surfaces.mesh_points import empty_points, filled_points
from jagged_quilt.surfaces.parts import parts_of

_uv_kernels = kernels_of("jagged_quilt.surfaces._uv_kernels")

_OUTSIDE = 1e-4  # of the layout: uv may lie so far beyond 0 and 1
_WAYS_OUT = "give it a layout with unwrap = true (jq.shapes.unwrap), or blend at its vertices"


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class UvBlock(Block):
    """Some rows of a layout.

    Attributes
    ----------
    overlaps : int
        How many texels have their centre in more than one triangle.
    clash : (int, int) or None
        The first two triangles that lie on each other.
    """

    overlaps: int
    clash: tuple[int, int] | None


class _OfMesh:
    """What the canvases of a mesh share."""

    mesh: Mesh
    _parts: tuple[CanvasPart, ...]

    @property
    def parts(self) -> tuple[CanvasPart, ...]:
        """Those of the mesh."""
        return self._parts

    @property
    def fields(self) -> MeshFields:
        """What masks may ask of the whole mesh."""
        return MeshFields(self.mesh)


class UvCanvas(_OfMesh):
    """A mesh laid out flat: by its layout where it has one, else by its uv.

    Every texel that a triangle touches is covered: by a triangle that holds its centre, else by the nearest one; its point is
    then the nearest place of that triangle. The others are gaps, into which what is covered grows.

    Parameters
    ----------
    texels : int or (int, int)
        Along each side, or rows and columns.
    padding : int
        Texels by which covered ones are grown outwards, so that no background bleeds in; 2^m keeps it out of m mips.

    Raises
    ------
    ShapeError, RangeError
        If the mesh has no uv, they reach outside of 0..1, or no triangle has extent in uv.
    """

    def __init__(self, mesh: Mesh, texels: int | tuple[int, int] = TEXELS, *, padding: int = PADDING) -> None:
        self._rows = mesh.layout_rows
        if not len(self._rows.uv):
            raise ShapeError(f"the mesh has no uv to bake into; {_WAYS_OUT}")
        rows, columns = (texels, texels) if isinstance(texels, int) else texels
        self.mesh, self.padding = mesh, whole_number_in("padding", padding, 0, 1 << 14)
        self._parts = parts_of(mesh)
        self.texels = checked_texels(rows), checked_texels(columns)
        corners = self._rows.uv[mesh.triangles].astype(np.float64)
        low, high = corners.min(axis=(0, 1)), corners.max(axis=(0, 1))
        if (low < -_OUTSIDE).any() or (high > 1 + _OUTSIDE).any():
            raise RangeError(
                f"uv must lie within 0 to 1 to be baked into; they reach from ({low[0]:.3g}, {low[1]:.3g}) to "
                f"({high[0]:.3g}, {high[1]:.3g}), as those of tiled textures do; {_WAYS_OUT}"
            )
        edges = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
        has_extent = np.abs(edges[0][:, 0] * edges[1][:, 1] - edges[0][:, 1] * edges[1][:, 0]) > 1e-14
        self.without_extent = int((~has_extent).sum())
        """How many triangles have no extent in uv, and so no texel."""
        if not has_extent.any():
            raise RangeError(f"no triangle has any extent in uv; {_WAYS_OUT}")
        top = np.floor(corners[has_extent, :, 1].min(axis=1) * self.texels[0])
        order = np.argsort(top, kind="stable")
        self._which, self._top = np.flatnonzero(has_extent)[order], top[order]
        self._bottom = np.floor(corners[has_extent, :, 1].max(axis=1) * self.texels[0])[order]
        sides = np.empty((len(mesh.triangles), 2), np.float32)
        _uv_kernels.texel_sides(*self.texels, self._rows, np.empty((4, 3)), sides)
        self._sides = frozen(sides, np.float32)
        self._tallest = float((self._bottom - self._top).max())
        self._lasts = np.array([part.last for part in mesh.parts])
        self._gradients = self._steps = True

    def __repr__(self) -> str:
        return f"<UvCanvas {self.texels[1]} x {self.texels[0]} texels of {self.mesh!r}>"

    def blocks(self, most: int) -> Sequence[Region]:
        """Return bands of rows."""
        return bands(self.texels, most)

    def block(self, region: Region) -> UvBlock:
        """Return what covers a region, part by part; the same by regions as at once."""
        columns = self.texels[1]
        texels, triangles, clash = self._claimed(region)
        if region.columns < columns:
            at = texels % columns
            inside = (at >= region.left) & (at < region.right)
            texels, triangles = texels[inside], triangles[inside]
        pieces = []
        for number, own in self._by_part(triangles):
            which, where = triangles[own], texels[own]
            pieces.append(Piece(points=self._points(where, which), where=Where(each=where), part=number, triangles=which))
        pair = (int(clash[1]), int(clash[2])) if clash[0] else None
        return UvBlock(region=region, pieces=tuple(pieces), overlaps=int(clash[0]), clash=pair)

    def _by_part(self, triangles: NDArray[np.int32]) -> Iterator[tuple[int, slice | NDArray[np.intp]]]:
        """Yield each part that some triangles belong to, and which of them."""
        if len(self._lasts) == 1:
            yield from [(0, slice(None))] if len(triangles) else []
            return
        part_of = self.part_of(triangles)
        for number in np.unique(part_of):
            yield int(number), np.flatnonzero(part_of == number)

    def asking(self, *, gradients: bool, steps: bool) -> UvCanvas:
        """Return the canvas with points that hold the gradients of uv, and the true steps, only where somebody asks."""
        other = copy(self)
        other._gradients, other._steps = gradients, steps
        return other

    def part_of(self, triangles: NDArray[np.int32]) -> NDArray[np.int64]:
        """Return which part each triangle belongs to."""
        return np.searchsorted(self._lasts, triangles, side="right")

    def _claimed(self, region: Region) -> tuple[NDArray[np.int64], NDArray[np.int32], NDArray[np.int64]]:
        """The covered texels of the rows of a region by number, the triangle of each, and what clashes."""
        columns = self.texels[1]
        owner = np.full((region.rows, columns), _uv_kernels.NOBODY, np.int32)
        away, clash = np.empty(owner.shape, np.float32), np.zeros(3, np.int64)
        near = slice(*np.searchsorted(self._top, (region.top - self._tallest, region.bottom)))
        which = np.sort(self._which[near][self._bottom[near] >= region.top])
        _uv_kernels.claim_texels(
            region.top, region.bottom, self.texels, frozen(which, np.int64), self._rows, owner, away, clash
        )
        texels = np.flatnonzero(owner.ravel() != _uv_kernels.NOBODY)
        return texels + region.top * columns, owner.ravel()[texels], clash

    def _points(self, texels: NDArray[np.int64], triangles: NDArray[np.int32]) -> Points:
        out = empty_points(len(texels), self.mesh, gradients=self._gradients, steps=self._steps, laid=True)
        shares = np.empty((len(out.uv_tangent), 2), np.float32)
        _uv_kernels.layout_points(
            frozen(texels, np.int64),
            frozen(triangles, np.int32),
            self.texels,
            self._rows,
            self._sides,
            (np.empty((4, 3)), np.empty((9, 3), np.float32)),
            shares,
            out,
        )
        if len(shares):
            _uv_kernels.own_coordinates(frozen(triangles, np.int32), shares, self.mesh.rows, np.empty((4, 3)), out)
        return self.mesh.in_world(filled_points(out))


class VertexCanvas(_OfMesh):
    """The vertices of a mesh as a canvas of one column: weights and colours for a mesh that carries them itself.

    A vertex that several parts use belongs to the first of them.
    """

    def __init__(self, mesh: Mesh) -> None:
        self.mesh, self._parts = mesh, parts_of(mesh)
        self.texels = (len(mesh.position), 1)
        self._part_of = np.zeros(len(mesh.position), np.int64)
        for number in range(len(mesh.parts) - 1, -1, -1):
            part = mesh.parts[number]
            self._part_of[np.unique(mesh.triangles[part.first : part.last])] = number

    def __repr__(self) -> str:
        return f"<VertexCanvas {self.texels[0]} vertices of {self.mesh!r}>"

    @property
    def padding(self) -> None:
        """There are no gaps."""
        return None

    def blocks(self, most: int) -> Sequence[Region]:
        """Return all at once: the points know of each other."""
        return [Region.whole(self.texels)]

    def block(self, region: Region) -> Block:
        """Return the vertices, part by part."""
        points, pieces = self.mesh.points(), []
        for number in range(len(self.mesh.parts)):
            own = np.flatnonzero(self._part_of == number)
            own = own[(own >= region.top) & (own < region.bottom)]
            if len(own):
                pieces.append(Piece(points=points[own], where=Where(each=own), part=number))
        return Block(region=region, pieces=tuple(pieces))
