"""A tiny run through every kernel, so that they are compiled or loaded before anything is timed or shown."""

from __future__ import annotations

import numpy as np

from jagged_quilt.arrays.pack import pack
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.baking.bake import bake
from jagged_quilt.blend.blend import Blend
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.projection import Triplanar
from jagged_quilt.foundation.noise import NoiseKind
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.texture_map import TextureMap
from jagged_quilt.masks.field_masks import Distance, HiddenSky
from jagged_quilt.masks.image_mask import ImageMask
from jagged_quilt.masks.noise_mask import Noise
from jagged_quilt.show.scene import Scene
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.weigh import weigh
from jagged_quilt.weights.weight_map import WeightMap


def rehearse(pictures: bool = False) -> None:
    """Weigh and bake an 8 x 8 terrain with every kind of mask that has a kernel, and with `pictures` look at it."""
    weights = rehearse_weights()
    terrain, layers, arrays = rehearse_blend(weights)
    if pictures:
        camera = Camera(position=(4.0, 3.0, 9.0), target=(4.0, 0.0, 4.0))
        Scene(arrays).add(terrain, layers, weights=weights).draw(camera, width=8, height=8, threads=1)


def rehearse_weights() -> WeightMap:
    """Weigh, with masks and daubs of every kind that has a kernel."""
    terrain, layers = _scene()
    path = ((2.0, 2.0), (4.0, 4.0))
    daubs = [Daub(path=path, radius=2.0, layers=("two",), breakup=breakup) for breakup in (None, Noise(size=1.0))]
    adopted = WeightMap(names=("one",), layers=np.zeros((2, 2, 1), np.uint8), weights=np.full((2, 2, 1), 255, np.uint8))
    for stacking in ("cover", "share"):
        weigh(terrain.canvas(1), layers, stacking=stacking, adopted=adopted, threads=1)
    return weigh(terrain.canvas(8), layers, daubs=daubs, threads=1)


def rehearse_blend(weights: WeightMap | None = None) -> tuple[Terrain, list[Layer], TextureArrays]:
    """Pack, bake, and blend at points."""
    terrain, layers = _scene()
    if weights is None:
        index, whole = np.zeros((8, 8, 2), np.uint8), np.full((8, 8, 2), (255, 0), np.uint8)
        index[..., 1] = 1
        weights = WeightMap(names=("one", "two"), layers=index, weights=whole)
    grey = TextureMap(role=MapRole.DIFFUSE, texels=np.full((4, 4, 3), 128, np.uint8))
    swatches = [Swatch(name=name, tile=1.0, relief=0.1, maps={MapRole.DIFFUSE: grey}) for name in ("one", "two")]
    arrays = pack(swatches, side=4, threads=1)
    bake(terrain.canvas(8), layers, arrays, weights=weights, threads=1)
    points, blend = terrain.points((8, 8)), Blend(arrays, layers)
    blend.at(points, weights.at(points))
    blend.survey(points, weights.at(points))
    return terrain, layers, arrays


def _scene() -> tuple[Terrain, list[Layer]]:
    far = Distance(Noise(size=3.0, dimensions=2, kind=NoiseKind.CELLULAR), 0.0, 1.0, texels=8)
    mask = (Noise(size=2.0) * ImageMask(values=np.ones((2, 2), np.float32)) + far.warped(by=0.5, size=2.0)) * HiddenSky(2.0)
    return Terrain(np.zeros((2, 2)), size=(8.0, 8.0)), [Layer("one"), Layer("two", Triplanar(), mask=mask)]
