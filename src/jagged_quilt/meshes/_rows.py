"""The records that the kernels of meshes, and those who walk over meshes, take."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray


class MeshRows(NamedTuple):
    """A mesh as kernels read it; without uv or colour those have no rows."""

    position: NDArray[np.float32]  # (V, 3)
    normal: NDArray[np.float32]  # (V, 3)
    tangent: NDArray[np.float32]  # (V, 4)
    uv: NDArray[np.float32]  # (V, 2)
    colour: NDArray[np.float32]  # (V, 4)
    triangles: NDArray[np.int32]  # (T, 3)


class FilledPoints(NamedTuple):
    """Points to be filled; what nobody asks for has no rows."""

    position: NDArray[np.float32]  # (N, 3)
    normal: NDArray[np.float32]  # (N, 3)
    tangent: NDArray[np.float32]  # (N, 4)
    footprint: NDArray[np.float32]  # (N, 2)
    uv: NDArray[np.float32]  # (N, 2)
    uv_gradient: NDArray[np.float32]  # (N, 2, 3)
    steps: NDArray[np.float32]  # (N, 2, 3)
    colour: NDArray[np.float32]  # (N, 4)
    uv_tangent: NDArray[np.float32]  # (N, 4)
    rest: NDArray[np.float32]  # (N, 3)
