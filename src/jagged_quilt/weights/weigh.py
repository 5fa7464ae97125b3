"""Weighing: how much of each layer shows, at points or over a whole canvas."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import (
    Block,
    Canvas,
    CanvasPart,
    GridWindow,
    Piece,
    Region,
    checked_canvas,
    go_over,
    numbers_of,
)
from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.fields import Fields
from jagged_quilt.foundation.ground import Ground
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.padding import Padding
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.lay_daubs import DaubLayer, DaubReach, Rectangle, RegionGrid
from jagged_quilt.weights.medley import Stacked
from jagged_quilt.weights.point_weights import PointWeights
from jagged_quilt.weights.settings import BITS, KEEP, STACKING, Stacking, checked_keep
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import WeightMap, index_type, keep_largest, storage, unit_of

_kernels = kernels_of("jagged_quilt.weights._kernels")

_ANSWERS_AT_ONCE = 1 << 19
_POINTS_AT_ONCE = 1 << 15
_TILE = 128
_NOTHING = 1e-6  # of a weight: rounding


class Weighable(Canvas, Protocol):
    """A canvas whose surface tells what masks must know of it."""

    @property
    def fields(self) -> Fields: ...


def weigh_points(
    points: Points,
    layers: Sequence[Stacked],
    *,
    keep: int = KEEP,
    stacking: Stacking | str = Stacking.COVER,
    daubs: Sequence[Daub] = (),
) -> PointWeights:
    """Answer the masks at points; return the `keep` largest weights, and what the cut lost.

    The points are taken for a whole surface (the vertices of a mesh): daubs that smooth take from one to the other. For
    several meshes without a seam join their points first (`Points.joined`).

    Examples
    --------
    >>> jq.weigh_points(ground.points_at([[10.0, 20.0], [30.0, 4.0]]), layers)
    <PointWeights 2 points, 2 of 2 layers at each>
    """
    return Weigher(layers, stacking=stacking, daubs=daubs).kept(points, keep)


def weigh(
    canvas: Weighable,
    layers: Sequence[Stacked],
    *,
    keep: int = KEEP,
    bits: int = BITS,
    stacking: Stacking | str = STACKING,
    adopted: WeightMap | None = None,
    daubs: Sequence[Daub] = (),
    work: Work = ANYHOW,
) -> WeightMap:
    """Weigh layers over a canvas: a terrain's grid, a mesh's uv layout (its gaps are filled from around), or its vertices.

    Parameters
    ----------
    canvas : Canvas
        `terrain.canvas(texels)`, `UvCanvas(mesh, texels)` or `VertexCanvas(mesh)`.
    layers : sequence of Layer
        From the bottom up.
    keep : int
        How many layers a texel keeps, 1 - 16: the largest ones, which then share what was cut.
    bits : 8 or 16
        How finely weights are stored.
    stacking : "cover" or "share"
        Each layer covers what lies below it by its mask; or the masks are the weights. The lowest takes what is left.
    adopted : WeightMap, optional
        Weights to begin with, as for `Weigher`.
    daubs : sequence of Daub
        Laid on top, in order.

    Returns
    -------
    WeightMap
        The same bytes on any number of threads.

    Raises
    ------
    QuiltError
        If layers, adopted weights and daubs do not fit each other, a mask cannot be measured on this surface, or daubs
        smooth over a uv layout, whose neighbours are not those on the mesh.

    Examples
    --------
    >>> from jagged_quilt import Layer, Slope, Terrain
    >>> slope = Terrain([[0, 0, 4], [0, 0, 4]], size=(8, 4))
    >>> weigh(slope.canvas(2), [Layer("rock"), Layer("salt", mask=Slope(0, 20))]).names
    ('rock', 'salt')
    """
    checked_canvas("what is weighed", canvas)
    unit, (height, width) = unit_of(bits), canvas.texels
    adopted = adopted and adopted.resized(*getattr(canvas, "whole", (height, width)), enlarge=False)
    weigher = Weigher(layers, canvas.fields, stacking=stacking, adopted=adopted, daubs=daubs)
    keep = min(checked_keep(keep), len(weigher.shown))
    index = np.zeros((height * width, keep), index_type(len(weigher.shown)))
    stored = np.zeros((height * width, keep), storage(unit))
    stored[:, 0] = unit if canvas.padding is not None else 0
    lost = np.zeros(height * width, np.uint8)
    sums = np.zeros((height, 2))
    covered = np.zeros(height * width, bool) if canvas.padding is not None else None

    def weigh_block(block: Block) -> None:
        for piece in block.pieces:
            found = _kept(weigher, piece, keep, block)
            assert found.lost is not None
            rounded = np.empty((len(found), keep), stored.dtype)
            _kernels.quantise(found.weights, rounded, unit)
            piece.where.put(index, found.layers)
            piece.where.put(stored, rounded)
            piece.where.put(lost, np.ceil(found.lost * np.float32(255) - np.float32(1e-3)).astype(np.uint8))
            _sum_lost(sums, block.region, piece, found.lost, width)
            if covered is not None:
                piece.where.put(covered, np.ones(len(found), bool))

    rows = max(1, min(_POINTS_AT_ONCE, _ANSWERS_AT_ONCE // len(weigher.shown)) // width)
    over: Canvas = canvas
    if weigher.daubs.smooths:
        over, rows = _Widened.of(canvas, weigher.daubs), max(rows, 64)  # or the margins would cost more than the rows
    go_over(over, weigh_block, most=rows * width, work=work, step="weighing")
    if covered is not None:
        _fill_gaps(canvas, covered, (index, stored, lost))
    return WeightMap(
        names=weigher.shown,
        layers=index.reshape(height, width, keep),
        weights=stored.reshape(height, width, keep),
        lost=lost.reshape(height, width),
        lost_mean=float(sums[:, 0].sum() / (height * width if covered is None else max(1, covered.sum()))),
        lost_worst=float(sums[:, 1].max()),
    )


def _kept(weigher: Weigher, piece: Piece, keep: int, block: Block) -> PointWeights:
    """The largest weights of a piece; of a block that is wider than its region, those of the region."""
    if not isinstance(block, _WideBlock):
        return weigher.kept(piece.points, keep)
    wide = weigher.kept(piece.points, keep, block.grid)
    return wide[block.inside]


def _sum_lost(sums: NDArray[np.float64], region: Region, piece: Piece, lost: NDArray[np.float32], width: int) -> None:
    """Add what was cut to the sum of each row, and keep the worst of it."""
    if piece.columns:
        by_row = lost.reshape(-1, piece.columns)
        sums[region.top : region.bottom, 0] = by_row.sum(axis=1, dtype=np.float64)
        sums[region.top : region.bottom, 1] = by_row.max(axis=1)
        return
    assert piece.where.each is not None
    rows = piece.where.each // width
    sums[region.top : region.bottom, 0] += np.bincount(rows - region.top, lost, minlength=region.rows)
    np.maximum.at(sums[:, 1], rows, lost)


def _fill_gaps(canvas: Canvas, covered: NDArray[np.bool_], filled: Sequence[Stored]) -> None:
    """Grow what is covered over all of the canvas."""
    height, width = canvas.texels
    around = Padding(covered.reshape(height, width))
    for values in filled:
        around.grow(values, height + width)


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class _WideBlock(Block):
    """A block whose points reach beyond its region: what grid they are, and which of them are the region's own."""

    grid: RegionGrid
    inside: slice | NDArray[np.int64]


@dataclass(frozen=True, slots=True, eq=False)
class _Widened:
    """A terrain's grid whose blocks reach as far as smoothing daubs take from."""

    canvas: GridWindow
    daubs: DaubReach

    @classmethod
    def of(cls, canvas: Canvas, daubs: DaubReach) -> Canvas:
        """Return the canvas widened; as it is where its points are all asked at once. Raises `ShapeError` elsewhere."""
        if isinstance(canvas, GridWindow):
            return cls(canvas, daubs)
        if len(canvas.blocks(1)) > 1:
            raise ShapeError("daubs that smooth need a terrain, or the vertices of a mesh (VertexCanvas)")
        return canvas

    @property
    def texels(self) -> tuple[int, int]:
        return self.canvas.texels

    @property
    def parts(self) -> tuple[CanvasPart, ...]:
        return self.canvas.parts

    @property
    def padding(self) -> int | None:
        return self.canvas.padding

    def blocks(self, most: int) -> Sequence[Region]:
        return self.canvas.blocks(most)

    def block(self, region: Region) -> _WideBlock:
        """Return the region with a margin to all sides that it is needed from."""
        canvas, (across, down), (rows, columns) = self.canvas, self.canvas.spacing, self.canvas.whole
        top, left = canvas.window.top + region.top, canvas.window.left + region.left
        bottom, right = top + region.rows, left + region.columns
        box = self.daubs.needed(Rectangle(left * across, top * down, right * across, bottom * down))
        north, south = min(top, max(0, int(box.north / down))), max(bottom, min(rows, int(box.south / down) + 1))
        west, east = min(left, max(0, int(box.west / across))), max(right, min(columns, int(box.east / across) + 1))
        points = canvas.points_of(Region(north, south, west, east))
        own = Region(top - north, bottom - north, left - west, right - west)
        inside: slice | NDArray[np.int64] = slice(own.top * own.columns, own.bottom * own.columns)
        if own.columns < east - west:
            inside = numbers_of(own, east - west)
        piece = Piece(points=points, where=canvas.block(region).pieces[0].where, columns=region.columns)
        return _WideBlock(
            region=region, pieces=(piece,), grid=RegionGrid(south - north, east - west, canvas.spacing), inside=inside
        )


def lay_daubs(
    weights: WeightMap,
    ground: Ground,
    daubs: Sequence[Daub],
    *,
    work: Work = ANYHOW,
) -> WeightMap:
    """Return a weight map with daubs on it; only the texels that they touch are worked on.

    The map came rounded, and so does the result: replay a whole file of daubs over the masks (`weigh`) where that matters.

    Parameters
    ----------
    ground : Terrain
        What the weight map lies on.

    Raises
    ------
    QuiltError
        If a daub names a layer that is not there, or leaves the ground.

    Examples
    --------
    >>> weights = jq.weigh(ground.canvas(32), layers)
    >>> painted = jq.daubs.lay_daubs(weights, ground, [jq.Daub(path=[(16.0, 16.0)], radius=4.0, layers=["salt"])])
    >>> float(painted.layer("salt")[16, 16].round(2))
    1.0
    """
    for number, daub in enumerate(daubs, 1):
        try:
            daub.check_on(ground.size, weights.names)
        except (RangeError, LookupError) as error:
            raise type(error)(f"daub {number}: {error}") from error
    lay = DaubLayer(daubs, weights.names)
    height, width, keep = weights.layers.shape
    index, stored = weights.layers.copy(), weights.weights.copy()
    lost = np.zeros((height, width), np.uint8) if weights.lost is None else weights.lost.copy()
    cuts: list[tuple[float, float]] = []
    spacing = (ground.size[0] / width, ground.size[1] / height)
    rows_of = np.arange(len(weights.names), dtype=np.int32)

    def daub_tile(tile: tuple[int, int]) -> None:
        top, left = tile[0] * _TILE, tile[1] * _TILE
        bottom, right = min(top + _TILE, height), min(left + _TILE, width)
        box = lay.needed(Rectangle(left * spacing[0], top * spacing[1], right * spacing[0], bottom * spacing[1]))
        r0, r1 = max(0, int(box.north / spacing[1])), min(height, int(np.ceil(box.south / spacing[1])))
        c0, c1 = max(0, int(box.west / spacing[0])), min(width, int(np.ceil(box.east / spacing[0])))
        points = ground.points((height, width), slice(r0, r1), slice(c0, c1))
        dense = np.zeros((len(weights.names), len(points)), np.float32)
        part = (slice(r0, r1), slice(c0, c1))
        shares = weights.weights[part].reshape(-1, keep) * np.float32(1 / weights.unit)
        _kernels.scatter(weights.layers[part].reshape(-1, keep), shares, rows_of, dense)
        dense = lay.laid(dense, points, RegionGrid(r1 - r0, c1 - c0, spacing))
        dense = dense.reshape(-1, r1 - r0, c1 - c0)[:, top - r0 : bottom - r0, left - c0 : right - c0]
        dense = np.ascontiguousarray(dense).reshape(len(dense), -1)
        which = np.empty((dense.shape[1], keep), index.dtype)
        kept, cut = np.empty(which.shape, np.float32), np.empty(len(which), np.float32)
        keep_largest(dense, which, kept, cut)
        part = (slice(top, bottom), slice(left, right))
        before = lost[part].ravel() / np.float32(255)
        after = before + (1 - before) * cut  # what was cut before is gone already
        lost[part] = np.where(cut > _NOTHING, np.ceil(after * 255 - 1e-3), lost[part].ravel()).reshape(bottom - top, -1)
        cuts.append((float((after - before).sum(dtype=np.float64)), float(np.where(cut > _NOTHING, after, 0).max())))
        rounded = np.empty(which.shape, stored.dtype)
        _kernels.quantise(frozen(kept, np.float32), rounded, weights.unit)
        index[top:bottom, left:right] = which.reshape(bottom - top, right - left, keep)
        stored[top:bottom, left:right] = rounded.reshape(bottom - top, right - left, keep)

    touched = _touched_tiles(lay, (height, width), spacing)
    work.through(touched, daub_tile, step="daubing")
    return WeightMap(
        names=weights.names,
        layers=index,
        weights=stored,
        lost=None if weights.lost is None else lost,
        lost_mean=weights.lost_mean + sum(added for added, _ in sorted(cuts)) / (height * width),
        lost_worst=max([weights.lost_worst, *(worst for _, worst in cuts)]),
    )


def _touched_tiles(lay: DaubLayer, texels: tuple[int, int], spacing: tuple[float, float]) -> list[tuple[int, int]]:
    """The tiles that any daub can touch, by counting beginnings and ends of boxes."""
    rows, columns = -(-texels[0] // _TILE), -(-texels[1] // _TILE)
    tile = np.array([spacing[0], spacing[1], spacing[0], spacing[1]]) * _TILE
    at = np.floor(lay.boxes / tile).astype(int)
    first_c, last_c = np.clip(at[:, 0], 0, columns), np.clip(at[:, 2] + 1, 0, columns)
    first_r, last_r = np.clip(at[:, 1], 0, rows), np.clip(at[:, 3] + 1, 0, rows)
    ends = np.zeros((rows + 1, columns + 1), int)
    for r, c, sign in ((first_r, first_c, 1), (first_r, last_c, -1), (last_r, first_c, -1), (last_r, last_c, 1)):
        np.add.at(ends, (r, c), sign)
    counts = ends.cumsum(axis=0).cumsum(axis=1)[:rows, :columns]
    return [(int(r), int(c)) for r, c in np.argwhere(counts > 0)]
