"""A camera: every pixel a point of the surface that it sees."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.points import Points
from jagged_quilt.surfaces.terrain import Terrain


@dataclass(frozen=True, slots=True, kw_only=True)
class Camera:
    """A pinhole camera.

    Attributes
    ----------
    position, target : (x, y, z)
        Metres: where it stands and what it looks at.
    view_angle : float
        Degrees from the bottom to the top of the picture.
    """

    position: tuple[float, float, float]
    target: tuple[float, float, float]
    view_angle: float = 40.0

    def __post_init__(self) -> None:
        number_in("view_angle", self.view_angle, 1, 150, "degrees")
        way = np.subtract(self.target, self.position)
        if not np.isfinite(way).all() or np.hypot(way[0], way[2]) < 1e-6:
            raise RangeError(f"a camera must not look straight up or down; got {self.position} to {self.target}")

    def rays(self, rows: int, columns: int, region: slice = slice(None)) -> NDArray[np.float32]:
        """Return the unit direction through the centre of each pixel of some rows, (N, 3) float32, row by row."""
        ahead = np.subtract(self.target, self.position)
        ahead = ahead / np.linalg.norm(ahead)
        right = np.cross(ahead, [0.0, 1.0, 0.0])
        right /= np.linalg.norm(right)
        up = np.cross(right, ahead)
        half = math.tan(math.radians(self.view_angle) / 2)
        first, last, _ = region.indices(rows)
        down = half * (1 - 2 * (np.arange(first, last) + 0.5) / rows)
        across = half * columns / rows * (2 * (np.arange(columns) + 0.5) / columns - 1)
        rays = ahead + down[:, None, None] * up + across[None, :, None] * right
        rays /= np.linalg.norm(rays, axis=2, keepdims=True)
        return rays.reshape(-1, 3).astype(np.float32)

    def points(
        self, terrain: Terrain, rows: int, columns: int, region: slice = slice(None)
    ) -> tuple[Points, NDArray[np.bool_], NDArray[np.float32]]:
        """Return what the pixels of some rows see.

        Returns
        -------
        points : Points
            One for each pixel that meets the ground. The footprint is what the pixel covers there, longer where the
            ground is seen at a low angle.
        met : (P,) bool
            Which pixels those are.
        rays : (P, 3) float32
            The direction of every pixel.
        """
        rays = self.rays(rows, columns, region)
        origin = np.array(self.position, np.float64)
        distance = terrain.meet_rays(origin, rays)
        met = distance >= 0
        far = distance[met].astype(np.float64)
        where = origin + rays[met].astype(np.float64) * far[:, None]
        across = far * 2 * math.tan(math.radians(self.view_angle) / 2) / rows
        points = terrain.points_at(where[:, [0, 2]], np.maximum(across, 1e-6).astype(np.float32))
        facing = np.abs(np.einsum("nd,nd->n", points.normal, rays[met]))
        # The pixel's square, laid on the ground: as wide as seen, and longer by the angle. Its geometric mean chooses the
        # mip, so that low angles neither flicker nor turn to mud.
        side = (across / np.sqrt(np.maximum(facing, 0.05))).astype(np.float32)
        footprint = np.ascontiguousarray(np.column_stack([side, side]))
        return (
            Points(
                position=points.position,
                normal=points.normal,
                tangent=points.tangent,
                uv=points.uv,
                footprint=footprint,
            ),
            met,
            rays,
        )
