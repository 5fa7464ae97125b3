"""Where a terrain comes from: a heightmap file, or several, and how its numbers are to be understood."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jagged_quilt.foundation.disk_store import DiskStore
from jagged_quilt.foundation.errors import FileError, ShapeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.maps.image_limits import LIMITS, ImageLimits
from jagged_quilt.surfaces.heightmap import (
    HeightStorage,
    heights_in_bands,
    read_heightmap,
    size_of_heightmap,
)
from jagged_quilt.surfaces.settings import Between
from jagged_quilt.surfaces.tiles import checked_rows, read_tiles, strips_of

if TYPE_CHECKING:
    from jagged_quilt.surfaces.terrain import Terrain


@dataclass(frozen=True, kw_only=True)
class TerrainSource(HeightStorage):
    """A terrain that is not read yet: where its heights lie, how the files hold them, and how large it is.

    Attributes
    ----------
    terrain : path, or rows of paths
        A heightmap; or several, from north to south, and in each row from west to east: neighbours share the samples of their
        common border (see `read_tiles`).
    size : (float, float)
        Metres, east and south.
    heights : (float, float) or None
        Metres at black and at white; None where a float file holds metres.
    between : Between
        What lies between samples.
    """

    terrain: str | tuple[tuple[str, ...], ...]
    size: tuple[float, float]
    heights: tuple[float, float] | None = None
    between: Between = Between.BILINEAR

    def __post_init__(self) -> None:
        super().__post_init__()
        object.__setattr__(self, "between", Between.of(self.between, "way between samples"))

    @property
    def files(self) -> list[str]:
        """The heightmap files, row by row."""
        return [self.terrain] if isinstance(self.terrain, str) else [file for row in self.terrain for file in row]

    def read(self, folder: Path = Path(), limits: ImageLimits = LIMITS, shelf: DiskStore | None = None) -> Terrain:
        """Read the terrain; files are relative to `folder`.

        With a shelf the heights go there, piece by piece, and not into memory: a band of a file, or a row of files, at a time.
        Raises `QuiltError` if a file cannot be read as that.
        """
        paths = [folder / file for file in self.files]
        if shelf is not None:
            size = self.samples_in(folder, limits)
            key = fingerprint(repr(replace(self, size=(1, 1), between=Between.BILINEAR)), *map(_looks, paths))
            metres = shelf.kept("heights", key, size, np.float32, lambda out: self._fill(out, folder, limits))
        elif isinstance(self.terrain, str):
            metres = read_heightmap(paths[0], self.heights, storage=self, limits=limits)
        else:
            metres = read_tiles(self._rows_of(folder), self.heights, storage=self, limits=limits)
        from jagged_quilt.surfaces.terrain import Terrain

        return Terrain(metres, size=self.size, between=self.between, shelf=shelf)

    def samples_in(self, folder: Path = Path(), limits: ImageLimits = LIMITS) -> tuple[int, int]:
        """Return how many rows and columns of samples the files hold, by their heads."""
        size = lambda file: size_of_heightmap(folder / file, self, limits)
        if isinstance(self.terrain, str):
            return size(self.terrain)
        checked_rows(self.terrain)
        rows = 1 + sum(size(row[0])[0] - 1 for row in self.terrain)
        return rows, 1 + sum(size(file)[1] - 1 for file in self.terrain[0])

    def _rows_of(self, folder: Path) -> list[list[Path]]:
        return [[folder / file for file in row] for row in self.terrain]

    def _fill(self, out: Stored, folder: Path, limits: ImageLimits) -> None:
        if isinstance(self.terrain, str):
            pieces = heights_in_bands(folder / self.terrain, self.heights, storage=self, limits=limits)
        else:
            pieces = strips_of(self._rows_of(folder), self.heights, storage=self, limits=limits)
        for first, piece in pieces:
            if first + len(piece) > len(out) or piece.shape[1] != out.shape[1]:
                raise ShapeError(f"{self.files[0]}: rows of files must hold equally many samples from west to east")
            out[first : first + len(piece)] = piece


def _looks(path: Path) -> str:
    try:
        there = path.stat()
    except OSError as error:
        raise FileError(f"{path}: the heightmap cannot be read: {error.strerror or error}") from error
    return f"{path.absolute()} {there.st_size} {there.st_mtime_ns}"


def read_terrain(
    path: Path | str | Sequence[Sequence[Path | str]],
    *,
    size: tuple[float, float],
    limits: ImageLimits = LIMITS,
    shelf: DiskStore | None = None,
    **how: Any,
) -> Terrain:
    """Read a terrain from a heightmap file, or from several that meet at their borders.

    Parameters
    ----------
    path : path, or rows of paths
    size : (float, float)
        Metres, east and south.
    limits : ImageLimits
        The largest image that is decoded.
    shelf : DiskStore, optional
        Where heights that are more than can be held are laid, and read from as they are needed.
    how
        What else a `TerrainSource` says: heights, form, channel, nothing, samples, byte_order, signed, smooth, between.

    Examples
    --------
    >>> jq.read_terrain("height.png", size=(256, 256), heights=(0, 38))
    <Terrain 33 x 33 samples, 256 x 256 m, 0.00 to 38.00 m high>
    """
    files = str(path) if isinstance(path, (str, Path)) else tuple(tuple(str(file) for file in row) for row in path)
    return TerrainSource(terrain=files, size=size, **how).read(limits=limits, shelf=shelf)
