"""Tuning: how the maps of a layer are changed as they are read."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import number_in
from jagged_quilt.foundation.colour import rgb_of
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.short_repr import short_repr

_LUMA = np.array([0.2126, 0.7152, 0.0722])  # of Rec. 709 primaries, linear light
_MOST = 16.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Tuning:
    """What a layer does to its maps; nothing where nothing is said.

    Attributes
    ----------
    normal : float
        Times as steep: 0 is flat, 2 rises twice as fast.
    relief : float
        Times as high.
    lift : float
        Metres by which it stands higher where layers meet; below 0 it lies low, and others cover it.
    occlusion : float
        Times as much light kept away: 1 - occlusion (1 - x).
    roughness : float
        Added to its roughness, -1 to 1.
    tint : (r, g, b) or "#rrggbb"
        What its diffuse is multiplied by, in linear light; as "#rrggbb" it is read as sRGB.
    brightness : float
        The same for all three.
    hue : float
        Degrees by which hues of the diffuse are turned about grey.
    saturation : float
        0 is grey, 1 as it is.
    vertex_colour : bool
        Whether its diffuse is multiplied by the vertex colours of a mesh too, which are linear; not where it has none.

    What comes of a map stays within 0 and 1. Hue and saturation are the matrices of the W3C's Filter Effects, of linear light
    and with the luminances of Rec. 709.
    """

    __repr__ = short_repr

    normal: float = 1.0
    relief: float = 1.0
    lift: float = 0.0
    occlusion: float = 1.0
    roughness: float = 0.0
    tint: tuple[float, float, float] | str = (1.0, 1.0, 1.0)
    brightness: float = 1.0
    hue: float = 0.0
    saturation: float = 1.0
    vertex_colour: bool = False

    def __post_init__(self) -> None:
        for name in ("normal", "relief", "occlusion", "brightness", "saturation"):
            number_in(name, getattr(self, name), 0, _MOST)
        number_in("roughness", self.roughness, -1, 1)
        number_in("hue", self.hue, -360, 360, "degrees")
        number_in("lift", self.lift, -1e4, 1e4, "m")
        if not isinstance(self.vertex_colour, bool):
            raise RangeError(f"vertex_colour must be true or false; got {self.vertex_colour!r}")
        object.__setattr__(self, "tint", rgb_of("tint", self.tint, _MOST))

    @property
    def colours(self) -> NDArray[np.float64]:
        """The (3, 3) matrix that linear diffuse colours are multiplied by: saturation, then hue, then tint and brightness."""
        grey = np.tile(_LUMA, (3, 1))
        saturate = grey + self.saturation * (np.eye(3) - grey)
        angle = np.radians(self.hue)
        red, blue = np.array([-_LUMA[0], -_LUMA[1], 1 - _LUMA[2]]), np.array([_LUMA[0] - 1, _LUMA[1], _LUMA[2]])
        swing = np.stack([red, -(_LUMA[0] * red + _LUMA[2] * blue) / _LUMA[1], blue])  # so that luminance stays
        turn = grey + np.cos(angle) * (np.eye(3) - grey) + np.sin(angle) * swing
        return np.diag(np.multiply(self.tint, self.brightness)) @ turn @ saturate


AS_IT_IS = Tuning()
"""What changes nothing."""
