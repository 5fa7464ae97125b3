"""Laying daubs: only what a daub touches is worked on, at points, in order."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points
from jagged_quilt.masks.bands import smooth_step
from jagged_quilt.weights.daub import Daub, DaubKind, SomeDaubs

k = kernels_of("jagged_quilt.weights._daub_kernels")

Weights = NDArray[np.float32]
"""(L, N) float32 that sum to 1 over the layers."""

_TAILS = 3.0  # deviations after which a Gaussian is cut
_SPINE = 0.3, 0.8  # how near to its path breakup begins to leave a daub whole, and does wholly: 0.63 and 0.28 of the radius


class Rectangle(NamedTuple):
    """A rectangle of the ground, in metres."""

    west: float
    north: float
    east: float
    south: float

    def meets(self, other: Rectangle) -> bool:
        """Whether two boxes share any place."""
        return self.west <= other.east and other.west <= self.east and self.north <= other.south and other.north <= self.south

    def joined(self, other: Rectangle) -> Rectangle:
        """Return the smallest box around both."""
        first = min(self.west, other.west), min(self.north, other.north)
        return Rectangle(*first, max(self.east, other.east), max(self.south, other.south))

    def grown(self, by: float) -> Rectangle:
        """Return the box with a margin."""
        return Rectangle(self.west - by, self.north - by, self.east + by, self.south + by)


@dataclass(frozen=True, slots=True)
class RegionGrid:
    """Points that are the rows of a grid: how many rows and columns, and metres from one to the next, east and south."""

    rows: int
    columns: int
    spacing: tuple[float, float]


class DaubReach:
    """What daubs can touch.

    Parameters
    ----------
    boxes : (D, 4) float64
        Of each: west, north, east, south.
    smoothing : sequence of Daub
        Those that smooth.
    numbers : sequence of int
        The number of each, from 1.
    """

    numbers: Sequence[int]

    def __init__(self, boxes: NDArray[np.float64], smoothing: Sequence[Daub]) -> None:
        self.boxes, self._smoothing = boxes, smoothing

    @property
    def smooths(self) -> bool:
        """Whether any daub smooths, and so needs what lies around each point."""
        return bool(self._smoothing)

    def meeting(self, box: Rectangle) -> NDArray[np.intp]:
        """Return the daubs that can touch a box, in order."""
        b = self.boxes
        return np.flatnonzero((b[:, 0] <= box.east) & (b[:, 2] >= box.west) & (b[:, 1] <= box.south) & (b[:, 3] >= box.north))

    def needed(self, box: Rectangle) -> Rectangle:
        """Return the box whose weights must be known to lay all daubs on a box: more, where daubs smooth."""
        for daub in reversed(self._smoothing):
            own = Rectangle(*daub.bounds)
            if own.meets(box):
                touched = Rectangle(
                    max(own.west, box.west), max(own.north, box.north), min(own.east, box.east), min(own.south, box.south)
                ).grown(_TAILS * daub.smooths_over)
                box = Rectangle(
                    min(box.west, touched.west),
                    min(box.north, touched.north),
                    max(box.east, touched.east),
                    max(box.south, touched.south),
                )
        return box

    def touching(self, points: Points) -> NDArray[np.intp]:
        """Return the daubs that can touch points, in order."""
        if not len(points):
            return np.empty(0, np.intp)
        across, down = points.position[:, 0], points.position[:, 2]
        return self.meeting(Rectangle(float(across.min()), float(down.min()), float(across.max()), float(down.max())))


class DaubLayer(DaubReach):
    """Daubs made ready to be laid on the weights of named layers; or those of a channel, on the last of the names.

    Raises `NameNotFoundError` if a daub names a layer that is not there.
    """

    def __init__(self, daubs: Sequence[Daub], names: tuple[str, ...], channel: str = "") -> None:
        every = daubs.numbers if isinstance(daubs, SomeDaubs) else range(1, len(daubs) + 1)
        own = [(number, _on_layer(daub)) for number, daub in zip(every, daubs, strict=True) if daub.channel == channel]
        self.daubs = daubs = tuple(daub for _, daub in own)
        self.numbers = [number for number, _ in own]
        for number, daub in own:
            for name in daub.layers:
                try:
                    known_name("layer", name, names)
                except QuiltError as error:
                    raise type(error)(f"daub {number}: {error}") from error
        rows = np.array([names.index(d.layers[0]) if d.layers else 0 for d in daubs], np.int32)
        self._others = np.array([names.index(d.layers[1]) if len(d.layers) == 2 else -1 for d in daubs], np.int32)
        erases = np.array([d.kind is DaubKind.ERASE for d in daubs], bool)
        self._plain = np.array([_is_plain(d) for d in daubs], bool)
        table = np.array(
            [(d.radius, d.radius * (1 - d.falloff), d.strength, d.ceiling, float(d.in_space)) for d in daubs], np.float32
        ).reshape(-1, 5)
        pieces = [d.segments() for d in daubs]
        firsts = np.cumsum([0, *map(len, pieces)])
        segments = np.concatenate([np.zeros((0, 6)), *pieces]).astype(np.float32)
        boxes = np.array([d.bounds for d in daubs], np.float64).reshape(-1, 4)
        super().__init__(boxes, [daub for daub in daubs if daub.kind is DaubKind.SMOOTH])
        reach = self.boxes.astype(np.float32) + np.array([-1, -1, 1, 1], np.float32) * np.float32(1e-3)
        self._daub_rows = k.DaubRows(reach, segments, firsts, rows, erases, table)
        whole = table.copy()
        whole[:, k.INNER], whole[:, k.STRENGTH] = 0, 1
        self._spines = self._daub_rows._replace(table=whole)

    def __len__(self) -> int:
        return len(self.daubs)

    def laid(self, weights: Weights, points: Points, grid: RegionGrid | None = None) -> Weights:
        """Return weights with the daubs on them; the array that came may be the one that goes.

        Where no grid is given and a daub smooths, the points must be all of a surface: they take from each other.
        """
        if not self.daubs or not len(points):
            return weights
        hits = self.touching(points)
        before = weights.copy() if any(_goes_back(self.daubs[d]) for d in hits) else weights
        runs = _Runs(points)
        scale = np.empty(len(points), np.float32)
        for some in _in_turns(hits, self._plain):
            if self._plain[some[0]]:
                k.lay_daubs(runs.rows, self._daub_rows, some, runs.scratch, scale, weights)
            else:
                self._lay_one(int(some[0]), weights, before, points, grid)
        return weights

    def covered(self, d: int, points: Points) -> NDArray[np.float32]:
        """Return how much daub d covers at each point, (N,) float32, its breakup and all.

        Noise breaks up the outer part of a daub; along the middle of its path it stays whole, so that a stroke is one stroke.
        """
        runs = _Runs(points)
        cover = np.empty(len(points), np.float32)
        k.coverage(runs.rows, self._daub_rows, d, runs.scratch, cover)
        breakup = self.daubs[d].breakup
        if breakup is None:
            return cover
        near = np.empty(len(points), np.float32)  # 1 on the path, 0.5 at half the radius, 0 at the radius
        k.coverage(runs.rows, self._spines, d, runs.scratch, near)
        noise = breakup.answer(points)
        return cover * (noise + (np.float32(1) - noise) * smooth_step(near, *_SPINE))

    def _lay_one(self, d: int, weights: Weights, before: Weights, points: Points, grid: RegionGrid | None) -> None:
        """Lay a daub that has more to it than the kernel knows."""
        box, position = self.boxes[d], points.position
        near = (position[:, 0] >= box[0]) & (position[:, 0] <= box[2]) & (position[:, 2] >= box[1]) & (position[:, 2] <= box[3])
        cover = np.zeros(len(points), np.float32)
        cover[near] = self.covered(d, points[near])
        touched = np.flatnonzero(cover)
        if not len(touched):
            return
        daub, cover = self.daubs[d], cover[touched]
        own = weights[:, touched]
        if daub.kind is DaubKind.SMOOTH:
            around = _means(weights, touched, points, daub.smooths_over, grid)
            weights[:, touched] = own + cover * (around - own)
        elif _goes_back(daub):
            weights[:, touched] = own + cover * (before[:, touched] - own)
        elif self._others[d] < 0:
            whole = np.ones((1, len(touched)), np.float32)
            weights[:, touched] = _raised(
                own, [int(self._daub_rows.rows[d])], whole, bool(self._daub_rows.erases[d]), daub.ceiling, cover
            )
        else:
            assert daub.between is not None
            second = daub.between.answer(points[touched])
            weights[:, touched] = _pair_laid(
                own, int(self._daub_rows.rows[d]), int(self._others[d]), daub.ceiling, cover, second
            )


def changed_box(before: Sequence[Daub], after: Sequence[Daub]) -> Rectangle | None:
    """Return the box of the ground outside of which two rows of daubs come to the same; None where they do everywhere."""
    start = next((n for n, (a, b) in enumerate(zip(before, after, strict=False)) if a != b), min(len(before), len(after)))
    end = 0
    while end < min(len(before), len(after)) - start and before[-1 - end] == after[-1 - end]:
        end += 1
    changed = [*before[start : len(before) - end], *after[start : len(after) - end]]
    if not changed:
        return None
    boxes = np.array([daub.bounds for daub in changed])
    box = Rectangle(*boxes[:, :2].min(axis=0).tolist(), *boxes[:, 2:].max(axis=0).tolist())
    for daub in after[start:]:
        own = Rectangle(*daub.bounds)
        if daub.kind is DaubKind.SMOOTH and own.grown(_TAILS * daub.smooths_over).meets(box):  # it takes from there
            box = box.joined(own)
    return box


def _on_layer(daub: Daub) -> Daub:
    """A daub of a channel as one of a layer of that name."""
    return replace(daub, channel="", layers=(daub.channel,)) if daub.channel else daub


def _is_plain(daub: Daub) -> bool:
    """Whether the kernel can lay it among others: one layer, no noise."""
    return len(daub.layers) == 1 and daub.breakup is None


def _goes_back(daub: Daub) -> bool:
    return daub.kind is DaubKind.ERASE and not daub.layers


class _Runs:
    """Points as the kernels take them: their coordinates apart, and the box of every few that follow each other."""

    def __init__(self, points: Points) -> None:
        count = len(points)
        x, y, z = (np.empty(count, np.float32) for _ in range(3))
        self.rows = k.RunRows(x, y, z, np.empty((-(-count // k.RUN), 4), np.float32))
        k.split_runs(points.position, self.rows)
        self.scratch = k.DaubScratch(np.empty(k.RUN, np.float32), np.empty(k.RUN, np.float32))


def _in_turns(hits: NDArray[np.intp], plain: NDArray[np.bool_]) -> Iterator[NDArray[np.intp]]:
    """Yield the daubs to lay: plain ones together as long as no other comes between, each other one alone."""
    cuts = [index for index in range(1, len(hits)) if not (plain[hits[index]] and plain[hits[index - 1]])]
    yield from (part for part in np.split(hits, cuts) if len(part))


def _pair_laid(
    own: Weights, row: int, other: int, ceiling: float, cover: NDArray[np.float32], second: NDArray[np.float32]
) -> Weights:
    """Paint two layers together up to the ceiling, shared between them as the noise says."""
    both = own[row] + own[other]
    had = np.divide(own[other], both, out=second.copy(), where=both > 0)
    share = had + cover * (second - had)
    return _raised(own, [row, other], np.stack([1 - share, share]), False, ceiling, cover)


def _raised(
    own: Weights, rows: list[int], share: NDArray[np.float32], erases: bool, ceiling: float, cover: NDArray[np.float32]
) -> Weights:
    """Move the sum of some layers towards the ceiling, or towards 0, and share it between them; as the kernel does for one."""
    total = own[rows].sum(axis=0)
    towards = np.zeros_like(total) if erases else np.maximum(total, np.float32(ceiling))
    wanted = total + cover * (towards - total)
    rest = np.float32(1) - total
    alone = rest <= 1e-6
    out: Weights = own * np.where(alone, 1, (1 - wanted) / np.maximum(rest, np.float32(1e-6))).astype(np.float32)
    out[rows] = wanted * share
    if erases and alone.any() and len(own) > 1:
        out[rows[0] - 1 if rows[0] > 0 else 1, alone] += (total - wanted)[alone]
    return out


def _means(weights: Weights, touched: NDArray[np.intp], points: Points, reach: float, grid: RegionGrid | None) -> Weights:
    """Gaussian means of the weights around some of the points."""
    if grid is None:
        return _means_among_points(weights, touched, points, reach)
    from scipy.ndimage import gaussian_filter

    rows, columns = np.divmod(touched, grid.columns)
    margin = [int(np.ceil(_TAILS * reach / step)) + 1 for step in (grid.spacing[1], grid.spacing[0])]
    r0, r1 = max(0, int(rows.min()) - margin[0]), min(grid.rows, int(rows.max()) + 1 + margin[0])
    c0, c1 = max(0, int(columns.min()) - margin[1]), min(grid.columns, int(columns.max()) + 1 + margin[1])
    patch = weights.reshape(-1, grid.rows, grid.columns)[:, r0:r1, c0:c1]
    deviation = (0.0, reach / grid.spacing[1], reach / grid.spacing[0])
    smooth = gaussian_filter(patch, deviation, mode="nearest", truncate=_TAILS)
    return np.asarray(smooth[:, rows - r0, columns - c0], np.float32)


def _means_among_points(weights: Weights, touched: NDArray[np.intp], points: Points, reach: float) -> Weights:
    from scipy.sparse import csr_array
    from scipy.spatial import cKDTree

    position = points.position.astype(np.float64)
    near = cKDTree(position[touched]).sparse_distance_matrix(cKDTree(position), _TAILS * reach, output_type="ndarray")
    gauss = np.exp(-0.5 * (near["v"] / reach) ** 2)
    matrix = csr_array((gauss, (near["i"], near["j"])), shape=(len(touched), len(position)))
    sums = matrix @ weights.T.astype(np.float64) / matrix.sum(axis=1)[:, None]
    return np.asarray(sums.T, np.float32)
