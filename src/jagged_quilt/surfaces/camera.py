"""A camera: where it stands, and the rays through its pixels."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.points import Points
from jagged_quilt.surfaces import _sight_kernels

BEARING = 25.0
"""Degrees: from where a camera that nobody placed sees a thing."""
_RISE, _ANGLE = 14.0, 34.0  # degrees: how high it stands, what it takes in


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

    @classmethod
    def before(cls, low: NDArray[np.float64], high: NDArray[np.float64], aspect: float, *, rise: float = _RISE) -> Camera:
        """A camera that sees all of a box from the south-west, `rise` degrees from above; `aspect` is width over height."""
        middle, size = (low + high) / 2, high - low
        half = math.tan(math.radians(_ANGLE / 2))
        turn, rise = math.radians(BEARING), math.radians(rise)
        across = abs(size[0] * math.cos(turn)) + abs(size[2] * math.sin(turn))
        far = 1.1 * max(size[1] * math.cos(rise) / 2 / half, across / 2 / (half * aspect))
        way = np.array([-math.sin(turn) * math.cos(rise), math.sin(rise), math.cos(turn) * math.cos(rise)])
        eye = middle + (far + float(np.hypot(size[0], size[2])) / 2) * way
        return cls(position=(eye[0], eye[1], eye[2]), target=(middle[0], middle[1], middle[2]), view_angle=_ANGLE)

    def rays(self, rows: int, columns: int, pixels: NDArray[np.int64] | None = None) -> NDArray[np.float32]:
        """Return the unit directions through the centres of pixels, (N, 3) float32: all, or some by number row by row."""
        if pixels is None:
            pixels = np.arange(rows * columns)
        ahead, right, up = self.axes()
        half = math.tan(math.radians(self.view_angle) / 2)
        out = np.empty((len(pixels), 3), np.float32)
        ways = np.stack([ahead, half * columns / rows * right, half * up])
        _sight_kernels.look_through(frozen(pixels, np.int64), rows, columns, ways, out)
        return out

    def as_seen(self, points: Points, rays: NDArray[np.float32], across: NDArray[np.float64]) -> Points:
        """Give points what a pixel covers there, `across` (N,) metres at a right angle to its ray.

        The pixel's square, laid on the surface: as wide as seen, and longer by the angle. Its geometric mean is the
        footprint, so that low angles neither flicker nor turn to mud; filters that can, read along its true sides.
        """
        _, right, up = self.axes()
        footprint, steps = np.empty((len(points), 2), np.float32), np.empty((len(points), 2, 3), np.float32)
        _sight_kernels.cover_pixels(
            points.normal, frozen(rays, np.float32), frozen(across, np.float64), np.stack([right, -up]), footprint, steps
        )
        return replace(points, footprint=footprint, steps=steps)

    def side_of_pixel(self, rows: int) -> float:
        """Metres that a pixel covers at one metre."""
        return 2 * math.tan(math.radians(self.view_angle) / 2) / rows

    def axes(self) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
        """Unit vectors ahead, to the right and up in the picture."""
        ahead = np.subtract(self.target, self.position).astype(np.float64)
        ahead /= np.linalg.norm(ahead)
        right = np.cross(ahead, [0.0, 1.0, 0.0])
        right /= np.linalg.norm(right)
        return ahead, right, np.cross(right, ahead)

    def on_picture(self, places: NDArray[np.floating], rows: int, columns: int) -> NDArray[np.float64]:
        """Return where places lie on the picture: pixels across and down, and 1 / metres ahead, (V, 3)."""
        way = places.astype(np.float64) - self.position
        ahead, right, up = (way @ axis for axis in self.axes())
        near = np.where(ahead > 1e-3, 1 / np.maximum(ahead, 1e-3), 0.0)
        scale = 1 / self.side_of_pixel(rows)
        return np.column_stack([columns / 2 + scale * right * near, rows / 2 - scale * up * near, near])
