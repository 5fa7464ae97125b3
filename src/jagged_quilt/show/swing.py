"""One light going around, the camera still: a sheet, and a moving picture."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from io import BytesIO
from pathlib import Path

import numpy as np

from jagged_quilt.foundation.checks import whole_number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.files import write_bytes
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.light.light import Lighting
from jagged_quilt.show.board import FAINT, Board, Picture
from jagged_quilt.show.lit_view import draw_scenes
from jagged_quilt.show.scene import Scene
from jagged_quilt.show.thumbnails import Thumbnails
from jagged_quilt.surfaces.camera import Camera

WIDE, HIGH = 640, 400
MOST = 120
_ON_SHEET, _ACROSS = 12, 4
_MILLISECONDS = 120


def swings(lighting: Lighting, which: int, steps: int, around: tuple[float, float, float]) -> list[Lighting]:
    """Return lightings in which one light, by its number from 0, goes once around a place in so many steps."""
    whole_number_in("steps of a swing", steps, 2, MOST)
    if not lighting.lights:
        raise RangeError("there is no light that could swing; say one as [[light]]")
    whole_number_in("the number of the light", which, 0, len(lighting.lights) - 1)
    out = []
    for step in range(steps):
        lights = list(lighting.lights)
        lights[which] = lights[which].turned(360 * step / steps, around)
        out.append(replace(lighting, lights=tuple(lights)))
    return out


def draw_swing(scene: Scene, camera: Camera, lightings: Sequence[Lighting], *, work: Work = ANYHOW) -> list[Picture]:
    """Return what a camera sees under each lighting; its single rays are cast once."""
    thumbnails, before, out = Thumbnails(), scene.lighting, []
    try:
        for each in lightings:
            scene.lighting = each
            out += draw_scenes([scene], camera, width=WIDE, height=HIGH, thumbnails=thumbnails, work=work)
    finally:
        scene.lighting = before
    return out


def swing_sheet(pictures: Sequence[Picture], lightings: Sequence[Lighting], which: int) -> Board:
    """Lay up to twelve of them out, evenly chosen, each with where the light stands."""
    board = Board(f"light[{which}] goes around", "the camera and all other lights stay as they are")
    chosen = np.unique(np.linspace(0, len(pictures), min(_ON_SHEET, len(pictures)), endpoint=False).astype(int))
    for position, number in enumerate(chosen):
        x, y = 14 + position % _ACROSS * 314, 62 + position // _ACROSS * 246
        light = lightings[number].lights[which]
        where = f"bearing {light.bearing:.0f}°" if light.position is None else "at " + _position_text(light.position)
        board.write(x, y + 10, where, size=13, bold=True)
        small = pictures[number].reshape(HIGH // 2, 2, WIDE // 2, 2, 3).mean(axis=(1, 3))
        board.pin(np.rint(small).astype(np.uint8)[4:195, 7:313], x, y + 24)
    if len(chosen) < len(pictures):
        board.write(
            1266, 786, f"{len(chosen)} of {len(pictures)} steps; all in the moving picture", size=12, ink=FAINT, side="right"
        )
    return board


def _position_text(position: tuple[float, float, float]) -> str:
    return ", ".join(f"{each:.4g}" for each in position)


def write_moving(path: Path, pictures: Sequence[Picture]) -> Path:
    """Write pictures as one that moves, over and over: an animated WebP, without loss."""
    from PIL import Image

    frames = [Image.fromarray(each) for each in pictures]
    encoded = BytesIO()
    frames[0].save(
        encoded, "WEBP", save_all=True, append_images=frames[1:], duration=_MILLISECONDS, loop=0, lossless=True, method=2
    )
    write_bytes(path, encoded.getvalue())
    return path
