"""Two views side by side, and where they differ."""

from __future__ import annotations

import pickle
from collections.abc import Sequence
from typing import Any

import numpy as np

from jagged_quilt.foundation.colour import linear_from_srgb
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.show.board import FAINT, Board, Picture, picture_of
from jagged_quilt.show.lit_view import draw_scenes
from jagged_quilt.show.scene import Scene
from jagged_quilt.show.weight_pictures import heat
from jagged_quilt.surfaces.camera import Camera

_MOST = 64  # of 255: a difference that is drawn brightest


def draw_beside(scenes: Sequence[Scene], camera: Camera, **options: Any) -> list[Picture]:
    """Draw scenes through one camera, pixel by pixel alike: their rays are cast once where all stands and is lit alike."""
    first = _stands(scenes[0])
    if all(each.lighting == scenes[0].lighting and _stands(each) == first for each in scenes[1:]):
        return draw_scenes(scenes, camera, **options)
    return [each.draw(camera, **options) for each in scenes]


def _stands(scene: Scene) -> list[str]:
    """A hash of every surface, as it is placed, and of the haze."""
    return [str(scene.haze), *(fingerprint(pickle.dumps(thing.surface)) for thing in scene.things)]


def compare(one: Picture, other: Picture, names: tuple[str, str] = ("one", "other")) -> Board:
    """Return a board of two pictures of one size and where they differ, with figures; `board.save(path)` writes it.

    Raises `ShapeError` unless both are (height, width, 3) uint8 of one size.

    Examples
    --------
    >>> dark, bright = np.zeros((4, 4, 3), np.uint8), np.full((4, 4, 3), 200, np.uint8)
    >>> compare(dark, bright).height
    800
    """
    for name, each in zip(names, (one, other), strict=True):
        if not isinstance(each, np.ndarray) or each.ndim != 3 or each.shape[2] != 3 or each.dtype != np.uint8:
            got = f"{each.dtype} {each.shape}" if isinstance(each, np.ndarray) else type(each).__name__
            raise ShapeError(f'"{name}" must be a picture, (height, width, 3) uint8; got {got}')
    return draw_compared(names, [one, other])


def draw_compared(names: Sequence[str], pictures: Sequence[Picture]) -> Board:
    """Draw two pictures of the same camera and light above, and below how far each pixel differs, with figures.

    Larger pictures are shown smaller, so that both fit; the figures are of all their pixels. Raises `ShapeError` unless there
    are two of one size.

    Examples
    --------
    >>> before, after = np.zeros((80, 60, 3), np.uint8), np.full((80, 60, 3), 9, np.uint8)
    >>> jq.show.draw_compared(["before", "after"], [before, after])
    <Board 1280 x 800: Compared: the same camera, the same light>
    """
    if len(pictures) != 2 or pictures[0].shape != pictures[1].shape:
        raise ShapeError(f"two pictures of one size are compared; got {', '.join(str(each.shape) for each in pictures)}")
    board = Board("Compared: the same camera, the same light")
    apart = np.abs(pictures[0].astype(np.int16) - pictures[1].astype(np.int16)).max(axis=2)
    shrink = min(1.0, (board.width - 40) / 2 / apart.shape[1], (board.height - 72 - 26 - 14) * 0.6 / apart.shape[0])
    height, width = (max(1, int(side * shrink)) for side in apart.shape)
    for index, (name, picture) in enumerate(zip(names, pictures, strict=True)):
        x = 15 + index * (width + 10)
        board.write(x, 58, f"{'left' if index == 0 else 'right'}: {name}", size=13, bold=True)
        board.pin(picture if shrink == 1 else _shrunk(picture, height, width), x, 72)
    top = 72 + height + 26
    shown = heat(np.clip(apart / _MOST, 0, 1))
    shown = shown if shrink == 1 else _shrunk(shown, height, width)
    rows = board.height - top - 14
    cut = max(0, (height - rows) // 2)
    board.write(15, top - 12, "difference, the largest of the three channels", size=13, bold=True)
    board.pin(shown[cut : cut + rows], 15, top)
    x = 15 + width + 10
    bar = heat(np.linspace(0, 1, 400)[None].repeat(16, axis=0))
    board.pin(bar, x, top)
    for index, step in enumerate((0, _MOST // 2, _MOST)):
        side = ("left", "center", "right")[index]
        board.write(x + 200 * index, top + 32, f"{step}{' of 255 or more' if index == 2 else ''}", size=12, side=side)  # type: ignore[arg-type]
    changed = 100 * float((apart > 2).mean())
    board.write(x, top + 78, f"{changed:.1f} % of the pixels differ by more than 2 of 255", size=15, bold=True)
    board.write(
        x, top + 106, f"mean {apart.mean():.2f}, 99th percentile {np.percentile(apart, 99):.0f}, largest {apart.max()}", size=13
    )
    if cut:
        board.write(x, top + 134, "the difference is cut above and below to fit", size=12, ink=FAINT)
    return board


def _shrunk(picture: Picture, rows: int, columns: int) -> Picture:
    """A smaller copy of a picture, averaged in linear light."""
    return picture_of(linear_from_srgb(picture.astype(np.float32) / 255), rows, columns)


def draw_halves(pictures: Sequence[Picture], names: Sequence[str]) -> Board:
    """Put the left half of one picture beside the right half of another, with a line between."""
    height, width = pictures[0].shape[:2]
    middle = width // 2
    board = Board("", width=width, height=height)
    board.pin(np.concatenate([pictures[0][:, :middle], pictures[1][:, middle:]], axis=1), 0, 0)
    board.pin(np.full((height, 2, 3), 240, np.uint8), middle - 1, 0)
    board.write(middle - 14, height - 24, names[0], size=16, bold=True, side="right", behind="#1e2024")
    board.write(middle + 14, height - 24, names[1], size=16, bold=True, behind="#1e2024")
    return board
