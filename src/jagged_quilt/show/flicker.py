"""What flickers: how much each pixel jumps while the camera glides, beyond what a still surface would do."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.pages import TexelPages, page_starts
from jagged_quilt.arrays.texel_cache import TexelCache
from jagged_quilt.blend.layer import one_each
from jagged_quilt.blend.plan import opened
from jagged_quilt.foundation.colour import srgb_from_linear
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.show.board import FAINT, Board
from jagged_quilt.show.lit_view import light_along
from jagged_quilt.show.scene import Scene
from jagged_quilt.show.thumbnails import Reach
from jagged_quilt.show.weight_pictures import heat
from jagged_quilt.surfaces.camera import Camera

FRAMES = 16
_STEP = 0.25  # pixels by which the picture moves from one frame to the next
_WIDE, _HIGH, _LARGER = 136, 85, 3
_FINE = 4  # rays along each side of a pixel, of the still surface
_MOST = 24.0  # of 255: a jump that is drawn brightest

Jumps = NDArray[np.float32]
"""(rows, columns): by how much of 255 a pixel jumps from frame to frame, on average over all of them."""

WAYS = {
    "nearest": ("nearest", True),
    "bilinear, full size only": ("bilinear", True),
    "trilinear, roughness not widened": ("trilinear", False),
    "trilinear": ("trilinear", True),
    "anisotropic": ("anisotropic", True),
}
"""How layers that do not say are read, and whether roughness is widened in the mips by what the normals lose."""


@dataclass(frozen=True, slots=True, eq=False)
class Flicker:
    """What a glide found.

    Attributes
    ----------
    still : (rows, columns)
        The jumps of the surface itself: of 16 rays a pixel.
    beyond : dict of str to (rows, columns)
        For each of `WAYS`, what the jumps are beyond those.
    """

    still: Jumps
    beyond: dict[str, Jumps]

    def mean(self, way: str) -> float:
        """Of 255, over all pixels."""
        return float(self.beyond[way].mean())


def find_flicker(
    scene: Scene,
    camera: Camera,
    *,
    ways: Sequence[str] = tuple(WAYS),
    width: int = _WIDE,
    height: int = _HIGH,
    frames: int = FRAMES,
    work: Work = ANYHOW,
) -> Flicker:
    """Glide a camera to the right by a quarter of a pixel a frame, and measure how much pixels jump in each of `WAYS`.

    One ray a pixel, as wide as the pixel; what the surface itself does is reckoned by 16 rays a pixel.
    """
    layers = [layer for thing in scene.things for _, own in thing.by_part for layer in one_each(own)]
    pages = opened(scene.arrays, layers)
    if isinstance(pages, TexelCache):
        pages = pages.arrays.open(pages.names)
    sharp = _read_by(scene, pages, "trilinear")
    reaches = [scene.shadows(light) for light in scene.lighting.lights]
    cameras = [_glided(camera, _STEP * frame, height) for frame in range(frames)]

    def film(one: Scene, finer: int) -> NDArray[np.float32]:
        return np.stack([_frame(one, at, width, height, finer, reaches, work) for at in cameras])

    still = np.abs(np.diff(film(sharp, _FINE), axis=0)).max(axis=3)
    beyond = {}
    for way in ways:
        filter_, widened = WAYS[way]
        jumps = np.abs(np.diff(film(_read_by(scene, pages if widened else not_widened(pages), filter_), 1), axis=0)).max(axis=3)
        beyond[way] = np.asarray(np.maximum(jumps - still, 0).mean(axis=0), np.float32)
    return Flicker(np.asarray(still.mean(axis=0), np.float32), beyond)


def draw_flicker(scene: Scene, camera: Camera, *, work: Work = ANYHOW) -> Board:
    """Draw what a glide finds: a heat map for each of `WAYS`, with its mean, and what the surface itself does."""
    found = find_flicker(scene, camera, work=work)
    board = Board("Flicker", "one ray a pixel, the camera gliding by a quarter of a pixel a frame; beyond 16 rays a pixel")
    shown = [("the surface itself, 16 rays a pixel", found.still), *found.beyond.items()]
    for index, (name, jumps) in enumerate(shown):
        x, y = 14 + index % 3 * 422, 52 + index // 3 * 352
        board.write(x, y + 8, name, size=14, bold=True)
        board.pin(heat(np.clip(jumps / _MOST, 0, 1)).repeat(_LARGER, axis=0).repeat(_LARGER, axis=1), x, y + 24)
        far = float(np.percentile(jumps, 99))
        board.write(
            x, y + 24 + _LARGER * jumps.shape[0] + 16, f"mean {jumps.mean():.2f} of 255, 99th percentile {far:.1f}", size=13
        )
    bar = heat(np.linspace(0, 1, 400)[None].repeat(14, axis=0))
    board.pin(bar, 14, 762)
    for index, step in enumerate((0, _MOST / 2, _MOST)):
        side = ("left", "center", "right")[index]
        board.write(14 + 200 * index, 788, f"{step:.0f}{' of 255 a frame, or more' if index == 2 else ''}", size=12, side=side)  # type: ignore[arg-type]
    board.write(1266, 769, f"{FRAMES} frames", size=12, ink=FAINT, side="right")
    return board


def not_widened(pages: TexelPages) -> TexelPages:
    """Return pages whose roughness in smaller levels is the plain mean of that at full size."""
    column = next((n for n, layout in enumerate(pages.layouts) if MapRole.ROUGHNESS in layout.roles), None)
    if column is None:
        return pages
    layout = pages.layouts[column]
    shift = 8 * [channel.role for channel in layout.channels].index(MapRole.ROUGHNESS)
    texels, starts = pages.texels.copy(), page_starts(pages.side, len(pages.names))
    for index in range(len(pages.names)):
        full = None
        for level, start in enumerate(starts[:-1]):
            side = pages.side >> level
            first = int(start) + index * side * (side + 1)
            rows = texels[first : first + side * (side + 1), column].reshape(side, side + 1)
            if full is None:
                full = (rows[:, :-1] >> np.uint32(shift) & np.uint32(255)).astype(np.float64)
                continue
            step = pages.side // side
            mean = np.rint(full.reshape(side, step, side, step).mean(axis=(1, 3))).astype(np.uint32) << np.uint32(shift)
            rows[:, :-1] = rows[:, :-1] & ~np.uint32(255 << shift) | mean
            rows[:, -1] = rows[:, 0]
    return replace(pages, texels=texels)


def _read_by(scene: Scene, pages: TexelPages, filter_: str) -> Scene:
    """The same things, read by another filter where their layers do not say."""
    out = Scene(pages, filter=filter_, haze=scene.haze)
    out.lighting = scene.lighting
    for thing in scene.things:
        out.add(thing.surface, thing.layers, weights=thing.weights, films=thing.films)
    return out


def _glided(camera: Camera, pixels: float, rows: int) -> Camera:
    """A camera moved to its right, so that what it looks at moves by so many pixels."""
    far = math.dist(camera.position, camera.target)
    by = camera.axes()[1] * pixels * camera.side_of_pixel(rows) * far
    position, target = (np.add(each, by) for each in (camera.position, camera.target))
    return replace(
        camera,
        position=(float(position[0]), float(position[1]), float(position[2])),
        target=(float(target[0]), float(target[1]), float(target[2])),
    )


def _frame(
    scene: Scene,
    camera: Camera,
    width: int,
    height: int,
    finer: int,
    reaches: Sequence[Reach],
    work: Work,
) -> NDArray[np.float32]:
    """One frame of `finer` x `finer` rays a pixel, 0..255."""
    canvas = scene.canvas(camera, height * finer, width * finer)
    (light,) = light_along([scene], [()], canvas, reaches, work)
    mean = light.reshape(height, finer, width, finer, 3).mean(axis=(1, 3))
    return np.asarray(255 * srgb_from_linear(mean), np.float32)
