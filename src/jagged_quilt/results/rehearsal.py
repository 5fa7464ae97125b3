"""Tiny runs through the kernels, part by part, so that they are compiled or loaded before anything is timed or shown.

    python -m jagged_quilt.results.rehearsal PART ...

prints a line for each kernel as it is compiled.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Collection
from dataclasses import dataclass

import numpy as np

from jagged_quilt.arrays._page_kernels import HeldRows, read_pages
from jagged_quilt.arrays.pack import pack
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.baking.coarser import halved
from jagged_quilt.blend.blend import Blend
from jagged_quilt.blend.distance import Far
from jagged_quilt.blend.flat_projections import Triplanar
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.shuffle import Shuffle
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.kernels import when_compiling
from jagged_quilt.foundation.noise_kinds import NoiseKind
from jagged_quilt.foundation.padding import Padding
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.work import ALONE
from jagged_quilt.light.clear_sky import clear_sky
from jagged_quilt.light.lamps import PointLight, Sun
from jagged_quilt.light.light import Lighting, LitSurface, hazed
from jagged_quilt.light.sky import Sky
from jagged_quilt.maps.roles import BLENDED_ROLES, MapRole, stored_type
from jagged_quilt.maps.stairs import without_stairs
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.texture_map import TextureMap
from jagged_quilt.masks.field_masks import AmbientOcclusion, Distance
from jagged_quilt.masks.image_mask import ImageMask
from jagged_quilt.masks.mask import Mask
from jagged_quilt.masks.noise_mask import Noise
from jagged_quilt.meshes import shapes
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.picture_canvas import PictureCanvas
from jagged_quilt.surfaces.sight import ShadowMap
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.surfaces.uv_canvas import UvCanvas
from jagged_quilt.weights.adopt import Adopted
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.point_weights import PointWeights
from jagged_quilt.weights.settings import NORMALISE
from jagged_quilt.weights.settle import SumReport
from jagged_quilt.weights.weigh import weigh
from jagged_quilt.weights.weight_map import WeightMap


def rehearse(parts: Collection[str] = ()) -> None:
    """Run through some of `PARTS`; all where none is named."""
    for name in parts or PARTS:
        PARTS[name].run()


def rehearse_packing() -> TextureArrays:
    """Pack maps of every kind, some of them enlarged and some made smaller, and take stairs out of one."""
    rng = np.random.default_rng(0)
    without_stairs(
        np.repeat(np.arange(4, dtype=np.float32) / np.float32(255), 4)[:, None].repeat(16, axis=1)[..., None], step=1 / 255
    )
    slopes = TextureMap(role=MapRole.NORMAL, texels=np.full((4, 4, 2), 128, np.uint8))
    slopes.values  # noqa: B018 (decoded when it is asked for)
    swatches = []
    for name, side in (("one", 4), ("two", 8)):
        colour, grey = (rng.integers(1, 255, (side, side, channels), np.uint8) for channels in (3, 1))
        texels = {MapRole.DIFFUSE: colour, MapRole.NORMAL: colour, MapRole.ROUGHNESS: grey, MapRole.OCCLUSION: grey}
        texels |= {MapRole.SPECULAR: colour, MapRole.HEIGHT: grey.astype(np.uint16) * 257}
        maps = {role: TextureMap(role=role, texels=each) for role, each in texels.items()}
        swatches.append(Swatch(name=name, tile=1.0, relief=0.1, maps=maps))
    return pack(swatches, side=8, work=ALONE)


def rehearse_weights() -> None:
    """Weigh, with masks and daubs of every kind that has a kernel; resize, adopt and take layers out."""
    terrain, layers = _ground(), [Layer("one"), Layer("two", Triplanar(), mask=_mask())]
    path = ((2.0, 2.0), (4.0, 4.0))
    daubs = [Daub(path=path, radius=2.0, layers=("two",), breakup=breakup) for breakup in (None, Noise(size=1.0))]
    adopted = WeightMap(names=("one",), layers=np.zeros((2, 2, 1), np.uint8), weights=np.full((2, 2, 1), 255, np.uint8))
    for stacking in ("cover", "share"):
        weigh(terrain.canvas(1), layers, stacking=stacking, adopted=adopted, work=ALONE)
    kept = weigh(terrain.canvas(8), layers, daubs=daubs, work=ALONE)
    for each in (kept, kept.in_bits(16)):
        each.at(terrain.points((8, 8)))
        each.resized(4, 4)
        sums = SumReport(
            texels=64, above=0, below=0, bare=0, worst=1.0, worst_at=(0, 0), repair=NORMALISE, cut=0, cut_worst=0.0
        )
        Adopted(each, sums).rehomed({}, ("one", "two"))


def rehearse_blend() -> None:
    """Blend at points: as it is, into finished texels, and what the blend goes by."""
    swatches = [_grey("one"), _grey("two")]
    blend = Blend(
        pack(swatches, side=4, work=ALONE), [Layer("one", far=Far(start=1)), Layer("two", Triplanar(shuffle=Shuffle(size=2.0)))]
    )
    points = Points.of(np.zeros((4, 3)), np.tile([0.0, 1.0, 0.0], (4, 1)))
    weights = PointWeights(("one", "two"), np.tile(np.array([0, 1], np.uint8), (4, 1)), np.full((4, 2), 0.5, np.float32))
    target = {each.role: np.empty((4, each.role.value.channels), stored_type(each.role)) for each in blend.plan.outputs}
    blend.into(target, points, weights)
    blend.at(points, weights, eye=(0.0, 9.0, 0.0))
    blend.survey(points, weights)


def _grey(name: str) -> Swatch:
    grey = TextureMap(role=MapRole.DIFFUSE, texels=np.full((4, 4, 3), 128, np.uint8))
    return Swatch(name=name, tile=1.0, relief=0.1, maps={MapRole.DIFFUSE: grey})


def rehearse_ground() -> None:
    """See a terrain, and light it."""
    ground, camera = _ground(), Camera(position=(4.0, 3.0, 9.0), target=(4.0, 0.0, 4.0))
    seen = PictureCanvas(camera, [ground], 8, 8).block(Region(0, 8, 0, 8)).pieces[0].points
    ground.sunlit(seen, Sun().towards, np.zeros(ground.heights.shape, np.uint8))
    ground.lamplit(seen, (4.0, 2.0, 4.0))
    ground.fields.open_to_sky()
    PointLight(position=(4.0, 2.0, 4.0)).reach_at(seen.world)
    clear_sky(rows=8).seen(np.ones((1, 3), np.float32))
    ones = np.ones((1, 3), np.float32)
    Lighting().leaving(LitSurface(np.ones((1, 12), np.float32), ones), np.zeros((1, 3)), [ones[:, 0]])
    Sky().seen(hazed(ones, ones[:, 0], 10.0, Sky()))


def rehearse_pages() -> None:
    """Halve finished maps, and read pages."""
    halved({role: np.ones((2, 2, role.value.channels), stored_type(role)) for role in BLENDED_ROLES})
    rows = HeldRows(
        frozen(np.zeros((1, 2, 2, 1)), np.uint8),
        frozen(np.zeros((1, 256)), np.float32),
        frozen([0], np.int64),
        frozen([0], np.int32),
        frozen([0], np.int64),
        frozen([1], np.int64),
        1,
        0,
    )
    level, out, used = np.zeros(1, np.float32), np.zeros((1, 1), np.float32), np.zeros(1, np.int32)
    read_pages(frozen([[0.5, 0.5]], np.float32), level, 1, 1, rows, out, used)


def rehearse_meshes() -> None:
    """Lay a mesh out, place it, and see it."""
    plane = shapes.plane((0.9, 0.9)).placed(np.eye(4))
    UvCanvas(plane, 16, padding=2).block(Region(0, 16, 0, 16))
    Padding(np.eye(4, dtype=bool))
    camera = Camera(position=(0.4, 1.0, 1.2), target=(0.4, 0.0, 0.4))
    seen = PictureCanvas(camera, [plane], 8, 8).block(Region(0, 8, 0, 8)).pieces[0].points
    ShadowMap([plane], Sun().towards).free(seen)


def _ground() -> Terrain:
    return Terrain(np.zeros((2, 2)), size=(8.0, 8.0))


def _mask() -> Mask:
    far = Distance(Noise(size=3.0, dimensions=2, kind=NoiseKind.CELLULAR), 0.0, 1.0, texels=8)
    return (Noise(size=2.0) * ImageMask(values=np.ones((2, 2), np.float32)) + far.warped(by=0.5, size=2.0)) * AmbientOcclusion(
        2.0
    )


@dataclass(frozen=True, slots=True)
class KernelPart:
    """Some kernels that are used together: what runs through them, and about how many seconds it takes to compile them."""

    run: Callable[[], object]
    seconds: float


PARTS = {
    "pack": KernelPart(rehearse_packing, 4),
    "blend": KernelPart(rehearse_blend, 45),
    "weigh": KernelPart(rehearse_weights, 29),
    "ground": KernelPart(rehearse_ground, 24),
    "meshes": KernelPart(rehearse_meshes, 10),
    "pages": KernelPart(rehearse_pages, 2),
}


if __name__ == "__main__":
    with when_compiling(lambda name: print(name, flush=True)):
        rehearse(sys.argv[1:])
