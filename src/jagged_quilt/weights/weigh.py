"""Weighing: from the masks of layers to weights, at points or over a whole surface."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import whole_number_in
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.points import Points, Surface
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.weights import _kernels
from jagged_quilt.weights.mask import Mask
from jagged_quilt.weights.weight_map import Kept, WeightMap, index_type

MOST_KEPT = 16
_ANSWERS_AT_ONCE = 1 << 21


class HasMask(Protocol):
    """What weighing needs of a layer."""

    @property
    def name(self) -> str: ...

    @property
    def mask(self) -> Mask | None: ...


def cover_weights(points: Points, layers: Sequence[HasMask]) -> NDArray[np.float32]:
    """Return the weight of every layer at every point, (L, N) float32, summing to 1 over the layers.

    From the bottom up each layer covers what lies below by its mask; no mask covers wholly. The lowest layer takes what
    is left.

    Raises
    ------
    ShapeError
        If there is no layer, or the lowest one has a mask (it would have no effect).
    """
    if not layers:
        raise ShapeError("there is no layer to weigh; name at least one")
    if layers[0].mask is not None:
        raise ShapeError(
            f'the lowest layer, "{layers[0].name}", takes what the others leave, so its mask has no effect; '
            "remove it, or put a layer below"
        )
    answers = np.ones((len(layers), len(points)), np.float32)
    for row, layer in enumerate(layers):
        if layer.mask is not None:
            answers[row] = layer.mask.answer(points)
    _kernels.cover(answers)
    return answers


def weigh_points(points: Points, layers: Sequence[HasMask], *, keep: int = 4) -> tuple[Kept, NDArray[np.float32]]:
    """Answer the masks at points; return the `keep` largest weights, and what the cut lost, (N,) float32."""
    keep = min(whole_number_in("keep", keep, 1, MOST_KEPT), max(1, len(layers)))
    index = np.empty((len(points), keep), index_type(len(layers)))
    weight = np.empty((len(points), keep), np.float32)
    lost = np.empty(len(points), np.float32)
    _kernels.keep_largest(cover_weights(points, layers), index, weight, lost)
    return (index, weight), lost


def weigh(
    surface: Surface,
    layers: Sequence[HasMask],
    *,
    texels: int = 1024,
    keep: int = 4,
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

    Returns
    -------
    WeightMap
        The same bytes on any number of threads.
    """
    keep = min(whole_number_in("keep", keep, 1, MOST_KEPT), max(1, len(layers)))
    names = tuple(layer.name for layer in layers)
    if len(set(names)) < len(names):
        raise RangeError(f"two layers have one name: {', '.join(names)}; give one of them another")
    cover_weights(surface.points((1, 1), slice(0, 1), slice(0, 1)), layers)  # refuse bad layers before any work
    height, width = surface.layout(texels)
    index = np.empty((height, width, keep), index_type(len(layers)))
    stored = np.empty((height, width, keep), np.uint8)
    lost = np.empty((height, 2))
    rows = max(1, _ANSWERS_AT_ONCE // (width * max(4, len(layers))))

    def weigh_rows(top: int) -> None:
        bottom = min(top + rows, height)
        (which, weight), cut = weigh_points(
            surface.points((height, width), slice(top, bottom), slice(0, width)), layers, keep=keep
        )
        index[top:bottom] = which.reshape(-1, width, keep)
        _kernels.quantise(weight, stored[top:bottom].reshape(-1, keep))
        by_row = cut.reshape(-1, width)
        lost[top:bottom, 0] = by_row.sum(axis=1, dtype=np.float64)
        lost[top:bottom, 1] = by_row.max(axis=1)

    work_through(range(0, height, rows), weigh_rows, threads=threads, step="weighing", progress=progress)
    return WeightMap(
        names=names,
        layers=index,
        weights=stored,
        lost_mean=float(lost[:, 0].sum() / (height * width)),
        lost_worst=float(lost[:, 1].max()),
    )
