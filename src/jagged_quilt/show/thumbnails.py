"""What rays met, kept from one drawing to the next while nothing moves."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import Block, Region
from jagged_quilt.foundation.points import Points
from jagged_quilt.show.stage import Stage
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.picture_canvas import PictureBlock, PictureCanvas

Reach: TypeAlias = Callable[[Points], NDArray[np.float32]]
"""Says how free the way to a light is from points, 0..1, (N,)."""


def free_of(block: Block, reaches: Sequence[Reach]) -> list[list[NDArray[np.float32]]]:
    """Return how free the way to each light is, for the points of each piece."""
    return [[reach(piece.points) for reach in reaches] for piece in block.pieces]


class Thumbnails:
    """What single rays met and how free the ways to lights are there, from one drawing to the next while nothing moves."""

    def __init__(self) -> None:
        self._of: tuple[object, ...] = ()
        self._lights: tuple[object, ...] = ()
        self._blocks: dict[tuple[int, int, Region], PictureBlock] = {}
        self._free: dict[tuple[int, int, Region], list[list[NDArray[np.float32]]]] = {}

    def turn_to(self, scene: Stage, camera: Camera) -> None:
        """Forget what was met of other surfaces, or by another camera; and what was free under other lights."""
        now = (camera, *(thing.surface for thing in scene.things))
        if len(now) != len(self._of) or any(a is not b and a != b for a, b in zip(now, self._of, strict=True)):
            self._of, self._lights = now, ()
            self._blocks.clear()
        if self._lights != scene.lighting.lights:
            self._lights = scene.lighting.lights
            self._free.clear()

    def block(self, canvas: PictureCanvas, region: Region) -> PictureBlock:
        """Return a block of a canvas, from before if it is known."""
        key = (*canvas.texels, region)
        if key not in self._blocks:
            self._blocks[key] = canvas.block(region)
        return self._blocks[key]

    def free(self, canvas: PictureCanvas, block: Block, reaches: Sequence[Reach]) -> list[list[NDArray[np.float32]]]:
        """Return the same as `free_of`."""
        key = (*canvas.texels, block.region)
        if key not in self._free:
            self._free[key] = free_of(block, reaches)
        return self._free[key]


class KnownCanvas(PictureCanvas):
    """A canvas whose blocks are taken from thumbnails."""

    def __init__(self, canvas: PictureCanvas, thumbnails: Thumbnails) -> None:
        self.__dict__.update(canvas.__dict__)
        self._canvas, self._glances = canvas, thumbnails

    def block(self, region: Region) -> PictureBlock:
        return self._glances.block(self._canvas, region)
