"""Masks by the shape of the surface: height and slope."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jagged_quilt.foundation.checks import number_in
from jagged_quilt.foundation.points import Points
from jagged_quilt.weights.mask import Answers, Mask, band, checked_band


@dataclass(frozen=True, slots=True)
class HeightBand(Mask):
    """1 from `low` to `high` metres, fading to 0 over `fade` metres beyond."""

    low: float
    high: float
    fade: float = 0.0

    def __post_init__(self) -> None:
        checked_band("height", self.low, self.high, self.fade, "m")

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

    def __post_init__(self) -> None:
        checked_band("slope", self.low, self.high, self.fade, "degrees")
        number_in("slope band", self.low, 0, 180, "degrees")
        number_in("slope band", self.high, 0, 180, "degrees")

    def answer(self, points: Points) -> Answers:
        level = np.hypot(points.normal[:, 0], points.normal[:, 2])
        return band(np.degrees(np.arctan2(level, points.normal[:, 1])), self.low, self.high, self.fade)
