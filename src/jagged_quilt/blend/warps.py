"""Warps: how places are moved before a texture is laid on them. The texture then lies bent, and its slopes follow."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import number_in, positive
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.noise import noise_at
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.masks.image_mask import ImageMask

_FINE = 1 / 64  # of a warp's size: how far apart its slope is measured
_OCTAVES = 3


class AnyWarp(Protocol):
    """Something that moves places."""

    @property
    def step(self) -> float:
        """Metres between two places by which its slope is measured."""
        ...

    def moves(self, points: Points) -> NDArray[np.float32]:
        """Return how far each point is moved, (N, 3) metres."""
        ...


@dataclass(frozen=True, slots=True)
class Warp:
    """Noise by which places are moved before a texture is laid on them.

    Attributes
    ----------
    by : float
        Metres that a place moves at most along each axis.
    size : float
        Metres from one bend to the next.
    seed : int
    drift : (float, float)
        Metres east and south that the noise goes in a unit of `time`.
    """

    __repr__ = short_repr

    by: float
    size: float
    seed: int = 0
    drift: tuple[float, float] = (0.0, 0.0)
    time: float = 0.0

    def __post_init__(self) -> None:
        positive("warp by", self.by, "m")
        positive("warp size", self.size, "m")
        for each in (*self.drift, self.time):
            number_in("warp drift", each)

    @property
    def step(self) -> float:
        """Metres between two places by which its slope is measured."""
        return self.size * _FINE

    def moves(self, points: Points) -> NDArray[np.float32]:
        """Return how far each point is moved, (N, 3) metres."""
        at = _drifted(points, self.drift, self.time)
        ways = [self._noise(at, points, self.seed + 101 * axis) for axis in range(3)]
        return (np.stack(ways, axis=1) - np.float32(0.5)) * np.float32(2 * self.by)

    def _noise(self, at: NDArray[np.float32], points: Points, seed: int) -> NDArray[np.float32]:
        return noise_at(at, size=self.size, octaves=_OCTAVES, seed=seed, rest=points.rest)


@dataclass(frozen=True, slots=True, kw_only=True)
class Drip:
    """Places dragged down, each as far as noise says that is the same all the way down: streaks, as of what ran down a wall.

    Attributes
    ----------
    drip : float
        Metres that a place is dragged at most.
    size : float
        Metres from streak to streak.
    seed : int
    """

    __repr__ = short_repr

    drip: float
    size: float
    seed: int = 0

    def __post_init__(self) -> None:
        positive("warp drip", self.drip, "m")
        positive("warp size", self.size, "m")

    @property
    def step(self) -> float:
        """Metres between two places by which its slope is measured."""
        return self.size * _FINE

    def moves(self, points: Points) -> NDArray[np.float32]:
        """Return how far each point is moved, (N, 3) metres: up, so that what is laid on comes down."""
        flat = np.array([1, 0, 1], np.float32)
        rest = None if points.rest is None else points.rest * flat
        at = np.ascontiguousarray(points.position * flat)
        out = np.zeros((len(points), 3), np.float32)
        out[:, 1] = noise_at(at, size=self.size, octaves=_OCTAVES, seed=self.seed, rest=rest) * np.float32(self.drip)
        return out


@dataclass(frozen=True, slots=True, kw_only=True)
class Swirl:
    """Places turned about a point of the ground: a spiral, most at the middle and not at all from `radius` on.

    Attributes
    ----------
    centre : (float, float)
        x and z, metres.
    radius : float
        Metres.
    turn : float
        Degrees clockwise, seen from above, at the middle.
    rate : float
        Degrees more in a unit of `time`.
    """

    __repr__ = short_repr

    centre: tuple[float, float]
    radius: float
    turn: float
    rate: float = 0.0
    time: float = 0.0

    def __post_init__(self) -> None:
        if len(self.centre) != 2:
            raise ShapeError(f"centre must be x and z; got {self.centre!r}")
        for each in self.centre:
            number_in("centre", each, unit="m")
        positive("warp radius", self.radius, "m")
        for each in (self.turn, self.rate, self.time):
            number_in("warp turn", each, unit="degrees")

    @property
    def step(self) -> float:
        """Metres between two places by which its slope is measured."""
        return self.radius * _FINE / 8

    def moves(self, points: Points) -> NDArray[np.float32]:
        """Return how far each point is moved, (N, 3) metres."""
        away = points.world[:, [0, 2]] - np.array(self.centre, np.float64)
        near = np.maximum(0, 1 - np.hypot(away[:, 0], away[:, 1]) / self.radius)
        angle = math.radians(self.turn + self.rate * self.time) * near**2
        cos, sin = np.cos(angle), np.sin(angle)
        out = np.zeros((len(points), 3), np.float32)
        out[:, 0] = away[:, 0] * (cos - 1) + away[:, 1] * sin
        out[:, 2] = away[:, 1] * (cos - 1) - away[:, 0] * sin
        return out


@dataclass(frozen=True, slots=True, kw_only=True)
class Flow:
    """Places moved as a picture says: its red east, its green south, none where they are a half.

    Attributes
    ----------
    east, south : ImageMask
    by : float
        Metres that black and white move.
    """

    __repr__ = short_repr

    east: ImageMask
    south: ImageMask
    by: float

    def __post_init__(self) -> None:
        positive("warp by", self.by, "m")

    @property
    def step(self) -> float:
        """Metres between two places by which its slope is measured: a texel."""
        rows, columns = self.east.values.shape
        return max((self.east.size or (1.0, 1.0))[0] / columns, (self.east.size or (1.0, 1.0))[1] / rows)

    def moves(self, points: Points) -> NDArray[np.float32]:
        """Return how far each point is moved, (N, 3) metres."""
        out = np.zeros((len(points), 3), np.float32)
        for axis, picture in ((0, self.east), (2, self.south)):
            out[:, axis] = (picture.answer(points) - np.float32(0.5)) * np.float32(2 * self.by)
        return out


def moves_of(warps: tuple[AnyWarp, ...], points: Points) -> NDArray[np.float32]:
    """Return how every warp moves points, (W, N, 9): metres, and metres for a metre along tangent and bitangent."""
    out = np.zeros((max(1, len(warps)), len(points) if warps else 0, 9), np.float32)
    for warp, moved in zip(warps, out, strict=False):
        step = np.float32(warp.step)
        tangent = points.tangent[:, :3]
        there = points.moved(step * tangent), points.moved(step * np.cross(points.normal, tangent))
        moved[:, :3] = warp.moves(points)
        moved[:, 3:6], moved[:, 6:] = ((warp.moves(shifted) - moved[:, :3]) / step for shifted in there)
    out.flags.writeable = False
    return out


def _drifted(points: Points, drift: tuple[float, float], time: float) -> NDArray[np.float32]:
    if not time or drift == (0.0, 0.0):
        return points.position
    return points.position - np.array([drift[0] * time, 0, drift[1] * time], np.float32)
