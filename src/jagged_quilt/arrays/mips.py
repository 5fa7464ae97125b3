"""Mip chains, made from what texels mean: colour in linear light, normals as vectors."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray


def level_count(side: int) -> int:
    """Return how many levels a square of `side` texels has, down to one texel."""
    return side.bit_length()


def halved(values: NDArray[np.float32]) -> NDArray[np.float32]:
    """Return the mean of each 2 x 2 texels, (H / 2, W / 2, C); sides must be even."""
    return (values[0::2, 0::2] + values[0::2, 1::2] + values[1::2, 0::2] + values[1::2, 1::2]) * np.float32(0.25)


def mip_levels(values: NDArray[np.float32]) -> Iterator[NDArray[np.float32]]:
    """Yield (S, S, C), (S/2, S/2, C) ... (1, 1, C) of plain or linear values."""
    while True:
        yield values
        if values.shape[0] == 1:
            return
        values = halved(values)


def normal_mip_levels(normals: NDArray[np.float32]) -> Iterator[NDArray[np.float32]]:
    """Yield the mips of unit normals: each the mean of the full-size vectors that it covers, made unit again."""
    for mean in mip_levels(normals):
        length = np.linalg.norm(mean, axis=2, keepdims=True)
        upright = np.array([0, 0, 1], np.float32)
        yield np.where(length > 1e-6, mean / np.maximum(length, 1e-6), upright).astype(np.float32)
