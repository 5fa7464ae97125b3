"""What a page depends on, by kind, so that only those are made anew of which something changed, and one can say why."""

from __future__ import annotations

import math
import pickle
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

import numpy as np

from jagged_quilt.arrays.page_grid import PageAt, PageGrid, within
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.version import __version__
from jagged_quilt.masks.mask import stamps_of
from jagged_quilt.surfaces.grid_canvas import GridCanvas
from jagged_quilt.weights.medley import shown_names
from jagged_quilt.weights.weight_map import WeightMap
from jagged_quilt.weights.weight_windows import WeightWindows

if TYPE_CHECKING:
    from jagged_quilt.baking.bake import Baker

_AROUND = 3  # samples beside a place that its height and slope depend on


class PageStamps(Protocol):
    """Says what a page of mip 0 is made from."""

    def finest(self, at: PageAt, grid: PageGrid) -> dict[str, str]:
        """Return a hash for each kind of thing that a page depends on."""
        ...


def stamp_of(made_from: Mapping[str, str]) -> str:
    """Return one hash of all that a page is made from."""
    return fingerprint(*(f"{kind} {stamp}" for kind, stamp in sorted(made_from.items())))


@dataclass(frozen=True)
class SameStamp:
    """Pages that all depend on one thing."""

    stamp: str

    def finest(self, at: PageAt, grid: PageGrid) -> dict[str, str]:
        """Return that."""
        return {"settings": self.stamp}


class GroundStamps:
    """What pages of a ground depend on: settings, the heights below, the weights there, and the layers that show there.

    Where a weight map answers, a page depends on that map's texels around it, and on no layer that has no weight there. Where
    masks answer at every texel, it depends on all of them: what they answer is not known before they are asked.
    """

    def __init__(self, baker: Baker) -> None:
        assert isinstance(baker.canvas, GridCanvas)
        (layers,), (source,) = baker.layers, baker.sources
        terrain = baker.canvas.terrain
        settings = (__version__, baker.canvas.whole, terrain.size, terrain.between, baker.normals, baker.filter, baker.relief)
        own = repr(stamps_of([layers, baker.films]))
        self._films = {"films": fingerprint(pickle.dumps(baker.films), own)} if baker.films else {}
        self._settings = fingerprint(repr(settings), *(role.key for role in baker.roles))
        self._canvas, self._map = baker.canvas, source if isinstance(source, WeightMap | WeightWindows) else None
        self._looks = dict(zip(shown_names(layers), baker.looks(), strict=True))
        self._weights = "" if self._map is not None else baker.stamp or fingerprint(pickle.dumps(source), own)

    def finest(self, at: PageAt, grid: PageGrid) -> dict[str, str]:
        """Return a hash for each kind of thing that a page depends on."""
        region = within(grid.reach(at), grid.texels)
        made_from = {"settings": self._settings, "ground": self._ground(region), **self._films}
        if self._map is None:
            return made_from | {"weights": self._weights} | {f"layer {name}": look for name, look in self._looks.items()}
        rows, columns = (
            _window(first, last, whole, own)
            for first, last, whole, own in (
                (region.top, region.bottom, grid.texels[0], self._map.layers.shape[0]),
                (region.left, region.right, grid.texels[1], self._map.layers.shape[1]),
            )
        )
        layers, weights = (np.asarray(each[rows, columns]) for each in (self._map.layers, self._map.weights))
        shown = [self._map.names[number] for number in np.unique(layers[weights > 0])]
        made_from["weights"] = fingerprint(str(layers.shape), np.where(weights > 0, layers, 0).tobytes(), weights.tobytes())
        return made_from | {f"layer {name}": self._looks[name] for name in shown}

    def _ground(self, region: Region) -> str:
        heights = self._canvas.terrain.heights
        if str(self._canvas.terrain.between) == "cubic":  # a spline through all
            return fingerprint(heights.tobytes())
        rows, columns = (
            slice(max(0, math.floor(first / whole * (own - 1)) - _AROUND), math.ceil(last / whole * (own - 1)) + _AROUND + 1)
            for first, last, whole, own in (
                (region.top, region.bottom, self._canvas.whole[0], heights.shape[0]),
                (region.left, region.right, self._canvas.whole[1], heights.shape[1]),
            )
        )
        return fingerprint(np.ascontiguousarray(heights[rows, columns]).tobytes())


def _window(first: int, last: int, whole: int, own: int) -> slice:
    """The texels of a map of `own` that are read between `first` and `last` of `whole`, and one more on each side."""
    low, high = (first + 0.5) / whole * own - 0.5, (last - 0.5) / whole * own - 0.5
    return slice(max(0, math.floor(low) - 1), min(own, math.floor(high) + 3))
