"""Baking a surface page by page into a store: only what is missing or changed, coarser mips from finer ones."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from dataclasses import dataclass, field
from itertools import islice

import numpy as np

from jagged_quilt.arrays.page_grid import PageAt, PageGrid
from jagged_quilt.arrays.page_store import DamagedPageError, PageRecord, PageStore, digest_of
from jagged_quilt.baking.page_stamps import PageStamps, stamp_of
from jagged_quilt.baking.page_texels import Finest, Pages, page_alone
from jagged_quilt.baking.shards import Records, ShardTask, make_shard
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.work import ANYHOW, Work


@dataclass(frozen=True, slots=True)
class PagesMade:
    """What baking pages had to do.

    Attributes
    ----------
    made, kept : int
        Pages.
    causes : dict of str to int
        Why pages were made: `missing`, `damaged`, `finer` (a page that it is made from changed), or what changed: `settings`,
        `ground`, `weights`, `layer NAME`. A page may have several.
    seconds : float
    nbytes : int
        Of the texels that were made, before they are compressed.
    workers : dict of str to (int, float)
        On several processes: for each, how many shards it made, and in how many seconds.
    """

    made: int
    kept: int
    causes: dict[str, int]
    seconds: float
    nbytes: int
    workers: dict[str, tuple[int, float]] = field(default_factory=dict)

    def __str__(self) -> str:
        why = ", ".join(f"{count} {cause}" for cause, count in sorted(self.causes.items(), key=lambda each: -each[1]))
        return f"{self.made} page{'s' * (self.made != 1)} made, {self.kept} kept" + (f" ({why})" if why else "")


Ran = tuple[ShardTask, Records | DamagedPageError, str, float]
"""A shard that was made, what vouches for its pages, who made it, and in how many seconds."""
Runs = Callable[[PageStore, Finest, Iterable[ShardTask]], Iterator[Ran]]
"""Makes shards, in any order, here or elsewhere."""


def on_threads(work: Work) -> Runs:
    """Return what makes shards here: one for each thread at a time, so that one is written while another is baked."""
    count, quiet = work.count, work.quiet

    def timed(store: PageStore, finest: Finest, task: ShardTask) -> tuple[Records | DamagedPageError, float]:
        began = time.perf_counter()
        try:
            made: Records | DamagedPageError = make_shard(store, finest, task, quiet)
        except DamagedPageError as error:
            made = error
        return made, time.perf_counter() - began

    def run(store: PageStore, finest: Finest, tasks: Iterable[ShardTask]) -> Iterator[Ran]:
        waiting = iter(tasks)
        with ThreadPoolExecutor(count) as pool:
            going = {pool.submit(timed, store, finest, task): task for task in islice(waiting, count)}
            while going:
                done, _ = wait(going, return_when=FIRST_COMPLETED)
                for each in done:
                    task = going.pop(each)
                    made, seconds = each.result()
                    yield task, made, "", seconds
                    for one in islice(waiting, 1):
                        going[pool.submit(timed, store, finest, one)] = one

    return run


def make_pages(
    finest: Finest,
    store: PageStore,
    stamps: PageStamps,
    *,
    force: bool = False,
    runs: Runs | None = None,
    progress: Progress = silent,
) -> PagesMade:
    """Make the pages of a store that are missing, damaged or made from something else; of all mips, from fine to coarse.

    Whenever the process dies, the next run goes on from the shards that were finished.
    """
    runs = runs or on_threads(ANYHOW)
    began, grid, causes = time.perf_counter(), store.grid, Counter[str]()
    made = nbytes = 0
    workers: dict[str, tuple[int, float]] = {}
    each_page = sum(grid.side**2 * role.value.channels * (role.value.bits // 8) for role in store.roles)
    finer = _Known()
    past = 0

    def passed(pages: int) -> None:
        nonlocal past
        past += pages
        progress("baking pages", past, grid.page_count)

    passed(0)
    for mip in range(grid.mips):
        own = _Known()
        tasks: Iterable[ShardTask] = _stale(store, stamps, mip, finer, own, causes, passed, force=force)
        while True:
            again = []
            for task, records, who, seconds in runs(store, finest, tasks):
                if isinstance(records, DamagedPageError):
                    _mend(store, finest, records.pages, causes)
                    again.append(task)
                    continue
                own.digests |= {at: one.digest for at, one in records.items()}
                made += len(task.stale)
                nbytes += len(task.stale) * each_page
                count, sum_ = workers.get(who, (0, 0.0))
                workers[who] = count + 1, sum_ + seconds
                passed(len(records))
            if not again:
                break
            tasks = again
        finer = own
    workers.pop("", None)
    return PagesMade(made, grid.page_count - made, dict(causes), time.perf_counter() - began, nbytes, workers)


@dataclass(slots=True)
class _Known:
    """What is known of the pages of a mip: what they are made from, and their bytes, as hashes."""

    stamps: dict[PageAt, str] = field(default_factory=dict)
    digests: dict[PageAt, str] = field(default_factory=dict)


def _stale(
    store: PageStore,
    stamps: PageStamps,
    mip: int,
    finer: _Known,
    own: _Known,
    causes: Counter[str],
    passed: Callable[[int], None],
    *,
    force: bool,
) -> Iterator[ShardTask]:
    """Yield the shards of a mip that have something to be made, and note what is known of the rest in `own`."""
    grid = store.grid
    for shard in np.ndindex(grid.shards(mip)):
        every, wanted = list(grid.pages_in(mip, shard)), {}
        for at in every:
            below = {str(one): finer.stamps[one] for one in grid.finer(at)} if mip else {}
            wanted[at] = {"finer": stamp_of(below)} if mip else stamps.finest(at, grid)
            own.stamps[at] = stamp_of(wanted[at])
        known, stale = {} if force else store.records(mip, shard), []
        for at in every:
            why = _why(known.get(at), wanted[at])
            causes.update(why)
            if why:
                stale.append(at)
            else:
                own.digests[at] = known[at].digest
        if stale:
            needed = {one: finer.digests[one] for at in every for one in (grid.finer(at) if mip else ())}
            yield ShardTask(mip, shard, tuple(stale), wanted, needed)
        else:
            passed(len(every))


def _why(known: PageRecord | None, wanted: Mapping[str, str]) -> list[str]:
    """Why a page is to be made; nothing if it stands as it is."""
    if known is None:
        return ["missing"]
    kinds = sorted({*known.made_from, *wanted})
    return [kind for kind in kinds if known.made_from.get(kind) != wanted.get(kind)]


def _mend(store: PageStore, finest: Finest, pages: Iterable[PageAt], causes: Counter[str]) -> None:
    """Make damaged pages anew, shard by shard, from what they are made from, which may be damaged too."""
    grid = store.grid
    by_shard: dict[tuple[int, tuple[int, int]], list[PageAt]] = {}
    for at in pages:
        causes["damaged"] += 1
        by_shard.setdefault((at.mip, (at.row // grid.shard, at.column // grid.shard)), []).append(at)
    for (mip, shard), damaged in by_shard.items():
        records, every = store.records(mip, shard), list(grid.pages_in(mip, shard))
        recorded = {each: records[each].made_from if each in records else {} for each in every}
        needed = {one for page in every for one in (grid.finer(page) if mip else ())}
        below = {(one.row // grid.shard, one.column // grid.shard) for one in needed}
        finer = {one: record.digest for each in below for one, record in store.records(mip - 1, each).items()}
        task = ShardTask(mip, shard, tuple(damaged), recorded, finer)
        try:
            make_shard(store, finest, task)
        except DamagedPageError as error:
            _mend(store, finest, error.pages, causes)
            make_shard(store, finest, task)


def make_one(finest: Finest, store: PageStore, stamps: PageStamps, at: PageAt) -> Pages:
    """Make one page alone, put it into the store, and return it."""
    grid, page = store.grid, page_alone(finest, store.grid, at)
    shard = at.row // grid.shard, at.column // grid.shard
    records = store.records(at.mip, shard)
    records.pop(at, None)
    store.vouch(at.mip, shard, records)
    if store.write(at.mip, (at.row, at.column), {role: texels[None, None] for role, texels in page.items()}):
        records = {}
    records[at] = PageRecord(stamps_of(stamps, grid, at), digest_of(page))
    store.vouch(at.mip, shard, records)
    return page


def stamps_of(stamps: PageStamps, grid: PageGrid, at: PageAt) -> dict[str, str]:
    """Return what a page of any mip is made from."""
    if at.mip == 0:
        return stamps.finest(at, grid)
    return {"finer": stamp_of({str(one): stamp_of(stamps_of(stamps, grid, one)) for one in grid.finer(at)})}
