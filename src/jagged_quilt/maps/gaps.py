"""Gaps in a grid of numbers, filled from around them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

_ROUNDS = 60
_SMALLEST = 4


def filled(values: NDArray[np.float32], missing: NDArray[np.bool_]) -> NDArray[np.float32]:
    """Return values with those that are missing filled smoothly: as a membrane that hangs from the rims of the gap.

    From coarse to fine: half as many samples each way, with what is known averaged, are filled first, and stand in where the
    finer ones begin; at each step some rounds let every missing sample be the mean of its neighbours.

    Parameters
    ----------
    values : (H, W) float32
        What stands where something is missing does not count, NaN neither.
    missing : (H, W) bool
        Not everywhere.
    """
    known = np.where(missing, np.float32(0), values).astype(np.float64)
    return np.where(missing, _filled(known, ~missing), values).astype(np.float32)


def _filled(values: NDArray[np.float64], known: NDArray[np.bool_]) -> NDArray[np.float64]:
    if known.all():
        return values
    rows, columns = values.shape
    if min(rows, columns) <= _SMALLEST:
        start = np.where(known, values, values[known].mean())
    else:
        coarse, weight = _halved(values * known), _halved(known.astype(np.float64))
        there = weight > 0
        below = _filled(np.where(there, coarse / np.where(there, weight, 1), 0), there)
        start = np.where(known, values, _doubled(below, values.shape))
    gap = ~known
    for _ in range(_ROUNDS):
        wide = np.pad(start, 1, mode="edge")
        around = (wide[:-2, 1:-1] + wide[2:, 1:-1] + wide[1:-1, :-2] + wide[1:-1, 2:]) / 4
        start[gap] = around[gap]
    return start


def _halved(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """Means of two by two; an odd last row or column stands beside itself."""
    even = np.pad(values, [(0, side % 2) for side in values.shape], mode="edge")
    return (even[::2, ::2] + even[1::2, ::2] + even[::2, 1::2] + even[1::2, 1::2]) / 4


def _doubled(values: NDArray[np.float64], size: tuple[int, int]) -> NDArray[np.float64]:
    """Twice as many samples each way, bilinear between the centres of the coarse ones."""
    for axis, count in enumerate(size):
        coordinate = np.clip((np.arange(count) - 0.5) / 2, 0, values.shape[axis] - 1)
        low = np.minimum(coordinate.astype(int), max(0, values.shape[axis] - 2))
        share = np.expand_dims(coordinate - low, 1 - axis)
        high = np.minimum(low + 1, values.shape[axis] - 1)
        values = values.take(low, axis) * (1 - share) + values.take(high, axis) * share
    return values
