"""A scene: a stage that can be drawn."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np

from jagged_quilt.foundation.checks import instance_of
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.roles import MapRole, role_among
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.show.board import HEIGHT, WIDTH
from jagged_quilt.show.drawn import Drawn
from jagged_quilt.show.lit_view import LIT_ROLES, draw_scenes
from jagged_quilt.show.stage import Stage
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain

_RISE = 30.0  # degrees from above, of a camera that sees all


class Scene(Stage, NotebookValue):
    def draw(
        self,
        camera: Camera | None = None,
        *,
        width: int = WIDTH,
        height: int = HEIGHT,
        without: Collection[MapRole | str] = (),
        closely: bool = False,
        work: Work = ANYHOW,
    ) -> Drawn:
        """Return what a camera sees, blended at every pixel, lit by its lights with shadows and by the sky.

        Parameters
        ----------
        camera : Camera, optional
            One that sees all that is there, from the south-west, where it is not given.
        without : MapRole or its key, some
            Leave the maps of these roles out: "normal" for a surface without detail.
        closely : bool
            Four rays for every pixel; else one, and four where it differs from one beside it.

        Returns
        -------
        (height, width, 3) uint8
            sRGB; an array that also has `save(path)`, and shows itself in a notebook.

        Raises
        ------
        ShapeError
            If there is nothing in the scene.
        """
        if not self.things:
            raise ShapeError("there is nothing in the scene; add a terrain or a mesh first: scene.add(terrain, layers)")
        instance_of("camera", camera, (Camera, type(None)), "a jq.Camera(position=(x, y, z), target=(x, y, z))")
        camera = self.seen_whole(width / height) if camera is None else camera
        roles = [role_among(LIT_ROLES, each) for each in without]
        for thing in self.things:
            if thing.pages is not None:
                thing.pages.hold_for(self, camera, width=width, height=height, work=work)
        (picture,) = draw_scenes([self], camera, width=width, height=height, without=[roles], closely=closely, work=work)
        return Drawn.of(picture)

    def seen_whole(self, aspect: float = WIDTH / HEIGHT) -> Camera:
        """Return a camera from the south-west that sees all that is there; `aspect` is width over height of its picture."""
        low, high = (np.array(each, float) for each in zip(*(_bounds(thing.surface) for thing in self.things), strict=True))
        return Camera.before(low.min(axis=0), high.max(axis=0), aspect, rise=_RISE)


def _bounds(surface: Terrain | Mesh) -> tuple[Sequence[float], Sequence[float]]:
    """The lowest and the highest x, y and z of a surface, in metres."""
    if isinstance(surface, Mesh):
        low, high = surface.bounds
        return low.tolist(), high.tolist()
    lowest, highest = surface.height_range
    return (0.0, lowest, 0.0), (surface.size[0], highest, surface.size[1])


Scene.__doc__ = Stage.__doc__
