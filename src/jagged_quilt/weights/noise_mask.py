"""A mask by noise in the world, the same on whatever surface passes through it."""

from __future__ import annotations

from dataclasses import dataclass

from jagged_quilt.foundation.checks import number_in, positive, whole_number_in
from jagged_quilt.foundation.noise import noise_at
from jagged_quilt.foundation.points import Points
from jagged_quilt.weights.mask import Answers, Mask, smooth_step


@dataclass(frozen=True, slots=True, kw_only=True)
class Noise(Mask):
    """Patches by seamless noise.

    Attributes
    ----------
    size : float
        Metres from one patch to the next.
    octaves : int
        1 - 12; more make ragged edges.
    threshold : float
        0..1, the noise value at which the mask is half there.
    range : float
        0 cuts hard; else the mask goes from 0 to 1 while the noise goes from threshold - range / 2 to + range / 2.
    seed : int
        Another one, other patches.
    period : int
        Repeat after so many sizes; 0 never.
    """

    size: float
    octaves: int = 4
    threshold: float = 0.5
    range: float = 0.2
    seed: int = 0
    period: int = 0

    def __post_init__(self) -> None:
        positive("noise size", self.size, "m")
        whole_number_in("noise octaves", self.octaves, 1, 12)
        number_in("noise threshold", self.threshold, 0, 1)
        number_in("noise range", self.range, 0, 2)
        whole_number_in("noise seed", self.seed, 0, (1 << 31) - 1)
        whole_number_in("noise period", self.period, 0, 1 << 16)

    def answer(self, points: Points) -> Answers:
        values = noise_at(points.position, size=self.size, octaves=self.octaves, seed=self.seed, period=self.period)
        return smooth_step(values, self.threshold - self.range / 2, self.threshold + self.range / 2)
