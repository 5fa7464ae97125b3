"""A lit view of scenes through a camera: a ray for each pixel, and four where neighbours differ."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import Block, go_over
from jagged_quilt.foundation.colour import srgb_from_linear
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.light.light import hazed, lit, shoulder, sky
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.show.board import HEIGHT, WIDTH, Picture
from jagged_quilt.show.glances import Glances, KnownCanvas
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.picture_canvas import PictureBlock, PictureCanvas

if TYPE_CHECKING:
    from jagged_quilt.show.scene import Scene

FINER = 2  # rays along each side of a pixel where it has several
RAYS_AT_ONCE = 40_000
_CONTRAST = 30  # of 255: a pixel that differs so much from one beside it is looked at more closely
_LONE = 0.7  # of a pixel: how wide a ray that is alone is read, to be as sharp as the mean of four, half a pixel wide each
_HAZE = 2600 / 256  # times the size of what is seen: the metres after which two thirds of it is air
_CUT = np.array([0.045, 0.040, 0.036], np.float32)  # what the ground shows where it is cut off


def draw_scenes(
    scenes: Sequence[Scene],
    camera: Camera,
    *,
    width: int = WIDTH,
    height: int = HEIGHT,
    flat: Sequence[bool] = (),
    closely: bool = False,
    glances: Glances | None = None,
    threads: int | None = None,
    progress: Progress = silent,
) -> list[Picture]:
    """Return what a camera sees of some scenes that differ in nothing but their layers and arrays: their rays are cast once.

    Parameters
    ----------
    flat : sequence of bool
        For each, whether the detail of normal maps is left out; kept where it is not given.
    closely : bool
        Four rays for every pixel.
    glances : Glances, optional
        Keeps what single rays met for the next drawing.
    """
    if glances is not None:
        glances.turn_to(scenes[0], camera)
    flats, reaches = list(flat) or [False] * len(scenes), scenes[0].shadows(scenes[0].sun.towards)
    if not closely:
        once = _light(
            scenes, flats, scenes[0].canvas(camera, height, width, footprint=_LONE), reaches, threads, progress, glances
        )
        shown = [np.rint(srgb_from_linear(light) * 255).reshape(height, width, 3).astype(np.uint8) for light in once]
    else:
        shown = [np.empty((height, width, 3), np.uint8) for _ in scenes]
    wanted = np.ones((height, width), bool) if closely else np.any([contrast(each) > _CONTRAST for each in shown], axis=0)
    if wanted.any():
        only = wanted.repeat(FINER, axis=0).repeat(FINER, axis=1)
        canvas = scenes[0].canvas(camera, height * FINER, width * FINER, only=only)
        for picture, light in zip(shown, _light(scenes, flats, canvas, reaches, threads, progress), strict=True):
            fine = light.reshape(height, FINER, width, FINER, 3)
            rays = [fine[:, down, :, across][wanted] for down in range(FINER) for across in range(FINER)]
            mean = np.sum(rays, axis=0) / np.float32(len(rays))
            picture[wanted] = np.rint(srgb_from_linear(mean) * 255)
    return shown


def contrast(picture: Picture) -> NDArray[np.int16]:
    """Return by how much each pixel differs from the four beside it, at most, (H, W)."""
    values = picture.astype(np.int16)
    out = np.zeros(picture.shape[:2], np.int16)
    for axis in (0, 1):
        apart = np.abs(np.diff(values, axis=axis)).max(axis=2)
        for part in (slice(1, None), slice(None, -1)):
            side = out[part] if axis == 0 else out[:, part]
            np.maximum(side, apart, out=side)
    return out


def _light(
    scenes: Sequence[Scene],
    flats: Sequence[bool],
    canvas: PictureCanvas,
    reaches: Callable[[Points], NDArray[np.float32]],
    threads: int | None,
    progress: Progress,
    glances: Glances | None = None,
) -> list[NDArray[np.float32]]:
    """The light that comes along every ray of a canvas, for each scene, (rows * columns, 3); what is bright is bent below 1."""
    scene = scenes[0]
    rows, columns = canvas.texels
    out = [np.zeros((rows * columns, 3), np.float32) for _ in scenes]
    ready = [each.ready() for each in scenes]
    sun, haze = scene.sun, scene.haze or _HAZE * scene.size or np.inf

    def look(block: Block) -> None:
        assert isinstance(block, PictureBlock)
        if not len(block.pixels):
            return
        air = sky(np.maximum(block.rays, np.array([-1, 0, -1], np.float32)))  # no ground below the horizon, only haze
        cut = block.cut >= 0
        air[cut] = hazed(np.broadcast_to(_CUT, (int(cut.sum()), 3)), block.cut[cut], haze)
        lights = [air, *(air.copy() for _ in scenes[1:])]
        lit_by = [reaches(piece.points) for piece in block.pieces] if glances is None else glances.free(canvas, block, reaches)
        for own, piece, free in zip(block.rows_of, block.pieces, lit_by, strict=True):
            points, seen = piece.points, block.rays[own]
            away = np.linalg.norm(points.places - camera_at, axis=1)
            for each, is_flat, light in zip(ready, flats, lights, strict=True):
                blend, weights = each.weighed(piece)
                texels = blend.at(points, weights, normals="world")
                shade = lit(
                    texels[MapRole.DIFFUSE],
                    texels[MapRole.SPECULAR],
                    texels[MapRole.ROUGHNESS],
                    texels[MapRole.OCCLUSION],
                    points.normal if is_flat else texels[MapRole.NORMAL],
                    -seen,
                    sun,
                    free,
                )
                light[own] = hazed(shade, away, haze)
        for target, light in zip(out, lights, strict=True):
            target[block.pixels] = shoulder(light)

    camera_at = canvas.camera.position
    of = canvas if glances is None else KnownCanvas(canvas, glances)
    go_over(of, look, most=RAYS_AT_ONCE, threads=threads, step="drawing the view", progress=progress)
    return out
