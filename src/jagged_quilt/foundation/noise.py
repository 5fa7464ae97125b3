"""Seamless gradient noise in three dimensions.

Noise after Perlin (2002), "Improving Noise": quintic fade, gradients towards the edges of a cube. The lattice is hashed, not
tabled, so that it never repeats unless a period is asked for; a period makes it repeat exactly, in all three directions.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation import _kernels
from jagged_quilt.foundation.checks import finite_array, positive, whole_number_in


def noise_at(
    position: NDArray[np.float32], *, size: float, octaves: int = 4, seed: int = 0, period: int = 0
) -> NDArray[np.float32]:
    """Return noise at points, 0..1, with a mean of 0.5.

    Parameters
    ----------
    position : (N, 3)
        Metres, or any unit in which `size` is given too.
    size : float
        Distance from one hill to the next of the coarsest octave.
    octaves : int
        1 - 12; each next one has half the size and half the strength.
    period : int
        Repeat after this many sizes; 0 never repeats. Octaves repeat with it.

    Returns
    -------
    (N,) float32
    """
    where = finite_array("position", position, ("N", 3))
    size = positive("size", size, "m")
    octaves = whole_number_in("octaves", octaves, 1, 12)
    period = whole_number_in("period", period, 0, 1 << 16)
    out = np.empty(len(where), np.float32)
    _kernels.noise(where, 1.0 / size, octaves, whole_number_in("seed", seed, 0, (1 << 31) - 1), period, out)
    return out
