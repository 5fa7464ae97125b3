"""One map brought to another size, by what its texels mean."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray


def resized(
    values: NDArray[np.float32], rows: int, columns: int, *, edge: Literal["wrap", "clamp"] = "wrap"
) -> NDArray[np.float32]:
    """Return (rows, columns, C) float32 from (H, W, C), by a tent filter as wide as the larger texel.

    A tent never rings: what comes out lies between the smallest and the largest of what went in. `edge` says what lies
    beyond the border: the other side (a map that repeats) or the border itself (a picture).
    """
    if values.shape[:2] == (rows, columns):
        return values
    if values.shape[0] != rows:
        values = _along_first(values, rows, edge)
    if values.shape[1] != columns:
        values = _along_first(values.transpose(1, 0, 2), columns, edge).transpose(1, 0, 2)
    return np.ascontiguousarray(values, dtype=np.float32)


def _along_first(values: NDArray[np.float32], wanted: int, edge: str) -> NDArray[np.float32]:
    from scipy.sparse import csr_array

    given = values.shape[0]
    radius = max(1.0, given / wanted)
    centre = (np.arange(wanted) + 0.5) * given / wanted - 0.5
    taps = np.arange(-int(np.ceil(radius)), int(np.ceil(radius)) + 1)
    index = np.floor(centre)[:, None].astype(int) + taps
    weight = np.maximum(0.0, 1.0 - np.abs(index - centre[:, None]) / radius)
    weight /= weight.sum(axis=1, keepdims=True)
    index = index % given if edge == "wrap" else np.clip(index, 0, given - 1)
    which = np.repeat(np.arange(wanted), len(taps))
    matrix = csr_array((weight.ravel(), (which, index.ravel())), shape=(wanted, given))
    flat = matrix @ values.reshape(given, -1).astype(np.float64)
    return np.asarray(flat, dtype=np.float32).reshape(wanted, *values.shape[1:])
