"""Near and far: a layer that lies otherwise from some distance of the eye on, so that its repeat does not show from there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, number_in, positive
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.weights.point_weights import PointWeights

_distance_kernels = kernels_of("jagged_quilt.blend._distance_kernels")
_NO_ROWS = frozen(np.empty((0, 3)), np.float32)


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
    count = weights.layers.shape[1]
    layers = np.empty((len(points), 2 * count), np.uint16)
    shares = np.empty(layers.shape, np.float32)
    rest = _NO_ROWS if points.rest is None else points.rest
    seen = _distance_kernels.FarRows(frozen(eye, np.float64), frozen(far, np.int32), frozen(range_, np.float64))
    own = frozen(weights.layers, np.uint16)
    used = _distance_kernels.seen_from((points.position, rest), seen, own, weights.weights, layers, shares)
    return weights if not used else PointWeights(weights.names, layers[:, :used], shares[:, :used])
