"""What all loops in lanes share: where a lane of a row stands, vectors of three rows, base-2 logarithms and powers by bits and
polynomials, and the largest value of a row."""

from __future__ import annotations

import numpy as np

from jagged_quilt.blend._rows import F0, F1, F2, INDEX, B, Plane, Slot
from jagged_quilt.foundation.compiler import inlined, lanes

# log2(m) for 1 <= m < 2 is (m - 1) + (m - 1) (2 - m) times this polynomial, within 2.3e-6.
L0, L1, L2 = np.float32(1.02189008), np.float32(-1.03072803), np.float32(0.62486182)
L3, L4 = np.float32(-0.19932005), np.float32(0.0258411)
# 2^m for 0 <= m < 1 is 1 + m + m (m - 1) times this polynomial, within 1.3e-07.
E0, E1 = np.float32(0.30684702), np.float32(0.066699897)
E2, E3 = np.float32(0.0108446003), np.float32(0.00189684984)


@inlined
def lane(row, t):
    """Where lane t of a row stands in its buffer."""
    return INDEX(row) * INDEX(B) + INDEX(t)


@inlined
def clear(first, end, rows):
    """Fill the rows from one to before another with 0."""
    for i in range(first * B, end * B):
        rows[INDEX(i)] = F0


@inlined
def slot_row(k, row):
    """A row of slot k."""
    return Slot.END * k + row


@inlined
def plane_row(start, plane, row):
    """A row of one of the planes of the mapping whose rows begin with `start`."""
    return start + Plane.END * plane + row


@inlined
def weight_row(sample_set, plane):
    """The row of `plane_weights` and of `taps` of a plane in a sample set."""
    return 3 * sample_set + plane


@inlined
def vec3(rows, row, t):
    """The vector in three rows from one on, of a lane."""
    return rows[lane(row, t)], rows[lane(row + 1, t)], rows[lane(row + 2, t)]


@inlined
def put3(rows, row, t, v):
    """Store a vector in three rows from one on, of a lane."""
    rows[lane(row, t)], rows[lane(row + 1, t)], rows[lane(row + 2, t)] = v[0], v[1], v[2]


@inlined
def dot(a, b):
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@inlined
def cross(a, b):
    return a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]


@inlined
def scaled(a, by):
    return by * a[0], by * a[1], by * a[2]


@inlined
def row_of(matrix, which):
    """A row of a 3 x 3 matrix of a record, as a vector."""
    return matrix[which, 0], matrix[which, 1], matrix[which, 2]


@inlined
def as_bits(x):
    """The bits of a number: those from 0 up are in order as whole numbers, whose largest is found in lanes."""
    return np.float32(x).view(np.int32)


@inlined
def as_number(bits):
    """The number that has such bits."""
    return np.int32(bits).view(np.float32)


@inlined
def log2(x):
    """Base-2 logarithm of a positive number, from its exponent and a polynomial of its mantissa."""
    bits = np.float32(x).view(np.int32)
    exponent = np.float32(np.int32(np.int32(bits >> np.int32(23)) - np.int32(127)))
    m = np.int32((bits & np.int32(0x7FFFFF)) | np.int32(0x3F800000)).view(np.float32)
    curve = (((L4 * m + L3) * m + L2) * m + L1) * m + L0
    return exponent + (m - F1) + (m - F1) * (F2 - m) * curve


@inlined
def power_of_two(whole):
    """2 to the power of a whole number from -126 to 127."""
    return np.int32(np.int32(np.int32(whole) + np.int32(127)) << np.int32(23)).view(np.float32)


@inlined
def exp2(x):
    """2 to the power of a number from -126 to 127."""
    whole = np.floor(x)
    m = x - whole
    curve = ((E3 * m + E2) * m + E1) * m + E0
    return power_of_two(whole) * (F1 + m + m * (m - F1) * curve)


@lanes
def largest(row, rows):
    """Return the largest value of a row, of which none is below 0."""
    most = np.int32(0)
    for t in range(B):
        most = max(most, as_bits(rows[lane(row, t)]))
    return as_number(most)
