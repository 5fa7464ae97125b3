"""The ground from above, shaded, with weights laid over it in colour."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.colour import linear_from_srgb
from jagged_quilt.foundation.ground import Ground
from jagged_quilt.show.board import Picture, picture_of
from jagged_quilt.weights.weight_map import WeightMap

_LIGHT = np.array([-0.5, 0.75, -0.43], np.float32)  # from the upper left, as maps are drawn


def shading(surface: Ground, rows: int, columns: int) -> NDArray[np.float32]:
    """Return how bright each texel of the bare ground is, (rows, columns), 0..1."""
    points = surface.points((rows, columns), slice(0, rows), slice(0, columns))
    light = points.normal @ (_LIGHT / np.linalg.norm(_LIGHT))
    return np.clip(0.25 + 0.75 * light, 0.05, 1).reshape(rows, columns).astype(np.float32)


def laid_over(shade: NDArray[np.float32], values: NDArray[np.float32], colour: NDArray[np.uint8]) -> Picture:
    """Return shaded grey ground with a colour on it as strongly as `values` (H, W), 0..1, say."""
    rows, columns = shade.shape
    grey = np.float32(0.42) * shade[..., None].repeat(3, axis=2) ** 2
    tint = linear_from_srgb(colour.astype(np.float32) / 255) * (np.float32(0.35) + np.float32(0.75) * shade[..., None])
    alpha = _fitted(values, rows, columns)[..., None]
    return picture_of(np.clip(grey + alpha * (tint - grey), 0, 1), rows, columns)


def key_plan(weights: WeightMap, colours: NDArray[np.uint8], rows: int, columns: int) -> Picture:
    """Return all layers together, each in its colour, mixed as their weights are."""
    height, width, keep = weights.layers.shape
    linear = linear_from_srgb(colours.astype(np.float32) / 255)
    together = np.zeros((height, width, 3), np.float32)
    for k in range(keep):
        together += linear[weights.layers[..., k]] * (weights.weights[..., k, None] / np.float32(weights.unit))
    return picture_of(together, rows, columns)


def _fitted(values: NDArray[np.float32], rows: int, columns: int) -> NDArray[np.float32]:
    from jagged_quilt.arrays.resize import resized

    return resized(values[..., None], rows, columns, edge="clamp")[..., 0]
