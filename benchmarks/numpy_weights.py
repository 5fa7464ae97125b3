"""Masks and weights as one writes them by hand in NumPy and SciPy: the yardstick of benchmarks and tests.

Everything works in the float type that comes in.
"""

import numpy as np
from scipy import ndimage

HASH = (0x8DA6B343, 0xD8163841, 0xCB1AB31F, 0x9E3779B1)


def smooth(t):
    t = np.clip(t, 0, 1)
    return t * t * (3 - 2 * t)


def step(values, start, end):
    return smooth((values - start) / (end - start)) if end > start else (values >= start).astype(values.dtype)


def band(values, low, high, fade):
    if fade == 0:
        return ((values >= low) & (values <= high)).astype(values.dtype)
    return step(values, low - fade, low) * (1 - step(values, high, high + fade))


def mixed(h):
    h = h ^ (h >> np.uint32(16))
    h = h * np.uint32(0x85EBCA6B)
    h = h ^ (h >> np.uint32(13))
    h = h * np.uint32(0xC2B2AE35)
    return h ^ (h >> np.uint32(16))


def lattice(cell, axis, period):
    cell = cell % period if period else cell
    return cell.astype(np.int64).astype(np.uint32) * np.uint32(HASH[axis])


def gradient(h, parts):
    """Dot product with the gradient that a hash chooses: 12 edges of a cube, or 16 directions of the plane."""
    if len(parts) == 3:
        x, y, z = parts
        kind = h & 15
        u = np.where(kind < 8, x, y)
        v = np.where(kind < 4, y, np.where((kind == 12) | (kind == 14), x, z))
    else:
        x, y = parts
        steep = (h & 8) != 0
        u = np.where(h & 4, x, y) * np.where(steep, 0.382683432, 0.195090322).astype(x.dtype)
        v = np.where(h & 4, y, x) * np.where(steep, 0.923879533, 0.980785280).astype(x.dtype)
    return np.where(h & 1, -u, u) + np.where(h & 2, -v, v)


def octave(places, axes, seed, period):
    """One octave of gradient noise after Perlin (2002), at lattice places (a list of coordinates)."""
    cells = [np.floor(p) for p in places]
    parts = [p - c for p, c in zip(places, cells, strict=True)]
    fades = [t * t * t * (t * (t * 6 - 15) + 10) for t in parts]
    total = 0
    for corner in np.ndindex(*(2,) * len(places)):
        h = np.uint32(seed * HASH[3] & 0xFFFFFFFF)
        for c, axis, side in zip(cells, axes, corner, strict=True):
            h = h ^ lattice(c + side, axis, period)
        share = gradient(mixed(h), [p - p.dtype.type(side) for p, side in zip(parts, corner, strict=True)])
        for fade, side in zip(fades, corner, strict=True):
            share = share * (fade if side else 1 - fade)
        total = total + share
    return total


def nearest_seed(places, axes, seed, period):
    """Distance to the nearest of seeds scattered one in a cell, after Worley (1996), looking one cell around."""
    cells = [np.floor(p) for p in places]
    best = None
    for way in np.ndindex(*(3,) * len(places)):
        h = np.uint32(seed * HASH[3] & 0xFFFFFFFF)
        for c, axis, side in zip(cells, axes, way, strict=True):
            h = h ^ lattice(c + side - 1, axis, period)
        h = mixed(h)
        squared = 0
        for place, (c, p, side) in enumerate(zip(cells, places, way, strict=True)):
            seed_at = (((h >> np.uint32(10 * place)) & np.uint32(1023)).astype(p.dtype) + p.dtype.type(0.5)) / 1024
            squared = squared + (c + side - 1 - p + seed_at) ** 2
        best = squared if best is None else np.minimum(best, squared)
    return np.sqrt(best)


def noise(position, turn, *, octaves, seed, period=0, kind="smooth", dimensions=3):
    """The mean of octaves; `turn` (3, 3) takes positions to lattice coordinates."""
    at = position @ turn.T.astype(position.dtype)
    axes = (0, 1, 2) if dimensions == 3 else (0, 2)
    places = [at[:, axis] for axis in axes]
    offsets = np.array((0.37, 0.61, 0.23), position.dtype)
    total, strength, whole = 0, 1.0, 0.0
    hashed = (0, 1, 2) if dimensions == 3 else (0, 1)
    for level in range(octaves):
        if kind == "cellular":
            value = nearest_seed(places, hashed, seed + level, period << level)
        else:
            value = octave(places, hashed, seed + level, period << level)
            value = {"smooth": value, "billowed": np.abs(value), "ridged": (1 - np.abs(value)) ** 2}[kind]
        total = total + position.dtype.type(strength) * value
        whole += strength
        strength /= 2
        places = [p * 2 + offsets[axis] for p, axis in zip(places, axes, strict=True)]
    return total / position.dtype.type(whole)


def spread(values, table, low, high):
    """Spread noise evenly over 0..1 by a table of shares."""
    return np.interp(values, np.linspace(low, high, len(table)), table).astype(values.dtype)


def slope(normal):
    return np.degrees(np.arctan2(np.hypot(normal[:, 0], normal[:, 2]), normal[:, 1]))


def facing(normal, bearing, spread_by, fade, level):
    bearings = np.degrees(np.arctan2(normal[:, 0], -normal[:, 2]))
    away = np.abs((bearings - bearing + 180) % 360 - 180)
    return band(away, -1, spread_by, fade) * step(slope(normal), level / 2, level)


def curvature(heights, spacing, scale):
    """Mean curvature of the ground, above 0 on ridges, over the samples of a heightmap."""
    across, down = spacing
    h = ndimage.gaussian_filter(heights, (scale / 4 / down, scale / 4 / across), mode="nearest")
    hz, hx = np.gradient(h, down, across)
    hxx, hzz, hxz = np.gradient(hx, across, axis=1), np.gradient(hz, down, axis=0), np.gradient(hx, down, axis=0)
    return ((1 + hz**2) * hxx - 2 * hx * hz * hxz + (1 + hx**2) * hzz) / (-2 * (1 + hx**2 + hz**2) ** 1.5)


def read_grid(values, position, corner, spacing):
    """Bilinear values of a grid over the ground."""
    rows, columns = (position[:, 2] - corner[1]) / spacing[1], (position[:, 0] - corner[0]) / spacing[0]
    return ndimage.map_coordinates(values, [rows, columns], order=1, mode="nearest", output=position.dtype)


def cover(answers):
    """Each layer covers what lies below it by its answer; the lowest (row 0) takes the rest."""
    left = np.ones_like(answers[0])
    out = np.empty_like(answers)
    for row in range(len(answers) - 1, 0, -1):
        out[row] = left * answers[row]
        left = left * (1 - answers[row])
    out[0] = left
    return out


def kept(weights, keep, unit=255):
    """The largest weights of each point and whole numbers for them that sum to `unit`: largest rests get the remainder."""
    order = np.argsort(-weights, axis=0, kind="stable")[:keep].T
    largest = np.take_along_axis(weights.T, order, axis=1)
    largest = largest / largest.sum(axis=1, keepdims=True)
    scaled = largest * unit
    whole = np.floor(scaled)
    missing = (unit - whole.sum(axis=1)).astype(int)
    rank = np.argsort(np.argsort(whole - scaled, axis=1, kind="stable"), axis=1)
    return order.astype(np.uint8), (whole + (rank < missing[:, None])).astype(np.uint8)
