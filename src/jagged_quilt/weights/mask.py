"""What a mask is, and how masks combine.

A mask answers 0..1 at every point. Masks are values: `HeightBand(2, 6) * ~Slope(30, 90)` is a mask too.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import number_in
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.points import Points

Answers = NDArray[np.float32]
"""(N,) float32, 0..1: how much of something is at each point."""


class Combine(Enum):
    """Ways to put one mask upon another; each works on answers and gives answers."""

    MULTIPLY = "multiply"
    ADD = "add"
    SUBTRACT = "subtract"
    MAXIMUM = "maximum"
    MINIMUM = "minimum"

    def __call__(self, below: Answers, above: Answers) -> Answers:
        """Return what `above` makes of `below`, both (N,) float32."""
        match self:
            case Combine.MULTIPLY:
                return below * above
            case Combine.ADD:
                return np.minimum(below + above, np.float32(1))
            case Combine.SUBTRACT:
                return np.maximum(below - above, np.float32(0))
            case Combine.MAXIMUM:
                return np.maximum(below, above)
            case Combine.MINIMUM:
                return np.minimum(below, above)


class Mask:
    """The base of all masks. A kind of mask is a frozen dataclass that defines `answer`."""

    __slots__ = ()

    def answer(self, points: Points) -> Answers:
        """Return (N,) float32, 0..1. The points are not changed."""
        raise NotImplementedError

    def __mul__(self, other: Mask | float) -> Mask:
        return Combined(Combine.MULTIPLY, self, as_mask(other))

    def __add__(self, other: Mask | float) -> Mask:
        return Combined(Combine.ADD, self, as_mask(other))

    def __sub__(self, other: Mask | float) -> Mask:
        return Combined(Combine.SUBTRACT, self, as_mask(other))

    def __or__(self, other: Mask | float) -> Mask:
        return Combined(Combine.MAXIMUM, self, as_mask(other))

    def __and__(self, other: Mask | float) -> Mask:
        return Combined(Combine.MINIMUM, self, as_mask(other))

    def __rsub__(self, other: float) -> Mask:
        return Combined(Combine.SUBTRACT, as_mask(other), self)

    __rmul__ = __mul__
    __radd__ = __add__
    __ror__ = __or__
    __rand__ = __and__

    def __invert__(self) -> Mask:
        return Inverted(self)


@dataclass(frozen=True, slots=True)
class Constant(Mask):
    """The same everywhere, 0..1."""

    value: float

    def __post_init__(self) -> None:
        number_in("a constant mask", self.value, 0, 1)

    def answer(self, points: Points) -> Answers:
        return np.full(len(points), self.value, np.float32)


@dataclass(frozen=True, slots=True)
class Combined(Mask):
    """One mask upon another."""

    combine: Combine
    below: Mask
    above: Mask

    def answer(self, points: Points) -> Answers:
        return self.combine(self.below.answer(points), self.above.answer(points))


@dataclass(frozen=True, slots=True)
class Inverted(Mask):
    """1 minus a mask."""

    mask: Mask

    def answer(self, points: Points) -> Answers:
        return np.float32(1) - self.mask.answer(points)


def as_mask(value: Mask | float) -> Mask:
    """Return a mask as it is and a number as a constant mask."""
    if isinstance(value, Mask):
        return value
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        return Constant(float(value))
    raise ShapeError(f"a mask combines with a mask or a number from 0 to 1; got {type(value).__name__}")


def smooth_step(values: NDArray[np.float32], start: float, end: float) -> NDArray[np.float32]:
    """Return 0 up to `start`, 1 from `end`, and 3t^2 - 2t^3 between; a hard cut where they are equal."""
    if end <= start:
        return (values >= start).astype(np.float32)
    t = np.clip((values - np.float32(start)) * np.float32(1 / (end - start)), 0, 1).astype(np.float32)
    return t * t * (np.float32(3) - np.float32(2) * t)


def band(values: NDArray[np.float32], low: float, high: float, fade: float) -> NDArray[np.float32]:
    """Return 1 from `low` to `high`, falling to 0 over `fade` on either side."""
    rising = smooth_step(values, low - fade, low)
    falling = np.float32(1) - smooth_step(values, high, high + fade) if fade > 0 else (values <= high).astype(np.float32)
    return rising * falling


def checked_band(kind: str, low: float, high: float, fade: float, unit: str) -> None:
    """Raise `RangeError` unless low <= high and fade >= 0."""
    low, high = number_in(f"{kind} band", low, unit=unit), number_in(f"{kind} band", high, unit=unit)
    if low > high:
        raise RangeError(f"{kind} band is upside down: it begins at {low:g} and ends at {high:g} {unit}; swap the two")
    number_in(f"{kind} fade", fade, 0, unit=unit)
