"""Noise and reading between the samples of a grid, as loops."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numba import types
from numba.extending import intrinsic
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel, lanes
from jagged_quilt.foundation.noise_kinds import NoiseKind

F0, F1 = np.float32(0.0), np.float32(1.0)
SMOOTH, BILLOWED, RIDGED, _ = (kind.code for kind in NoiseKind)
ACROSS, DOWN, DEEP = (
    np.uint32(0x8DA6B343),
    np.uint32(0xD8163841),
    np.uint32(0xCB1AB31F),
)  # factors of the hash for each axis
LANES = 256  # points that one pass of the noise works on


@intrinsic
def _mixed(context, h):  # the finaliser of MurmurHash3; Numba's own uint32 * uint32 is 64 bits wide, and slow in lanes
    """Mix 32 bits thoroughly."""

    def build(context, builder, signature, arguments):
        word = arguments[0].type
        h = arguments[0]
        for shift, factor in ((16, 0x85EBCA6B), (13, 0xC2B2AE35)):
            h = builder.mul(builder.xor(h, builder.lshr(h, word(shift))), word(factor))
        return builder.xor(h, builder.lshr(h, word(16)))

    return types.uint32(types.uint32), build


@inlined
def _seeded(seed):
    return np.uint32(np.uint32(seed) * np.uint32(0x9E3779B1))


@intrinsic
def _slope(context, h, x, y, z):  # as is _mixed, for the width of its lanes
    """Dot product with one of the 12 directions to the edges of a cube (4 of them twice), by the lowest 4 bits of h.

    u = x if kind < 8 else y, v = y if kind < 4 else x if kind is 12 or 14 else z; bits 0 and 1 turn them over.
    """

    def build(context, builder, signature, arguments):
        h, x, y, z = arguments
        word = h.type
        kind = builder.and_(h, word(15))
        u = builder.select(builder.icmp_unsigned("<", kind, word(8)), x, y)
        rest = builder.select(builder.icmp_unsigned("==", builder.and_(kind, word(13)), word(12)), x, z)
        v = builder.select(builder.icmp_unsigned("<", kind, word(4)), y, rest)
        return _signed_sum(builder, h, u, v)

    return types.float32(types.uint32, types.float32, types.float32, types.float32), build


@intrinsic
def _flat_slope(context, h, x, y):
    """Dot product with one of 16 directions, alike in length, evenly around the compass, by the lowest 4 bits of h."""

    def build(context, builder, signature, arguments):
        h, x, y = arguments
        word, real = h.type, x.type
        steep = builder.icmp_unsigned("!=", builder.and_(h, word(8)), word(0))
        short = builder.select(steep, real(0.382683432), real(0.195090322))
        long = builder.select(steep, real(0.923879533), real(0.980785280))
        turned = builder.icmp_unsigned("!=", builder.and_(h, word(4)), word(0))
        u, v = builder.select(turned, x, y), builder.select(turned, y, x)
        return _signed_sum(builder, h, builder.fmul(u, short), builder.fmul(v, long))

    return types.float32(types.uint32, types.float32, types.float32), build


def _signed_sum(builder, h, u, v):
    """Build u + v, turned over by bits 0 and 1 of h."""
    word = h.type
    for bit, value in ((1, u), (2, v)):
        even = builder.icmp_unsigned("==", builder.and_(h, word(bit)), word(0))
        turned = builder.select(even, value, builder.fneg(value))
        u, v = (turned, v) if bit == 1 else (u, turned)
    return builder.fadd(u, v)


@inlined
def _fade(t):
    return t * t * t * (t * (t * np.float32(6.0) - np.float32(15.0)) + np.float32(10.0))


@inlined
def _kinded(n, kind):
    """One octave of smooth noise, -1..1, as another kind: folded at 0 (billows), or turned over so that creases stand up."""
    folded = abs(n)
    return n if kind == SMOOTH else (folded if kind == BILLOWED else (F1 - folded) * (F1 - folded))


@lanes
def _split(count, x, period, factor, fraction, before, own, after):
    """Split coordinates along an axis into cells and what is left, 0..1.

    Fill what the cell, the one before it and the one after it bring to the hash: their number, within the period if there
    is one, times an odd factor. Doubles stay in here, so that all that follows runs in wider lanes.
    """
    share = 1.0 / period if period > 0.0 else 0.0
    last = np.uint32(np.uint32(np.int32(period) - 1) * factor)
    for i in range(count):
        cell = math.floor(x[i])
        fraction[i] = np.float32(x[i] - cell)
        wrapped = cell - period * math.floor((cell + 0.5) * share)
        here = np.uint32(np.uint32(np.int32(wrapped)) * factor)
        own[i] = here
        before[i] = last if wrapped == 0.0 and period > 0.0 else np.uint32(here - factor)
        after[i] = np.uint32(0) if wrapped + 1.0 == period else np.uint32(here + factor)


@lanes
def _octave_in_space(count, inside, corners, seed, kind, strength, total):
    """Add one octave of gradient noise at `count` places to total."""
    fx, fy, fz = inside[0], inside[1], inside[2]
    x0, x1, y0, y1, z0, z1 = corners[0], corners[1], corners[3], corners[4], corners[6], corners[7]
    for i in range(count):
        ax, ay, az = fx[i], fy[i], fz[i]
        bx, by, bz = ax - F1, ay - F1, az - F1
        front, back = z0[i] ^ seed, z1[i] ^ seed
        ux, uy, uz = _fade(ax), _fade(ay), _fade(az)
        near = _slope(_mixed(np.uint32(x0[i] ^ y0[i] ^ front)), ax, ay, az)
        near += ux * (_slope(_mixed(np.uint32(x1[i] ^ y0[i] ^ front)), bx, ay, az) - near)
        far = _slope(_mixed(np.uint32(x0[i] ^ y1[i] ^ front)), ax, by, az)
        far += ux * (_slope(_mixed(np.uint32(x1[i] ^ y1[i] ^ front)), bx, by, az) - far)
        low = near + uy * (far - near)
        near = _slope(_mixed(np.uint32(x0[i] ^ y0[i] ^ back)), ax, ay, bz)
        near += ux * (_slope(_mixed(np.uint32(x1[i] ^ y0[i] ^ back)), bx, ay, bz) - near)
        far = _slope(_mixed(np.uint32(x0[i] ^ y1[i] ^ back)), ax, by, bz)
        far += ux * (_slope(_mixed(np.uint32(x1[i] ^ y1[i] ^ back)), bx, by, bz) - far)
        high = near + uy * (far - near)
        total[i] += strength * _kinded(low + uz * (high - low), kind)


@lanes
def _octave_on_plane(count, inside, corners, seed, kind, strength, total):
    """Add one octave of flat gradient noise, by x and z, at `count` places to total."""
    fx, fy = inside[0], inside[2]
    x0, x1, y0, y1 = corners[0], corners[1], corners[6], corners[7]
    for i in range(count):
        ax, ay = fx[i], fy[i]
        bx, by = ax - F1, ay - F1
        top, bottom = y0[i] ^ seed, y1[i] ^ seed
        ux = _fade(ax)
        near = _flat_slope(_mixed(np.uint32(x0[i] ^ top)), ax, ay)
        near += ux * (_flat_slope(_mixed(np.uint32(x1[i] ^ top)), bx, ay) - near)
        far = _flat_slope(_mixed(np.uint32(x0[i] ^ bottom)), ax, by)
        far += ux * (_flat_slope(_mixed(np.uint32(x1[i] ^ bottom)), bx, by) - far)
        total[i] += strength * _kinded(near + _fade(ay) * (far - near), kind)


@inlined
def _scattered(h):
    """Place of a cell's seed along one axis, from 10 bits: 0..1."""
    return np.float32(np.int32(h & np.uint32(1023))) * np.float32(1.0 / 1024.0) + np.float32(0.5 / 1024.0)


@lanes
def _nearer_in_space(count, inside, xs, ys, zs, step, seed, nearest):
    """Lower the squared distance to the nearest seed by the seed of the cell at a step from each place's own."""
    fx, fy, fz = inside[0], inside[1], inside[2]
    sx, sy, sz = step
    for i in range(count):
        h = _mixed(np.uint32(xs[i] ^ ys[i] ^ zs[i] ^ seed))
        ax = sx - fx[i] + _scattered(h)
        ay = sy - fy[i] + _scattered(h >> np.uint32(10))
        az = sz - fz[i] + _scattered(h >> np.uint32(20))
        nearest[i] = min(nearest[i], ax * ax + ay * ay + az * az)


@lanes
def _nearer_on_plane(count, inside, xs, ys, sx, sy, seed, nearest):
    fx, fy = inside[0], inside[2]
    for i in range(count):
        h = _mixed(np.uint32(xs[i] ^ ys[i] ^ seed))
        ax = sx - fx[i] + _scattered(h)
        ay = sy - fy[i] + _scattered(h >> np.uint32(10))
        nearest[i] = min(nearest[i], ax * ax + ay * ay)


@lanes
def _add_distances(count, nearest, strength, total):
    for i in range(count):
        total[i] += strength * math.sqrt(nearest[i])
        nearest[i] = np.float32(9.0)


@lanes
def _next_octave(count, x, y, z):
    """Halve the size, and move a little, so that the lattices of octaves do not coincide."""
    for i in range(count):
        x[i] = x[i] * 2.0 + 0.37
        y[i] = y[i] * 2.0 + 0.61
        z[i] = z[i] * 2.0 + 0.23


@lanes
def _turn(count, first, position, rest, lattice, x, y, z):
    """Take positions to lattice coordinates, within the period if there is one."""
    turn, period = lattice.turn, float(lattice.period)
    share = 1.0 / period if period > 0.0 else 0.0
    for i in range(count):
        px, py, pz = np.float64(position[first + i, 0]), np.float64(position[first + i, 1]), np.float64(position[first + i, 2])
        if rest.shape[0] > 0:
            px, py, pz = px + rest[first + i, 0], py + rest[first + i, 1], pz + rest[first + i, 2]
        ax = turn[0, 0] * px + turn[0, 1] * py + turn[0, 2] * pz
        ay = turn[1, 0] * px + turn[1, 1] * py + turn[1, 2] * pz
        az = turn[2, 0] * px + turn[2, 1] * py + turn[2, 2] * pz
        x[i] = ax - period * math.floor(ax * share)
        y[i] = ay - period * math.floor(ay * share)
        z[i] = az - period * math.floor(az * share)


class NoiseLattice(NamedTuple):
    """Which noise: turn (3, 3) float64 takes positions to lattice coordinates; period is in cells, 0 for none; kind is SMOOTH,
    BILLOWED, RIDGED or more for cells; flat: by x and z only."""

    turn: NDArray[np.float64]
    octaves: int
    seed: int
    period: int
    kind: int
    flat: bool


class NoiseScratch(NamedTuple):
    """What noise needs while it works: lattice places (3, LANES) float64, sums (5, LANES) float32: the total, the nearest
    seed, and where inside of its cell (x, y, z) each place lies; corners (9, LANES) uint32: by axis, of the cell, the one
    after it and the one before it."""

    positions: NDArray[np.float64]
    sums: NDArray[np.float32]
    corners: NDArray[np.uint32]


@kernel
def noise(position, rest, lattice, scratch, out):
    """Fill the mean of octaves, each half as strong as the one before.

    rest : what float32 leaves away of the positions, or no rows.
    """
    period, kind, flat = lattice.period, lattice.kind, lattice.flat
    x, y, z = scratch.positions[0], scratch.positions[1], scratch.positions[2]
    total, nearest, inside, corners = scratch.sums[0], scratch.sums[1], scratch.sums[2:5], scratch.corners
    xs, ys, zs = corners[0:3], corners[3:6], corners[6:9]
    for i in range(LANES):
        nearest[i] = np.float32(9.0)
    for first in range(0, position.shape[0], LANES):
        count = min(LANES, position.shape[0] - first)
        _turn(count, first, position, rest, lattice, x, y, z)
        for i in range(count):
            total[i] = F0
        strength, whole = F1, F0
        for octave in range(lattice.octaves):
            mixed, cells = _seeded(lattice.seed + octave), float(period << octave)
            _split(count, x, cells, ACROSS, inside[0], xs[-1], xs[0], xs[1])
            _split(count, z, cells, DOWN if flat else DEEP, inside[2], zs[-1], zs[0], zs[1])
            if not flat:
                _split(count, y, cells, DOWN, inside[1], ys[-1], ys[0], ys[1])
            if kind > RIDGED and flat:
                for step in range(9):
                    across, down = step % 3 - 1, step // 3 - 1
                    _nearer_on_plane(count, inside, xs[across], zs[down], np.float32(across), np.float32(down), mixed, nearest)
                _add_distances(count, nearest, strength, total)
            elif kind > RIDGED:
                for step in range(27):
                    across, down, deep = step % 3 - 1, step // 3 % 3 - 1, step // 9 - 1
                    apart = np.float32(across), np.float32(down), np.float32(deep)
                    _nearer_in_space(count, inside, xs[across], ys[down], zs[deep], apart, mixed, nearest)
                _add_distances(count, nearest, strength, total)
            elif flat:
                _octave_on_plane(count, inside, corners, mixed, kind, strength, total)
            else:
                _octave_in_space(count, inside, corners, mixed, kind, strength, total)
            whole += strength
            strength *= np.float32(0.5)
            _next_octave(count, x, y, z)
        for i in range(count):
            out[first + i] = total[i] / whole


@kernel
def read_even(table, low, per_step, values):
    """Replace each value by its place among all, 0..1, from a table of that at even steps from `low`."""
    last = np.float32(table.shape[0] - 1)
    for i in range(values.shape[0]):
        at = min(max((values[i] - low) * per_step, F0), last)
        step = min(int(at), table.shape[0] - 2)
        values[i] = table[step] + (table[step + 1] - table[step]) * (at - np.float32(step))


@kernel
def read_grid(position, values, left, top, spacing_x, spacing_z, out):
    """Fill the bilinear value below each position; beyond the border, that of the border."""
    rows, columns = values.shape
    for i in range(position.shape[0]):
        column = min(max((position[i, 0] - left) / spacing_x, 0.0), columns - 1.0)
        row = min(max((position[i, 2] - top) / spacing_z, 0.0), rows - 1.0)
        c, r = min(int(column), columns - 2), min(int(row), rows - 2)
        fc, fr = np.float32(column - c), np.float32(row - r)
        upper = values[r, c] + (values[r, c + 1] - values[r, c]) * fc
        lower = values[r + 1, c] + (values[r + 1, c + 1] - values[r + 1, c]) * fc
        out[i] = upper + (lower - upper) * fr
