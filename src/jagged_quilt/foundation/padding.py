"""Growing what is covered outwards, over the gaps of a canvas."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.kernels import kernels_of

PADDING = 16  # texels, where nothing else is said
_padding_kernels = kernels_of("jagged_quilt.foundation._padding_kernels")


class Padding:
    """Which covered texel is the nearest of every texel of a layout.

    Parameters
    ----------
    covered : (H, W) bool
    """

    def __init__(self, covered: NDArray[np.bool_]) -> None:
        near_row, near_column = np.empty(covered.shape, np.int32), np.empty(covered.shape, np.int32)
        _padding_kernels.nearest_texels(frozen(covered, bool), *covered.shape, near_row, near_column)
        self._bare = np.flatnonzero(~covered)
        row, column = near_row.reshape(-1)[self._bare].astype(np.int64), near_column.reshape(-1)[self._bare]
        self._nearest = np.where(row < 0, self._bare, row * covered.shape[1] + column)
        away = np.hypot(row - self._bare // covered.shape[1], column - self._bare % covered.shape[1])
        self._away = np.where(row < 0, np.inf, away)

    def grow(self, values: NDArray[np.generic], padding: int) -> None:
        """Fill texels around covered ones with the value of the nearest, in place: at least those up to `padding` away along
        both axes; values : (H W, ...)."""
        reached = self._away <= padding * np.sqrt(2)
        values[self._bare[reached]] = values[self._nearest[reached]]
