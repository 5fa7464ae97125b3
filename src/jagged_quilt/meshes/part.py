"""Some of the triangles of a mesh, with a material of their own."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Part:
    """Some of the triangles of a mesh.

    Attributes
    ----------
    name, material : str
    first, last : int
        Its triangles, first and one past the last.
    frame : (4, 4) float64
        Takes places of its own space to places of the world.
    """

    name: str
    material: str = ""
    first: int = 0
    last: int = 0
    frame: NDArray[np.float64] = field(default_factory=lambda: np.eye(4))
