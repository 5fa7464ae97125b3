"""Turning: what lies side by side in memory, point by point, goes into rows, one column per lane, eight lanes at a time.

Four words are read for each of eight lanes, and turned in vector registers:

    lane 0  a b c d              a a a a ...
    lane 1  a b c d   becomes    b b b b ...   each stored to a row of its own
    ...                          c c c c ...
    lane 7  a b c d              d d d d ...

The compiler makes no such code of loops by itself, and gather instructions took twice as long as plain loads where they were
measured.
"""

from __future__ import annotations

import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic, overload
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined
from jagged_quilt.foundation.json_types import Compiled

EIGHT = 8
INDEX = np.uint64  # needs no test for "from the end"
_WORD, _FOUR, _LANES = ir.IntType(32), ir.VectorType(ir.IntType(32), 4), ir.VectorType(ir.IntType(32), EIGHT)
_JOIN = [0, 1, 2, 3, 4, 5, 6, 7]
# PathGuard each half of eight words: the lower and the upper words of two in turn, then the lower and the upper pairs.
_LOW, _HIGH = [0, 8, 1, 9, 4, 12, 5, 13], [2, 10, 3, 11, 6, 14, 7, 15]
_LOW_PAIRS, _HIGH_PAIRS = [0, 1, 8, 9, 4, 5, 12, 13], [2, 3, 10, 11, 6, 7, 14, 15]


@intrinsic
def _turn_eight(context: Compiled, words: Compiled, first: Compiled, rows: Compiled, to: Compiled) -> Compiled:
    def build(context: Compiled, builder: Compiled, signature: Compiled, arguments: Compiled) -> Compiled:
        def pointer_to(which: int, offset: Compiled, kind: Compiled) -> Compiled:
            data = context.make_array(signature.args[which])(context, builder, arguments[which]).data
            return builder.bitcast(builder.gep(data, [offset]), ir.PointerType(kind))

        def pick(a: Compiled, b: Compiled, order: list[int]) -> Compiled:
            return builder.shuffle_vector(a, b, ir.Constant(ir.VectorType(_WORD, len(order)), order))

        lanes = [
            builder.load(pointer_to(0, offset, _FOUR), align=4, typ=_FOUR)
            for offset in cgutils.unpack_tuple(builder, arguments[1])
        ]
        halves = [pick(lanes[n], lanes[n + 4], _JOIN) for n in range(4)]
        low = [pick(halves[n], halves[n + 1], _LOW) for n in (0, 2)]
        high = [pick(halves[n], halves[n + 1], _HIGH) for n in (0, 2)]
        turned = [pick(*low, _LOW_PAIRS), pick(*low, _HIGH_PAIRS), pick(*high, _LOW_PAIRS), pick(*high, _HIGH_PAIRS)]
        for row, offset in zip(turned, cgutils.unpack_tuple(builder, arguments[3]), strict=True):
            builder.store(row, pointer_to(2, offset, _LANES), align=4)
        return context.get_dummy_value()

    return types.void(words, first, rows, to), build


def turn_eight(
    words: NDArray[np.generic], first: tuple[np.uint64, ...], rows: NDArray[np.generic], to: tuple[np.uint64, ...]
) -> None:
    """Read the four words from each of eight places on, and store the first of all, the second of all ... as rows.

    words, rows : arrays of 32-bit values.
    first : eight places in `words`.
    to : four places in `rows`.
    """
    flat = words.reshape(-1)
    for n in range(4):
        for lane in range(EIGHT):
            rows[int(to[n]) + lane] = flat[int(first[lane]) + n]


overload(turn_eight)(lambda words, first, rows, to: lambda words, first, rows, to: _turn_eight(words, first, rows, to))  # type: ignore[call-arg]


@intrinsic
def _expect(context: Compiled, words: Compiled, offset: Compiled) -> Compiled:
    def build(context: Compiled, builder: Compiled, signature: Compiled, arguments: Compiled) -> Compiled:
        data = context.make_array(signature.args[0])(context, builder, arguments[0]).data
        at, whole = builder.bitcast(builder.gep(data, [arguments[1]]), cgutils.voidptr_t), ir.IntType(32)
        kind = ir.FunctionType(ir.VoidType(), [cgutils.voidptr_t, whole, whole, whole])
        prefetch = cgutils.get_or_insert_function(builder.module, kind, "llvm.prefetch.p0")
        builder.call(prefetch, [at, whole(0), whole(3), whole(1)])
        return context.get_dummy_value()

    return types.void(words, offset), build


def expect(words: NDArray[np.generic], offset: np.uint64) -> None:
    """Have the processor begin to bring what lies at a place in words."""


overload(expect)(lambda words, offset: lambda words, offset: _expect(words, offset))  # type: ignore[call-arg]


@inlined
def turn_four(at, t, width, word, words, rows, to):
    """Turn the four words from `word` on for eight lanes from t on; `at` says which piece of `width` words each lane reads."""
    i, step, more = INDEX(t), INDEX(width), INDEX(word)
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
    turn_eight(words, first, rows, to)


@inlined
def turn_into(at, lanes, width, word, words, row, rows):
    """Turn the four words from `word` on for all of so many lanes, into four rows from `row` on."""
    for t in range(0, lanes, EIGHT):
        a, b = INDEX(row * lanes + t), INDEX(lanes)
        turn_four(at, t, width, word, words, rows, (a, a + b, a + b + b, a + b + b + b))
