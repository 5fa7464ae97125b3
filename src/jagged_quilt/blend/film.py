"""A film: what lies on a surface without being a layer: wetness, water, dust. It changes what the layers gave."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Self

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend import _rows as k
from jagged_quilt.foundation.checks import frozen, number_in
from jagged_quilt.foundation.colour import rgb_of
from jagged_quilt.foundation.fields import Fields, HasFields, remembering
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.masks.mask import Mask, as_mask

_THINNEST = 1e-3  # the softness below which a shore is as hard


@dataclass(frozen=True, slots=True, kw_only=True)
class Film:
    """What lies upon the blended layers, where a mask says so: the layers keep their weights, and what they gave is changed.

    Where the mask says `a`, the film covers `clip(a + hollows (a - h) / softness, 0, 1)` of a place whose blended height is
    `h` (1 is the tallest relief): evenly with `hollows = 0`, from the deepest pit up with 1.

    Attributes
    ----------
    mask : Mask
        How much of it there is, 0..1; a `Channel`, or any other.
    name : str
        What to call it.
    hollows : float
        0 covers evenly; up to 1, hollows first: `a` is then how high it stands.
    softness : float
        How far, in heights, its shore runs out; for hollows.
    tint : (r, g, b) or "#rrggbb"
        What the diffuse below is multiplied by, in linear light: below 1 it is darkened, as by water.
    colour : (r, g, b) or "#rrggbb", or None
        The film's own diffuse, linear light, where it hides what lies below, as dust does.
    hides : float
        How much of what lies below its colour hides, 0..1.
    roughness : float or None
        Its own; None leaves what is below.
    specular : float or None
        Its own reflectance at normal incidence, 0.02 for water; None leaves what is below.
    level : float
        How far it evens out what it covers, 0..1: normals grow flat, and hollows are filled up to where it stands.
    """

    __repr__ = short_repr

    mask: Mask
    name: str = ""
    hollows: float = 0.0
    softness: float = 0.1
    tint: tuple[float, float, float] | str = (1.0, 1.0, 1.0)
    colour: tuple[float, float, float] | str | None = None
    hides: float = 1.0
    roughness: float | None = None
    specular: float | None = None
    level: float = 0.0

    def __post_init__(self) -> None:
        object.__setattr__(self, "mask", as_mask(self.mask, f'film "{self.name}": the mask'))
        for name in ("hollows", "softness", "hides", "level"):
            number_in(name, getattr(self, name), 0, 1)
        for name in ("roughness", "specular"):
            if getattr(self, name) is not None:
                number_in(name, getattr(self, name), 0, 1)
        object.__setattr__(self, "tint", rgb_of("tint", self.tint))
        if self.colour is not None:
            object.__setattr__(self, "colour", rgb_of("colour", self.colour))

    def on(self, surface: Fields | HasFields) -> Self:
        """Return this film with all that its mask must know of a whole surface worked out."""
        return replace(self, mask=self.mask.on(surface))

    @property
    def row(self) -> NDArray[np.void]:
        """What the kernel reads, () FILM."""
        row = np.zeros((), k.FILM)
        row["sharpness"] = self.hollows / max(self.softness, _THINNEST)
        row["tint"] = self.tint
        if self.colour is not None:
            row["colour"], row["opacity"] = self.colour, self.hides
        if self.roughness is not None:
            row["roughness"], row["roughness_share"] = self.roughness, 1
        if self.specular is not None:
            row["specular"], row["specular_share"] = self.specular, 1
        row["flatten"], row["fill"] = self.level, self.level * self.hollows
        return row


def films_on(films: Sequence[Film], surface: Fields | HasFields) -> tuple[Film, ...]:
    """Return films with all that their masks must know of a surface worked out."""
    known = remembering(surface)
    return tuple(film.on(known) for film in films)


def film_rows(films: Sequence[Film]) -> NDArray[np.void]:
    """Return what the kernel reads of some films, (F,) FILM."""
    return frozen(np.array([film.row for film in films], k.FILM), k.FILM)


def film_amounts(films: Sequence[Film], points: Points) -> NDArray[np.float32]:
    """Return how much of each film there is at points, (N, F) float32; (0, 0) where there are none."""
    if not films:
        return frozen(np.empty((0, 0)), np.float32)
    return frozen(np.stack([film.mask.answer(points) for film in films], axis=1), np.float32)
