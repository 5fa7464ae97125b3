"""Sweeps of what a layer looks like: the ground seen from near by, once for each value of a number."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.quiltfile.checks import GROUND
from jagged_quilt.quiltfile.read import full_key
from jagged_quilt.quiltfile.reading import read_quilt
from jagged_quilt.quiltfile.sweep import Sweep
from jagged_quilt.show.board import Board
from jagged_quilt.show.lit_view import draw_scenes
from jagged_quilt.show.scene import Scene
from jagged_quilt.surfaces.camera import Camera

if TYPE_CHECKING:
    from jagged_quilt.results.results import Results

_WIDE, _HIGH = 1254, 738  # pixels for the pictures
_LOOKS = {"tuning", "per_map", "meets", "shuffle", "far", "softness", "scale", "offset", "rotation", "sharpness", "warp"}
_UPON = ("film", "channel")
_TILES_AWAY, _NEAREST, _FARTHEST = 2.5, 2.0, 60.0  # of the swatch, and metres, from which it is looked at
_RISE = 40.0  # degrees


def turns_a_look(sweep: Sweep, results: Results) -> bool:
    """Whether a sweep turns what a layer of the ground looks like, and not where it lies; or what lies upon all of them."""
    key = full_key(results.quilt.table.model_dump(mode="json"), sweep.key)
    return key[0] in _UPON or (key[0] == "layer" and len(key) > 2 and key[2] in _LOOKS)


def draw_looks(results: Results, sweep: Sweep) -> Board:
    """Draw the place where a layer shows most, seen from near by (of `far`, the view's camera sees it), for each value."""
    quilt, key = results.quilt, full_key(results.quilt.table.model_dump(mode="json"), sweep.key)
    layer = str(key[0]) if key[0] in _UPON else sweep.layer_of(quilt)
    far = "far" in key or key[0] in _UPON
    camera = quilt.camera if far else close_to(results, layer)
    across, width = _columns(len(sweep.values))
    height = round(width / 1.6)
    scenes = []
    for value in sweep.values:
        changed = read_quilt(quilt.path, time=quilt.table.weights.time, changes={sweep.key: value})
        scene = Scene(results.arrays, haze=quilt.table.seen.haze, cut_out=quilt.table.seen.cut_out)
        scene.lighting = quilt.lighting
        scenes.append(scene.add(quilt.terrain, changed.layers, weights=results.weights, films=changed.films_on(GROUND)))
    pictures = draw_scenes(scenes, camera, width=width, height=height, closely=True, work=results.work)
    board = Board(f"What {sweep.key} does", f"{layer}, {'from the camera of the view' if far else 'seen from near by'}")
    for index, (value, picture) in enumerate(zip(sweep.values, pictures, strict=True)):
        x, y = 20 + index % across * (width + 14), 56 + index // across * (height + 34)
        board.pin(picture, x, y)
        board.write(x, y + height + 14, f"{value:g}", size=13, bold=True)
    return board


def close_to(results: Results, layer: str) -> Camera:
    """Return a camera near the place where a layer shows most."""
    quilt, weights = results.quilt, results.weights
    names = [name for name in weights.names if name == layer or name.startswith(f"{layer}: ")]
    shown = np.sum([weights.layer(name) for name in names], axis=0)
    row, column = _most(shown)
    east, south = quilt.ground.size
    x, z = (column + 0.5) / shown.shape[1] * east, (row + 0.5) / shown.shape[0] * south
    y = float(quilt.terrain.points_at([[x, z]]).world[0, 1])
    own = next(each for each in quilt.layers if each.name == layer)
    tile = max(results.arrays.tiles[results.arrays.index_of(swatch)] for swatch in own.swatches)
    away = float(np.clip(_TILES_AWAY * tile, _NEAREST, _FARTHEST))
    rise = np.radians(_RISE)
    eye = (x, y + away * float(np.sin(rise)), z + away * float(np.cos(rise)))
    return Camera(position=eye, target=(x, y, z), view_angle=40.0)


def _most(shown: NDArray[np.float32]) -> tuple[int, int]:
    """The row and column around which most of it lies."""
    from scipy.ndimage import uniform_filter

    wide = uniform_filter(shown.astype(np.float64), max(3, min(shown.shape) // 24), mode="constant")
    row, column = np.unravel_index(int(wide.argmax()), wide.shape)
    return int(row), int(column)


def _columns(count: int) -> tuple[int, int]:
    """How many pictures stand side by side, and how wide each is."""
    best = (1, 0)
    for across in range(1, count + 1):
        down = -(-count // across)
        wide = min(_WIDE // across - 14, round((_HIGH // down - 34) * 1.6))
        best = max(best, (across, wide), key=lambda each: each[1])
    return best
