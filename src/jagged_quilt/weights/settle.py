"""Settling inherited weights: sums that are not 1 are reported and repaired as asked, the largest are kept, all is rounded."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, known_name
from jagged_quilt.foundation.disk_store import MEMORY, ArrayStore
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.weights.settings import NORMALISE, REFUSE, checked_keep
from jagged_quilt.weights.weight_map import WeightMap, index_type, keep_largest, storage, unit_of

_kernels = kernels_of("jagged_quilt.weights._kernels")

_AT_ONCE = 1 << 22

Raw = Callable[[slice], NDArray[np.float32]]
"""From rows to (L, N) float32, as the files say."""


@dataclass(frozen=True, slots=True, kw_only=True)
class SumReport:
    """How well the weights of a source summed to 1, and what was done about it.

    Attributes
    ----------
    texels : int
        All of them.
    above, below, bare : int
        Texels that summed to more or to less than 1 by more than rounding can, and those of the latter with nothing at all.
    worst : float
        The sum that was furthest from 1, and `worst_at`, its row and column.
    repair : str
        "normalise", "refuse", or the layer that took what was missing.
    cut : int
        Texels that held more layers than are kept, and `cut_worst`, the most that one of them lost, 0..1.
    """

    texels: int
    above: int
    below: int
    bare: int
    worst: float
    worst_at: tuple[int, int]
    repair: str
    cut: int
    cut_worst: float

    @property
    def changed(self) -> int:
        """Texels that are no longer as the files said, by more than rounding."""
        return self.above + self.below + self.cut


@dataclass(frozen=True)
class RawWeights:
    """Weights as files hold them.

    Attributes
    ----------
    of_rows : callable
        Answers the weights (L, N) of a slice of rows.
    size : (int, int)
        Rows and columns.
    layers : sequence of str
    step : float
        One step of how the files store weights: what is off by no more than rounding is not reported.
    source : str
        The file that errors name.
    """

    of_rows: Raw
    size: tuple[int, ...]
    layers: Sequence[str]
    step: float
    source: str


def settled(
    raw: RawWeights,
    sums: str,
    *,
    keep: int,
    bits: int,
    room: ArrayStore = MEMORY,
) -> tuple[WeightMap, SumReport]:
    """Settle the sums of raw weights, keep the largest, round; rows at a time.

    Parameters
    ----------
    sums : str
        "normalise", "refuse", or the layer that takes what is missing.

    Raises
    ------
    RangeError
        If sums are to be refused, or texels have no weight at all and no layer takes them.
    """
    (height, width), layers, step = raw.size, raw.layers, raw.step
    keep = min(checked_keep(keep), len(layers))
    if sums not in (NORMALISE, REFUSE):
        known_name(
            'way to settle sums ("normalise", "refuse", or the layer that takes the rest)', sums, [NORMALISE, REFUSE, *layers]
        )
    rest = list(layers).index(sums) if sums in layers else -1
    unit = unit_of(bits)
    index = room.empty((height, width, keep), index_type(len(layers)))
    stored = room.empty((height, width, keep), storage(unit))
    cut = room.empty((height, width), np.uint8)
    tally = _SumTally(step, width)
    rows = max(1, _AT_ONCE // (width * len(layers)))
    for top in range(0, height, rows):
        part = slice(top, min(top + rows, height))
        weights = raw.of_rows(part)
        sum_here = weights.sum(axis=0)
        slack = np.asarray(step * (0.5 * np.count_nonzero(weights, axis=0) + 0.51), np.float32)
        if rest >= 0:
            weights[rest] += np.maximum(0, 1 - sum_here)
        weights[0, weights.sum(axis=0) <= 0] = 1  # bare ones are refused below
        weight, lost = np.empty((weights.shape[1], keep), np.float32), np.empty(weights.shape[1], np.float32)
        keep_largest(weights, index[part].reshape(-1, keep), weight, lost)
        _kernels.quantise(frozen(weight, np.float32), stored[part].reshape(-1, keep), unit)
        cut[part] = np.ceil(lost * 255 - 1e-3).astype(np.uint8).reshape(-1, width)
        tally.add(top, sum_here, slack, lost)
    report = tally.report(sums)
    if sums == REFUSE and report.above + report.below:
        raise RangeError(f"{raw.source}: {sums_words(report)}; normalise them (sums), or name the layer that takes the rest")
    if rest < 0 and report.bare:
        row, column = tally.first_bare
        raise RangeError(
            f"{raw.source}: {report.bare} texels have no weight at all, the first at row {row}, column {column}; name "
            "the layer that takes them (sums), or say that the last layer is implied"
        )
    weights_map = WeightMap(
        names=tuple(layers),
        layers=index,
        weights=stored,
        lost=cut,
        lost_mean=tally.lost / (height * width),
        lost_worst=tally.cut_worst,
    )
    return weights_map, report


def sound(texels: int) -> SumReport:
    """The report of a form that cannot fail to sum to 1."""
    return SumReport(texels=texels, above=0, below=0, bare=0, worst=1.0, worst_at=(0, 0), repair=REFUSE, cut=0, cut_worst=0.0)


class _SumTally:
    """How well weights summed, of rows at a time."""

    def __init__(self, step: float, width: int) -> None:
        self._step, self._width = step, width
        self.texels = self.above = self.below = self.bare = self.cut = 0
        self.worst, self.worst_at, self.first_bare = 1.0, (0, 0), (0, 0)
        self.lost = self.cut_worst = 0.0

    def add(self, top: int, total: NDArray[np.float32], slack: NDArray[np.float32], lost: NDArray[np.float32]) -> None:
        """Count texels, (N,) each, of whole rows from `top` on: their sums, what rounding may do, and what the cut lost."""
        texel = lambda n: (top + int(n) // self._width, int(n) % self._width)
        at = np.abs(total - 1).argmax()
        if abs(float(total[at]) - 1) > abs(self.worst - 1):
            self.worst, self.worst_at = float(total[at]), texel(at)
        bare = total <= 0
        if not self.bare and bare.any():
            self.first_bare = texel(np.flatnonzero(bare)[0])
        self.texels += total.size
        self.above += int((total > 1 + slack).sum())
        self.below += int((total < 1 - slack).sum())
        self.bare += int(bare.sum())
        self.cut += int((lost > self._step).sum())
        self.lost += float(lost.sum(dtype=np.float64))
        self.cut_worst = max(self.cut_worst, float(lost.max()))

    def report(self, repair: str) -> SumReport:
        """Return what was counted."""
        counted = {
            name: getattr(self, name) for name in ("texels", "above", "below", "bare", "worst", "worst_at", "cut", "cut_worst")
        }
        return SumReport(repair=repair, **counted)


def sums_words(report: SumReport) -> str:
    """Return in words how well weights summed, and what was done about it."""
    words = []
    if report.above or report.below:
        row, column = report.worst_at
        words.append(
            f"weights sum to more than 1 at {report.above} and to less at {report.below} of {report.texels} texels; "
            f"worst {report.worst:.3f} at row {row}, column {column}"
        )
        if report.repair != REFUSE:
            rest = report.repair if report.repair != NORMALISE else ""
            words.append(f'what is missing goes to "{rest}"' if rest else "normalised")
    if report.cut:
        words.append(f"{report.cut} texels held more layers than are kept; the worst lost {100 * report.cut_worst:.1f} %")
    return "; ".join(words) or f"all {report.texels} texels sum to 1 within rounding"
