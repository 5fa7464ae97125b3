"""Seamless fields from which the demo's swatches are cut: everything repeats after 1 in both directions."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.noise import noise_at

Field = NDArray[np.float64]
"""(H, W) float64; what it holds is said where it is made."""


def grid(side: int) -> tuple[Field, Field]:
    """Return u and v at the texel centres of a square, each (side, side), 0..1."""
    centres = (np.arange(side) + 0.5) / side
    v, u = np.meshgrid(centres, centres, indexing="ij")
    return u, v


def patches(u: Field, v: Field, *, cells: int, octaves: int = 5, seed: int = 0) -> Field:
    """Return noise, 0..1 with a mean of 0.5, with `cells` hills along the tile."""
    flat = np.column_stack([u.ravel() * cells, v.ravel() * cells, np.full(u.size, 0.5)])
    return noise_at(flat, size=1.0, octaves=octaves, seed=seed, period=cells).astype(np.float64).reshape(u.shape)


def warped(u: Field, v: Field, *, amount: float, cells: int, seed: int) -> tuple[Field, Field]:
    """Return u and v pushed about by noise, so that edges do not look drawn with a ruler."""
    du = patches(u, v, cells=cells, octaves=3, seed=seed) - 0.5
    dv = patches(u, v, cells=cells, octaves=3, seed=seed + 100) - 0.5
    return u + amount * du, v + amount * dv


def cells_of(u: Field, v: Field, *, count: int, seed: int) -> tuple[Field, Field, NDArray[np.int64]]:
    """Split the tile among scattered seeds.

    Returns
    -------
    to_edge : (H, W)
        Distance to the nearest border between two cells, in tiles.
    to_seed : (H, W)
        Distance to the cell's own seed, in tiles.
    which : (H, W) int64
        The cell's number.
    """
    from scipy.spatial import cKDTree

    rng = np.random.default_rng(seed)
    side = int(np.sqrt(count))
    row, column = np.divmod(np.arange(side * side), side)
    seeds = (np.column_stack([column, row]) + rng.uniform(0.12, 0.88, (side * side, 2))) / side
    positions = np.column_stack([u.ravel() % 1.0, v.ravel() % 1.0])
    tree = cKDTree(seeds, boxsize=np.ones(2))
    distance, near = map(np.asarray, tree.query(positions, k=4))
    own = seeds[near[:, 0]]
    edge = np.full(len(positions), np.inf)
    for other in range(1, 4):
        apart = (seeds[near[:, other]] - own + 0.5) % 1.0 - 0.5
        middle = own + apart / 2
        offset = (middle - positions + 0.5) % 1.0 - 0.5
        edge = np.minimum(edge, np.abs((offset * apart).sum(1)) / np.linalg.norm(apart, axis=1))
    return edge.reshape(u.shape), distance[:, 0].reshape(u.shape), near[:, 0].reshape(u.shape)


def per_cell(which: NDArray[np.int64], *, seed: int) -> Field:
    """Return one random number, 0..1, for each cell."""
    return np.random.default_rng(seed).random(int(which.max()) + 1)[which]


def step(values: Field, start: float, end: float) -> Field:
    """Return 0 up to `start`, 1 from `end`, smooth between; `start` may be the larger one."""
    t = np.clip((values - start) / (end - start), 0, 1)
    return t * t * (3 - 2 * t)


def stretched(values: Field, low: float = 0.0, high: float = 1.0) -> Field:
    """Return the field scaled so that it fills `low` to `high`."""
    return low + (high - low) * (values - values.min()) / (np.ptp(values) or 1.0)
