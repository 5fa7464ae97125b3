"""Projections around an axis: on a sphere, on a tube, and around a point of the ground."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend import _rows as k
from jagged_quilt.blend.projection import Position, ProjectionBase, Space, checked_position, unit_axis
from jagged_quilt.foundation.checks import number_in, positive
from jagged_quilt.foundation.choices import Wrap
from jagged_quilt.foundation.errors import RangeError


@dataclass(frozen=True, slots=True, kw_only=True)
class Round(ProjectionBase):
    """What is laid on around an axis. The tile is made a little longer or shorter along u, so that a whole number of them
    goes around and none is cut.

    Attributes
    ----------
    centre : (x, y, z)
        Metres.
    radius : float
        Metres: where the tile size is true.
    axis : "x", "y", "z" or (x, y, z)
        From bottom to top.
    space : "world" or "object"
    """

    centre: Position = (0.0, 0.0, 0.0)
    radius: float = 1.0
    axis: str | Position = "y"
    space: Space = Space.WORLD
    closes_around: ClassVar[bool] = True

    @property
    def local_axes(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        return _standing(unit_axis(self.axis)), np.array(self.centre, np.float64)

    def fill_mapping(self, row: NDArray[np.void], *, tile: float, unit: float) -> None:
        row["radius"] = self.radius
        row["around"] = self.length_around(tile) / (2 * np.pi * self.radius)

    def length_around(self, tile: float) -> float:
        """Return the metres of the pattern that go around once: whole tiles."""
        return self.repeats(tile) * tile * self.scales[0]

    def __post_init__(self) -> None:
        ProjectionBase.__post_init__(self)
        checked_position("centre", self.centre)
        positive("radius", self.radius, "m")
        unit_axis(self.axis)
        object.__setattr__(self, "space", Space.of(self.space))
        if self.shuffle is not None:
            raise RangeError("patches of a shuffled texture would not meet where u wraps; use triplanar, a box or uv")
        if self.rotation % 180:
            raise RangeError(
                f"rotation must be 0 or 180 degrees here, or the pattern would not meet where u wraps; got "
                f"{self.rotation:g}; turn the axis, or use a box"
            )

    def repeats(self, tile: float) -> int:
        """How many tiles go around."""
        count = max(1, round(2 * np.pi * self.radius / (tile * self.scales[0])))
        return count + count % 2 if self.wraps[0] is Wrap.MIRROR else count


@dataclass(frozen=True, slots=True, kw_only=True)
class Spherical(Round):
    """Laid on around a centre: u runs east around the axis, v from the top down, both in metres on a sphere of `radius`."""

    key: ClassVar[str] = "spherical"
    kind: ClassVar[int] = k.SPHERE


@dataclass(frozen=True, slots=True, kw_only=True)
class Cylindrical(Round):
    """Laid on around an axis: u runs east around it, in metres on a cylinder of `radius`; v runs down along it."""

    key: ClassVar[str] = "cylindrical"
    kind: ClassVar[int] = k.TUBE


@dataclass(frozen=True, slots=True, kw_only=True)
class Polar(Round):
    """Laid on around a point of the ground: u runs around it, in metres at `radius`; v runs outwards, in metres.

    Attributes
    ----------
    spiral : float
        Degrees by which the pattern turns with every metre outwards.
    """

    spiral: float = 0.0
    key: ClassVar[str] = "polar"
    kind: ClassVar[int] = k.DISC

    def fill_mapping(self, row: NDArray[np.void], *, tile: float, unit: float) -> None:
        Round.fill_mapping(self, row, tile=tile, unit=unit)
        row["spiral"] = self.length_around(tile) * self.spiral / 360

    def __post_init__(self) -> None:
        Round.__post_init__(self)
        number_in("spiral", self.spiral, -1e4, 1e4, "degrees/m")


def _standing(axis: NDArray[np.float64]) -> NDArray[np.float64]:
    """Axes of a chart whose Y is `axis` and whose Z is as near as can be to world +Z (or, where the axis is that, to -Y)."""
    ahead = np.array([0.0, 0.0, 1.0]) if abs(axis[2]) < 0.999 else np.array([0.0, -1.0, 0.0])
    ahead = ahead - axis * (ahead @ axis)
    ahead /= np.linalg.norm(ahead)
    return np.stack([np.cross(axis, ahead), axis, ahead])
