"""The beginning of a project: a folder with a quilt file that bakes as it is, and says what to put in place of what."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.audit.gather import Gathering
from jagged_quilt.foundation.colour import colour_of
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import make_folder, written_whole
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.quiltfile.gathered import (
    SCHEMA,
    SCHEMA_LINE,
    GroundFile,
    allowing,
    commented,
    ground_block,
    proposed,
    quoted,
    write_gathered,
    write_schema,
)
from jagged_quilt.quiltfile.proposals import GroundShape, Material, propose_layers
from jagged_quilt.quiltfile.reading import read_quilt
from jagged_quilt.surfaces.terrain_source import read_terrain

_HILLS = 257  # samples along the made-up ground
_PLAIN = {"meadow": ("#5c6a34", 0.9), "grey rock": ("#77736c", 0.8), "lake sand": ("#b59e78", 0.7), "snow": ("#eef1f5", 0.6)}
_SETTINGS = """
[arrays]
side = 512                        # texels along a slice: every map is resampled to it; a power of two

[weights]
texels = 1024                     # along the weight map's longer side

[bake]
texels = 2048                     # along the longer side of the baked maps
"""


@dataclass(frozen=True, slots=True, kw_only=True)
class Begun:
    """What was written.

    Attributes
    ----------
    quilt_file : Path
    files : tuple of Path
        All of them.
    is_made_up : bool
        Whether the ground is hills of our own.
    """

    quilt_file: Path
    files: tuple[Path, ...]
    is_made_up: bool


def begin(folder: Path, *, ground: GroundFile | None = None, found: Gathering | None = None) -> Begun:
    """Write a new project into a folder.

    Parameters
    ----------
    ground : GroundFile, optional
        The heightmap to use; without one, hills are made up and written as `height.png`.
    found : Gathering, optional
        Sets of maps, each to become a swatch with a layer; without them, swatches are plain colours.

    Raises
    ------
    FileError
        If the folder holds anything already.
    """
    if folder.is_dir() and any(folder.iterdir()):
        raise FileError(f"{folder}: holds files already; name a new folder, or add to its quilt file with: jquilt gather")
    was_there = folder.is_dir()
    make_folder(folder)
    name = folder.resolve().name or "project"
    files = [folder / f"{name}.quilt.toml", *([folder / "height.png"] if ground is None else []), folder / SCHEMA]
    try:
        _write(name, files, folder, ground, found)
    except BaseException:  # or the next attempt would find a folder that holds files
        for each in files:
            each.unlink(missing_ok=True)
        if not was_there:
            with contextlib.suppress(OSError):
                folder.rmdir()
        raise
    return Begun(quilt_file=files[0], files=tuple(files), is_made_up=ground is None)


def _write(name: str, files: list[Path], folder: Path, ground: GroundFile | None, found: Gathering | None) -> None:
    path = files[0]
    if ground is None:
        write_image(files[1], np.rint(hills() * 65535).astype(np.uint16)[..., None])
        used = GroundFile(file=files[1], size=(512.0, 512.0), heights=(0.0, 90.0))
    else:
        used = ground
    first = "# A heightmap: row 0 is north, x runs east, z runs south. "
    first += "These are made-up hills: put your own file in its place." if ground is None else ""
    head = [f"{SCHEMA_LINE}\ntitle = {quoted(name)}", f"{first.rstrip()}\n{ground_block(used, folder)}", _SETTINGS.strip()]
    if found is None:
        head[0] = allowing(head[0], folder, [used.file.parent])
        terrain = read_terrain(used.file, size=used.size, heights=used.heights)
        materials = [Material(name=own, colour=np.array(colour_of(text))) for own, (text, _) in _PLAIN.items()]
        blocks = [*head, _plain_swatches(), *proposed(propose_layers(materials, GroundShape.of(terrain)))]
        with written_whole(path) as temporary:
            temporary.write_text("\n\n".join(blocks) + "\n", encoding="utf-8")
            read_quilt(temporary)
        write_schema(folder)
    else:
        write_gathered(path, found, ground=used, head=head)


def guessed_ground(file: Path, size: tuple[float, float] | None, heights: tuple[float, float] | None) -> GroundFile:
    """Return a heightmap as a ground, with guesses in place of what is not given: a metre from sample to sample, and an
    eighth of the width from black to white; a float file holds metres."""
    from jagged_quilt.maps.image_files import read_image
    from jagged_quilt.surfaces.heightmap import HeightStorage, size_of_heightmap

    guessed = []
    if size is None:
        rows, columns = size_of_heightmap(file, HeightStorage())
        size, guessed = (float(columns - 1), float(rows - 1)), ["size"]
    if heights is None and read_image(file).dtype.kind != "f":
        heights, guessed = (0.0, round(max(size) / 8, 1)), [*guessed, "heights"]
    return replace(GroundFile(file=file, size=size, heights=heights), guessed=tuple(guessed))


def hills() -> NDArray[np.float64]:
    """Return made-up hills, 0 to 1: noise whose parts grow weaker as they grow finer; the same every time."""
    side = _HILLS - 1
    spectrum = np.fft.rfft2(np.random.default_rng(11).standard_normal((side, side)))
    away = np.hypot(np.fft.fftfreq(side)[:, None], np.fft.rfftfreq(side)[None]) * side
    heights = np.fft.irfft2(spectrum / np.maximum(away, 1.5) ** 2.1 * np.exp(-((away / 60) ** 2)))
    heights = np.pad(heights, ((0, 1), (0, 1)), mode="wrap")
    return np.asarray((heights - heights.min()) / np.ptp(heights)) ** 1.4


def _plain_swatches() -> str:
    blocks = ["# Materials: plain colours to begin with. `jquilt gather FOLDER --into FILE` adds sets of maps."]
    for name, (colour, roughness) in _PLAIN.items():
        plain = f'plain = {{ diffuse = "{colour}", roughness = {roughness} }}'
        folder = f'or folder = "textures/{name.replace(" ", "_")}"'
        lines = ["[[swatch]]", f"name = {quoted(name)}", commented(plain, folder)]
        blocks.append("\n".join([*lines, commented("tile = 2.0", "metres that one repeat covers")]))
    return "\n\n".join(blocks)
