"""A terrain as a canvas: texels in rows and columns, seen from above; or a page of it."""

from __future__ import annotations

import math
from collections.abc import Sequence

from jagged_quilt.foundation.canvas import Block, CanvasPart, Piece, Region, Where, bands, checked_texels, numbers_of
from jagged_quilt.foundation.fields import Fields
from jagged_quilt.foundation.points import Points
from jagged_quilt.surfaces.ground_surface import GroundSurface
from jagged_quilt.surfaces.parts import parts_of


class GridCanvas:
    """The texels of a terrain, north-west first.

    Parameters
    ----------
    whole : (int, int)
        Rows and columns of the whole terrain.
    window : Region, optional
        Which of them this canvas is; all where it is not given. See `page`.
    fields : Fields, optional
        What was worked out of the terrain before (see `remembering`); its own, anew, where it is not given.
    """

    def __init__(
        self, terrain: GroundSurface, whole: tuple[int, int], window: Region | None = None, fields: Fields | None = None
    ) -> None:
        rows, columns = (checked_texels(each) for each in whole)
        self.terrain, self.whole = terrain, (rows, columns)
        self.window = Region.whole(self.whole) if window is None else window
        self._fields = fields

    def __repr__(self) -> str:
        of = "" if self.texels == self.whole else f" of {self.whole[1]} x {self.whole[0]}"
        return f"<GridCanvas {self.texels[1]} x {self.texels[0]} texels{of} of {self.terrain!r}>"

    @property
    def texels(self) -> tuple[int, int]:
        """Rows and columns."""
        return self.window.rows, self.window.columns

    @property
    def parts(self) -> tuple[CanvasPart, ...]:
        """The ground is one."""
        return parts_of(self.terrain)

    @property
    def padding(self) -> None:
        """There are no gaps."""
        return None

    @property
    def fields(self) -> Fields:
        """What masks may ask of the whole terrain."""
        return self.terrain.fields if self._fields is None else self._fields

    def knowing(self, fields: Fields) -> GridCanvas:
        """Return the canvas with fields that were worked out before."""
        return GridCanvas(self.terrain, self.whole, self.window, fields)

    @property
    def spacing(self) -> tuple[float, float]:
        """Metres from one texel to the next, east and south."""
        return self.terrain.size[0] / self.whole[1], self.terrain.size[1] / self.whole[0]

    @property
    def size(self) -> tuple[float, float]:
        """Metres of the whole terrain, east and south."""
        return self.terrain.size

    def page(self, *, rows: tuple[int, int] | None = None, columns: tuple[int, int] | None = None) -> GridCanvas:
        """Return some rows and columns (first, one past the last) as a canvas of their own; raise `RangeError` outside."""
        return GridCanvas(self.terrain, self.whole, self.window.within(rows, columns), self._fields)

    def around(self, west: float, north: float, east: float, south: float) -> GridCanvas | None:
        """Return what of it lies in a box of the ground, in metres, as a canvas of its own; None where nothing does."""
        (rows, columns), (across, down) = self.whole, self.spacing
        top, bottom = max(0, math.floor(north / down) - 1), min(rows, math.ceil(south / down) + 1)
        left, right = max(0, math.floor(west / across) - 1), min(columns, math.ceil(east / across) + 1)
        return self.page(rows=(top, bottom), columns=(left, right)) if top < bottom and left < right else None

    def blocks(self, most: int) -> Sequence[Region]:
        """Return bands of rows."""
        return bands(self.texels, most)

    def points_of(self, region: Region) -> Points:
        """Return the points of a region of the whole terrain."""
        return self.terrain.grid_points(self.whole, region)

    def block(self, region: Region) -> Block:
        """Return the points of a region."""
        top, left = self.window.top, self.window.left
        there = Region(top + region.top, top + region.bottom, left + region.left, left + region.right)
        width = self.window.columns
        where = Where(run=slice(region.top * width + region.left, (region.bottom - 1) * width + region.right))
        if region.columns < width:
            where = Where(each=numbers_of(region, width))
        piece = Piece(points=self.points_of(there), where=where, columns=region.columns)
        return Block(region=region, pieces=(piece,))
