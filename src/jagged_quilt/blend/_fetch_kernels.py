"""Fetch: the four texels around each lane's sample, from all arrays, out of memory and into rows.

Texels of all arrays lie side by side, and each row of a slice ends with its first texel once more, so a texel and its neighbour
to the right are one piece of memory.
"""

from __future__ import annotations

import numpy as np

from jagged_quilt.blend._lane_kernels import lane
from jagged_quilt.blend._rows import INDEX, B
from jagged_quilt.foundation._turn_kernels import EIGHT, expect, turn_four
from jagged_quilt.foundation.compiler import inlined

EXPECTED = 4  # every so many lanes' texels are asked for beforehand


@inlined
def spot_row(sample, half):
    """The row of `at` and of `between` of a pass: of the upper or the lower texels, or of the position along u or v."""
    return 2 * sample + half


@inlined
def texel_row(sample, arrays, array, corner):
    """The row of `around` of one of the four texels that a pass reads from an array."""
    return 4 * (arrays * sample + array) + corner


@inlined
def _expect_part(part, sample, texels, arrays, at):
    """Have the processor begin to bring a third of what a pass will read; a few lanes share what it brings at once."""
    for t in range(part * B // 3 // EXPECTED * EXPECTED, (part + 1) * B // 3 // EXPECTED * EXPECTED, EXPECTED):
        expect(texels, INDEX(np.uint32(at[lane(spot_row(sample, 0), t)])) * INDEX(arrays))


@inlined
def _row_of(word, sample, arrays, half):
    """Where the row of a word of a piece begins: of which array it is, and of which corner."""
    return lane(texel_row(sample, arrays, word % arrays, 2 * half + word // arrays), 0)


@inlined
def _fetch_half(texels, arrays, half, sample, at, around):
    """Read the upper or the lower two texels of every lane."""
    words = 2 * arrays
    for chunk in range(0, words, 4):
        word = min(chunk, words - 4)
        to = (
            _row_of(word, sample, arrays, half),
            _row_of(word + 1, sample, arrays, half),
            _row_of(word + 2, sample, arrays, half),
            _row_of(word + 3, sample, arrays, half),
        )
        for t in range(0, B, EIGHT):
            i = INDEX(t)
            rows = to[0] + i, to[1] + i, to[2] + i, to[3] + i
            turn_four(at, lane(spot_row(sample, half), t), arrays, word, texels, around, rows)


@inlined
def _fetch_singles(texels, half, sample, at, around):
    """The same where there is one array."""
    a, b = texel_row(sample, 1, 0, 2 * half), texel_row(sample, 1, 0, 2 * half + 1)
    for t in range(B):
        texel = INDEX(np.uint32(at[lane(spot_row(sample, half), t)]))
        around[lane(a, t)], around[lane(b, t)] = texels[texel], texels[texel + INDEX(1)]


@inlined
def fetch(sample, passes, texels, arrays, samples):
    """Read the four texels around each lane's sample from every array, and begin to bring those of the next pass.

    No more is asked for at once than the processor can wait for besides its work.

    texels : flat; all arrays of a texel, then those of the next.
    around : (samples, arrays, corners, B), flat.
    """
    at, around = samples.spot.at, samples.around
    for half in range(2):
        if sample + 1 < passes:
            _expect_part(half, sample + 1, texels, arrays, at)
        if arrays == 1:
            _fetch_singles(texels, half, sample, at, around)
        elif arrays == 2:  # a case of its own, so that its numbers are constants
            _fetch_half(texels, 2, half, sample, at, around)
        else:
            _fetch_half(texels, arrays, half, sample, at, around)
    if sample + 1 < passes:
        _expect_part(2, sample + 1, texels, arrays, at)
