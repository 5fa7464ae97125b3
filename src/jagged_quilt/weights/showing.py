"""How much of a layer shows before others are put upon it, as a mask."""

from __future__ import annotations

from collections.abc import Sequence

from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.masks.mask import Constant, Mask
from jagged_quilt.weights.medley import Stacked


def shown_below(layers: Sequence[Stacked], name: str) -> Mask:
    """Return how much of one of some layers shows, where they cover each other from the bottom up: a mask for those above.

    Raises `NameNotFoundError` if there is no such layer.

    Examples
    --------
    >>> jq.Layer("clay", mask=jq.shown_below(layers, "salt") * jq.Noise(size=4.0))
    Layer(swatch='clay', mask=(HeightBand(low=0.2, high=1) multiply Noise(size=4)))
    """
    names = [layer.name for layer in layers]
    return uncovered([layer.mask for layer in layers], names.index(known_name("layer", name, names)))


def uncovered(masks: Sequence[Mask | None], which: int) -> Mask:
    """Return a mask of those that cover each other, less what lies upon it; None is everywhere."""
    if not 0 <= which < len(masks):
        raise RangeError(f"which must be one of {len(masks)} masks; got {which}")
    everywhere = Constant(1.0)
    own, *above = (everywhere if each is None else each for each in masks[which:])
    for each in above:
        own = own * ~each
    return own
