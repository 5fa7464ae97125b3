"""A mask by noise in the world, the same on whatever surface passes through it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from jagged_quilt.foundation.checks import number_in, positive, whole_number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.noise import even_noise_at
from jagged_quilt.foundation.noise_kinds import NoiseKind
from jagged_quilt.foundation.points import Points
from jagged_quilt.masks.bands import smooth_step
from jagged_quilt.masks.mask import Answers, Mask


@dataclass(frozen=True, slots=True, kw_only=True)
class Noise(Mask):
    """Patches by seamless noise, spread evenly: at a threshold of 0.3 they cover 70 % of a wide area.

    Attributes
    ----------
    size : float
        Metres from one patch to the next.
    octaves : int
        1 - 12; more make ragged edges.
    threshold : float
        0..1, the noise value at which the mask is half there.
    range : float
        0 cuts hard; else the mask goes from 0 to 1 while the noise goes from threshold - range / 2 to + range / 2. With a
        threshold of 0.5, 1 leaves the noise nearly as it is.
    seed : int
        Another one, other patches.
    period : int
        Repeat after so many sizes; 0 never.
    kind : NoiseKind
        Smooth, billowed, ridged or cellular.
    dimensions : int
        3, seamless over any mesh; 2 goes by x and z only, and is sooner done.
    """

    size: float
    octaves: int = 4
    threshold: float = 0.5
    range: float = 0.2
    seed: int = 0
    period: int = 0
    kind: NoiseKind = NoiseKind.SMOOTH
    dimensions: int = 3

    key: ClassVar[str] = "noise"
    file_keys: ClassVar[dict[str, tuple[str, ...]]] = {"form": ("kind",)}

    def __post_init__(self) -> None:
        object.__setattr__(self, "kind", NoiseKind.of(self.kind, "form of noise"))
        positive("noise size", self.size, "m")
        whole_number_in("noise octaves", self.octaves, 1, 12)
        number_in("noise threshold", self.threshold, 0, 1)
        number_in("noise range", self.range, 0, 2)
        whole_number_in("noise seed", self.seed, 0, (1 << 31) - 1)
        whole_number_in("noise period", self.period, 0, 1 << 16)
        if self.dimensions not in (2, 3):
            raise RangeError(f"noise dimensions must be 2 or 3; got {self.dimensions!r}")

    @property
    def summary(self) -> str:
        return f"{self.kind} noise, size {self.size:g} m, cut at {self.threshold:g}, range {self.range:g}"

    def measured(self, points: Points) -> str:
        return f"noise {self.values(points)[0]:.2f}"

    def values(self, points: Points) -> Answers:
        """Return the noise itself, spread evenly over 0..1."""
        return even_noise_at(
            points.position,
            size=self.size,
            octaves=self.octaves,
            seed=self.seed,
            period=self.period,
            kind=self.kind,
            dimensions=self.dimensions,
            rest=points.rest,
        )

    def answer(self, points: Points) -> Answers:
        return smooth_step(self.values(points), self.threshold - self.range / 2, self.threshold + self.range / 2)
