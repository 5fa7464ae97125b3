"""A mask by what lies below a layer: the height or the slope of the texture detail that is blended there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, fields, replace
from itertools import count
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Self, TypeVar

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.fields import Fields, HasFields, remembering
from jagged_quilt.foundation.points import Points
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.masks.bands import band, band_words, checked_band
from jagged_quilt.masks.mask import Answers, Mask

if TYPE_CHECKING:
    from jagged_quilt.arrays.texture_arrays import TextureArrays
    from jagged_quilt.blend.blend import Blend
    from jagged_quilt.blend.plan import Pages
    from jagged_quilt.weights.weigher import Weigher

_SIGHTS = count(1)
AnyMask = TypeVar("AnyMask", bound=Mask)


@dataclass(frozen=True, slots=True)
class DetailBand(Mask):
    """1 where the blended detail of the layers below is from `low` to `high`, fading to 0 over `fade` beyond.

    It reads textures, so it answers only when it has seen arrays (`layers_seeing`): `bake` and `Scene` let it see theirs. What
    it reads at a point is as fine as the point's footprint: weigh on many texels, or bake by masks (`weights = "masks"`), for
    detail that is smaller than a texel of the weight map.

    Attributes
    ----------
    of : "height" or "slope"
        Metres of relief from the deepest that a map can say; or degrees by which the detail is steeper than the surface.
    low, high, fade : float
        Metres or degrees.
    below : tuple of Layer
        The layers that lie below, from the bottom up.
    """

    of: Literal["height", "slope"]
    low: float
    high: float
    fade: float = 0.0
    below: tuple[Layer, ...] = field(default=(), repr=False)
    blend: Blend | None = field(default=None, repr=False, compare=False)
    weigher: Weigher | None = field(default=None, repr=False, compare=False)
    sight: int = field(default=0, repr=False)  # so that what it answered of other textures is not taken for its answer
    key: ClassVar[str] = "detail"
    file_keys: ClassVar[dict[str, tuple[str, ...]]] = {"band": ("low", "high")}

    def __post_init__(self) -> None:
        known_name("detail", self.of, ("height", "slope"))
        checked_band(f"detail {self.of}", self.low, self.high, self.fade, self._unit)
        object.__setattr__(self, "below", tuple(self.below))
        if not self.below:
            raise ShapeError("there is no layer below whose detail a mask could read")

    @property
    def _unit(self) -> str:
        return "m" if self.of == "height" else "degrees"

    @property
    def summary(self) -> str:
        return band_words(f"detail {self.of}", self.low, self.high, self.fade, self._unit)

    def measured(self, points: Points) -> str:
        there = float(self.values(points)[0])
        return f"detail {there:.3f} m high" if self.of == "height" else f"detail {there:.0f} degrees steep"

    def seen(self, arrays: TextureArrays | Pages) -> Self:
        """Return this mask, reading textures of some arrays."""
        from jagged_quilt.blend.blend import Blend
        from jagged_quilt.weights.weigher import Weigher

        below = tuple(layers_seeing(self.below, arrays))
        return replace(self, below=below, blend=Blend(arrays, below), weigher=Weigher(below), sight=next(_SIGHTS))

    def on(self, surface: Fields | HasFields) -> Self:
        from jagged_quilt.weights.weigher import Weigher

        return self if self.blend is None else replace(self, weigher=Weigher(self.below, remembering(surface)))

    def values(self, points: Points) -> NDArray[np.float32]:
        """Return the height or the slope of the detail below at each point; raise `RangeError` if no arrays were seen."""
        if self.blend is None or self.weigher is None:
            raise RangeError(f"a mask by {self.summary} reads textures; let it see them, jq.layers_seeing(layers, arrays)")
        texels = self.blend.at(points, self.weigher.at(points))
        if self.of == "height":
            return texels[MapRole.HEIGHT] * np.float32(self.blend.plan.relief)
        return np.degrees(np.arccos(np.clip(texels[MapRole.NORMAL][:, 2], -1, 1)))

    def answer(self, points: Points) -> Answers:
        return band(self.values(points), self.low, self.high, self.fade)


def reads_detail(mask: Mask | None) -> bool:
    """Whether a mask, or one within it, reads textures."""
    return mask is not None and (isinstance(mask, DetailBand) or any(reads_detail(inner) for _, inner in _within(mask)))


def mask_seeing(mask: AnyMask, arrays: TextureArrays | Pages) -> AnyMask:
    """Return a mask that reads the textures of some arrays, in all masks within it that do."""
    if isinstance(mask, DetailBand):
        return mask.seen(arrays)
    own: Any = mask
    return replace(own, **{name: mask_seeing(inner, arrays) for name, inner in _within(mask)}) if reads_detail(mask) else mask


def layers_seeing(layers: Sequence[Layer], arrays: TextureArrays | Pages) -> list[Layer]:
    """Return layers whose masks read the textures of some arrays, where they read any; the others as they are.

    Examples
    --------
    >>> in_hollows = jq.Layer("salt", mask=jq.DetailBand("height", 0.0, 0.02, below=(layers[0],)))
    >>> jq.layers_seeing([layers[0], in_hollows], arrays)[1].name
    'salt'
    """
    out = []
    for layer in layers:
        sees = layer.mask is not None and reads_detail(layer.mask)
        out.append(replace(layer, mask=mask_seeing(layer.mask, arrays)) if sees and layer.mask is not None else layer)
    return out


def _within(mask: Mask) -> list[tuple[str, Mask]]:
    own: Any = mask
    return [(each.name, value) for each in fields(own) if isinstance(value := getattr(mask, each.name), Mask)]
