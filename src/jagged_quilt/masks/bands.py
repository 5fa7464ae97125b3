"""Steps and bands: how numbers of any unit become 0..1."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.kernels import kernels_of

_kernels = kernels_of("jagged_quilt.masks._kernels")


def smooth_step(values: NDArray[np.float32], start: float, end: float) -> NDArray[np.float32]:
    """Return 0 up to `start`, 1 from `end`, and 3t² - 2t³ between; a hard cut where they are equal."""
    if end - start < 1e-6 * max(1.0, abs(start)):
        return (values >= start).astype(np.float32)
    out = np.empty(values.shape, np.float32)
    _kernels.step_between(frozen(values, np.float32), np.float32(start), np.float32(1 / (end - start)), out)
    return out


def band(values: NDArray[np.float32], low: float, high: float, fade: float) -> NDArray[np.float32]:
    """Return 1 from `low` to `high`, falling to 0 over `fade` on either side."""
    rising = smooth_step(values, low - fade, low)
    falling = np.float32(1) - smooth_step(values, high, high + fade) if fade > 0 else (values <= high).astype(np.float32)
    return rising * falling


def checked_band(kind: str, low: float, high: float, fade: float, unit: str) -> None:
    """Raise `RangeError` unless low <= high and fade >= 0."""
    low, high = number_in(f"{kind} band", low, unit=unit), number_in(f"{kind} band", high, unit=unit)
    if low > high:
        raise RangeError(f"{kind} band is upside down: it begins at {low:g} and ends at {high:g} {unit}; swap the two")
    number_in(f"{kind} fade", fade, 0, unit=unit)


def band_words(kind: str, low: float, high: float, fade: float, unit: str) -> str:
    """Return a band in words."""
    return f"{kind} {low:g} to {high:g} {unit}" + (f", fade {fade:g}" if fade else "")
