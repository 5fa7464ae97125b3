"""A lit view of a scene through a camera."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import Block, go_over
from jagged_quilt.foundation.colour import srgb_from_linear
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.light.light import lit, shoulder, sky
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.show.board import HEIGHT, WIDTH, Picture
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.picture_canvas import PictureBlock

if TYPE_CHECKING:
    from jagged_quilt.show.scene import Scene

FINER = 2  # rays per pixel along each side
ROWS_AT_ONCE = 16  # of pixels
_HAZE = 2600 / 256  # times the size of what is seen: the metres after which two thirds of it is air
_CUT = np.array([0.045, 0.040, 0.036], np.float32)  # what the ground shows where it is cut off


def draw_scene(
    scene: Scene,
    camera: Camera,
    *,
    width: int = WIDTH,
    height: int = HEIGHT,
    flat: bool = False,
    threads: int | None = None,
    progress: Progress = silent,
) -> Picture:
    """Return what a camera sees; see `Scene.draw`."""
    out = np.empty((height, width, 3), np.uint8)
    scene.ready()
    sun, reaches, haze = scene.sun, scene.shadows(scene.sun.towards), scene.haze or _HAZE * scene.size or np.inf

    def through_air(light: NDArray[np.float32], rays: NDArray[np.float32], away: NDArray[np.floating]) -> NDArray[np.float32]:
        air = (1 - np.exp(-away[:, None] / haze)).astype(np.float32)
        return light * (1 - air) + sky(rays * np.array([1, 0, 1], np.float32)) * air

    def draw_rows(block: Block) -> None:
        assert isinstance(block, PictureBlock)
        start = block.region.top * block.region.columns
        light = sky(np.maximum(block.rays, np.array([-1, 0, -1], np.float32)))  # no ground below the horizon, only haze
        cut = block.cut >= 0
        light[cut] = through_air(_CUT, block.rays[cut], block.cut[cut])
        for piece in block.pieces:
            assert piece.where.each is not None
            own = piece.where.each - start
            points, seen = piece.points, block.rays[own]
            blend, weights = scene.weighed(piece)
            texels = blend.at(points, weights, normals="world")
            shade = lit(
                texels[MapRole.DIFFUSE],
                texels[MapRole.SPECULAR],
                texels[MapRole.ROUGHNESS],
                texels[MapRole.OCCLUSION],
                points.normal if flat else texels[MapRole.NORMAL],
                -seen,
                sun,
                reaches(points),
            )
            light[own] = through_air(shade, seen, np.linalg.norm(points.places - camera.position, axis=1))
        top, rows = block.region.top // FINER, block.region.rows // FINER
        out[top : top + rows] = _mean_of_rays(shoulder(light), rows, width)

    rays = scene.canvas(camera, height * FINER, width * FINER)
    go_over(
        rays, draw_rows, most=ROWS_AT_ONCE * FINER * width * FINER, threads=threads, step="drawing the view", progress=progress
    )
    return out


def _mean_of_rays(light: NDArray[np.float32], rows: int, columns: int) -> Picture:
    mean = light.reshape(rows, FINER, columns, FINER, 3).mean(axis=(1, 3))
    return np.rint(srgb_from_linear(mean) * 255).astype(np.uint8)
