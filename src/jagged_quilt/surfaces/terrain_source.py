"""Where a terrain comes from: a heightmap file, or several, and how its numbers are to be understood."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jagged_quilt.maps.image_files import LIMITS, ImageLimits
from jagged_quilt.surfaces.heightmap import ByteOrder, HeightForm, read_heightmap
from jagged_quilt.surfaces.terrain import Between, Terrain
from jagged_quilt.surfaces.tiles import read_tiles


@dataclass(frozen=True, kw_only=True)
class TerrainSource:
    """A terrain that is not read yet.

    Attributes
    ----------
    terrain : path, or rows of paths
        A heightmap; or several, from north to south, and in each row from west to east: neighbours share the samples of their
        common border (see `read_tiles`).
    size : (float, float)
        Metres, east and south.
    heights : (float, float) or None
        Metres at black and at white; None where a float file holds metres.
    form : HeightForm
        How the file holds heights.
    channel : str
        Which channel of an image holds them; where it is empty, an image must be grey.
    nothing : float or None
        The stored number that means "nothing here", beside what a file itself says.
    samples : (int, int) or None
        Of a raw file: how many from west to east, and from north to south.
    byte_order : ByteOrder
        Of a raw file.
    smooth : bool
        Take the stairs out of heights of few levels, moving none by more than half a step.
    between : Between
        What lies between samples.
    """

    terrain: str | tuple[tuple[str, ...], ...]
    size: tuple[float, float]
    heights: tuple[float, float] | None = None
    form: HeightForm = HeightForm.GREY
    channel: str = ""
    nothing: float | None = None
    samples: tuple[int, int] | None = None
    byte_order: ByteOrder = ByteOrder.LITTLE
    smooth: bool = False
    between: Between = Between.BILINEAR

    def __post_init__(self) -> None:
        object.__setattr__(self, "form", HeightForm.of(self.form, "form of heightmap"))
        object.__setattr__(self, "byte_order", ByteOrder.of(self.byte_order, "byte order"))
        object.__setattr__(self, "between", Between.of(self.between, "way between samples"))

    @property
    def files(self) -> list[str]:
        """The heightmap files, row by row."""
        return [self.terrain] if isinstance(self.terrain, str) else [file for row in self.terrain for file in row]

    def read(self, folder: Path = Path(), limits: ImageLimits = LIMITS) -> Terrain:
        """Read the terrain; files are relative to `folder`.

        Raises `QuiltError` if a file cannot be read as that.
        """
        how = {
            "form": self.form,
            "channel": self.channel,
            "nothing": self.nothing,
            "samples": self.samples,
            "byte_order": self.byte_order,
            "smooth": self.smooth,
            "limits": limits,
        }
        if isinstance(self.terrain, str):
            metres = read_heightmap(folder / self.terrain, self.heights, **how)  # type: ignore[arg-type]
        else:
            metres = read_tiles([[folder / file for file in row] for row in self.terrain], self.heights, **how)
        return Terrain(metres, size=self.size, between=self.between)


def read_terrain(
    path: Path | str | Sequence[Sequence[Path | str]], *, size: tuple[float, float], limits: ImageLimits = LIMITS, **how: Any
) -> Terrain:
    """Read a terrain from a heightmap file, or from several that meet at their borders.

    Parameters
    ----------
    path : path, or rows of paths
    size : (float, float)
        Metres, east and south.
    limits : ImageLimits
        The largest image that is decoded.
    how
        What else a `TerrainSource` says: heights, form, channel, nothing, samples, byte_order, smooth, between.
    """
    files = str(path) if isinstance(path, (str, Path)) else tuple(tuple(str(file) for file in row) for row in path)
    return TerrainSource(terrain=files, size=size, **how).read(limits=limits)
