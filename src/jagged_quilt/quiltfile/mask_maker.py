"""Making the masks and medleys of a quilt file, each once, and after those that it asks."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path

from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Model
from jagged_quilt.maps.image_limits import ImageLimits
from jagged_quilt.masks.mask import Constant, Mask, Shared
from jagged_quilt.masks.noise_mask import Noise
from jagged_quilt.quiltfile.mask_tables import steps_mask
from jagged_quilt.quiltfile.schema import MedleyTable
from jagged_quilt.quiltfile.tables import said
from jagged_quilt.weights.channel import Channel
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.daub_windows import DaubFile
from jagged_quilt.weights.medley import Heights, Medley
from jagged_quilt.weights.showing import uncovered

_DEEP, _STEPS = 256, 10_000  # masks that ask each other; steps of one, with all that it asks

At = Callable[..., AbstractContextManager[None]]
"""Gives a context that adds a key path to what is refused inside."""


@dataclass(frozen=True, slots=True)
class Channels:
    """The tables of channels, and what reads the daubs that paint them."""

    tables: Sequence[Model] = ()
    daubs: Callable[[], Sequence[Daub]] = tuple


class MaskMaker:
    """Makes masks from tables; `folder` is what their files are relative to.

    Channels are made by the one to which they were given; that of a mesh asks that one, its `above`.
    """

    def __init__(
        self,
        folder: Path,
        limits: ImageLimits,
        layers: list[Model],
        at: At,
        adopted: Collection[str] = (),
        channels: Channels | None = None,
        above: MaskMaker | None = None,
    ) -> None:
        self._adopted, self._channels, self._above = frozenset(adopted), channels or Channels(), above
        self._made_channels: dict[str, Channel] = {}
        self.folder, self.limits, self._layers, self._at = folder, limits, layers, at
        self._places = _places(layers)
        self._places_of_channels = _places(self._channels.tables)
        self._made: dict[int, Mask | None] = {}
        self.laid: list[Layer] = []
        """The layers that are made so far."""
        self._being_made: list[int | str] = []
        self._steps: dict[int | str, int] = {}
        """How many steps each mask takes, with those of the masks that it asks."""
        self._taken = [0]

    def mask_of_layer(self, name: str) -> Mask:
        """Return the mask of a layer; everywhere where it has none.

        Raises
        ------
        NameNotFoundError
            If there is no such layer.
        RangeError
            If that leads in a circle.
        """
        found = self.mask(self._places[known_name("layer", name, self._places)])
        return Constant(1.0) if found is None else found

    def shown_of_layer(self, name: str) -> Mask:
        """Return how much of a layer shows below the one whose mask is being made.

        Raises
        ------
        NameNotFoundError
            If there is no such layer below.
        RangeError
            If one of them begins with adopted weights, which are no mask.
        """
        index = self._being_made[-1] if self._being_made else ""
        if isinstance(index, str):
            raise RangeError('kind = "shown" is for the masks of layers: it asks what lies below')
        below = self._below(index)
        names = [self._layers[n].name for n in below]
        first = below[names.index(known_name("layer below this one", name, names))]
        asked = [n for n in below if n >= first]
        for n in asked:
            self._refuse_adopted(n)
        made = {n: self.mask(n) for n in asked}
        return uncovered([None if mask is None else Shared(mask, self._layers[n].name) for n, mask in made.items()], 0)

    def layers_below(self) -> list[Layer]:
        """Return the layers below the one whose mask is being made; raise `RangeError` if they cannot be asked."""
        index = self._being_made[-1] if self._being_made else ""
        if isinstance(index, str):
            raise RangeError('kind = "detail" is for the masks of layers: it asks what lies below')
        below = self._below(index)
        if not below:
            raise RangeError('kind = "detail" asks what lies below, and nothing does; put it on a higher layer')
        if max(below) >= len(self.laid):
            raise RangeError('kind = "detail" asks layers that are not made yet; a lower layer cannot use this one\'s mask')
        for n in below:
            self._refuse_adopted(n)
        return [self.laid[n] for n in below]

    def _below(self, index: int) -> list[int]:
        part = getattr(self._layers[index], "part", "")
        return [n for n in range(index) if getattr(self._layers[n], "part", "") == part]

    def _refuse_adopted(self, index: int) -> None:
        if self._layers[index].name in self._adopted:
            raise RangeError(
                f'"{self._layers[index].name}" begins with adopted weights, which a mask cannot ask; use an image of them'
            )

    def mask(self, index: int) -> Mask | None:
        """Return the mask of the layer in a place, or None where it has none."""
        if index not in self._made:
            self._made[index] = self._of_steps(index, self._layers[index].mask, "layer", index)
        self._taken[-1] += self._steps[index]
        return self._made[index]

    def channel_named(self, name: str) -> Channel:
        """Return a channel: what its table says is there, and the daubs upon it.

        Raises
        ------
        NameNotFoundError
            If there is no such channel.
        RangeError
            If that leads in a circle.
        """
        if self._above is not None:
            made = self._above.channel_named(name)
            self._taken[-1] += self._above._steps[f'channel "{name}"']
            return made
        index = self._places_of_channels[known_name("channel", name, self._places_of_channels)]
        if name not in self._made_channels:
            below = self._of_steps(f'channel "{name}"', self._channels.tables[index].mask, "channel", index)
            daubs = self._channels.daubs()
            own = daubs if isinstance(daubs, DaubFile) else tuple(daub for daub in daubs if daub.channel == name)
            self._made_channels[name] = Channel(name, below, own)
        self._taken[-1] += self._steps[f'channel "{name}"']
        return self._made_channels[name]

    def _of_steps(self, what: int | str, steps: list[Model], *key: str | int) -> Mask | None:
        """The mask of some steps; refused if it is being made already."""
        if what in self._being_made:
            circle = [*self._being_made[self._being_made.index(what) :], what]
            way = " -> ".join(each if isinstance(each, str) else self._layers[each].name for each in circle)
            raise RangeError(f"masks ask each other in a circle: {way}; break it somewhere")
        if len(self._being_made) >= _DEEP:
            raise RangeError(f"masks ask each other, one the next, over more than {_DEEP} layers; use an image of one of them")
        self._being_made.append(what)
        self._taken.append(len(steps))
        made = steps_mask(steps, self, lambda which: self._at(*key, "mask", which)) if steps else None
        self._being_made.pop()
        self._steps[what] = self._taken.pop()
        if self._steps[what] > _STEPS:
            raise RangeError(
                f"takes {self._steps[what]:,} steps, with those of all masks that it asks; at most {_STEPS:,} are taken: use "
                "an image of one of them"
            )
        return made

    def medley(self, index: int, table: MedleyTable) -> Medley:
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
            by = steps_mask(table.mask, self, lambda which: self._at("medley", index, "mask", which))
        return Medley(tuple(table.swatches), by, table.softness)


def _places(tables: Sequence[Model]) -> dict[str, int]:
    """The first table of each name."""
    return {table.name: index for index, table in reversed(list(enumerate(tables)))}
