"""A labelled grid, to stand in for the textures: every square has a name, every quadrant a colour."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from jagged_quilt.arrays.pack import pack
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.work import ALONE
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.texture_map import TextureMap
from jagged_quilt.show.board import Picture

SQUARES = 4
_QUADRANTS = ((214, 120, 96), (104, 156, 190), (206, 178, 92), (124, 170, 120))


@lru_cache(maxsize=4)
def labelled_grid(side: int = 512) -> Picture:
    """Return a tile of 4 x 4 squares, A1 at the top left to D4 at the bottom right, an arrow to the top on each; read-only.

    Examples
    --------
    >>> jq.show.labelled_grid(128).shape
    (128, 128, 3)
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(side / 100, side / 100), dpi=100)
    canvas = FigureCanvasAgg(figure)
    square = side // SQUARES
    pixels = np.zeros((side, side, 3), np.uint8)
    for row in range(SQUARES):
        for column in range(SQUARES):
            colour = np.array(_QUADRANTS[2 * (row >= SQUARES // 2) + (column >= SQUARES // 2)])
            pale = (row + column) % 2
            block = pixels[row * square : (row + 1) * square, column * square : (column + 1) * square]
            block[:] = colour + (255 - colour) * 0.35 if pale else colour * 0.8
            edge = max(1, side // 128)
            block[:edge] = block[-edge:] = 28
            block[:, :edge] = block[:, -edge:] = 28
            name = f"{'ABCD'[row]}{column + 1}"
            x, y = (column + 0.5) / SQUARES, 1 - (row + 0.5) / SQUARES
            figure.text(x, y - 0.022, name, fontsize=side * 0.085, color="#141414", ha="center", va="center", fontweight="bold")
            figure.text(x, y + 0.075, "▲", fontsize=side * 0.026, color="#141414", ha="center", va="center")
    figure.figimage(pixels, origin="upper", resize=False)
    canvas.draw()
    return frozen(np.asarray(canvas.buffer_rgba())[..., :3], np.uint8)


def grid_arrays(tile: float, side: int = 512) -> TextureArrays:
    """Return texture arrays whose one swatch, "grid", is the labelled grid over `tile` metres, matt and flat."""
    return pack([_grid_swatch("grid", tile, side)], side=side, work=ALONE)


def grids_like(arrays: TextureArrays, side: int = 512) -> TextureArrays:
    """Return arrays with the same swatches and tile sizes, each a labelled grid, matt and flat.

    Examples
    --------
    >>> jq.show.grids_like(arrays, side=64)
    <TextureArrays 2 swatches of 64 x 64 in diffuse_height, normal_roughness_occlusion, specular: clay, salt>
    """
    swatches = [_grid_swatch(name, tile, side) for name, tile in zip(arrays.names, arrays.tiles, strict=True)]
    return pack(swatches, side=side)


def _grid_swatch(name: str, tile: float, side: int) -> Swatch:
    diffuse = TextureMap(role=MapRole.DIFFUSE, texels=labelled_grid(side))
    rough = TextureMap(role=MapRole.ROUGHNESS, texels=np.full((1, 1, 1), 230, np.uint8))
    return Swatch(name=name, tile=tile, relief=0.01, maps={MapRole.DIFFUSE: diffuse, MapRole.ROUGHNESS: rough})
