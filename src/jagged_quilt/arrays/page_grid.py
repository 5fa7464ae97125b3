"""How a huge surface is cut: mips, pages with borders, and shards of pages."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.checks import power_of_two, whole_number_in
from jagged_quilt.foundation.errors import RangeError

PAGE, BORDER = 256, 4
_SHARD = 8  # pages along the side of a shard: files then hold some megabytes


class PageAt(NamedTuple):
    """A page: its mip, and where it lies there."""

    mip: int
    row: int
    column: int

    def __str__(self) -> str:
        return f"{self.mip}:{self.row}:{self.column}"


@dataclass(frozen=True, slots=True)
class PageGrid:
    """Pages over a surface.

    Attributes
    ----------
    texels : (int, int)
        Rows and columns of the whole surface; each mip has half as many, rounded up.
    page : int
        Texels along a page's side, without its border; a power of two.
    border : int
        Texels of its neighbours that a page has around itself, so that it can be filtered alone; beyond the surface, the last
        texels again.
    shard : int
        Pages along the side of a shard: what is written at once.
    """

    texels: tuple[int, int]
    page: int = PAGE
    border: int = BORDER
    shard: int = _SHARD

    def __post_init__(self) -> None:
        power_of_two("page", self.page, 4096)
        whole_number_in("border", self.border, 0, self.page // 2)
        power_of_two("shard", self.shard, 64)

    @property
    def side(self) -> int:
        """Texels along a page's side with its border."""
        return self.page + 2 * self.border

    @property
    def mips(self) -> int:
        """How many mips there are, down to one page."""
        return 1 + max(0, (-(-max(self.texels) // self.page) - 1).bit_length())

    def size(self, mip: int) -> tuple[int, int]:
        """Return rows and columns of a mip."""
        rows, columns = (-(-each // (1 << mip)) for each in self.texels)
        return rows, columns

    def pages(self, mip: int) -> tuple[int, int]:
        """Return how many pages a mip has down and across."""
        rows, columns = (-(-each // self.page) for each in self.size(mip))
        return rows, columns

    def shards(self, mip: int) -> tuple[int, int]:
        """Return how many shards a mip has down and across."""
        rows, columns = (-(-each // self.shard) for each in self.pages(mip))
        return rows, columns

    @property
    def page_count(self) -> int:
        """How many pages there are, over all mips."""
        return sum(rows * columns for rows, columns in map(self.pages, range(self.mips)))

    def pages_in(self, mip: int, shard: tuple[int, int]) -> Iterator[PageAt]:
        """Yield the pages of a shard, row by row."""
        rows, columns = self.pages(mip)
        for row in range(shard[0] * self.shard, min((shard[0] + 1) * self.shard, rows)):
            for column in range(shard[1] * self.shard, min((shard[1] + 1) * self.shard, columns)):
                yield PageAt(mip, row, column)

    def core(self, at: PageAt) -> Region:
        """Return the texels of a page without its border, as far as the surface goes."""
        rows, columns = self.size(at.mip)
        top, left = at.row * self.page, at.column * self.page
        return Region(top, min(top + self.page, rows), left, min(left + self.page, columns))

    def reach(self, at: PageAt) -> Region:
        """Return the texels of a page with its border; some may lie beyond the surface."""
        top, left = at.row * self.page - self.border, at.column * self.page - self.border
        return Region(top, top + self.side, left, left + self.side)

    def finer(self, at: PageAt) -> list[PageAt]:
        """Return the pages of the mip below that a page, with its border, is made from."""
        reach, (rows, columns) = self.reach(at), self.pages(at.mip - 1)
        whole = within(reach, self.size(at.mip))
        first_row, last_row = 2 * whole.top // self.page, (2 * whole.bottom - 1) // self.page
        first, last = 2 * whole.left // self.page, (2 * whole.right - 1) // self.page
        return [
            PageAt(at.mip - 1, row, column)
            for row in range(first_row, min(last_row + 1, rows))
            for column in range(first, min(last + 1, columns))
        ]

    def checked(self, at: PageAt) -> PageAt:
        """Return a page as it is; raise `RangeError` if there is none."""
        if not 0 <= at.mip < self.mips:
            raise RangeError(f"there is no mip {at.mip}: they go from 0, the full size, to {self.mips - 1}")
        rows, columns = self.pages(at.mip)
        if not (0 <= at.row < rows and 0 <= at.column < columns):
            raise RangeError(f"there is no page {at}: mip {at.mip} has {rows} rows and {columns} columns of pages, from 0")
        return at


def within(region: Region, size: tuple[int, int]) -> Region:
    """Return the part of a region that lies within so many rows and columns."""
    return Region(max(region.top, 0), min(region.bottom, size[0]), max(region.left, 0), min(region.right, size[1]))
