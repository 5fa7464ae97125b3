"""Projections along axes, and by the surface's own coordinates."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend import _rows as k
from jagged_quilt.blend.projection import Position, ProjectionBase, Space, checked_position, unit_axis
from jagged_quilt.foundation.checks import number_in, positive
from jagged_quilt.foundation.errors import RangeError


@dataclass(frozen=True, slots=True)
class Planar(ProjectionBase):
    """Laid on along one axis: from above u runs east and v south; from a side, u to the right and v down, as seen from
    outside.

    Attributes
    ----------
    axis : "x", "y", "z" or (x, y, z)
        The line along which it is laid on; from both of its ends.
    space : "world" or "object"
        Whether the pattern stays in the world or goes with the object as it is moved and turned.
    """

    axis: str | Position = "y"
    space: Space = Space.WORLD
    key: ClassVar[str] = "planar"

    @property
    def planes(self) -> int:
        return k.ONLY_Y if abs(unit_axis(self.axis)[1]) >= 0.7071 else k.ONLY_Z

    @property
    def local_axes(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        return _seen_along(unit_axis(self.axis)), np.zeros(3)

    def __post_init__(self) -> None:
        ProjectionBase.__post_init__(self)
        unit_axis(self.axis)
        object.__setattr__(self, "space", Space.of(self.space))


@dataclass(frozen=True, slots=True)
class Triplanar(ProjectionBase):
    """Laid on from three axes, each side as one would read it from outside.

    Attributes
    ----------
    sharpness : float
        1 - 64: how fast one axis hands over to the next.
    space : "world" or "object"
    above : float
        Degrees of slope up to which it is laid on from above alone, to save samples; 0 is nowhere.
    above_fade : float
        Degrees over which the sides come in.
    eye : (x, y, z) or None
        A camera about which it is laid on from above alone, up to `beyond` metres; the sides come in over `beyond_fade`.
    beyond, beyond_fade : float
        Metres.
    """

    sharpness: float = 4.0
    space: Space = Space.WORLD
    above: float = 0.0
    above_fade: float = 10.0
    eye: Position | None = None
    beyond: float = 0.0
    beyond_fade: float = 5.0
    key: ClassVar[str] = "triplanar"

    @property
    def planes(self) -> int:
        return k.SHARED

    def __post_init__(self) -> None:
        ProjectionBase.__post_init__(self)
        number_in("sharpness", self.sharpness, 1, 64)
        object.__setattr__(self, "space", Space.of(self.space))
        number_in("above", self.above, 0, 90, "degrees")
        positive("above_fade", self.above_fade, "degrees")
        number_in("beyond", self.beyond, 0, unit="m")
        positive("beyond_fade", self.beyond_fade, "m")
        if self.eye is not None:
            checked_position("eye", self.eye)
        elif self.beyond:
            raise RangeError("beyond is a distance from a camera; say where it stands with eye = (x, y, z)")

    @property
    def is_limited(self) -> bool:
        return self.above > 0 or self.beyond > 0

    @property
    def without_limits(self) -> Self:
        return replace(self, above=0.0, eye=None, beyond=0.0)

    @property
    def plane_sharpness(self) -> float:
        return self.sharpness

    def fill_mapping(self, row: NDArray[np.void], *, tile: float, unit: float) -> None:
        if self.above > 0:
            row["slope_from"] = np.cos(np.radians(self.above))
            row["slope_to"] = np.cos(np.radians(min(90.0, self.above + self.above_fade)))
        if self.eye is not None and self.beyond > 0:
            row["eye"] = self.eye
            row["near"], row["far"] = self.beyond, self.beyond + self.beyond_fade


@dataclass(frozen=True, slots=True)
class Box(ProjectionBase):
    """Laid on from whichever of three axes a place faces most, with a hard change between them."""

    space: Space = Space.WORLD
    key: ClassVar[str] = "box"

    @property
    def planes(self) -> int:
        return k.FACED_MOST

    def __post_init__(self) -> None:
        ProjectionBase.__post_init__(self)
        object.__setattr__(self, "space", Space.of(self.space))


@dataclass(frozen=True, slots=True, kw_only=True)
class Uv(ProjectionBase):
    """Laid on by the surface's own texture coordinates.

    Attributes
    ----------
    metres : float or None
        What one unit of u and v stands for. None is as measured on the surface (the root of area over area in uv), so that
        tiles are as large as on other projections; the tile size of the swatch gives one repeat for each unit.
    """

    metres: float | None = None
    key: ClassVar[str] = "uv"
    kind: ClassVar[int] = k.BY_UV
    uses_uv: ClassVar[bool] = True

    def __post_init__(self) -> None:
        ProjectionBase.__post_init__(self)
        if self.metres is not None:
            positive("metres", self.metres, "m")

    @property
    def unit_is_measured(self) -> bool:
        return self.metres is None

    def with_unit(self, metres: float) -> Self:
        return replace(self, metres=metres) if self.metres is None else self

    def unit(self, measured: float) -> float:
        return measured if self.metres is None else self.metres

    def fill_mapping(self, row: NDArray[np.void], *, tile: float, unit: float) -> None:
        row["unit"] = self.unit(unit)


def _seen_along(axis: NDArray[np.float64]) -> NDArray[np.float64]:
    """Axes of a chart that is seen along `axis`, from its plane Y for upright axes and from its plane Z for others, so that
    the pattern's top is north, or up."""
    if abs(axis[1]) >= 0.7071:
        axis = axis if axis[1] > 0 else -axis
        south = np.array([0.0, 0.0, 1.0]) - axis * axis[2]
        south /= np.linalg.norm(south)
        return np.stack([np.cross(axis, south), axis, south])
    up = np.array([0.0, 1.0, 0.0]) - axis * axis[1]
    up /= np.linalg.norm(up)
    return np.stack([np.cross(up, axis), up, axis])
