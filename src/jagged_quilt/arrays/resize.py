"""One map brought to another size, by what its texels mean."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

Kernel = Literal["tent", "lanczos"]
_LOBES = 3


def resized(
    values: NDArray[np.float32], rows: int, columns: int, *, edge: Literal["wrap", "clamp"] = "wrap", kernel: Kernel = "tent"
) -> NDArray[np.float32]:
    """Return (rows, columns, C) float32 from (H, W, C).

    Parameters
    ----------
    edge : "wrap" or "clamp"
        What lies beyond the border: the other side (a map that repeats) or the border itself (a picture).
    kernel : "tent" or "lanczos"
        A tent as wide as the larger texel, which never rings: what comes out lies between the smallest and the largest of
        what went in. Or a sinc windowed by its own middle lobe over three lobes (Duchon 1979): sharper; what it throws
        beyond the smallest and largest of the whole map is cut.
    """
    if values.shape[:2] == (rows, columns):
        return values
    given = values
    if values.shape[0] != rows:
        values = _along_first(values, rows, edge, kernel)
    if values.shape[1] != columns:
        values = _along_first(values.transpose(1, 0, 2), columns, edge, kernel).transpose(1, 0, 2)
    if kernel == "lanczos":
        values = np.clip(values, given.min(axis=(0, 1)), given.max(axis=(0, 1)))
    return np.ascontiguousarray(values, dtype=np.float32)


def _along_first(values: NDArray[np.float32], wanted: int, edge: str, kernel: Kernel) -> NDArray[np.float32]:
    from scipy.sparse import csr_array

    given = values.shape[0]
    scale = max(1.0, given / wanted)
    radius = scale * (1 if kernel == "tent" else _LOBES)
    centre = (np.arange(wanted) + 0.5) * given / wanted - 0.5
    taps = np.arange(-int(np.ceil(radius)), int(np.ceil(radius)) + 1)
    index = np.floor(centre)[:, None].astype(int) + taps
    away = np.abs(index - centre[:, None]) / scale
    weight = (
        np.maximum(0.0, 1.0 - away) if kernel == "tent" else np.where(away < _LOBES, np.sinc(away) * np.sinc(away / _LOBES), 0)
    )
    weight /= weight.sum(axis=1, keepdims=True)
    index = index % given if edge == "wrap" else np.clip(index, 0, given - 1)
    which = np.repeat(np.arange(wanted), len(taps))
    matrix = csr_array((weight.ravel(), (which, index.ravel())), shape=(wanted, given))
    flat = matrix @ values.reshape(given, -1).astype(np.float64)
    return np.asarray(flat, dtype=np.float32).reshape(wanted, *values.shape[1:])
