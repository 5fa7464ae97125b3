"""Noise, as loops."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel


@inlined
def _hash(x, y, z, seed):
    """Mix three lattice coordinates into 32 bits (the finaliser of MurmurHash3 over a sum of odd multiples)."""
    h = np.uint32(x) * np.uint32(0x8DA6B343) ^ np.uint32(y) * np.uint32(0xD8163841)
    h ^= np.uint32(z) * np.uint32(0xCB1AB31F) ^ np.uint32(seed) * np.uint32(0x9E3779B1)
    h = np.uint32(h)
    h ^= h >> np.uint32(16)
    h = np.uint32(h * np.uint32(0x85EBCA6B))
    h ^= h >> np.uint32(13)
    h = np.uint32(h * np.uint32(0xC2B2AE35))
    return np.uint32(h ^ (h >> np.uint32(16)))


@inlined
def _slope(h, x, y, z):
    """Dot product with one of the 12 directions to the edges of a cube (4 of them twice)."""
    kind = h & np.uint32(15)
    u = x if kind < 8 else y
    v = y if kind < 4 else (x if kind == 12 or kind == 14 else z)
    return (u if h & np.uint32(1) == 0 else -u) + (v if h & np.uint32(2) == 0 else -v)


@inlined
def _fade(t):
    return t * t * t * (t * (t * 6.0 - 15.0) + 10.0)


@inlined
def _noise_once(x, y, z, seed, period):
    floor_x, floor_y, floor_z = math.floor(x), math.floor(y), math.floor(z)
    fx, fy, fz = x - floor_x, y - floor_y, z - floor_z
    x0, y0, z0 = int(floor_x), int(floor_y), int(floor_z)
    x1, y1, z1 = x0 + 1, y0 + 1, z0 + 1
    if period > 0:
        x0, y0, z0 = x0 % period, y0 % period, z0 % period
        x1, y1, z1 = x1 % period, y1 % period, z1 % period
    ux, uy, uz = _fade(fx), _fade(fy), _fade(fz)
    near = _slope(_hash(x0, y0, z0, seed), fx, fy, fz)
    near += ux * (_slope(_hash(x1, y0, z0, seed), fx - 1, fy, fz) - near)
    far = _slope(_hash(x0, y1, z0, seed), fx, fy - 1, fz)
    far += ux * (_slope(_hash(x1, y1, z0, seed), fx - 1, fy - 1, fz) - far)
    low = near + uy * (far - near)
    near = _slope(_hash(x0, y0, z1, seed), fx, fy, fz - 1)
    near += ux * (_slope(_hash(x1, y0, z1, seed), fx - 1, fy, fz - 1) - near)
    far = _slope(_hash(x0, y1, z1, seed), fx, fy - 1, fz - 1)
    far += ux * (_slope(_hash(x1, y1, z1, seed), fx - 1, fy - 1, fz - 1) - far)
    high = near + uy * (far - near)
    return low + uz * (high - low)


@kernel
def noise(position, frequency, octaves, seed, period, out):
    """Sum octaves of gradient noise at each position; 0.5 is the middle, and what passes 0 or 1 is cut."""
    for i in range(position.shape[0]):
        x = position[i, 0] * frequency
        y = position[i, 1] * frequency
        z = position[i, 2] * frequency
        total = 0.0
        strength = 1.0
        whole = 0.0
        for octave in range(octaves):
            total += strength * _noise_once(x, y, z, seed + octave, period << octave)
            whole += strength
            strength *= 0.5
            x, y, z = x * 2.0 + 0.37, y * 2.0 + 0.61, z * 2.0 + 0.23  # so that lattices of octaves do not coincide
        out[i] = min(max(0.5 + 0.5 * total / whole, 0.0), 1.0)
