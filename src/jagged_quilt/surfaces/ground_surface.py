"""What the canvas and the fields of a terrain ask of it."""

from __future__ import annotations

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import Canvas, Region
from jagged_quilt.foundation.disk_store import ArrayStore
from jagged_quilt.foundation.fields import Fields, Shiftable
from jagged_quilt.foundation.ground import Ground
from jagged_quilt.foundation.points import Points
from jagged_quilt.surfaces.settings import Between


class GroundSurface(Ground, Shiftable, Protocol):
    """A heightmap over a rectangle of the world."""

    @property
    def heights(self) -> NDArray[np.float32]:
        """(rows, columns) metres, of each sample."""
        ...

    @property
    def spacing(self) -> tuple[float, float]:
        """Metres from one sample to the next, east and south."""
        ...

    @property
    def between(self) -> Between:
        """What lies between the samples."""
        ...

    @property
    def area(self) -> float:
        """Square metres of the rectangle."""
        ...

    @property
    def key(self) -> str:
        """A hash of the heights."""
        ...

    @property
    def room(self) -> ArrayStore:
        """Where arrays as large as the heights lie."""
        ...

    @property
    def fields(self) -> Fields:
        """What masks may ask of the whole of it."""
        ...

    def canvas(self, texels: int | tuple[int, int] = ...) -> Canvas:
        """Return its texels, of so many along the longer side."""
        ...

    def shifted(self, points: Points, by: NDArray[np.float32]) -> Points:
        """Return the points of the surface that lie `by` (N, 3) metres away from given ones."""
        ...

    def grid_points(self, whole: tuple[int, int], region: Region) -> Points:
        """Return the points of a region of a layout."""
        ...
