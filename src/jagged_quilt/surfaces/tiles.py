"""A terrain in several files that meet at their borders, as one."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import QuiltWarning, RangeError, ShapeError
from jagged_quilt.maps.image_limits import LIMITS, ImageLimits
from jagged_quilt.surfaces.heightmap import HeightStorage, read_heightmap


def read_tiles(
    paths: Sequence[Sequence[Path | str]],
    heights: tuple[float, float] | None,
    *,
    storage: HeightStorage,
    limits: ImageLimits = LIMITS,
) -> NDArray[np.float32]:
    """Return the heights of several files as one grid, metres, (R, C) float32.

    Neighbouring files both hold the samples of their common border. Where those differ, by no more than a hundredth of the
    relief, they are averaged, with a warning.

    Parameters
    ----------
    paths : rows of paths
        From north to south, and in each row from west to east.
    heights, storage, limits
        As for `read_heightmap`, of each file.

    Raises
    ------
    ShapeError
        If rows have unlike numbers of files, or files unlike numbers of samples along a border.
    RangeError
        If two files do not meet; the message says which, and by how much.
    """
    strips: list[NDArray[np.float32]] = []
    for _, strip in strips_of(paths, heights, storage=storage, limits=limits):
        if strips:
            strips[-1] = strips[-1][:-1]
        strips.append(strip)
    return np.ascontiguousarray(np.concatenate(strips))


def strips_of(
    paths: Sequence[Sequence[Path | str]],
    heights: tuple[float, float] | None,
    *,
    storage: HeightStorage,
    limits: ImageLimits = LIMITS,
) -> Iterator[tuple[int, NDArray[np.float32]]]:
    """Give a grid of files row by row of files: the number of the first row of samples, and the samples.

    The first row of each strip is what stands for the last of the one before as well. Raises what `read_tiles` does.
    """
    checked_rows(paths)
    apart = low = high = 0.0
    border: NDArray[np.float32] | None = None
    first = 0
    for down, row in enumerate(paths):
        strip, by = _strip(row, lambda path: read_heightmap(path, heights, storage=storage, limits=limits))
        apart = max(apart, by)
        own = float(strip.min()), float(strip.max())
        if border is not None:
            by = _apart(border, strip[0], max(high - low, own[1] - own[0]), paths[down - 1][0], row[0])
            strip[0], apart = (border + strip[0]) / 2, max(apart, by)
        low, high = (min(low, own[0]), max(high, own[1])) if down else own
        yield first, strip
        first, border = first + len(strip) - 1, strip[-1]
    if apart:
        warnings.warn(
            f"{paths[0][0]} and its neighbours differ by up to {apart:.3g} m along their borders; averaged",
            QuiltWarning,
            stacklevel=4,
        )


def checked_rows(paths: Sequence[Sequence[Path | str]]) -> None:
    """Raise `ShapeError` unless there are rows of equally many files."""
    if not paths or not paths[0] or any(len(row) != len(paths[0]) for row in paths):
        raise ShapeError(f"tiles must be rows of equally many files; got rows of {[len(row) for row in paths]}")


def _strip(row: Sequence[Path | str], read: Callable[[Path | str], NDArray[np.float32]]) -> tuple[NDArray[np.float32], float]:
    """The files of one row as one grid, and by how many metres their borders differ."""
    strip, apart = read(row[0]), 0.0
    for across, path in enumerate(row[1:], 1):
        tile = read(path)
        span = max(float(np.ptp(strip)), float(np.ptp(tile)))
        apart = max(apart, _apart(strip[:, -1], tile[:, 0], span, row[across - 1], path))
        border = (strip[:, -1:] + tile[:, :1]) / 2
        strip = np.concatenate([strip[:, :-1], border, tile[:, 1:]], axis=1)
    return strip, apart


def _apart(
    before: NDArray[np.float32], after: NDArray[np.float32], span: float, first: Path | str, second: Path | str
) -> float:
    """By how many metres two borders differ at most; refused where that is more than a hundredth of the relief."""
    if before.shape != after.shape:
        raise ShapeError(f"{second}: has {len(after)} samples along its border with {first}, which has {len(before)}")
    apart = float(np.abs(before - after).max())
    if apart > 0.01 * max(span, 1e-9):
        raise RangeError(
            f"{second}: does not meet {first}: their common border differs by up to {apart:.3g} m; are the files "
            "in order, from north to south and west to east?"
        )
    return apart
