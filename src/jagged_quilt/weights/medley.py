"""Medleys: several swatches that take turns over one layer, so that repetition does not show; height ramps among them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import number_in, positive
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.fields import Fields, HasFields
from jagged_quilt.foundation.noise import noise_at
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.masks.mask import Mask
from jagged_quilt.masks.noise_mask import Noise

_SEEDS_APART = 7919
HARD = 1e-4
"""The softness below which a change is a cut."""

Turns = NDArray[np.float32]
"""(S, N) float32: how much of each of S swatches shows at each point, summing to 1 over the swatches."""


@dataclass(frozen=True, slots=True)
class Heights:
    """Turns by height: each swatch is at its best at one height and hands over to the next between.

    Attributes
    ----------
    stops : tuple of float
        Metres, one for each swatch from the lowest up; or two, between which the swatches are spread evenly.
    wobble, size : float
        Metres up and down by which noise of `size` metres moves the stops, so that they do not look like contour lines.
    """

    stops: tuple[float, ...]
    wobble: float = 0.0
    size: float = 10.0

    def __post_init__(self) -> None:
        for stop in self.stops:
            number_in("height stop", stop, unit="m")
        if len(self.stops) < 2 or any(b <= a for a, b in zip(self.stops, self.stops[1:], strict=False)):
            raise RangeError(f"height stops must be two or more, each above the one before; got {list(self.stops)}")
        number_in("wobble", self.wobble, 0, unit="m")
        positive("wobble size", self.size, "m")


@dataclass(frozen=True, slots=True)
class Medley:
    """Several swatches that take turns.

    Attributes
    ----------
    swatches : tuple of str
        Two or more; the same one may come twice.
    by : Noise, Heights or another mask
        A noise gives each swatch a noise of its own, and the highest one shows: any two of them meet somewhere. Heights make
        a ramp. Another mask is cut into as many equal parts as there are swatches: the first where it is 0.
    softness : float
        0 changes at once, 1 all the way from one to the next.
    """

    __repr__ = short_repr

    swatches: tuple[str, ...]
    by: Mask | Heights
    softness: float = 0.3

    def __post_init__(self) -> None:
        if len(self.swatches) < 2:
            raise RangeError(f"a medley needs two swatches or more; got {list(self.swatches)}")
        if isinstance(self.by, Heights) and len(self.by.stops) not in (2, len(self.swatches)):
            raise RangeError(f"{len(self.by.stops)} height stops for {len(self.swatches)} swatches; name one for each, or two")
        number_in("medley softness", self.softness, 0, 1)

    def on(self, surface: Fields | HasFields) -> Medley:
        """Return this medley with all that its mask must know of a whole surface worked out."""
        return replace(self, by=self.by.on(surface)) if isinstance(self.by, Mask) else self

    def turns(self, points: Points) -> Turns:
        """Return how much of each swatch shows at each point, (S, N) float32, summing to 1."""
        count = len(self.swatches)
        if isinstance(self.by, Noise):
            return _highest(np.stack([noise.values(points) for noise in noises_of(self.by, count)]), self.softness)
        if isinstance(self.by, Mask):
            return _handed_over(self.by.answer(points), stops_of(self), self.softness)
        heights = points.position[:, 1]
        if self.by.wobble:
            noise = noise_at(points.position, size=self.by.size, octaves=3, rest=points.rest)
            heights = heights + (noise - np.float32(0.5)) * np.float32(2 * self.by.wobble)
        return _handed_over(heights, stops_of(self), self.softness)


def noises_of(noise: Noise, count: int) -> list[Noise]:
    """Return the noises of so many swatches that take turns by one."""
    return [replace(noise, seed=(noise.seed + _SEEDS_APART * turn) % (1 << 31)) for turn in range(count)]


def stops_of(medley: Medley) -> NDArray[np.float64]:
    """Return where each swatch of a medley that goes by heights, or by a mask, is at its best."""
    count = len(medley.swatches)
    if not isinstance(medley.by, Heights):
        return (np.arange(count) + 0.5) / count
    given = medley.by.stops
    return np.array(given) if len(given) == count else np.linspace(given[0], given[-1], count)


def height_ramp(swatches: Sequence[str], stops: Sequence[float], *, softness: float = 1.0, wobble: float = 0.0) -> Medley:
    """Return a medley of swatches from the lowest ground to the highest.

    Parameters
    ----------
    stops : sequence of float
        Metres at which each is at its best; or two, between which they are spread evenly.
    softness : float
        0 cuts halfway between two stops; 1 goes over all the way from one to the next.
    wobble : float
        Metres up and down by which noise moves the stops.

    Examples
    --------
    >>> jq.height_ramp(["clay", "salt"], [2.0, 6.0], softness=0.5)
    Medley(swatches=('clay', 'salt'), by=Heights(stops=(2.0, 6.0), wobble=0.0, size=10.0), softness=0.5)
    """
    return Medley(tuple(swatches), Heights(tuple(stops), wobble), softness)


def _highest(values: NDArray[np.float32], softness: float) -> Turns:
    """Where one value is above all others it shows; those within `softness` below it show too, the less the lower."""
    below = values.max(axis=0) - values
    if softness < HARD:
        return np.eye(len(values), dtype=np.float32)[below.argmin(axis=0)].T
    turns = np.maximum(np.float32(softness) - below, np.float32(0))
    shares: Turns = turns / turns.sum(axis=0)
    return shares


def _handed_over(values: NDArray[np.float32], stops: NDArray[np.float64], softness: float) -> Turns:
    """Hats around the stops, each falling to 0 at its neighbours' (softness 1) or sooner, and always summing to 1."""
    upper = np.clip(np.searchsorted(stops, values, side="right"), 1, len(stops) - 1)
    part = (values - stops[upper - 1]) / (stops[upper] - stops[upper - 1])
    over = (part >= 0.5) if softness < HARD else np.clip((part - 0.5) / softness + 0.5, 0, 1)
    turns = np.zeros((len(stops), len(values)), np.float32)
    at = np.arange(len(values))
    turns[upper, at] = over
    turns[upper - 1, at] = 1 - turns[upper, at]
    return turns


class Stacked(Protocol):
    """What weighing needs of a layer."""

    @property
    def name(self) -> str: ...

    @property
    def mask(self) -> Mask | None: ...

    @property
    def medley(self) -> Medley | None: ...


def shown_names(layers: Sequence[Stacked]) -> tuple[str, ...]:
    """Return the names in a weight map: a layer's own, or "layer: swatch" for each swatch of its medley."""
    return tuple(
        name
        for layer in layers
        for name in (_turn_names(layer.name, layer.medley) if layer.medley is not None else [layer.name])
    )


def _turn_names(layer: str, medley: Medley) -> list[str]:
    """Swatches that come twice are numbered."""
    names = [f"{layer}: {swatch}" for swatch in medley.swatches]
    return [f"{name} {names[: index + 1].count(name)}" if names.count(name) > 1 else name for index, name in enumerate(names)]
