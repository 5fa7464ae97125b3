"""Lamps: suns far away, points, and spots; what of them arrives at a place."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import ClassVar, Self, TypeAlias

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, number_in, positive
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.kernels import kernels_of

_sky_kernels = kernels_of("jagged_quilt.light._sky_kernels")

Position: TypeAlias = tuple[float, float, float]
Colour: TypeAlias = tuple[float, float, float]
"""Linear light, Rec. 709, from 0 on; may be above 1."""

_DISC = 16  # directions over a sun that has a size


@dataclass(frozen=True, slots=True)
class Sun:
    """A light so far away that its rays are parallel.

    Attributes
    ----------
    bearing : float
        Degrees from north over east.
    height : float
        Degrees above the horizon, above 0.
    colour : (red, green, blue)
        Linear light.
    strength : float
        How much falls on a plate that faces it: pi makes a white one as bright as white.
    size : float
        Degrees that it is wide; 0 casts hard shadows. Its mirror image stays that of a point.
    """

    kind: ClassVar[str] = "sun"
    position: ClassVar[None] = None
    cone: ClassVar[None] = None

    bearing: float = 300.0
    height: float = 35.0
    colour: Colour = (1.0, 0.91, 0.77)
    strength: float = 3.3
    size: float = 0.0

    def __post_init__(self) -> None:
        number_in("the sun's bearing", self.bearing, -360, 360, "degrees")
        number_in("the sun's height", self.height, 1, 90, "degrees")
        number_in("the sun's size", self.size, 0, 30, "degrees")
        _check_light(self.colour, self.strength)

    @property
    def towards(self) -> NDArray[np.float64]:
        """Unit vector towards the sun, in the world."""
        level = math.cos(math.radians(self.height))
        bearing = math.radians(self.bearing)
        return np.array([level * math.sin(bearing), math.sin(math.radians(self.height)), -level * math.cos(bearing)])

    @property
    def way(self) -> NDArray[np.float64]:
        """Unit vector along which it shines, in the world."""
        return -self.towards

    def directions(self) -> NDArray[np.float64]:
        """Return unit vectors towards its disc, evenly spread, (D, 3); one where it has no size."""
        if not self.size:
            return self.towards[None]
        turn = np.arange(_DISC) * math.pi * (3 - math.sqrt(5))
        far = math.tan(math.radians(self.size / 2)) * np.sqrt((np.arange(_DISC) + 0.5) / _DISC)
        side = np.cross(self.towards, [0.0, 1.0, 0.0] if self.height < 89 else [1.0, 0.0, 0.0])
        side /= np.linalg.norm(side)
        out = self.towards + far[:, None] * (
            np.cos(turn)[:, None] * side + np.sin(turn)[:, None] * np.cross(self.towards, side)
        )
        return np.asarray(out / np.linalg.norm(out, axis=1, keepdims=True))

    def turned(self, degrees: float, around: Position = (0.0, 0.0, 0.0)) -> Sun:
        """Return the same sun from another side, `degrees` further over east."""
        return replace(self, bearing=(self.bearing + degrees) % 360)

    def reach_at(self, positions: NDArray[np.float64]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """Return unit vectors towards it from places (N, 3), here one for all, and how much of its strength arrives, (N,)."""
        return frozen(self.towards[None], np.float32), np.ones(len(positions), np.float32)


@dataclass(frozen=True, slots=True, kw_only=True)
class PointLight:
    """A light that shines evenly to all sides from one place.

    Attributes
    ----------
    position : (x, y, z)
        Metres, in the world.
    colour : (red, green, blue)
        Linear light.
    strength : float
        How much falls on a plate that faces it 1 m away.
    radius : float
        Metres: nearer than that it grows no brighter.
    reach : float
        Metres at which it has faded out (as in glTF's KHR_lights_punctual); 0 for never.
    fall_off : (constant, linear, quadratic), optional
        Divides its strength by c + l d + q d^2 at d metres, instead of by d^2.
    """

    kind: ClassVar[str] = "point"

    position: Position
    colour: Colour = (1.0, 1.0, 1.0)
    strength: float = 10.0
    radius: float = 0.05
    reach: float = 0.0
    fall_off: tuple[float, float, float] | None = None

    def __post_init__(self) -> None:
        _check_position("position", self.position)
        _check_light(self.colour, self.strength)
        positive("radius", self.radius, "m")
        number_in("reach", self.reach, 0, unit="m")
        if self.fall_off is not None:
            terms = tuple(number_in("a term of fall_off", each, 0) for each in self.fall_off)
            if len(terms) != 3 or not any(terms):
                raise RangeError(f"fall_off must be three numbers, constant, linear and quadratic, not all 0; got {terms}")

    @property
    def way(self) -> NDArray[np.float64] | None:
        """Along which it shines, in the world, of any length; None for all ways alike."""
        return None

    @property
    def cone(self) -> tuple[float, float] | None:
        """Degrees from its axis, within which it shines in full, and beyond which not at all; None for all ways alike."""
        return None

    def turned(self, degrees: float, around: Position) -> Self:
        """Return the same lamp from another side of a place, `degrees` further over east."""
        turn = math.radians(degrees)
        east, south = self.position[0] - around[0], self.position[2] - around[2]
        x = around[0] + east * math.cos(turn) - south * math.sin(turn)
        z = around[2] + east * math.sin(turn) + south * math.cos(turn)
        return replace(self, position=(x, self.position[1], z))

    def reach_at(self, positions: NDArray[np.float64]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """Return unit vectors towards it from places (N, 3), and how much of its strength arrives, (N,)."""
        ways, share = np.empty((len(positions), 3), np.float32), np.empty(len(positions), np.float32)
        x, y, z = (float(each) for each in self.position)
        terms = (-1.0, 0.0, 0.0) if self.fall_off is None else tuple(float(each) for each in self.fall_off)
        lamp = (x, y, z, float(self.radius), float(self.reach), *terms)
        _sky_kernels.reach_lamp(frozen(positions, np.float64), lamp, self._cone(), ways, share)
        return ways, share

    def _cone(self) -> tuple[float, float, float, float, float]:
        """Its axis, and the cosines of its outer and inner angle, as the kernel reads them."""
        return 0.0, 0.0, 0.0, -2.0, -2.0


@dataclass(frozen=True, slots=True, kw_only=True)
class SpotLight(PointLight):
    """A point light with a cone: full within the inner angle, nothing beyond the outer one.

    The edge between them is soft as in glTF's KHR_lights_punctual: the square of how far the cosine lies between theirs.

    Attributes
    ----------
    target : (x, y, z)
        Metres, in the world: what it points at.
    inner, outer : float
        Degrees from its axis.
    """

    kind: ClassVar[str] = "spot"

    target: Position
    inner: float = 20.0
    outer: float = 30.0

    def __post_init__(self) -> None:
        PointLight.__post_init__(self)
        _check_position("target", self.target)
        number_in("outer", self.outer, 0.1, 89, "degrees")
        number_in("inner", self.inner, 0, 89, "degrees")
        if self.inner > self.outer:
            raise RangeError(f"inner must not be above outer; got {self.inner:g} and {self.outer:g} degrees")
        if np.linalg.norm(np.subtract(self.target, self.position)) < 1e-6:
            raise RangeError(f"a spot must point somewhere; its position and target are both {self.position}")

    @property
    def way(self) -> NDArray[np.float64]:
        """From its position to its target."""
        return np.subtract(self.target, self.position, dtype=np.float64)

    @property
    def cone(self) -> tuple[float, float]:
        """Degrees from its axis, within which it shines in full, and beyond which not at all."""
        return self.inner, self.outer

    def _cone(self) -> tuple[float, float, float, float, float]:
        axis = self.way
        x, y, z = (float(each) for each in axis / np.linalg.norm(axis))
        return x, y, z, math.cos(math.radians(self.outer)), math.cos(math.radians(self.inner))


Light: TypeAlias = Sun | PointLight
LIGHTS: dict[str, type[Light]] = {each.kind: each for each in (Sun, PointLight, SpotLight)}
"""By the name of their kind, in quilt files and in bundles."""


def checked_lights(lights: Sequence[Light]) -> tuple[Light, ...]:
    """Return lights; raise `RangeError` if something else is among them."""
    for each in lights:
        if not isinstance(each, Sun | PointLight):
            raise RangeError(f"a light must be a Sun, a PointLight or a SpotLight; got {each!r}")
    return tuple(lights)


def _check_position(name: str, position: Position) -> None:
    if len(position) != 3:
        raise RangeError(f"{name} must be three numbers, x, y and z in metres; got {position}")
    for each in position:
        number_in(name, each, -1e8, 1e8, "m")


def _check_light(colour: Colour, strength: float) -> None:
    if len(colour) != 3:
        raise RangeError(f"colour must be three numbers of linear light; got {colour}")
    for each in colour:
        number_in("colour", each, 0, 1e6)
    number_in("strength", strength, 0, 1e9)
