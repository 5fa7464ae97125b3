"""Numbers on a grid over the ground, read at any point above or below it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.disk_store import MappedArray, arrived, travelling
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points

_kernels = kernels_of("jagged_quilt.foundation._kernels")


@dataclass(frozen=True, slots=True, eq=False)
class Grid:
    """A field over the ground.

    Attributes
    ----------
    values : (R, C) float32
        Row 0 is north; at least 2 x 2.
    corner : (float, float)
        x and z of the first sample, in metres.
    spacing : (float, float)
        Metres from sample to sample, east and south.
    """

    values: NDArray[np.float32]
    corner: tuple[float, float]
    spacing: tuple[float, float]

    def __post_init__(self) -> None:
        object.__setattr__(self, "values", frozen(self.values, np.float32))

    def __reduce__(self) -> tuple[object, ...]:
        return _made, (travelling(self.values), self.corner, self.spacing)

    def at(self, points: Points) -> NDArray[np.float32]:
        """Return the bilinear value below each point, (N,); beyond the border, that of the border."""
        out = np.empty(len(points), np.float32)
        _kernels.read_grid(points.position, self.values, *self.corner, *self.spacing, out)
        return out


def _made(values: Stored | MappedArray, corner: tuple[float, float], spacing: tuple[float, float]) -> Grid:
    return Grid(arrived(values), corner, spacing)
