"""Where a terrain comes from: a heightmap file, or several, and how its numbers are to be understood."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

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
    samples: tuple[int, int] | None = None
    byte_order: ByteOrder = ByteOrder.LITTLE
    smooth: bool = False
    between: Between = Between.BILINEAR

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
    path: Path | str | Sequence[Sequence[Path | str]],
    *,
    size: tuple[float, float],
    heights: tuple[float, float] | None = TerrainSource.heights,
    form: HeightForm | str = TerrainSource.form,
    samples: tuple[int, int] | None = TerrainSource.samples,
    byte_order: ByteOrder | str = TerrainSource.byte_order,
    smooth: bool = TerrainSource.smooth,
    between: Between | str = TerrainSource.between,
    limits: ImageLimits = LIMITS,
) -> Terrain:
    """Read a terrain from a heightmap file, or from several that meet at their borders.

    Parameters
    ----------
    path : path, or rows of paths
    size, heights, form, samples, byte_order, smooth, between
        See `TerrainSource`.
    limits : ImageLimits
        The largest image that is decoded.
    """
    files = str(path) if isinstance(path, (str, Path)) else tuple(tuple(str(file) for file in row) for row in path)
    source = TerrainSource(
        terrain=files,
        size=size,
        heights=heights,
        form=HeightForm.of(form, "form of heightmap"),
        samples=samples,
        byte_order=ByteOrder.of(byte_order, "byte order"),
        smooth=smooth,
        between=Between.of(between, "way between samples"),
    )
    return source.read(limits=limits)
