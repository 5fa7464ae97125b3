"""Texels of float files that are no numbers: reported, and replaced where they are few."""

from __future__ import annotations

import warnings
from pathlib import Path

import numpy as np

from jagged_quilt.foundation.errors import QuiltWarning, RangeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.maps.gaps import filled

_MOSTLY = 0.5  # of a channel must be numbers


def made_finite(path: Path, stored: Stored) -> Stored:
    """Return texels of which none is NaN or infinite; what is replaced is reported by a `QuiltWarning`.

    NaN is filled from around; infinity becomes the largest number of its channel, or the smallest. Raises `RangeError` if that
    is more than half of a channel.
    """
    if stored.dtype != np.float32 or (good := np.isfinite(stored)).all():
        return stored
    if (good.mean(axis=(0, 1)) < _MOSTLY).any():
        check_finite(path, stored)
    out, gaps = stored.copy(), np.isnan(stored)
    for channel in np.flatnonzero(~good.all(axis=(0, 1))):
        one, own, gap = out[..., channel], good[..., channel], gaps[..., channel]
        np.clip(one, one[own].min(), one[own].max(), out=one)  # NaN stays
        if gap.any():
            out[..., channel] = filled(one, gap)
    found = [(int(gaps.sum()), "NaN, filled from around"), (int((~good & ~gaps).sum()), "infinite, made the largest there is")]
    listed = " and ".join(f"{count:,} {what}" for count, what in found if count)
    warnings.warn(f"{path}: of its values are {listed}; the first {_first(good)}", QuiltWarning, stacklevel=4)
    return out


def check_finite(path: Path, stored: Stored, top: int = 0) -> None:
    """Raise `RangeError` if a value is NaN or infinite; `top` is the first row of a band of an image."""
    if stored.dtype == np.float32 and not (good := np.isfinite(stored)).all():
        raise RangeError(
            f"{path}: holds {int((~good).sum())} NaN or infinite values, the first {_first(good, top)}; repair the map"
        )


def _first(good: Stored, top: int = 0) -> str:
    row, column, _ = (int(i) for i in np.argwhere(~good)[0])
    return f"at row {top + row}, column {column}"
