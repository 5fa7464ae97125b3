"""The contract of a surface that lies over a rectangle of the world."""

from __future__ import annotations

from typing import Protocol

from jagged_quilt.foundation.points import Points


class Ground(Protocol):
    """A surface over a rectangle of the world, its layout seen from above."""

    @property
    def size(self) -> tuple[float, float]:
        """Metres, east and south."""
        ...

    def layout(self, texels: int) -> tuple[int, int]:
        """Return (rows, columns) of a layout whose longer side has `texels` texels."""
        ...

    def points(self, texels: tuple[int, int], rows: slice = ..., columns: slice = ...) -> Points:
        """Return the points of `rows` x `columns` of a layout of `texels` (rows, columns), row by row."""
        ...
