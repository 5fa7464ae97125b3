"""A sky as a gradient: what is seen of it, what it sheds on a surface, and its mirror image in a rough one."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.light import _rows as k
from jagged_quilt.light.lamps import Colour
from jagged_quilt.light.reflection import half_vectors, spread_out

_kernels = kernels_of("jagged_quilt.light._sky_kernels")

_SAMPLES = 1024


@dataclass(frozen=True, slots=True)
class Sky:
    """Light from all around: from the zenith down to the horizon, and what the ground throws back from below.

    Attributes
    ----------
    zenith, horizon, ground : (red, green, blue)
        Linear light.
    strength : float
        Times these.
    """

    zenith: Colour = (0.105, 0.205, 0.415)
    horizon: Colour = (0.385, 0.445, 0.52)
    ground: Colour = (0.124, 0.105, 0.087)
    strength: float = 1.0

    def __post_init__(self) -> None:
        for name in ("zenith", "horizon", "ground"):
            colour = getattr(self, name)
            if len(colour) != 3:
                raise RangeError(f"{name} must be three numbers of linear light; got {colour}")
            for each in colour:
                number_in(name, each, 0, 1e6)
        number_in("the sky's strength", self.strength, 0, 1e6)

    @classmethod
    def even(cls, light: float) -> Sky:
        """Return a sky that is the same on all sides, from below too: in it, what throws all light back cannot be seen."""
        return cls((light,) * 3, (light,) * 3, (light,) * 3)

    def from_up(self, up: NDArray[np.floating]) -> NDArray[np.float64]:
        """Return its light by how far up a direction points, -1..1; (..., 3)."""
        below = np.clip(-up * 6, 0, 1)[..., None]
        zenith, horizon, ground = (self.strength * np.array(each) for each in (self.zenith, self.horizon, self.ground))
        above = horizon + (zenith - horizon) * np.sqrt(np.clip(up, 0, 1))[..., None]
        return np.asarray(above * (1 - below) + ground * below)

    def seen(self, directions: NDArray[np.float32]) -> NDArray[np.float32]:
        """Return its light from directions (N, 3), unit; below the horizon, what the ground throws back."""
        out = np.empty((len(directions), 3), np.float32)
        _kernels.sky_light(frozen(directions, np.float32), self.rows, out)
        return out

    @property
    def rows(self) -> k.SkyRows:
        """As the kernel reads it."""
        return _rows_of(self)


@cache
def _rows_of(sky: Sky) -> k.SkyRows:
    """By how far up a normal points, the mean of the light that falls on it, weighted by the cosine (its irradiance / pi); by
    roughness and how far up a mirrored direction points, the mean of the light around it, weighted as GGX does where eye,
    normal and mirror image are one (Karis 2013)."""
    up = np.linspace(-1, 1, k.UPS)
    level = np.sqrt(1 - up**2)
    positions = spread_out(_SAMPLES)
    towards, away = np.sqrt(positions[:, 1]), np.sqrt(1 - positions[:, 1]) * np.cos(2 * np.pi * positions[:, 0])
    irradiance = sky.from_up(up[:, None] * towards + level[:, None] * away).mean(axis=1)
    half = half_vectors(np.linspace(0, 1, k.SKY_ROUGHNESSES), _SAMPLES)
    ahead = 2 * half[..., 2] ** 2 - 1
    aside = 2 * half[..., 2] * half[..., 0]
    share = np.maximum(ahead, 0)
    met = sky.from_up(up[:, None] * ahead[:, None] + level[:, None] * aside[:, None])
    mirrored = (met * share[:, None, :, None]).sum(axis=2) / share.sum(axis=1)[:, None, None]
    mirrored[0] = sky.from_up(up)
    zenith, horizon, ground = (
        frozen(sky.strength * np.array(each), np.float32) for each in (sky.zenith, sky.horizon, sky.ground)
    )
    return k.SkyRows(
        zenith,
        horizon,
        ground,
        frozen(_fours(irradiance), np.float32),
        frozen(_fours(mirrored), np.float32),
        frozen(np.empty((0, 3)), np.int64),
    )


def _fours(colours: NDArray[np.float64]) -> NDArray[np.float64]:
    """Colours with a fourth number beside them, flat: so they are read at once."""
    return np.concatenate([colours, np.zeros((*colours.shape[:-1], 1))], axis=-1).reshape(-1)
