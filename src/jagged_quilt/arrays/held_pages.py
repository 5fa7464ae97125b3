"""Pages of a store that are held in memory: those that are wanted, and no others."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.page_grid import PageAt, PageGrid
from jagged_quilt.arrays.page_store import DamagedPageError, PageStore
from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.work import ANYHOW
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.texture_map import TextureMap

if TYPE_CHECKING:
    from jagged_quilt.arrays import _page_kernels
else:
    _page_kernels = kernels_of("jagged_quilt.arrays._page_kernels")


class Seen(NamedTuple):
    """What points see of pages: their place, and the mip as fine as their footprint, between whole ones."""

    uv: NDArray[np.float32]
    level: NDArray[np.float32]


def seen_of(points: Points, grid: PageGrid, metres: tuple[float, float]) -> Seen:
    """Return where points lie on a surface of so many metres, east and south, and which mip their footprint asks for."""
    assert points.uv is not None
    texel = np.array([metres[0] / grid.texels[1], metres[1] / grid.texels[0]], np.float32)
    steps = points.true_steps()[:, :, [0, 2]] / texel
    longest = np.sqrt((steps**2).sum(axis=2)).max(axis=1)
    level = np.log2(np.maximum(longest, 1e-6))
    return Seen(points.uv, np.asarray(np.clip(level, 0, grid.mips - 1), np.float32))


def pages_of(seen: Seen, grid: PageGrid) -> set[PageAt]:
    """Return the pages that are read to see points: of the two mips around each one's own."""
    out: set[PageAt] = set()
    low = seen.level.astype(np.int64)
    for more in (0, 1):
        mips = np.minimum(low + more, grid.mips - 1)
        if more and not (seen.level > low).any():
            break
        for mip in np.unique(mips):
            uv, (rows, columns) = seen.uv[mips == mip], grid.size(int(mip))
            x = np.clip((uv[:, 0] * grid.texels[1] / (1 << int(mip))).astype(np.int64), 0, columns - 1) // grid.page
            y = np.clip((uv[:, 1] * grid.texels[0] / (1 << int(mip))).astype(np.int64), 0, rows - 1) // grid.page
            across = grid.pages(int(mip))[1]
            for number in np.unique(y * across + x):
                out.add(PageAt(int(mip), int(number) // across, int(number) % across))
    return out


class HeldPages:
    """Pages of a surface in memory.

    Attributes
    ----------
    store : PageStore
    metres : (float, float)
        What the surface spans, east and south.
    missing : set of PageAt
        Those that were wanted and are not there, or damaged: coarser ones stand in.
    """

    def __init__(self, store: PageStore, columns: dict[MapRole, Iterable[int]]) -> None:
        east, south = store.facts().get("metres", (1.0, 1.0))
        self.store, self.metres = store, (float(east), float(south))
        self.missing: set[PageAt] = set()
        self._roles = [role for role in store.roles if role in columns and role.value.bits == 8]
        self._columns = frozen([n for role in self._roles for n in columns[role]], np.int64)
        tables = [
            TextureMap(role=role, texels=np.zeros((1, 1, role.value.channels), np.uint8)).meanings
            for role in self._roles
            for _ in range(role.value.channels)
        ]
        self._meanings = frozen(np.stack(tables), np.float32)
        pages = [store.grid.pages(mip) for mip in range(store.grid.mips)]
        self._across = frozen([columns for _, columns in pages], np.int64)
        self._starts = frozen(np.cumsum([0, *(rows * columns for rows, columns in pages)])[:-1], np.int64)
        self._texels: dict[PageAt, NDArray[np.uint8]] = {}
        self._rows: _page_kernels.HeldRows | None = None

    @property
    def held(self) -> Collection[PageAt]:
        """The pages in memory."""
        return self._texels.keys()

    @property
    def nbytes(self) -> int:
        """Bytes of the pages in memory."""
        return sum(each.nbytes for each in self._texels.values())

    @property
    def grid(self) -> PageGrid:
        """How the surface is cut."""
        return self.store.grid

    def hold(self, wanted: Iterable[PageAt]) -> int:
        """Hold just these pages, and the coarsest of all; return how many were read for that."""
        grid = self.grid
        every = {PageAt(grid.mips - 1, 0, 0), *wanted}
        self._texels = {at: texels for at, texels in self._texels.items() if at in every}
        self.missing = set()
        finer = sorted(every - self._texels.keys())
        shards = {(at.mip, at.row // grid.shard, at.column // grid.shard) for at in finer}
        known = {at: one for mip, row, column in shards for at, one in self.store.records(mip, (row, column)).items()}

        def read(at: PageAt) -> None:
            try:
                page = self.store.read(at, known[at])
            except (KeyError, DamagedPageError):
                self.missing.add(at)
                return
            self._texels[at] = np.concatenate([page[role] for role in self._roles], axis=2)

        ANYHOW.through(finer, read)
        slots = np.full(sum(math.prod(grid.pages(mip)) for mip in range(grid.mips)), -1, np.int32)
        for slot, at in enumerate(self._texels):
            slots[self._starts[at.mip] + at.row * self._across[at.mip] + at.column] = slot
        empty = np.zeros((0, grid.side, grid.side, len(self._columns)), np.uint8)
        self._rows = _page_kernels.HeldRows(
            frozen(np.stack(list(self._texels.values())) if self._texels else empty, np.uint8),
            self._meanings,
            self._columns,
            frozen(slots, np.int32),
            self._starts,
            self._across,
            grid.page,
            grid.border,
        )
        return len(finer) - len(self.missing)

    def read(self, points: Points, out: NDArray[np.float32]) -> tuple[Seen, NDArray[np.int32]]:
        """Fill columns of (N, W) with what the pages that are held tell at points; return what they see, and the mip read."""
        assert self._rows is not None  # `hold` comes first
        if out.shape[1] <= int(self._columns.max()):
            raise ShapeError(f"pages fill {int(self._columns.max()) + 1} columns; got room for {out.shape[1]}")
        seen, used = seen_of(points, self.grid, self.metres), np.zeros(len(points), np.int32)
        _page_kernels.read_pages(frozen(seen.uv, np.float32), seen.level, *self.grid.texels, self._rows, out, used)
        return seen, used
