"""Where a mesh stands, as a matrix."""

from __future__ import annotations

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.points import Points


class Standable(Protocol):
    """Ground on which a mesh may stand."""

    def points_at(self, positions: object) -> Points:
        """Return the ground at places (N, 2), x and z in metres."""
        ...


def placement(at: NDArray[np.float64], turn: float, scale: float, on: Standable | None = None) -> NDArray[np.float64]:
    """Return the (4, 4) matrix that scales, turns clockwise as seen from above (degrees), and moves, upwards from ground."""
    angle = -np.radians(turn)
    out = np.eye(4)
    out[:3, :3] = scale * np.array([[np.cos(angle), 0, np.sin(angle)], [0, 1, 0], [-np.sin(angle), 0, np.cos(angle)]])
    out[:3, 3] = at
    if on is not None:
        out[1, 3] += float(on.points_at([[at[0], at[2]]]).world[0, 1])
    return out
