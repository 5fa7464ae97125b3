"""Daubs: painting as data. One daub is a path with a radius, a falloff, a strength and a ceiling."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import overload

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import known_name, number_in, positive
from jagged_quilt.foundation.choices import Choice
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.masks.noise_mask import Noise


class DaubKind(Choice):
    """What a daub does."""

    PAINT = "paint"
    """Raise the weight of a layer, or of a pair of layers, towards the ceiling."""
    ERASE = "erase"
    """Lower the weight of a layer; with no layer named, go back to what was there before any daub."""
    SMOOTH = "smooth"
    """Take the weights of all layers from all around."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Daub:
    """One stroke. Its result depends neither on how its path is cut into points nor on the texels that it meets.

    How much a daub covers at a point is its strength where the path is near, falling to 0 at the radius; it is the same
    however often the path comes by. Painting then moves the layer's weight by that share of the way to the ceiling, and
    the other layers make room in proportion.

    Attributes
    ----------
    path : tuple of (x, z) or of (x, y, z)
        Metres. By x and z the distance to the path is seen from above; with y it is in space, as meshes want it.
    radius : float
        Metres.
    layers : tuple of str
        The layer to paint or erase; a pair to paint both, and none to go back (erase) or to smooth.
    kind : DaubKind
    channel : str
        The channel to paint or erase, in place of layers.
    falloff : float
        0 is full up to the radius; 1 falls all the way from the path to the radius.
    strength : float
        0..1.
    ceiling : float
        0..1, which the layer's weight (of a pair: both together) never passes by this daub.
    breakup : Noise or None
        Frays the outer part of the daub where it is 0; the middle of its path stays whole.
    between : Noise or None
        Which layer of a pair shows: the second one where it is 1.
    reach : float
        Metres from which a smoothing daub takes weights (the deviation of a Gaussian); 0 is a quarter of the radius.
    """

    __repr__ = short_repr

    path: tuple[tuple[float, ...], ...]
    radius: float
    layers: tuple[str, ...] = ()
    kind: DaubKind = DaubKind.PAINT
    channel: str = ""
    falloff: float = 0.5
    strength: float = 1.0
    ceiling: float = 1.0
    breakup: Noise | None = None
    between: Noise | None = None
    reach: float = 0.0

    def __post_init__(self) -> None:
        object.__setattr__(self, "kind", DaubKind.of(self.kind, "kind of daub"))
        if not self.path or len({len(point) for point in self.path}) != 1 or len(self.path[0]) not in (2, 3):
            raise ShapeError(
                f"a daub's path must be points (x, z), or all of them (x, y, z), at least one; got {_short(self.path)}"
            )
        for point in self.path:
            for at in point:
                number_in("a daub's path", at, -1e7, 1e7, "m")
        positive("radius", self.radius, "m")
        number_in("falloff", self.falloff, 0, 1)
        number_in("strength", self.strength, 0, 1)
        number_in("ceiling", self.ceiling, 0, 1)
        number_in("reach", self.reach, 0, unit="m")
        self._check_layers()

    def _check_layers(self) -> None:
        count = len(self.layers) + bool(self.channel)
        if self.channel and self.layers:
            raise RangeError(f'a daub lies on layers or on a channel; got {list(self.layers)} and "{self.channel}"')
        if self.channel and self.kind is DaubKind.SMOOTH:
            raise RangeError(f'channels cannot be smoothed; paint or erase "{self.channel}", with a falloff of 1')
        if self.kind is DaubKind.PAINT and count not in (1, 2):
            raise RangeError(f"a daub paints one layer or a pair; got {list(self.layers)}")
        if self.kind is DaubKind.ERASE and count > 1:
            raise RangeError(f"a daub erases one layer, or with none goes back to before; got {list(self.layers)}")
        if self.kind is DaubKind.SMOOTH and count:
            raise RangeError(f"a daub smooths all layers at once; leave out {list(self.layers)}")
        if count == 2 and (self.between is None or self.layers[0] == self.layers[1]):
            raise RangeError(
                f"a pair is two layers and the noise between them; got {list(self.layers)}, between {self.between}"
            )
        if count < 2 and self.between is not None:
            raise RangeError("between is said of a pair of layers; for one layer use breakup")
        if self.ceiling != 1 and self.kind is not DaubKind.PAINT:
            raise RangeError(f"a ceiling is for painting; leave it out of a daub that does {self.kind.value}")

    @property
    def smooths_over(self) -> float:
        """Metres of deviation of the Gaussian that a smoothing daub takes weights by."""
        return self.reach or self.radius / 4

    def segments(self) -> NDArray[np.float64]:
        """Return the straight pieces of the path, (M, 6): from x, y, z to x, y, z; y is 0 where the path has none."""
        points = [(point[0], point[1] if len(point) == 3 else 0.0, point[-1]) for point in self.path]
        ends = points if len(points) > 1 else points * 2
        return np.array([(*a, *b) for a, b in pairwise(ends)], np.float64)

    @property
    def in_space(self) -> bool:
        """Whether distances to the path count height too."""
        return len(self.path[0]) == 3

    @property
    def bounds(self) -> tuple[float, float, float, float]:
        """West, north, east and south end of what it can touch: x from, z from, x to, z to."""
        across, down = [point[0] for point in self.path], [point[-1] for point in self.path]
        r = self.radius
        return min(across) - r, min(down) - r, max(across) + r, max(down) + r

    def check_on(self, size: tuple[float, float], layers: tuple[str, ...], channels: tuple[str, ...] = ()) -> None:
        """Raise unless its layers and its channel are known and its whole path can touch a ground of a size (metres east and
        south)."""
        if self.channel:
            known_name("channel", self.channel, channels)
        for name in self.layers:
            known_name("layer", name, layers)
        for point in self.path:
            x, z = point[0], point[-1]
            if not (-self.radius < x < size[0] + self.radius and -self.radius < z < size[1] + self.radius):
                raise RangeError(
                    f"the path leaves the surface at x {x:g}, z {z:g}; it reaches from 0, 0 to {size[0]:g}, {size[1]:g} m"
                )


@dataclass(frozen=True, slots=True, eq=False)
class SomeDaubs(Sequence[Daub]):
    """Some of the daubs of a file, in order, and the number of each in it, from 1."""

    daubs: tuple[Daub, ...]
    numbers: tuple[int, ...]

    @classmethod
    def of(cls, daubs: Sequence[Daub], wanted: Callable[[Daub], bool]) -> SomeDaubs:
        """Return those that are wanted."""
        own = [(daub, number) for number, daub in enumerate(daubs, 1) if wanted(daub)]
        return cls(tuple(daub for daub, _ in own), tuple(number for _, number in own))

    def __len__(self) -> int:
        return len(self.daubs)

    @overload
    def __getitem__(self, number: int) -> Daub: ...
    @overload
    def __getitem__(self, number: slice) -> tuple[Daub, ...]: ...
    def __getitem__(self, number: int | slice) -> Daub | tuple[Daub, ...]:
        return self.daubs[number]


def _short(value: object) -> str:
    text = repr(value)
    return text if len(text) < 80 else text[:77] + "..."
