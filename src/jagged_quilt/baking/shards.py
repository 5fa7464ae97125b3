"""A shard of pages made and written at once: what is stale in it, from finished texels or from the pages of the mip below."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from jagged_quilt.arrays.page_grid import PageAt, within
from jagged_quilt.arrays.page_store import DamagedPageError, PageRecord, PageStore, digest_of
from jagged_quilt.baking.coarser import coarser, spread
from jagged_quilt.baking.page_texels import Finest, Pages
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.work import ALONE, Work

Records = dict[PageAt, PageRecord]


@dataclass(frozen=True, eq=False)
class ShardTask:
    """Some pages of a shard to be made, and what they are made from.

    Attributes
    ----------
    stale : tuple of PageAt
    made_from : dict
        For every page of the shard.
    finer : dict
        Hashes of the pages of the mip below that they are made from.
    """

    mip: int
    shard: tuple[int, int]
    stale: tuple[PageAt, ...]
    made_from: dict[PageAt, dict[str, str]]
    finer: dict[PageAt, str]


def make_shard(store: PageStore, finest: Finest, task: ShardTask, work: Work = ALONE) -> Records:
    """Make the stale pages of a shard and write it; return what vouches for all its pages. One at a time writes a shard.

    Raises `DamagedPageError` if pages of the mip below are not as they were.
    """
    every = list(store.grid.pages_in(task.mip, task.shard))
    records = {at: one for at, one in store.records(task.mip, task.shard).items() if at not in task.stale}
    stale, kept = set(task.stale), {}
    for at in every:
        if at not in stale:
            try:
                kept[at] = store.read(at, records[at])
            except (DamagedPageError, KeyError):
                stale.add(at)
    made: dict[PageAt, Pages] = {}

    def make_row(row: int) -> None:
        columns = [at.column for at in stale if at.row == row]
        for at, page in _row_of_pages(store, finest, task, row, min(columns), max(columns)):
            if at in stale:
                made[at] = page

    work.through(sorted({at.row for at in stale}), make_row)
    records = {at: records[at] for at in kept}
    store.vouch(task.mip, task.shard, records)
    store.write(task.mip, (every[0].row, every[0].column), _in_one_piece(every, {**kept, **made}))
    records |= {at: PageRecord(task.made_from[at], digest_of(page)) for at, page in made.items()}
    store.vouch(task.mip, task.shard, records)
    return {at: records[at] for at in every}


def _row_of_pages(
    store: PageStore, finest: Finest, task: ShardTask, row: int, first: int, last: int
) -> Iterator[tuple[PageAt, Pages]]:
    """Make pages side by side at once: what lies between them is made once."""
    grid, mip = store.grid, task.mip
    start, end = grid.reach(PageAt(mip, row, first)), grid.reach(PageAt(mip, row, last))
    reach = Region(start.top, start.bottom, start.left, end.right)
    there = within(reach, grid.size(mip))
    if mip == 0:
        maps = finest.region(there)
    else:
        maps = coarser(there, grid.size(mip - 1), lambda fine: store.region(mip - 1, fine, task.finer))
    whole = {role: spread(texels, there, reach) for role, texels in maps.items()}
    for column in range(first, last + 1):
        left = (column - first) * grid.page
        yield PageAt(mip, row, column), {role: texels[:, left : left + grid.side] for role, texels in whole.items()}


def _in_one_piece(every: Sequence[PageAt], pages: Mapping[PageAt, Pages]) -> Pages:
    """Put the pages of a shard together, (rows, columns, side, side, channels) of each role."""
    first, last = every[0], every[-1]
    some = pages[first]
    out = {}
    for role, texels in some.items():
        whole = np.empty((last.row - first.row + 1, last.column - first.column + 1, *texels.shape), texels.dtype)
        for at in every:
            whole[at.row - first.row, at.column - first.column] = pages[at][role]
        out[role] = whole
    return out
