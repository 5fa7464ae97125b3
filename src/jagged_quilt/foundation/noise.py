"""Seamless noise, in space or on the plane, of four kinds.

Gradient noise after Perlin (2002), "Improving Noise": quintic fade, gradients towards the edges of a cube (on the plane: 16
directions). Cellular noise after Worley (1996): the distance to the nearest of scattered seeds. The lattice is hashed, not
tabled, so that it never repeats unless a period is asked for; a period makes it repeat exactly, in all directions.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import finite_array, frozen, positive, whole_number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.noise_kinds import NoiseKind

_kernels = kernels_of("jagged_quilt.foundation._kernels")

_STEPS = 1024
_SAMPLES = 1 << 17


def noise_at(
    position: NDArray[np.float32],
    *,
    size: float,
    octaves: int = 4,
    seed: int = 0,
    period: int = 0,
    kind: NoiseKind = NoiseKind.SMOOTH,
    dimensions: int = 3,
    rest: NDArray[np.float32] | None = None,
) -> NDArray[np.float32]:
    """Return noise at points, 0..1; smooth noise has a mean of 0.5.

    Parameters
    ----------
    position : (N, 3)
        Metres, or any unit in which `size` is given too.
    size : float
        Distance from one hill (or seed) to the next of the coarsest octave.
    octaves : int
        1 - 12; each next one has half the size and half the strength.
    period : int
        Repeat after this many sizes; 0 never repeats. Octaves repeat with it.
    kind : NoiseKind
        Smooth hills; billowed (folded upwards); ridged (turned over, so that creases stand up); cellular.
    dimensions : int
        3, or 2 to go by x and z only: the same up and down a wall, and sooner.
    rest : (N, 3) float32, optional
        What float32 leaves away of the positions (see `Points`).

    Returns
    -------
    (N,) float32
    """
    where = finite_array("position", position, ("N", 3))
    raw = _raw(where, size, octaves, seed, period, kind, dimensions, rest)
    if kind is NoiseKind.SMOOTH:
        raw = np.float32(0.5) + np.float32(0.5) * raw
    return np.clip(raw, np.float32(0), np.float32(1), out=raw)


def even_noise_at(
    position: NDArray[np.float32],
    *,
    size: float,
    octaves: int = 4,
    seed: int = 0,
    period: int = 0,
    kind: NoiseKind = NoiseKind.SMOOTH,
    dimensions: int = 3,
    rest: NDArray[np.float32] | None = None,
) -> NDArray[np.float32]:
    """Return noise as `noise_at` does, but spread evenly over 0..1: over a wide area, a share t of it lies below t.

    The position must be an (N, 3) float32 array of finite numbers, as `Points` hold it.
    """
    table, low, high = noise_quantiles(kind, dimensions, octaves)
    values = _raw(position, size, octaves, seed, period, kind, dimensions, rest)
    _kernels.read_even(table, np.float32(low), np.float32(_STEPS / (high - low)), values)
    return values


def _raw(
    where: NDArray[np.float32],
    size: float,
    octaves: int,
    seed: int,
    period: int,
    kind: NoiseKind,
    dimensions: int,
    rest: NDArray[np.float32] | None = None,
) -> NDArray[np.float32]:
    size = positive("size", size, "m")
    octaves = whole_number_in("octaves", octaves, 1, 12)
    period = whole_number_in("period", period, 0, 1 << 16)
    if dimensions not in (2, 3):
        raise RangeError(f"noise has 2 or 3 dimensions; got {dimensions!r}")
    out = np.empty(len(where), np.float32)
    turn = (np.eye(3) if period else lattice_turn(dimensions)) / size
    lanes = _kernels.LANES
    seed = whole_number_in("seed", seed, 0, (1 << 31) - 1)
    lattice = _kernels.NoiseLattice(turn, octaves, seed, period, kind.code, dimensions == 2)
    scratch = _kernels.NoiseScratch(np.empty((3, lanes)), np.empty((5, lanes), np.float32), np.empty((9, lanes), np.uint32))
    _kernels.noise(
        frozen(where, np.float32),
        frozen(np.empty((0, 3)) if rest is None else rest, np.float32),
        lattice,
        scratch,
        out,
    )
    return out


@lru_cache(maxsize=64)
def noise_quantiles(kind: NoiseKind, dimensions: int, octaves: int) -> tuple[NDArray[np.float32], float, float]:
    """Return a table of which share of space lies below a value, at even steps from the lowest to the highest, and those two.

    From samples, the same ones every time.
    """
    where = np.random.default_rng(7).uniform(-4096, 4096, (_SAMPLES, 3)).astype(np.float32)
    values = np.sort(_raw(where, 1.0, octaves, 12345, 0, kind, dimensions)).astype(np.float64)
    low, high = float(values[0]), float(values[-1])
    at = np.linspace(low, high, _STEPS + 1)
    share: Stored = np.searchsorted(values, at, side="right") / _SAMPLES
    share[0], share[-1] = 0.0, 1.0
    return share.astype(np.float32), low, high


def _turned(about_x: float, about_y: float) -> NDArray[np.float64]:
    """A turn of the lattice, so that level ground and walls cut through it askew and its planes never show."""
    (cx, sx), (cy, sy) = ((np.cos(a), np.sin(a)) for a in (about_x, about_y))
    return np.array([[cy, 0, sy], [0, 1, 0], [-sy, 0, cy]]) @ np.array([[1, 0, 0], [0, cx, -sx], [0, sx, cx]])


_TURN = {2: _turned(0.0, 0.61), 3: _turned(0.72, 0.61)}


def lattice_turn(dimensions: int) -> NDArray[np.float64]:
    """Return how the lattice of noise in 2 or 3 dimensions is turned, (3, 3)."""
    return _TURN[dimensions]
