"""Masks that must know the whole surface: curvature, hidden sky, the distance to another mask.

They answer only `on` a surface; `weigh` puts them there.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import known_name, number_in, positive, whole_number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.fields import Field, Fields, HasFields, fields_of, remembering
from jagged_quilt.foundation.noise import noise_at
from jagged_quilt.foundation.points import Points
from jagged_quilt.masks.bands import band, band_words, checked_band, smooth_step
from jagged_quilt.masks.mask import Answers, Mask

_OCTAVES = 4


class FieldMask(Mask):
    """A mask that reads a field of the surface."""

    __slots__ = ()
    of_surface: Field | None

    def values(self, points: Points) -> NDArray[np.float32]:
        """Return what the mask goes by at each point; raise `RangeError` if it is on no surface."""
        if self.of_surface is None:
            raise RangeError(
                f"a mask by {self.summary} is measured over a whole surface; weigh a canvas, or ask mask.on(terrain)"
            )
        return self.of_surface.at(points)


@dataclass(frozen=True, slots=True)
class Curvature(FieldMask):
    """1 on ridges, or in hollows, of about a given size.

    Attributes
    ----------
    where : "ridges" or "hollows"
    scale : float
        Metres across of what is looked for; smaller things are smoothed away.
    low, high : float
        Where the mask begins and where it is full, as curvature x scale: 1 is bent as tightly as a ball of radius `scale`.
    """

    where: Literal["ridges", "hollows"]
    scale: float
    low: float = 0.05
    high: float = 0.4
    of_surface: Field | None = field(default=None, repr=False, compare=False)
    key: ClassVar[str] = "curvature"
    file_keys: ClassVar[dict[str, tuple[str, ...]]] = {"form": ("where",)}

    def __post_init__(self) -> None:
        known_name("form", self.where, ("ridges", "hollows"))
        positive("curvature scale", self.scale, "m")
        if not number_in("curvature low", self.low) < number_in("curvature high", self.high):
            raise RangeError(f"curvature must begin (low) below where it is full (high); got {self.low:g} and {self.high:g}")

    @property
    def summary(self) -> str:
        return f"{self.where}, scale {self.scale:g} m, from {self.low:g} to {self.high:g}"

    def measured(self, points: Points) -> str:
        return f"bent by {self.values(points)[0] * self.scale:+.3f}"

    def on(self, surface: Fields | HasFields) -> Self:
        return replace(self, of_surface=fields_of(surface).curvature(self.scale))

    def answer(self, points: Points) -> Answers:
        sign = self.scale if self.where == "ridges" else -self.scale
        return smooth_step(self.values(points) * np.float32(sign), self.low, self.high)


@dataclass(frozen=True, slots=True)
class Wear(FieldMask):
    """1 where edges are worn: on ridges of about a given size, unevenly, as far as noise lets it.

    Attributes
    ----------
    scale : float
        Metres across of the edges.
    low, high : float
        Where the mask begins and where it is full, as curvature x scale; see `Curvature`.
    uneven : float
        How much of `high` the noise takes off or adds.
    size : float
        Metres from patch to patch of the noise; half the scale where it is 0.
    seed : int
    """

    scale: float
    low: float = 0.05
    high: float = 0.4
    uneven: float = 0.6
    size: float = 0.0
    seed: int = 0
    of_surface: Field | None = field(default=None, repr=False, compare=False)
    key: ClassVar[str] = "wear"

    def __post_init__(self) -> None:
        positive("wear scale", self.scale, "m")
        if not number_in("wear low", self.low) < number_in("wear high", self.high):
            raise RangeError(f"wear must begin (low) below where it is full (high); got {self.low:g} and {self.high:g}")
        number_in("wear uneven", self.uneven, 0, 10)
        number_in("wear size", self.size, 0, unit="m")

    @property
    def summary(self) -> str:
        return f"worn edges, scale {self.scale:g} m, from {self.low:g} to {self.high:g}, uneven by {self.uneven:g}"

    def measured(self, points: Points) -> str:
        return f"bent by {self.values(points)[0] * self.scale:+.3f}"

    def on(self, surface: Fields | HasFields) -> Self:
        return replace(self, of_surface=fields_of(surface).curvature(self.scale))

    def answer(self, points: Points) -> Answers:
        size = self.size or self.scale / 2
        rough = noise_at(points.position, size=size, octaves=_OCTAVES, seed=self.seed, rest=points.rest) - np.float32(0.5)
        bent = self.values(points) * np.float32(self.scale) + rough * np.float32(2 * self.uneven * self.high)
        return smooth_step(bent, self.low, self.high)


@dataclass(frozen=True, slots=True)
class AmbientOcclusion(FieldMask):
    """How much of the sky the surface itself hides, 0 in the open to 1: its ambient occlusion, turned over.

    Of a terrain the sky above; of a mesh all that lies before the surface.

    Attributes
    ----------
    reach : float
        Metres up to which something can stand in the way.
    full : float
        The hidden share at which the mask is 1.
    """

    reach: float
    full: float = 0.5
    of_surface: Field | None = field(default=None, repr=False, compare=False)
    key: ClassVar[str] = "occlusion"

    def __post_init__(self) -> None:
        positive("occlusion reach", self.reach, "m")
        number_in("occlusion full", self.full, 0.001, 1)

    @property
    def summary(self) -> str:
        return f"sky hidden within {self.reach:g} m, full at {self.full:g}"

    def measured(self, points: Points) -> str:
        return f"{100 * self.values(points)[0]:.0f} % hidden"

    def on(self, surface: Fields | HasFields) -> Self:
        return replace(self, of_surface=fields_of(surface).ambient_occlusion(self.reach))

    def answer(self, points: Points) -> Answers:
        return np.clip(self.values(points) * np.float32(1 / self.full), 0, 1, dtype=np.float32)


@dataclass(frozen=True, slots=True)
class Distance(FieldMask):
    """1 where the edge of another mask is from `low` to `high` metres away, fading to 0 over `fade` metres beyond.

    Distances lie in the ground plane, to where the other mask passes one half, and on a mesh straight through space; they are
    below 0 inside of it.

    Attributes
    ----------
    texels : int
        Along the longer side of the surface: how finely the other mask is searched; edges are found to a part of a texel.
    """

    to: Mask
    low: float
    high: float
    fade: float = 0.0
    texels: int = 1024
    of_surface: Field | None = field(default=None, repr=False, compare=False)
    key: ClassVar[str] = "distance"
    file_keys: ClassVar[dict[str, tuple[str, ...]]] = {"band": ("low", "high")}

    def __post_init__(self) -> None:
        checked_band("distance", self.low, self.high, self.fade, "m")
        whole_number_in("distance texels", self.texels, 2, 1 << 14)

    @property
    def summary(self) -> str:
        return band_words("distance", self.low, self.high, self.fade, "m")

    def measured(self, points: Points) -> str:
        return f"{self.values(points)[0]:.2f} m away"

    def on(self, surface: Fields | HasFields) -> Self:
        known = remembering(surface)
        make = lambda: known.edge_distance(self.to.on(known).answer, self.texels)
        return replace(self, of_surface=known.remembered(("distance", self.to, self.texels), make))

    def answer(self, points: Points) -> Answers:
        return band(self.values(points), self.low, self.high, self.fade)
