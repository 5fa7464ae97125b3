"""Stored texels to what they mean, as loops."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import kernel


@kernel
def look_up(texels, table, out):
    """What a table says of each stored number; both flat."""
    for i in range(texels.shape[0]):
        out[i] = table[texels[i]]


@kernel
def unit_vectors(texels, table, out):
    """Unit vectors from three stored numbers each, (N, 3)."""
    for i in range(texels.shape[0]):
        x = table[texels[i, 0]]
        y = table[texels[i, 1]]
        z = table[texels[i, 2]]
        scale = np.float32(1) / max(math.sqrt(x * x + y * y + z * z), np.float32(1e-12))
        out[i, 0] = x * scale
        out[i, 1] = y * scale
        out[i, 2] = z * scale


@kernel
def raised_vectors(texels, table, out):
    """Unit vectors from two stored numbers each, (N, 2); z is what is left, up to 0."""
    for i in range(texels.shape[0]):
        x = table[texels[i, 0]]
        y = table[texels[i, 1]]
        z = math.sqrt(max(np.float32(1) - x * x - y * y, np.float32(0)))
        scale = np.float32(1) / max(math.sqrt(x * x + y * y + z * z), np.float32(1e-12))
        out[i, 0] = x * scale
        out[i, 1] = y * scale
        out[i, 2] = z * scale
