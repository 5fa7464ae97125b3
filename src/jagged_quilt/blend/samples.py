"""What limiting triplanar projection to where it is needed saves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend.blend import Blend
from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.points import Points
from jagged_quilt.weights.point_weights import PointWeights


def samples_saved(arrays: TextureArrays, layers: Sequence[Layer], points: Points, weights: PointWeights) -> float:
    """Return the share of samples, 0..1, that the limits of triplanar layers save at points.

    A sample is one layer seen on one plane of its projection.

    Parameters
    ----------
    weights : PointWeights

    Examples
    --------
    >>> points = ground.points((32, 32))
    >>> share = jq.show.samples_saved(arrays, layers, points, jq.weigh_points(points, layers))
    >>> 0 <= share <= 1
    True
    """
    without = [_without_limits(layer) for layer in layers]
    read, all_of_them = (float(Blend(arrays, each).survey(points, weights).reads.sum()) for each in (layers, without))
    return 1 - read / all_of_them


def _without_limits(layer: Layer) -> Layer:
    return replace(layer, projection=layer.projection.without_limits)
