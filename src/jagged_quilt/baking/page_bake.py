"""Baking a surface page by page into a store: only what is missing or changed, coarser mips from finer ones."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from dataclasses import dataclass, field
from functools import partial
from itertools import islice
from typing import Protocol

import numpy as np

from jagged_quilt.arrays.page_grid import PageAt, PageGrid, within
from jagged_quilt.arrays.page_store import DamagedPageError, PageRecord, PageStore, digest_of
from jagged_quilt.baking.bake import Baker
from jagged_quilt.baking.baked_maps import BakedMaps
from jagged_quilt.baking.coarser import Maps, coarser, spread
from jagged_quilt.baking.page_stamps import PageStamps, stamp_of
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.loose import Stored
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.threads import thread_count, work_through
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.surfaces.grid_canvas import GridCanvas

_AT_ONCE = 1024  # texels along the side of what is made of a finer mip at once, where a page is made alone

Pages = dict[MapRole, Stored]
Records = dict[PageAt, PageRecord]


class Finest(Protocol):
    """Gives the finished texels of a surface at full size."""

    def region(self, region: Region) -> Maps:
        """Return a region that lies within the surface, (H, W, C) of each role."""
        ...


@dataclass(frozen=True, eq=False)
class GroundTexels:
    """The texels of a ground, baked when they are asked for."""

    baker: Baker

    def region(self, region: Region) -> Maps:
        """Bake a region, on one thread."""
        canvas = self.baker.canvas
        assert isinstance(canvas, GridCanvas)
        window = canvas.page(rows=(region.top, region.bottom), columns=(region.left, region.right))
        return _by_channel(self.baker.over(window, block=region.rows * region.columns, threads=1))


@dataclass(eq=False)
class WholeTexels:
    """The texels of a surface that is baked as a whole, at the first time that one is asked for."""

    bake: Callable[[], BakedMaps]
    _maps: Maps | None = field(default=None, init=False)

    def region(self, region: Region) -> Maps:
        """Return a region."""
        if self._maps is None:
            self._maps = _by_channel(self.bake())
        return {role: each[region.top : region.bottom, region.left : region.right] for role, each in self._maps.items()}


def _by_channel(maps: BakedMaps) -> Pages:
    rows, columns = maps.texels
    return {role: texels.reshape(rows, columns, -1) for role, texels in maps.items()}


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


def page_alone(finest: Finest, grid: PageGrid, at: PageAt) -> Pages:
    """Return one page, (side, side, channels) of each role, without a store: only what it needs is baked.

    A coarse page is made of finer texels piece by piece, so that what is held does not grow with them.
    """
    reach = grid.reach(grid.checked(at))
    there = within(reach, grid.size(at.mip))
    return {role: spread(texels, there, reach) for role, texels in _texels(finest, grid, at.mip, there).items()}


def _texels(finest: Finest, grid: PageGrid, mip: int, region: Region) -> Maps:
    if mip == 0:
        return finest.region(region)
    out: Pages = {}
    for top in range(region.top, region.bottom, _AT_ONCE // 2):
        for left in range(region.left, region.right, _AT_ONCE // 2):
            bottom, right = min(top + _AT_ONCE // 2, region.bottom), min(left + _AT_ONCE // 2, region.right)
            made = coarser(Region(top, bottom, left, right), grid.size(mip - 1), partial(_texels, finest, grid, mip - 1))
            for role, texels in made.items():
                whole = out.setdefault(role, np.empty((region.rows, region.columns, texels.shape[2]), texels.dtype))
                whole[top - region.top : bottom - region.top, left - region.left : right - region.left] = texels
    return out


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


def make_shard(store: PageStore, finest: Finest, task: ShardTask, threads: int | None = 1) -> Records:
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

    work_through(sorted({at.row for at in stale}), make_row, threads=threads)
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


Ran = tuple[ShardTask, Records | DamagedPageError, str, float]
"""A shard that was made, what vouches for its pages, who made it, and in how many seconds."""
Runs = Callable[[PageStore, Finest, Iterable[ShardTask]], Iterator[Ran]]
"""Makes shards, in any order, here or elsewhere."""


def on_threads(threads: int | None) -> Runs:
    """Return what makes shards here: one for each thread at a time, so that one is written while another is baked."""
    count = thread_count(threads)

    def timed(store: PageStore, finest: Finest, task: ShardTask) -> tuple[Records | DamagedPageError, float]:
        began = time.perf_counter()
        try:
            made: Records | DamagedPageError = make_shard(store, finest, task, count)
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
    anew: bool = False,
    runs: Runs | None = None,
    progress: Progress = silent,
) -> PagesMade:
    """Make the pages of a store that are missing, damaged or made from something else; of all mips, from fine to coarse.

    Whenever the process dies, the next run goes on from the shards that were finished.
    """
    runs = runs or on_threads(None)
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
        tasks: Iterable[ShardTask] = _stale(store, stamps, mip, finer, own, causes, passed, anew=anew)
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
    anew: bool,
) -> Iterator[ShardTask]:
    """Yield the shards of a mip that have something to be made, and note what is known of the rest in `own`."""
    grid = store.grid
    for shard in np.ndindex(grid.shards(mip)):
        every, wanted = list(grid.pages_in(mip, shard)), {}
        for at in every:
            below = {str(one): finer.stamps[one] for one in grid.finer(at)} if mip else {}
            wanted[at] = {"finer": stamp_of(below)} if mip else stamps.finest(at, grid)
            own.stamps[at] = stamp_of(wanted[at])
        known, stale = {} if anew else store.records(mip, shard), []
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
    """Make damaged pages anew, each by itself from what it is made from, which may be damaged too."""
    grid = store.grid
    for at in pages:
        causes["damaged"] += 1
        shard = at.row // grid.shard, at.column // grid.shard
        records = store.records(at.mip, shard)
        told = {each: records[each].made_from if each in records else {} for each in grid.pages_in(at.mip, shard)}
        finer = {}
        for page in told if at.mip else ():
            for one in grid.finer(page):
                below = store.records(one.mip, (one.row // grid.shard, one.column // grid.shard)).get(one)
                finer[one] = below.digest if below else ""
        task = ShardTask(at.mip, shard, (at,), told, finer)
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
