"""Where the finished texels of a surface come from, and one page made of them alone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from typing import Protocol

import numpy as np

from jagged_quilt.arrays.page_grid import PageAt, PageGrid, within
from jagged_quilt.baking.bake import Baker
from jagged_quilt.baking.baked_maps import BakedMaps
from jagged_quilt.baking.coarser import Maps, coarser, spread
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.work import ALONE
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.surfaces.grid_canvas import GridCanvas

_AT_ONCE = 1024  # texels along the side of what is made of a finer mip at once, where a page is made alone

Pages = dict[MapRole, Stored]
"""Of each role a page, (side, side, channels), or several."""


class Finest(Protocol):
    """Gives the finished texels of a surface at full size."""

    def region(self, region: Region) -> Maps:
        """Return a region that lies within the surface, (H, W, C) of each role."""
        ...


@dataclass(frozen=True, eq=False)
class GroundTexels:
    """The texels of a ground, baked when they are asked for."""

    baker: Baker

    def region(self, region: Region) -> Maps:
        """Bake a region, on one thread."""
        canvas = self.baker.canvas
        assert isinstance(canvas, GridCanvas)
        window = canvas.page(rows=(region.top, region.bottom), columns=(region.left, region.right))
        return _by_channel(self.baker.over(window, block=region.rows * region.columns, work=ALONE))


@dataclass(eq=False)
class WholeTexels:
    """The texels of a surface that is baked as a whole, at the first time that one is asked for."""

    bake: Callable[[], BakedMaps]
    _maps: Maps | None = field(default=None, init=False)

    def region(self, region: Region) -> Maps:
        """Return a region."""
        if self._maps is None:
            self._maps = _by_channel(self.bake())
        return {role: each[region.top : region.bottom, region.left : region.right] for role, each in self._maps.items()}


def _by_channel(maps: BakedMaps) -> Pages:
    rows, columns = maps.texels
    return {role: texels.reshape(rows, columns, -1) for role, texels in maps.items()}


def page_alone(finest: Finest, grid: PageGrid, at: PageAt) -> Pages:
    """Return one page, (side, side, channels) of each role, without a store: only what it needs is baked.

    A coarse page is made of finer texels piece by piece, so that what is held does not grow with them.
    """
    reach = grid.reach(grid.checked(at))
    there = within(reach, grid.size(at.mip))
    return {role: spread(texels, there, reach) for role, texels in _texels(finest, grid, at.mip, there).items()}


def _texels(finest: Finest, grid: PageGrid, mip: int, region: Region) -> Maps:
    if mip == 0:
        return finest.region(region)
    out: Pages = {}
    for top in range(region.top, region.bottom, _AT_ONCE // 2):
        for left in range(region.left, region.right, _AT_ONCE // 2):
            bottom, right = min(top + _AT_ONCE // 2, region.bottom), min(left + _AT_ONCE // 2, region.right)
            made = coarser(Region(top, bottom, left, right), grid.size(mip - 1), partial(_texels, finest, grid, mip - 1))
            for role, texels in made.items():
                whole = out.setdefault(role, np.empty((region.rows, region.columns, texels.shape[2]), texels.dtype))
                whole[top - region.top : bottom - region.top, left - region.left : right - region.left] = texels
    return out
