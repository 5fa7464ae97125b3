"""Reading pages of finished maps at any place of the surface, as a loop."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel

F0, F1, HALF = np.float32(0.0), np.float32(1.0), np.float32(0.5)
INDEX = np.uint64  # needs no test for "from the end"


class HeldRows(NamedTuple):
    """Pages that are held, as the kernel reads them."""

    texels: NDArray[np.uint8]  # (slots, side, side, C)
    meanings: NDArray[np.float32]  # (C, 256) what each number means
    columns: NDArray[np.int64]  # (C,) where it goes
    slots: NDArray[np.int32]  # (pages,) mip after mip, row after row: where a page is held, or -1
    starts: NDArray[np.int64]  # (mips,) where those of a mip begin
    across: NDArray[np.int64]  # (mips,) how many pages lie side by side
    page: int
    border: int


@inlined
def _place(u, v, mip, rows, columns, held):
    """Where a place of the surface lies on a mip, in texels, and the page that holds it."""
    scale = F1 / np.float32(1 << mip)
    x, y = u * np.float32(columns) * scale, v * np.float32(rows) * scale
    wide, high = (columns + (1 << mip) - 1) >> mip, (rows + (1 << mip) - 1) >> mip
    column = min(max(np.int64(x), 0), wide - 1) // held.page
    row = min(max(np.int64(y), 0), high - 1) // held.page
    return x, y, row, column


@kernel
def read_pages(uv, level, rows, columns, held, out, used):
    """Fill what pages tell at places, between texels and mips; where a page is not held, the next coarser one stands in.

    uv : (N, 2); level : (N,) mips; rows, columns of the surface at full size.
    out : (N, W), of which the columns named by `held` are filled. used : (N,) the mip that was read in the end.
    """
    mips = held.starts.shape[0]
    for p in range(uv.shape[0]):
        for c in range(held.columns.shape[0]):
            out[p, held.columns[c]] = F0
        at = min(max(level[p], F0), np.float32(mips - 1))
        first = np.int64(at)
        beyond = at - np.float32(first)
        for which in range(2):
            share = beyond if which == 1 else F1 - beyond
            if not share > F0:
                continue
            mip = min(first + which, mips - 1)
            x, y, row, column = _place(uv[p, 0], uv[p, 1], mip, rows, columns, held)
            slot = held.slots[held.starts[mip] + row * held.across[mip] + column]
            while slot < 0 and mip < mips - 1:
                mip += 1
                x, y, row, column = _place(uv[p, 0], uv[p, 1], mip, rows, columns, held)
                slot = held.slots[held.starts[mip] + row * held.across[mip] + column]
            if which == 0:
                used[p] = mip
            if slot < 0:
                continue
            side = held.texels.shape[1]
            x = min(max(x - np.float32(column * held.page) + np.float32(held.border) - HALF, F0), np.float32(side - 1))
            y = min(max(y - np.float32(row * held.page) + np.float32(held.border) - HALF, F0), np.float32(side - 1))
            left, top = min(np.int64(math.floor(x)), side - 2), min(np.int64(math.floor(y)), side - 2)
            fx, fy = x - np.float32(left), y - np.float32(top)
            a, b = share * (F1 - fx) * (F1 - fy), share * fx * (F1 - fy)
            c_, d = share * (F1 - fx) * fy, share * fx * fy
            for c in range(held.columns.shape[0]):
                table = held.meanings[c]
                out[p, held.columns[c]] += (
                    a * table[held.texels[slot, top, left, c]]
                    + b * table[held.texels[slot, top, left + 1, c]]
                    + c_ * table[held.texels[slot, top + 1, left, c]]
                    + d * table[held.texels[slot, top + 1, left + 1, c]]
                )
