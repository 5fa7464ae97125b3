"""A terrain in several files that meet at their borders, as one."""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import QuiltWarning, RangeError, ShapeError
from jagged_quilt.surfaces.heightmap import read_heightmap


def read_tiles(
    paths: Sequence[Sequence[Path | str]], heights: tuple[float, float] | None, **options: Any
) -> NDArray[np.float32]:
    """Return the heights of several files as one grid, metres, (R, C) float32.

    Neighbouring files both hold the samples of their common border. Where those differ, by no more than a hundredth of the
    relief, they are averaged, and that is told.

    Parameters
    ----------
    paths : rows of paths
        From north to south, and in each row from west to east.
    heights, options
        As for `read_heightmap`, of each file.

    Raises
    ------
    ShapeError
        If rows have unlike numbers of files, or files unlike numbers of samples along a border.
    RangeError
        If two files do not meet; the message says which, and by how much.
    """
    if not paths or not paths[0] or any(len(row) != len(paths[0]) for row in paths):
        raise ShapeError(f"tiles must be rows of equally many files; got rows of {[len(row) for row in paths]}")
    whole: NDArray[np.float32] | None = None
    apart = 0.0
    for down, row in enumerate(paths):
        strip: NDArray[np.float32] | None = None
        for across, path in enumerate(row):
            tile = read_heightmap(path, heights, **options)
            if strip is None:
                strip = tile
            else:
                strip, by = _joined(strip.T, tile.T, row[across - 1], path)
                strip, apart = strip.T, max(apart, by)
        assert strip is not None
        if whole is None:
            whole = strip
        else:
            whole, by = _joined(whole, strip, paths[down - 1][0], row[0])
            apart = max(apart, by)
    assert whole is not None
    if apart:
        warnings.warn(
            f"{paths[0][0]} and its neighbours differ by up to {apart:.3g} m along their borders; averaged",
            QuiltWarning,
            stacklevel=3,
        )
    return np.ascontiguousarray(whole)


def _joined(
    before: NDArray[np.float32], after: NDArray[np.float32], first: Path | str, second: Path | str
) -> tuple[NDArray[np.float32], float]:
    """Two grids, the last row of one on the first row of the other; and by how many metres those differ."""
    if before.shape[1] != after.shape[1]:
        raise ShapeError(f"{second}: has {after.shape[1]} samples along its border with {first}, which has {before.shape[1]}")
    apart = float(np.abs(before[-1] - after[0]).max())
    span = max(float(np.ptp(before)), float(np.ptp(after)), 1e-9)
    if apart > 0.01 * span:
        raise RangeError(
            f"{second}: does not meet {first}: their common border differs by up to {apart:.3g} m; are the files "
            "in order, from north to south and west to east?"
        )
    border = (before[-1:] + after[:1]) / 2
    return np.concatenate([before[:-1], border, after[1:]]), apart
