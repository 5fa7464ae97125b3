"""Mips and the storing of channels, as loops."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel

_SHARPEST = np.float32(1e-4)
_PI = np.float32(math.pi)


@kernel
def halve(values, out):
    """The mean of each 2 x 2 texels; (H, W, C) to (H/2, W/2, C)."""
    quarter = np.float32(0.25)
    channels = values.shape[2]
    for row in range(out.shape[0]):
        for column in range(out.shape[1]):
            for c in range(channels):
                above = values[2 * row, 2 * column, c] + values[2 * row, 2 * column + 1, c]
                below = values[2 * row + 1, 2 * column, c] + values[2 * row + 1, 2 * column + 1, c]
                out[row, column, c] = (above + below) * quarter


@kernel
def make_unit(vectors, out):
    """Vectors made unit; one with hardly any length becomes (0, 0, 1). Both (N, 3)."""
    for i in range(vectors.shape[0]):
        x, y, z = vectors[i, 0], vectors[i, 1], vectors[i, 2]
        length = math.sqrt(x * x + y * y + z * z)
        if length > np.float32(1e-6):
            out[i, 0] = x / length
            out[i, 1] = y / length
            out[i, 2] = z / length
        else:
            out[i, 0] = np.float32(0)
            out[i, 1] = np.float32(0)
            out[i, 2] = np.float32(1)


@inlined
def _lobe(normals, row, column, roughness, x, y, z):
    """GGX (Walter et al. 2007) of one texel, towards a unit vector; without 1 / pi. By the sine, which is exact near 0."""
    nx, ny, nz = normals[row, column, 0], normals[row, column, 1], normals[row, column, 2]
    cx, cy, cz = ny * z - nz * y, nz * x - nx * z, nx * y - ny * x
    sine = min(cx * cx + cy * cy + cz * cz, np.float32(1))
    alpha = max(roughness * roughness, _SHARPEST)
    alpha *= alpha
    below = sine + (np.float32(1) - sine) * alpha
    return alpha / (below * below)


@kernel
def halve_roughness(roughness, normals, coarse, out):
    """The roughness whose highlight is as strong as the four finer texels' together, seen along the coarser normal.

    `roughness` (H, W, 1) with its unit `normals` (H, W, 3), to `out` (H/2, W/2, 1) with its `coarse` (H/2, W/2, 3).
    """
    for row in range(out.shape[0]):
        for column in range(out.shape[1]):
            x, y, z = coarse[row, column, 0], coarse[row, column, 1], coarse[row, column, 2]
            light = np.float32(0)
            for down in range(2):
                for right in range(2):
                    r, c = 2 * row + down, 2 * column + right
                    light += _lobe(normals, r, c, roughness[r, c, 0], x, y, z)
            alpha = math.sqrt(np.float32(4) / light)
            out[row, column, 0] = math.sqrt(min(alpha, np.float32(1)))


@kernel
def store_channel(values, component, scale, offset, table, out, channel):
    """Encode one component of (N, C) values into one channel of (N, D) bytes, by a table of 65536 steps from 0 to 1."""
    for i in range(values.shape[0]):
        value = values[i, component] * scale + offset
        value = min(max(value, np.float32(0)), np.float32(1))
        out[i, channel] = table[int(value * np.float32(65535) + np.float32(0.5))]
