"""A scene: a stage that can be drawn."""

from __future__ import annotations

from collections.abc import Collection

from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.roles import MapRole, role_among
from jagged_quilt.show.board import HEIGHT, WIDTH, Picture
from jagged_quilt.show.lit_view import LIT_ROLES, draw_scenes
from jagged_quilt.show.stage import Stage
from jagged_quilt.surfaces.camera import Camera


class Scene(Stage, NotebookValue):
    def draw(
        self,
        camera: Camera,
        *,
        width: int = WIDTH,
        height: int = HEIGHT,
        without: Collection[MapRole | str] = (),
        closely: bool = False,
        work: Work = ANYHOW,
    ) -> Picture:
        """Return what a camera sees, blended at every pixel, lit by its lights with shadows and by the sky.

        Parameters
        ----------
        without : MapRole or its key, some
            Leave the maps of these roles out: "normal" for a surface without detail.
        closely : bool
            Four rays for every pixel; else one, and four where it differs from one beside it.

        Returns
        -------
        (height, width, 3) uint8
            sRGB.
        """
        roles = [role_among(LIT_ROLES, each) for each in without]
        for thing in self.things:
            if thing.pages is not None:
                thing.pages.hold_for(self, camera, width=width, height=height, work=work)
        (picture,) = draw_scenes([self], camera, width=width, height=height, without=[roles], closely=closely, work=work)
        return picture


Scene.__doc__ = Stage.__doc__
