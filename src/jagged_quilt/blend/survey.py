"""What a blend goes by at points: where the heaviest layer lies on them, how stretched, how dense, from which side."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend import _rows as k
from jagged_quilt.foundation.points import Points


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Survey:
    """Facts of the layer that weighs most at each of N points, seen on the plane that counts most for it.

    Attributes
    ----------
    place : (N, 2) float32
        Repeats along u and along v.
    stretch : (N,) float32
        How much longer than wide a texel lies on the surface: the larger over the smaller singular value of the derivative
        of u and v over the surface.
    density : (N,) float32
        Texels of the full-size map for a metre of surface: their geometric mean over both ways.
    mip : (N,) float32
        The level that is read; below 0 the texture is magnified.
    plane : (N,) int
        0, 1 or 2 for X, Y and Z of the projection; what has one plane only calls it Y, or Z if it is laid on from a side.
    share : (N,) float32
        How much of the layer that plane gives.
    reads : (N,) float32
        How many planes of how many layers are read, in all.
    """

    tile_uv: NDArray[np.float32]
    stretch: NDArray[np.float32]
    density: NDArray[np.float32]
    mip: NDArray[np.float32]
    plane: NDArray[np.int64]
    share: NDArray[np.float32]
    reads: NDArray[np.float32]

    @classmethod
    def of(cls, values: NDArray[np.float32], points: Points, repeats: NDArray[np.float64], side: int) -> Survey:
        """Make one from what the kernel answers, (N, SurveyColumns.END).

        Parameters
        ----------
        repeats : (N,)
            Of the heaviest layer, for a metre.
        side : int
            Texels along a tile.
        """
        slopes = values[:, k.SurveyColumns.GRADIENTS : k.SurveyColumns.PLANE].astype(np.float64).reshape(-1, 2, 3)
        tangent = points.tangent[:, :3].astype(np.float64)
        across = np.cross(points.normal.astype(np.float64), tangent)
        flat = np.stack([np.einsum("nud,nd->nu", slopes, way) for way in (tangent, across)], axis=2)
        area = np.abs(flat[:, 0, 0] * flat[:, 1, 1] - flat[:, 0, 1] * flat[:, 1, 0])
        both = np.einsum("nij,nij->n", flat, flat)  # the sum of the squares of the singular values; area is their product
        root = np.sqrt(np.maximum(both**2 - 4 * area**2, 0))
        stretch = np.sqrt((both + root) / np.maximum(both - root, 1e-12 * both + 1e-30))
        return cls(
            tile_uv=(values[:, :2] * repeats[:, None]).astype(np.float32),
            stretch=stretch.astype(np.float32),
            density=(np.sqrt(area) * repeats * side).astype(np.float32),
            mip=values[:, k.SurveyColumns.MIP],
            plane=values[:, k.SurveyColumns.PLANE].astype(np.int64),
            share=values[:, k.SurveyColumns.SHARE],
            reads=values[:, k.SurveyColumns.READS],
        )
