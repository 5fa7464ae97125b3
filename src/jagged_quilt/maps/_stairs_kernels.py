"""Smoothing within bounds, as loops."""

from __future__ import annotations

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel

_PACE = np.float32(0.99 / 32)  # the most that stays stable is 1 / 32
_HALF = np.float32(0.5)


@inlined
def _beside(index, count, wraps):
    """A row or column that may lie beyond the border: around it, or the border itself."""
    if wraps:
        return (index + count) % count
    return min(max(index, 0), count - 1)


@kernel
def flatten_bends(now, stored, held, wraps, out):
    """Move each sample a step towards the surface that bends least, no farther than half a level from what is stored.

    now, stored, out : (H, W) float32, in levels; held : (H, W), which samples stay as they are stored. The step goes against
    the bilaplacian, of 13 samples.
    """
    rows, columns = now.shape
    for r in range(rows):
        up, down = _beside(r - 1, rows, wraps), _beside(r + 1, rows, wraps)
        far_up, far_down = _beside(r - 2, rows, wraps), _beside(r + 2, rows, wraps)
        for c in range(columns):
            if 2 <= c < columns - 2:
                left, right, far_left, far_right = c - 1, c + 1, c - 2, c + 2
            else:
                left, right = _beside(c - 1, columns, wraps), _beside(c + 1, columns, wraps)
                far_left, far_right = _beside(c - 2, columns, wraps), _beside(c + 2, columns, wraps)
            here = now[r, c]
            near = now[up, c] + now[down, c] + now[r, left] + now[r, right]
            askew = now[up, left] + now[up, right] + now[down, left] + now[down, right]
            far = now[far_up, c] + now[far_down, c] + now[r, far_left] + now[r, far_right]
            bend = np.float32(20.0) * here - np.float32(8.0) * near + np.float32(2.0) * askew + far
            level = stored[r, c]
            out[r, c] = level if held[r, c] else min(max(here - _PACE * bend, level - _HALF), level + _HALF)
