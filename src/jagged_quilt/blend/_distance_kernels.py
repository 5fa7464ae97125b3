"""What stands for layers far from the eye takes their weight there, as loops."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel

F0, F1 = np.float32(0.0), np.float32(1.0)


class FarRows(NamedTuple):
    """From where layers are seen: eye (3,) float64; what stands for each layer far away (L,), or -1; metres at which it begins,
    and over which it comes in (L, 2)."""

    eye: NDArray[np.float64]
    far: NDArray[np.int32]
    range: NDArray[np.float64]


@inlined
def _away(p, position, rest, eye):
    """Metres from the eye; `rest` is what float32 leaves away of the positions, or no rows."""
    x, y, z = position[p, 0] - eye[0], position[p, 1] - eye[1], position[p, 2] - eye[2]
    if rest.shape[0] > 0:
        x, y, z = x + rest[p, 0], y + rest[p, 1], z + rest[p, 2]
    return math.sqrt(x * x + y * y + z * z)


@kernel
def seen_from(positions, seen, layers, weights, out_layers, out_weights):
    """Fill (N, 2 K) layers and weights as they are seen: each layer, and in the second half what stands for it farther away.

    places : positions and what float32 leaves away of them. Return how many columns are used: 0 if nothing stands for a layer
    anywhere, K if each point sees a layer or what stands for it, 2 K if somewhere both show.
    """
    position, rest = positions
    count, columns = layers.shape[1], 0
    for p in range(layers.shape[0]):
        away = -1.0
        for at in range(count):
            layer, weight = layers[p, at], weights[p, at]
            other = seen.far[layer]
            out_layers[p, at], out_weights[p, at] = layer, weight
            out_layers[p, count + at], out_weights[p, count + at] = 0, F0
            if other < 0 or weight == F0:
                continue
            if away < 0.0:
                away = _away(p, position, rest, seen.eye)
            t = min(max((away - seen.range[layer, 0]) / seen.range[layer, 1], 0.0), 1.0)
            share = np.float32(t * t * (3.0 - 2.0 * t))
            if share >= F1:
                out_layers[p, at] = other
                columns = max(columns, count)
            elif share > F0:
                out_weights[p, at] = weight * (F1 - share)
                out_layers[p, count + at], out_weights[p, count + at] = other, weight * share
                columns = 2 * count
    return columns
