"""Fetch: the four texels around each lane's sample, from all arrays, out of memory and into rows.

Texels of all arrays lie side by side, and each row of a slice ends with its first texel once more, so a texel and its neighbour
to the right are one piece of memory. Four words of such a piece at a time are read for eight lanes and turned:

    lane 0  a b c d              a a a a ...
    lane 1  a b c d   becomes    b b b b ...   each stored to the row of its array and corner
    ...                          c c c c ...
    lane 7  a b c d              d d d d ...
"""

from __future__ import annotations

import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

from jagged_quilt.blend._rows import INDEX, B
from jagged_quilt.foundation.compiler import inlined
from jagged_quilt.foundation.loose import Compiled

EIGHT = 8
_WORD, _FOUR, _LANES = ir.IntType(32), ir.VectorType(ir.IntType(32), 4), ir.VectorType(ir.IntType(32), EIGHT)
_JOIN = [0, 1, 2, 3, 4, 5, 6, 7]
# Within each half of eight words: the lower and the upper words of two in turn, then the lower and the upper pairs.
_LOW, _HIGH = [0, 8, 1, 9, 4, 12, 5, 13], [2, 10, 3, 11, 6, 14, 7, 15]
_LOW_PAIRS, _HIGH_PAIRS = [0, 1, 8, 9, 4, 5, 12, 13], [2, 3, 10, 11, 6, 7, 14, 15]


@intrinsic
def _turn_eight(context: Compiled, words: Compiled, first: Compiled, rows: Compiled, to: Compiled) -> Compiled:
    """Read the four words from each of eight places on, and store the first of all, the second of all ... as rows.

    words, rows : flat uint32.
    first : eight places in `words`, uint64.
    to : four places in `rows`, uint64.
    """

    def build(context: Compiled, builder: Compiled, signature: Compiled, arguments: Compiled) -> Compiled:
        from_, to_ = (
            context.make_array(signature.args[which])(context, builder, arguments[which]).data for which in (0, 2)
        )

        def pick(a: Compiled, b: Compiled, order: list[int]) -> Compiled:
            return builder.shuffle_vector(a, b, ir.Constant(ir.VectorType(_WORD, len(order)), order))

        lanes = []
        for place in cgutils.unpack_tuple(builder, arguments[1]):
            at = builder.bitcast(builder.gep(from_, [place]), ir.PointerType(_FOUR))
            lanes.append(builder.load(at, align=4, typ=_FOUR))
        halves = [pick(lanes[n], lanes[n + 4], _JOIN) for n in range(4)]
        low = [pick(halves[n], halves[n + 1], _LOW) for n in (0, 2)]
        high = [pick(halves[n], halves[n + 1], _HIGH) for n in (0, 2)]
        turned = [pick(*low, _LOW_PAIRS), pick(*low, _HIGH_PAIRS), pick(*high, _LOW_PAIRS), pick(*high, _HIGH_PAIRS)]
        for row, place in zip(turned, cgutils.unpack_tuple(builder, arguments[3]), strict=True):
            at = builder.bitcast(builder.gep(to_, [place]), ir.PointerType(_LANES))
            builder.store(row, at, align=4)
        return context.get_dummy_value()

    return types.void(words, first, rows, to), build


@inlined
def _turn(texels, arrays, word, at, t, around, to):
    """Turn the words from `word` on of the pieces of eight lanes."""
    i, step, more = INDEX(t), INDEX(arrays), INDEX(word)
    first = (
        INDEX(np.uint32(at[i])) * step + more,
        INDEX(np.uint32(at[i + INDEX(1)])) * step + more,
        INDEX(np.uint32(at[i + INDEX(2)])) * step + more,
        INDEX(np.uint32(at[i + INDEX(3)])) * step + more,
        INDEX(np.uint32(at[i + INDEX(4)])) * step + more,
        INDEX(np.uint32(at[i + INDEX(5)])) * step + more,
        INDEX(np.uint32(at[i + INDEX(6)])) * step + more,
        INDEX(np.uint32(at[i + INDEX(7)])) * step + more,
    )
    _turn_eight(texels, first, around, to)


@inlined
def _row_of(word, arrays, half):
    """Where the row of a word of a piece begins: of which array it is, and of which corner."""
    array, corner = word % arrays, word // arrays
    return INDEX((4 * array + 2 * half + corner) * B)


@inlined
def _fetch_half(texels, arrays, half, first, at, around):
    """Read the upper or the lower two texels of every lane."""
    words = 2 * arrays
    for chunk in range(0, words, 4):
        word = min(chunk, words - 4)
        to = (
            first + _row_of(word, arrays, half),
            first + _row_of(word + 1, arrays, half),
            first + _row_of(word + 2, arrays, half),
            first + _row_of(word + 3, arrays, half),
        )
        for t in range(0, B, EIGHT):
            i = INDEX(t)
            _turn(texels, arrays, word, at, half * B + t, around, (to[0] + i, to[1] + i, to[2] + i, to[3] + i))


@inlined
def fetch(texels, arrays, sample, samples):
    """Read the four texels around each lane's sample from every array.

    texels : flat; all arrays of a texel, then those of the next.
    around : (samples, arrays, corners, B), flat.
    """
    at, around, first = samples.spot.at, samples.around, INDEX(4 * B * arrays * sample)
    if arrays == 1:
        for half in range(2):
            a, b = first + INDEX(2 * half * B), first + INDEX((2 * half + 1) * B)
            for t in range(B):
                texel = INDEX(np.uint32(at[half * B + t]))
                around[a + INDEX(t)], around[b + INDEX(t)] = texels[texel], texels[texel + INDEX(1)]
    elif arrays == 2:  # told apart so that its numbers are constants
        _fetch_half(texels, 2, 0, first, at, around)
        _fetch_half(texels, 2, 1, first, at, around)
    else:
        _fetch_half(texels, arrays, 0, first, at, around)
        _fetch_half(texels, arrays, 1, first, at, around)
