"""Near and far: a layer that lies otherwise from some distance of the eye on, so that its repeat does not show from there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import number_in, positive
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.weights.point_weights import PointWeights


@dataclass(frozen=True, slots=True, kw_only=True)
class Far:
    """How a layer lies far from the eye.

    Attributes
    ----------
    start : float
        Metres from the eye at which it begins.
    over : float
        Metres over which it takes the place of what is near.
    scale : float
        How much larger the texture lies there than near.
    swatch : str
        Another swatch; the layer's own where it is empty.
    """

    __repr__ = short_repr

    start: float
    over: float = 20.0
    scale: float = 4.0
    swatch: str = ""

    def __post_init__(self) -> None:
        number_in("far start", self.start, 0, unit="m")
        positive("far over", self.over, "m")
        positive("far scale", self.scale)


def seen_from(
    eye: NDArray[np.float64], points: Points, weights: PointWeights, far: NDArray[np.int32], range_: NDArray[np.float64]
) -> PointWeights:
    """Return weights of layers as they are seen: beyond their range, those of what stands for them there.

    Parameters
    ----------
    eye : (3,)
    far : (L,) int32
        What stands for each layer far away, or -1.
    range_ : (L, 2)
        Metres at which it begins, and over which it comes in: 3 t² - 2 t³.
    """
    away = np.linalg.norm(points.places - eye, axis=1)[:, None]
    own = range_[weights.layers]
    t = np.clip((away - own[..., 0]) / own[..., 1], 0, 1)
    share = np.where(far[weights.layers] >= 0, t * t * (3 - 2 * t), 0).astype(np.float32)
    if not (share * weights.weights).any():
        return weights
    layers = np.where(share >= 1, np.maximum(far[weights.layers], 0), weights.layers).astype(np.uint16)
    between = np.where(share >= 1, 0, share)
    near, more = weights.weights * (1 - between), weights.weights * between
    if not more.any():
        return PointWeights(weights.names, layers, near)
    beside = np.where(more > 0, np.maximum(far[weights.layers], 0), 0).astype(np.uint16)
    return PointWeights(weights.names, np.concatenate([layers, beside], axis=1), np.concatenate([near, more], axis=1))
