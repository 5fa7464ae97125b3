"""The curvature of a heightmap, in tiles with the margin that they need."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.json_types import Stored

_TILE = 1024  # samples along the side, at least
_TAILS = 4.0  # deviations after which the Gaussian is cut
_SLOPES = 2  # samples around one that its curvature reads: slopes of slopes


def curvature_into(out: Stored, heights: NDArray[np.float32], spacing: tuple[float, float], scale: float) -> None:
    """Fill (R, C) with the mean curvature of heights in 1/m, above 0 on ridges.

    Heights are smoothed by a Gaussian of `scale` / 4 metres first. Each tile is worked out with so many samples around it as
    the Gaussian and the slopes reach, in float64: the same bytes as all at once.
    """
    deviations = scale / 4 / spacing[1], scale / 4 / spacing[0]
    margins = [int(_TAILS * each + 0.5) + _SLOPES for each in deviations]
    steps = [max(_TILE, 2 * margin) for margin in margins]
    for top in range(0, out.shape[0], steps[0]):
        for left in range(0, out.shape[1], steps[1]):
            wider, own = [], []
            for first, step, margin, count in zip((top, left), steps, margins, out.shape, strict=True):
                begin = max(0, first - margin)
                wider.append(slice(begin, min(count, first + step + margin)))
                own.append(slice(first - begin, min(count, first + step) - begin))
            bent = _curvature(heights[tuple(wider)], spacing, deviations)
            out[top : top + steps[0], left : left + steps[1]] = bent[tuple(own)]


def _curvature(
    heights: NDArray[np.float32], spacing: tuple[float, float], deviations: tuple[float, float]
) -> NDArray[np.float64]:
    """That of a graph, ((1 + hz²) hxx - 2 hx hz hxz + (1 + hx²) hzz) / -2 (1 + hx² + hz²)^1.5."""
    from scipy.ndimage import gaussian_filter

    across, down = spacing
    smooth = gaussian_filter(heights.astype(np.float64), deviations, mode="nearest", truncate=_TAILS)
    hz, hx = np.gradient(smooth, down, across)
    hxx, hzz, hxz = np.gradient(hx, across, axis=1), np.gradient(hz, down, axis=0), np.gradient(hx, down, axis=0)
    bent = (1 + hz**2) * hxx - 2 * hx * hz * hxz + (1 + hx**2) * hzz
    return np.asarray(bent / (-2 * (1 + hx**2 + hz**2) ** 1.5))
