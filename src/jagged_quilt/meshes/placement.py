"""Where a mesh stands, as a matrix."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def placement(at: NDArray[np.float64], turn: float, scale: float) -> NDArray[np.float64]:
    """Return the (4, 4) matrix that scales, turns clockwise as seen from above (degrees), and moves."""
    angle = -np.radians(turn)
    out = np.eye(4)
    out[:3, :3] = scale * np.array([[np.cos(angle), 0, np.sin(angle)], [0, 1, 0], [-np.sin(angle), 0, np.cos(angle)]])
    out[:3, 3] = at
    return out
