"""What rays met, kept from one drawing to the next while nothing moves."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import Block, Region
from jagged_quilt.foundation.points import Points
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.picture_canvas import PictureBlock, PictureCanvas

if TYPE_CHECKING:
    from jagged_quilt.show.scene import Scene


class Glances:
    """What single rays met and how much of the sun reaches it, from one drawing to the next while nothing moves."""

    def __init__(self) -> None:
        self._of: tuple[object, ...] = ()
        self._blocks: dict[tuple[int, int, Region], PictureBlock] = {}
        self._free: dict[tuple[int, int, Region], list[NDArray[np.float32]]] = {}

    def turn_to(self, scene: Scene, camera: Camera) -> None:
        """Forget what was met of other surfaces, by another camera, under another sun."""
        now = (camera, scene.sun, *(thing.surface for thing in scene.things))
        if len(now) != len(self._of) or any(a is not b and a != b for a, b in zip(now, self._of, strict=True)):
            self._of = now
            self._blocks.clear()
            self._free.clear()

    def block(self, canvas: PictureCanvas, region: Region) -> PictureBlock:
        """Return a block of a canvas, from before if it is known."""
        key = (*canvas.texels, region)
        if key not in self._blocks:
            self._blocks[key] = canvas.block(region)
        return self._blocks[key]

    def free(
        self, canvas: PictureCanvas, block: Block, reaches: Callable[[Points], NDArray[np.float32]]
    ) -> list[NDArray[np.float32]]:
        """Return how much of the sun reaches the points of each piece."""
        key = (*canvas.texels, block.region)
        if key not in self._free:
            self._free[key] = [reaches(piece.points) for piece in block.pieces]
        return self._free[key]


class KnownCanvas(PictureCanvas):
    """A canvas whose blocks are taken from glances."""

    def __init__(self, canvas: PictureCanvas, glances: Glances) -> None:
        self.__dict__.update(canvas.__dict__)
        self._canvas, self._glances = canvas, glances

    def block(self, region: Region) -> PictureBlock:
        return self._glances.block(self._canvas, region)
