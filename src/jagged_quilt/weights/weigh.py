"""Weighing: how much of each layer shows, at points or over a whole surface."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import known_name, whole_number_in
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.points import Ground, Points, Surface
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.weights import _kernels
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.lay_daubs import Box, DaubLayer, RegionGrid
from jagged_quilt.weights.medley import Stacked
from jagged_quilt.weights.weigher import Stacking, Weigher
from jagged_quilt.weights.weight_map import MOST_KEPT, Kept, WeightMap, index_type, keep_largest, storage, unit_of

_ANSWERS_AT_ONCE = 1 << 19
_POINTS_AT_ONCE = 1 << 15
_TILE = 128
_NOTHING = 1e-6  # of a weight: rounding


def weigh_points(
    points: Points,
    layers: Sequence[Stacked],
    *,
    keep: int = 4,
    stacking: str = "cover",
    daubs: Sequence[Daub] = (),
) -> tuple[Kept, NDArray[np.float32]]:
    """Answer the masks at points; return the `keep` largest weights, and what the cut lost, (N,) float32.

    The points are taken for a whole surface (the vertices of a mesh): daubs that smooth take from one to the other. For
    several meshes without a seam join their points first (`Points.joined`).
    """
    return Weigher(layers, stacking=stacking_named(stacking), daubs=daubs).kept(points, keep)


def weigh(
    surface: Surface,
    layers: Sequence[Stacked],
    *,
    texels: int = 1024,
    keep: int = 4,
    bits: int = 8,
    stacking: str = "cover",
    adopted: WeightMap | None = None,
    daubs: Sequence[Daub] = (),
    threads: int | None = None,
    progress: Progress = silent,
) -> WeightMap:
    """Weigh layers over a whole surface.

    Parameters
    ----------
    layers : sequence of Layer
        From the bottom up.
    texels : int
        Along the longer side of the weight map.
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
    """
    unit = unit_of(bits)
    height, width = surface.layout(texels)
    adopted = adopted and adopted.resized(height, width, enlarge=False)
    weigher = Weigher(layers, surface, stacking=stacking_named(stacking), adopted=adopted, daubs=daubs)
    keep = min(whole_number_in("keep", keep, 1, MOST_KEPT), len(weigher.shown))
    index = np.empty((height, width, keep), index_type(len(weigher.shown)))
    stored = np.empty((height, width, keep), storage(unit))
    lost = np.empty((height, width), np.uint8)
    sums = np.empty((height, 2))
    rows = max(1, min(_POINTS_AT_ONCE, _ANSWERS_AT_ONCE // len(weigher.shown)) // width)
    size = _ground_size(surface) if weigher.daubs.smooths else (0.0, 0.0)
    spacing = (size[0] / width, size[1] / height)

    def weigh_rows(top: int) -> None:
        bottom = min(top + rows, height)
        first, last = top, bottom
        grid = None
        if weigher.daubs.smooths:
            box = weigher.daubs.needed(Box(0.0, top * spacing[1], size[0], bottom * spacing[1]))
            first, last = max(0, int(box.north / spacing[1])), min(height, int(box.south / spacing[1]) + 1)
            grid = RegionGrid(last - first, width, spacing)
        points = surface.points((height, width), slice(first, last), slice(0, width))
        (which, weight), cut = weigher.kept(points, keep, grid)
        part = slice((top - first) * width, (bottom - first) * width)
        index[top:bottom] = which[part].reshape(-1, width, keep)
        _kernels.quantise(np.ascontiguousarray(weight[part]), stored[top:bottom].reshape(-1, keep), unit)
        by_row = cut[part].reshape(-1, width)
        lost[top:bottom] = np.ceil(by_row * np.float32(255) - np.float32(1e-3))
        sums[top:bottom, 0] = by_row.sum(axis=1, dtype=np.float64)
        sums[top:bottom, 1] = by_row.max(axis=1)

    if weigher.daubs.smooths:
        rows = max(rows, 64)  # or the margins would cost more than the rows
    work_through(range(0, height, rows), weigh_rows, threads=threads, step="weighing", progress=progress)
    return WeightMap(
        names=weigher.shown,
        layers=index,
        weights=stored,
        lost=lost,
        lost_mean=float(sums[:, 0].sum() / (height * width)),
        lost_worst=float(sums[:, 1].max()),
    )


def daubed(
    weights: WeightMap,
    ground: Ground,
    daubs: Sequence[Daub],
    *,
    threads: int | None = None,
    progress: Progress = silent,
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
        box = lay.needed(Box(left * spacing[0], top * spacing[1], right * spacing[0], bottom * spacing[1]))
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
        _kernels.quantise(kept, rounded, weights.unit)
        index[top:bottom, left:right] = which.reshape(bottom - top, right - left, keep)
        stored[top:bottom, left:right] = rounded.reshape(bottom - top, right - left, keep)

    touched = _touched_tiles(lay, (height, width), spacing)
    work_through(touched, daub_tile, threads=threads, step="daubing", progress=progress)
    return WeightMap(
        names=weights.names, layers=index, weights=stored, lost=None if weights.lost is None else lost,
        lost_mean=weights.lost_mean + sum(added for added, _ in sorted(cuts)) / (height * width),
        lost_worst=max([weights.lost_worst, *(worst for _, worst in cuts)]),
    )  # fmt: skip


def stacking_named(name: str) -> Stacking:
    """Return the way of stacking of a name; raise `NameNotFoundError` if there is none."""
    return Stacking(known_name("way of stacking", name, [each.value for each in Stacking]))


def _ground_size(surface: Surface) -> tuple[float, float]:
    size = getattr(surface, "size", None)
    if size is None:
        raise ShapeError("daubs that smooth need a terrain, or the vertices of a mesh (weigh_points)")
    return float(size[0]), float(size[1])


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
