"""A canvas: something with texels in rows and columns that makes Points, in blocks; and the driver that goes over it.

A terrain's grid, a mesh's uv layout, its vertices and a camera's pixels are canvases, and so is a page of any of them.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple, Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import whole_number_in, wrong_kind
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.work import ANYHOW, Work

TEXELS_AT_ONCE = 1 << 15
TEXELS = 1024  # along the longer side, where nothing else is said


def checked_texels(texels: int) -> int:
    """Return texels along a side of a canvas; raise `RangeError` if there cannot be so many."""
    return whole_number_in("texels", texels, 1, 1 << 17)


class Region(NamedTuple):
    """Some rows and columns of texels: first, and one past the last."""

    top: int
    bottom: int
    left: int
    right: int

    @property
    def rows(self) -> int:
        """How many rows."""
        return self.bottom - self.top

    @property
    def columns(self) -> int:
        """How many columns."""
        return self.right - self.left

    @classmethod
    def whole(cls, texels: tuple[int, int]) -> Region:
        """Return all of so many rows and columns."""
        return cls(0, texels[0], 0, texels[1])

    def within(self, rows: tuple[int, int] | None, columns: tuple[int, int] | None) -> Region:
        """Return a part of this region, counted from its own corner; everything where nothing is said.

        Raises `RangeError` if it reaches outside.
        """
        top, bottom = _part("rows", rows, self.rows)
        left, right = _part("columns", columns, self.columns)
        return Region(self.top + top, self.top + bottom, self.left + left, self.left + right)


class Where(NamedTuple):
    """Which texels of a canvas some points are, by number row by row from the top left: a run of them, or each by itself."""

    run: slice | None = None
    each: NDArray[np.int64] | None = None

    def of(self, target: NDArray[np.generic]) -> NDArray[np.generic]:
        """Return those rows of an array with a row for every texel."""
        return target[self.run if self.each is None else self.each]

    def put(self, target: NDArray[np.generic], values: NDArray[np.generic]) -> None:
        """Put values, a row for each point, to where they belong."""
        target[self.run if self.each is None else self.each] = values


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Piece:
    """Points of one part of what is on a canvas.

    Attributes
    ----------
    points : Points
    where : Where
        Which texels of the canvas they are.
    part : int
        Which of the canvas's `parts`.
    columns : int
        How wide a grid they are, row by row; 0 where they are none.
    triangles : (N,) int32 or None
        The triangle of a mesh on which each lies.
    """

    points: Points
    where: Where
    part: int = 0
    columns: int = 0
    triangles: NDArray[np.int32] | None = None


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Block:
    """What lies on a region of a canvas: a piece for each part that shows there, none where nothing does."""

    region: Region
    pieces: tuple[Piece, ...]


class CanvasPart(NamedTuple):
    """A part of what is on a canvas, with layers of its own: its name, its space as a (4, 4) matrix to the world, and the
    metres that one unit of its uv stands for."""

    name: str = ""
    frame: NDArray[np.float64] | None = None
    metres: float = 1.0


class Canvas(Protocol):
    """Something with texels that makes Points."""

    @property
    def texels(self) -> tuple[int, int]:
        """Rows and columns."""
        ...

    @property
    def parts(self) -> tuple[CanvasPart, ...]:
        """What may show on it, each by its own layers."""
        ...

    @property
    def padding(self) -> int | None:
        """Texels by which what is covered grows into the gaps; None where there are no gaps."""
        ...

    def blocks(self, most: int) -> Sequence[Region]:
        """Return regions of at most so many texels (a row at least), which together are the whole."""
        ...

    def block(self, region: Region) -> Block:
        """Return what lies on a region; the same whatever the regions are."""
        ...


@runtime_checkable
class GridWindow(Canvas, Protocol):
    """A canvas that is a window of a larger grid over the ground: what lies around it can be asked for."""

    @property
    def whole(self) -> tuple[int, int]:
        """Rows and columns of the larger grid."""
        ...

    @property
    def window(self) -> Region:
        """Which of them this canvas is."""
        ...

    @property
    def spacing(self) -> tuple[float, float]:
        """Metres from one texel to the next, east and south."""
        ...

    def points_of(self, region: Region) -> Points:
        """Return the points of any region of the larger grid."""
        ...


def bands(texels: tuple[int, int], most: int) -> list[Region]:
    """Cut rows and columns into bands of whole rows, of at most so many texels where a row is no more than that."""
    rows, columns = texels
    step = max(1, most // max(1, columns))
    return [Region(top, min(top + step, rows), 0, columns) for top in range(0, rows, step)]


def numbers_of(region: Region, width: int) -> NDArray[np.int64]:
    """Return the numbers of a region's texels, row by row, in a canvas so wide."""
    rows, columns = np.arange(region.top, region.bottom), np.arange(region.left, region.right)
    return (rows[:, None] * width + columns).reshape(-1)


def checked_canvas(what: str, canvas: object) -> None:
    """Raise `ShapeError` unless something is a canvas; a surface says itself how one is made of it (`made_canvas`)."""
    if not all(hasattr(canvas, name) for name in ("texels", "parts", "blocks", "block")):
        how = getattr(type(canvas), "made_canvas", "terrain.canvas(1024), or jq.UvCanvas(mesh, 1024)")
        raise wrong_kind(what, canvas, f"a canvas: {how}")


def go_over(
    canvas: Canvas,
    do: Callable[[Block], None],
    *,
    most: int = TEXELS_AT_ONCE,
    work: Work = ANYHOW,
    step: str = "working",
) -> None:
    """Call `do` on every block of a canvas, on threads: the one loop of weighing, baking and drawing."""
    work.through(canvas.blocks(most), lambda region: do(canvas.block(region)), step=step)


def _part(axis: str, part: tuple[int, int] | None, whole: int) -> tuple[int, int]:
    if part is None:
        return 0, whole
    if not 0 <= part[0] < part[1] <= whole:
        raise RangeError(f"{axis} must be (first, one past the last) within 0 to {whole}; got {part}")
    return int(part[0]), int(part[1])
