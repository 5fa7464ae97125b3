"""A camera: where it stands, and the rays through its pixels."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points

_sight_kernels = kernels_of("jagged_quilt.surfaces._sight_kernels")

BEARING = 25.0
"""Degrees: from where a camera that nobody placed sees a thing."""
_RISE, _ANGLE = 14.0, 34.0  # degrees: how high it stands, what it takes in
_MARGIN = 1.06  # times as wide as what it is to see
_NEAREST = 1e-3  # metres from what is nearest


@dataclass(frozen=True, slots=True)
class Camera:
    """A pinhole camera.

    Attributes
    ----------
    position, target : (x, y, z)
        Metres: where it stands and what it looks at.
    view_angle : float
        Degrees from the bottom to the top of the picture.

    Examples
    --------
    >>> Camera((0, 2, 5), (0, 0, 0)).axes()[1]
    array([1., 0., 0.])
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
        corners = np.stack(np.meshgrid(*np.stack([low, high], axis=1), indexing="ij"), axis=-1).reshape(-1, 3)
        return cls.fitting(corners, aspect, rise=rise)

    @classmethod
    def fitting(cls, positions: NDArray[np.float64], aspect: float, *, rise: float = _RISE) -> Camera:
        """A camera from the south-west, `rise` degrees from above, as near as it sees all of some places (N, 3)."""
        turn, rise = math.radians(BEARING), math.radians(rise)
        ahead = np.array([math.sin(turn) * math.cos(rise), -math.sin(rise), -math.cos(turn) * math.cos(rise)])
        right = np.array([math.cos(turn), 0.0, math.sin(turn)])
        axes, half = np.stack([right, np.cross(right, ahead), ahead]), math.tan(math.radians(_ANGLE / 2)) / _MARGIN
        middle = (positions.min(axis=0) + positions.max(axis=0)) / 2
        across, up, away = axes @ (positions - middle).T
        # a place is seen where |across - x| <= half * aspect * (away + back), and |up - y| <= half * (away + back)
        move, back = [0.0, 0.0], 0.0
        for which, (seen, wide) in enumerate(((across, half * aspect), (up, half))):
            one, other = float((seen - wide * away).max()), float((-seen - wide * away).max())
            move[which], back = (one - other) / 2, max(back, (one + other) / (2 * wide))
        back = max(back, _NEAREST - float(away.min()))
        eye = middle + move[0] * axes[0] + move[1] * axes[1] - back * ahead
        target = eye + back * ahead
        return cls(position=(eye[0], eye[1], eye[2]), target=(target[0], target[1], target[2]), view_angle=_ANGLE)

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
        x, y, z = (float(to) - float(own) for to, own in zip(self.target, self.position, strict=True))
        far, level = math.sqrt(x * x + y * y + z * z), math.hypot(x, z)
        ahead, right = np.array([x, y, z]) / far, np.array([-z, 0.0, x]) / level  # across the way ahead, and level
        return ahead, right, np.array([-x * y, level * level, -y * z]) / (level * far)

    def on_picture(self, positions: NDArray[np.floating], rows: int, columns: int) -> NDArray[np.float64]:
        """Return where places lie on the picture: pixels across and down, and 1 / metres ahead, (V, 3)."""
        way = positions.astype(np.float64) - self.position
        ahead, right, up = (way @ axis for axis in self.axes())
        near = np.where(ahead > 1e-3, 1 / np.maximum(ahead, 1e-3), 0.0)
        scale = 1 / self.side_of_pixel(rows)
        return np.column_stack([columns / 2 + scale * right * near, rows / 2 - scale * up * near, near])
