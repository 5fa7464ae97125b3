"""What is worked out of a heightmap once, in bands of rows, so that it may be larger than memory."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import bands
from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.disk_store import ArrayStore, Fill
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of

_kernels = kernels_of("jagged_quilt.surfaces._kernels")

_AT_ONCE = 1 << 22  # samples


class Relief(NamedTuple):
    """Slopes and extremes of heights.

    east, south : (R, C) float32
        How fast the ground rises per metre.
    highest : (R / 8, C / 8) float32
        The highest sample of each block of cells.
    low, high, steepest : float
        The lowest and the highest sample, and the most by which two beside each other differ, in metres.
    """

    east: NDArray[np.float32]
    south: NDArray[np.float32]
    highest: NDArray[np.float32]
    low: float
    high: float
    steepest: float


def relief_of(heights: NDArray[np.float32], spacing: tuple[float, float], room: ArrayStore, key: str) -> Relief:
    """Work out the relief of heights (R, C); what takes much room goes where there is room for it.

    Raises `RangeError` if a height is not finite.
    """

    def extremes(out: Stored) -> None:
        low, high, steepest = np.inf, -np.inf, 0.0
        for rows, one_more in _bands_of(heights):
            if not np.isfinite(rows).all():
                raise RangeError(
                    f"heights must be finite; got {int((~np.isfinite(rows)).sum())} that are not in one band of rows"
                )
            low, high = min(low, float(rows.min())), max(high, float(rows.max()))
            steps = (np.abs(np.diff(one_more, axis=axis)) for axis in (0, 1))
            steepest = max(steepest, *(float(each.max()) for each in steps if each.size))
        out[:] = low, high, steepest

    low, high, steepest = room.kept("extremes", key, (3,), np.float64, extremes)
    east, south = (
        room.kept(
            name, fingerprint(key, repr(spacing[axis])), heights.shape, np.float32, _slopes(heights, spacing[axis], 1 - axis)
        )
        for axis, name in enumerate(("slopes east", "slopes south"))
    )
    blocks = (-(-(heights.shape[0] - 1) // _kernels.BLOCK), -(-(heights.shape[1] - 1) // _kernels.BLOCK))
    fill = lambda out: _kernels.highest_of_blocks(frozen(heights, np.float32), out)
    highest = room.kept("highest of blocks", key, blocks, np.float32, fill)
    return Relief(east, south, highest, float(low), float(high), float(steepest))


def _bands_of(heights: NDArray[np.float32]) -> Iterator[tuple[NDArray[np.float32], NDArray[np.float32]]]:
    """Give bands of rows, and each with the first row of the next."""
    for band in bands(heights.shape, _AT_ONCE):
        yield heights[band.top : band.bottom], heights[band.top : band.bottom + 1]


def _slopes(heights: NDArray[np.float32], spacing: float, axis: int) -> Fill:
    """Return what fills an array with the slopes along an axis: between the neighbours of a sample, in float64."""

    def fill(out: Stored) -> None:
        for band in bands(heights.shape, _AT_ONCE):
            first = max(0, band.top - 1)
            around = heights[first : band.bottom + 1].astype(np.float64)
            own = slice(band.top - first, band.bottom - first)
            out[band.top : band.bottom] = np.gradient(around, spacing, axis=axis)[own]

    return fill
