"""Mips and the storing of channels, as loops."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import kernel

_SHARPEST = np.float32(1e-4)


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
def halve_coded(texels, table, out):
    """`halve` of what a table says of stored numbers; (H, W, C) to (H/2, W/2, C)."""
    quarter = np.float32(0.25)
    channels = texels.shape[2]
    for row in range(out.shape[0]):
        for column in range(out.shape[1]):
            for c in range(channels):
                above = table[texels[2 * row, 2 * column, c]] + table[texels[2 * row, 2 * column + 1, c]]
                below = table[texels[2 * row + 1, 2 * column, c]] + table[texels[2 * row + 1, 2 * column + 1, c]]
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


@kernel
def halve_roughness(roughness, normals, coarse, out):
    """The roughness whose highlight is as strong as the four finer texels' together, seen along the coarser normal.

    `roughness` (H, W, 1) with its unit `normals` (H, W, 3), to `out` (H/2, W/2, 1) with its `coarse` (H/2, W/2, 3). The lobes
    are GGX (Walter et al. 2007); the squared sine between two unit vectors comes from their chord, which is exact near 0.
    """
    one, half, quarter = np.float32(1), np.float32(0.5), np.float32(0.25)
    for row in range(out.shape[0]):
        for column in range(out.shape[1]):
            x, y, z = coarse[row, column, 0], coarse[row, column, 1], coarse[row, column, 2]
            light = np.float32(0)
            width = np.float32(0)
            along = np.float32(0)
            for down in range(2):
                for right in range(2):
                    r, c = 2 * row + down, 2 * column + right
                    nx, ny, nz = normals[r, c, 0], normals[r, c, 1], normals[r, c, 2]
                    dx, dy, dz = nx - x, ny - y, nz - z
                    fall = (dx * dx + dy * dy + dz * dz) * half  # 1 - cosine
                    sine = fall * (np.float32(2) - fall)
                    alpha = max(roughness[r, c, 0] * roughness[r, c, 0], _SHARPEST)
                    alpha *= alpha
                    below = sine + (one - sine) * alpha
                    light += alpha / (below * below)
                    width += alpha
                    along += one - fall
            # Never wider than the lobes and the spread of their slopes together (Toksvig 2005): where lobes are sharp and few,
            # hardly any light goes along the middle, and its strength says little.
            spread = np.float32(2) * (np.float32(4) / max(along, np.float32(1e-3)) - one)
            widest = width * quarter + max(spread, np.float32(0))
            squared = min(min(np.float32(4) / light, widest), one)
            out[row, column, 0] = math.sqrt(math.sqrt(squared))


@kernel
def store_channel(values, component, scale, offset, table, out, channel):
    """Encode one component of (N, C) values into one channel of (N, D) bytes, by a table of 65536 steps from 0 to 1."""
    for i in range(values.shape[0]):
        value = values[i, component] * scale + offset
        value = min(max(value, np.float32(0)), np.float32(1))
        out[i, channel] = table[np.uint64(value * np.float32(65535) + np.float32(0.5))]


@kernel
def store_plain(values, component, scale, offset, out, channel):
    """Store one component of (N, C) values into one channel of (N, D) bytes, 0..1 as 0..255."""
    for i in range(values.shape[0]):
        value = values[i, component] * scale + offset
        value = min(max(value, np.float32(0)), np.float32(1))
        out[i, channel] = np.uint8(value * np.float32(255) + np.float32(0.5))


@kernel
def copy_channel(texels, component, out, channel):
    """Copy one component of (N, C) bytes into one channel of (N, D) bytes."""
    for i in range(texels.shape[0]):
        out[i, channel] = texels[i, component]
