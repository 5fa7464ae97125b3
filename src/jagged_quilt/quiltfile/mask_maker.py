"""Making the masks and medleys of a quilt file, each once, and after those that it asks."""

from __future__ import annotations

from collections.abc import Callable, Collection
from contextlib import AbstractContextManager
from pathlib import Path

from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.loose import Model
from jagged_quilt.maps.image_files import ImageLimits
from jagged_quilt.masks.mask import Constant, Mask
from jagged_quilt.masks.noise_mask import Noise
from jagged_quilt.quiltfile.mask_tables import steps_mask
from jagged_quilt.quiltfile.schema import MedleyTable
from jagged_quilt.quiltfile.tables import said
from jagged_quilt.weights.medley import Heights, Medley
from jagged_quilt.weights.showing import uncovered

At = Callable[..., AbstractContextManager[None]]
"""Gives a context that adds a key path to what is refused inside."""


class MaskMaker:
    """Makes masks from tables; `folder` is what their files are relative to."""

    def __init__(self, folder: Path, limits: ImageLimits, layers: list[Model], at: At, adopted: Collection[str] = ()) -> None:
        self._adopted = frozenset(adopted)
        self.folder, self.limits, self._layers, self._at = folder, limits, layers, at
        self._made: dict[int, Mask | None] = {}
        self._being_made: list[int] = []

    def mask_of_layer(self, name: str) -> Mask:
        """Return the mask of a layer; everywhere where it has none.

        Raises
        ------
        NameNotFoundError
            If there is no such layer.
        RangeError
            If that leads in a circle.
        """
        names = [layer.name for layer in self._layers]
        return self.mask(names.index(known_name("layer", name, names))) or Constant(1.0)

    def shown_of_layer(self, name: str) -> Mask:
        """Return how much of a layer shows below the one whose mask is being made.

        Raises
        ------
        NameNotFoundError
            If there is no such layer below.
        RangeError
            If one of them begins with adopted weights, which are no mask.
        """
        if not self._being_made:
            raise RangeError('kind = "shown" is for the masks of layers: it asks what lies below')
        place = self._being_made[-1]
        part = getattr(self._layers[place], "part", "")
        below = [n for n in range(place) if getattr(self._layers[n], "part", "") == part]
        names = [self._layers[n].name for n in below]
        first = below[names.index(known_name("layer below this one", name, names))]
        asked = [n for n in below if n >= first]
        for n in asked:
            if self._layers[n].name in self._adopted:
                raise RangeError(
                    f'"{self._layers[n].name}" begins with adopted weights, which a mask cannot ask; use an image of them'
                )
        return uncovered([self.mask(n) for n in asked], 0)

    def mask(self, place: int) -> Mask | None:
        """Return the mask of the layer in a place, or None where it has none."""
        if place in self._being_made:
            circle = [*self._being_made[self._being_made.index(place) :], place]
            way = " -> ".join(self._layers[each].name for each in circle)
            raise RangeError(f"masks ask each other in a circle: {way}; break it somewhere")
        if place not in self._made:
            steps = self._layers[place].mask
            self._being_made.append(place)
            at = lambda which: self._at("layer", place, "mask", which)
            self._made[place] = steps_mask(steps, self, at) if steps else None
            self._being_made.pop()
        return self._made[place]

    def medley(self, place: int, table: MedleyTable) -> Medley:
        """Return the medley of a table; raise `RangeError` if it does not say by what, or in two ways."""
        given = {"noise": table.noise is not None, "height": bool(table.heights), "mask": bool(table.mask)}
        if not given[table.by] or sum(given.values()) != 1:
            key = {"noise": "noise = { size = … }", "height": "heights", "mask": "[[medley.mask]] steps"}[table.by]
            raise RangeError(f'by = "{table.by}" needs {key}, and nothing for the other ways')
        by: Mask | Heights
        if table.noise is not None:
            by = Noise(**said(table.noise, Noise, leave_out=("threshold", "range", "period")))
        elif table.heights:
            by = Heights(tuple(table.heights), table.wobble, table.size)
        else:
            by = steps_mask(table.mask, self, lambda which: self._at("medley", place, "mask", which))
        return Medley(tuple(table.swatches), by, table.softness)
