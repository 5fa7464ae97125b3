"""Masks by the shape of the surface at a point: height, slope, the way it faces, its vertex colour."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import known_name, number_in
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.points import Points
from jagged_quilt.masks.bands import band, band_words, checked_band, smooth_step
from jagged_quilt.masks.mask import Answers, Mask


@dataclass(frozen=True, slots=True)
class HeightBand(Mask):
    """1 from `low` to `high` metres, fading to 0 over `fade` metres beyond."""

    low: float
    high: float
    fade: float = 0.0
    key: ClassVar[str] = "height"
    file_keys: ClassVar[dict[str, tuple[str, ...]]] = {"band": ("low", "high")}

    def __post_init__(self) -> None:
        checked_band("height", self.low, self.high, self.fade, "m")

    @property
    def summary(self) -> str:
        return band_words("height", self.low, self.high, self.fade, "m")

    def measured(self, points: Points) -> str:
        return f"{points.position[0, 1]:.2f} m high"

    def answer(self, points: Points) -> Answers:
        return band(points.position[:, 1], self.low, self.high, self.fade)


@dataclass(frozen=True, slots=True)
class Slope(Mask):
    """1 where the ground is from `low` to `high` degrees steep, fading to 0 over `fade` degrees beyond.

    0 is level, 90 a wall, more an overhang.
    """

    low: float
    high: float
    fade: float = 0.0
    key: ClassVar[str] = "slope"
    file_keys: ClassVar[dict[str, tuple[str, ...]]] = {"band": ("low", "high")}

    def __post_init__(self) -> None:
        checked_band("slope", self.low, self.high, self.fade, "degrees")
        number_in("slope band", self.low, 0, 180, "degrees")
        number_in("slope band", self.high, 0, 180, "degrees")

    @property
    def summary(self) -> str:
        return band_words("slope", self.low, self.high, self.fade, "degrees")

    def measured(self, points: Points) -> str:
        return f"{slope_degrees(points)[0]:.1f} degrees steep"

    def answer(self, points: Points) -> Answers:
        return band(slope_degrees(points), self.low, self.high, self.fade)


@dataclass(frozen=True, slots=True)
class Facing(Mask):
    """1 where the surface faces a bearing, fading to 0 over `fade` degrees beyond `spread` to either side.

    Attributes
    ----------
    bearing : float
        Degrees from north (-Z), clockwise seen from above: 90 is east (+X).
    spread, fade : float
        Degrees.
    level : float
        Degrees of slope up to which ground faces nowhere: the mask fades in from half of that to that.
    """

    bearing: float
    spread: float = 45.0
    fade: float = 30.0
    level: float = 4.0
    key: ClassVar[str] = "facing"

    def __post_init__(self) -> None:
        number_in("facing bearing", self.bearing, -360, 360, "degrees")
        number_in("facing spread", self.spread, 0, 180, "degrees")
        number_in("facing fade", self.fade, 0, 180, "degrees")
        number_in("facing level", self.level, 0, 90, "degrees")

    @property
    def summary(self) -> str:
        return f"facing {self.bearing:g} ± {self.spread:g} degrees, fade {self.fade:g}"

    def measured(self, points: Points) -> str:
        return f"faces {self._bearings(points)[0] % 360:.0f} degrees, {slope_degrees(points)[0]:.1f} steep"

    def answer(self, points: Points) -> Answers:
        away = np.abs((self._bearings(points) - np.float32(self.bearing) + np.float32(180)) % np.float32(360) - np.float32(180))
        return band(away, -1.0, self.spread, self.fade) * smooth_step(slope_degrees(points), self.level / 2, self.level)

    @staticmethod
    def _bearings(points: Points) -> NDArray[np.float32]:
        return np.degrees(np.arctan2(points.normal[:, 0], -points.normal[:, 2]))


@dataclass(frozen=True, slots=True)
class VertexColour(Mask):
    """A channel of a mesh's vertex colours, as it is."""

    channel: Literal["r", "g", "b", "a"]
    key: ClassVar[str] = "vertex colour"

    def __post_init__(self) -> None:
        known_name("channel", self.channel, "rgba")

    @property
    def summary(self) -> str:
        return f"vertex colour {self.channel}"

    def answer(self, points: Points) -> Answers:
        if points.colour is None:
            raise ShapeError(
                "a mask goes by vertex colours, and this surface has none; give the mesh colours, or use an image mask"
            )
        return np.clip(points.colour[:, "rgba".index(self.channel)], 0, 1, dtype=np.float32)


def slope_degrees(points: Points) -> NDArray[np.float32]:
    """Return how steep the surface is, (N,): 0 level, 90 a wall, more an overhang."""
    level = np.hypot(points.normal[:, 0], points.normal[:, 2])
    return np.degrees(np.arctan2(level, points.normal[:, 1]))
