"""How much of the light from all around a rough surface throws back: a table by angle and roughness."""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.light._rows import ANGLES, ROUGHNESSES

ROUGHEST_MIRROR = 0.04
"""The least roughness: a smoother mirror shows a point as nothing."""
_SAMPLES = 1024


def spread_out(count: int) -> NDArray[np.float64]:
    """Return places spread evenly over the unit square, (count, 2): Hammersley's set."""
    number = np.arange(count, dtype=np.uint32)
    bits = number.copy()
    for shift, mask in ((16, 0x0000FFFF), (8, 0x00FF00FF), (4, 0x0F0F0F0F), (2, 0x33333333), (1, 0x55555555)):
        bits = ((bits >> np.uint32(shift)) & np.uint32(mask)) | ((bits & np.uint32(mask)) << np.uint32(shift))
    return np.column_stack([(number + 0.5) / count, bits / 2.0**32])


def half_vectors(roughness: NDArray[np.float64], count: int) -> NDArray[np.float64]:
    """Return half vectors as the GGX distribution has them, about +z, (R, count, 3) (Walter et al. 2007)."""
    turn, share = 2 * np.pi * spread_out(count)[:, 0], spread_out(count)[:, 1]
    alpha = np.maximum(roughness, ROUGHEST_MIRROR)[:, None] ** 2
    z = np.sqrt((1 - share) / (1 + (alpha**2 - 1) * share))
    level = np.sqrt(np.maximum(1 - z * z, 0))
    return np.stack([level * np.cos(turn), level * np.sin(turn), z], axis=-1)


@cache
def albedo_table() -> NDArray[np.float32]:
    """Return (ROUGHNESSES * ANGLES * 4,) float32: a and b of the light thrown back, f0 a + b, for light once reflected; then
    those of the next angle, so that they are read at once.

    Rows by roughness from 0 to 1, columns by the square root of the cosine to the eye from 0 to 1 (Karis 2013, with the
    height-correlated Smith term).
    """
    roughness = np.linspace(0, 1, ROUGHNESSES)
    cosine = np.maximum(np.linspace(0, 1, ANGLES) ** 2, 1e-3)
    square = np.maximum(roughness, ROUGHEST_MIRROR)[:, None, None] ** 4
    half = half_vectors(roughness, _SAMPLES)[:, None]
    v_z = cosine[None, :, None]
    v_h = half[..., 0] * np.sqrt(1 - v_z**2) + half[..., 2] * v_z
    n_l = np.clip(2 * v_h * half[..., 2] - v_z, 0, 1)
    smith = 0.5 / (n_l * np.sqrt(v_z**2 * (1 - square) + square) + v_z * np.sqrt(n_l**2 * (1 - square) + square) + 1e-12)
    each = np.where((n_l > 0) & (v_h > 0), 4 * smith * n_l * v_h / half[..., 2], 0)
    grazing = (1 - np.clip(v_h, 0, 1)) ** 5
    back = np.stack([(each * (1 - grazing)).mean(axis=2), (each * grazing).mean(axis=2)], axis=-1)
    return frozen(np.concatenate([back, np.roll(back, -1, axis=1)], axis=-1).reshape(-1), np.float32)
