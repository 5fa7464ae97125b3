"""A lit view of a blended terrain through a camera."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.colour import srgb_from_linear
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.show.board import HEIGHT, WIDTH, Picture
from jagged_quilt.show.light import Sun, lit, shoulder, sky
from jagged_quilt.show.scene import Dressed, Scene
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import WeightMap

_FINER = 2  # rays per pixel along each side
_ROWS_AT_ONCE = 16
_HAZE = 2600.0  # metres after which two thirds of what is seen is air


def draw_lit_view(
    terrain: Terrain,
    layers: Sequence[Layer],
    arrays: TextureArrays,
    weights: WeightMap | Weigher | None,
    camera: Camera,
    sun: Sun,
    *,
    width: int = WIDTH,
    height: int = HEIGHT,
    threads: int | None = None,
    progress: Progress = silent,
) -> Picture:
    """Return what a camera sees of a terrain; see `draw_scene`.

    Parameters
    ----------
    weights : WeightMap, Weigher or None
        None answers the masks of the layers at every pixel.
    """
    scene = Scene([Dressed(terrain, layers, weights)], arrays)
    return draw_scene(scene, camera, sun, width=width, height=height, threads=threads, progress=progress)


def draw_scene(
    scene: Scene, camera: Camera, sun: Sun, *, width: int = WIDTH, height: int = HEIGHT, flat: bool = False,
    threads: int | None = None, progress: Progress = silent,
) -> Picture:  # fmt: skip
    """Return what a camera sees, blended at every pixel, lit by a sun with shadows and by the sky.

    Parameters
    ----------
    flat : bool
        Leave the detail of normal maps out.

    Returns
    -------
    (height, width, 3) uint8
        sRGB, each pixel the mean of 2 x 2 rays.
    """
    out = np.empty((height, width, 3), np.uint8)
    rows, columns = height * _FINER, width * _FINER
    reaches = scene.shadows(sun.towards)

    def draw_rows(top: int) -> None:
        bottom = min(top + _ROWS_AT_ONCE, height)
        rays, sights = scene.seen(camera, rows, columns, slice(top * _FINER, bottom * _FINER))
        light = sky(np.maximum(rays, np.array([-1, 0, -1], np.float32)))  # no ground below the horizon, only haze
        for sight in sights:
            points, seen = sight.points, rays[sight.rays]
            texels = sight.blender.blend(points, sight.weights, normals="world")
            shade = lit(
                texels[MapRole.DIFFUSE], texels[MapRole.SPECULAR], texels[MapRole.ROUGHNESS], texels[MapRole.OCCLUSION],
                points.normal if flat else texels[MapRole.NORMAL], -seen, sun, reaches(points),
            )  # fmt: skip
            away = np.linalg.norm(points.position - np.array(camera.position, np.float32), axis=1)[:, None]
            air = 1 - np.exp(-away / np.float32(_HAZE))
            light[sight.rays] = shade * (1 - air) + sky(seen * np.array([1, 0, 1], np.float32)) * air
        out[top:bottom] = _mean_of_rays(shoulder(light), bottom - top, width)

    work_through(range(0, height, _ROWS_AT_ONCE), draw_rows, threads=threads, step="drawing the view", progress=progress)
    return out


def _mean_of_rays(light: NDArray[np.float32], rows: int, columns: int) -> Picture:
    mean = light.reshape(rows, _FINER, columns, _FINER, 3).mean(axis=(1, 3))
    return np.rint(srgb_from_linear(mean) * 255).astype(np.uint8)
