"""A weight map that need not fit in memory: weighed into a Zarr store band by band, and read by windows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import GridWindow, bands
from jagged_quilt.foundation.errors import FileError, ShapeError
from jagged_quilt.foundation.fields import Fields, remembering
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.stores import Zarr, plain_errors, zarr_here
from jagged_quilt.weights.medley import Stacked
from jagged_quilt.weights.point_weights import PointWeights
from jagged_quilt.weights.weigh import Weighable, weigh
from jagged_quilt.weights.weight_map import WeightMap, read_at

_CHUNK = 512  # texels along the side of a chunk
_BAND = 1 << 24  # texels that are weighed at once, at least a row of chunks


class Bandable(Weighable, GridWindow, Protocol):
    """A canvas of which bands of rows are canvases, as that of a terrain."""

    def page(self, *, rows: tuple[int, int] | None = None) -> Bandable: ...
    def knowing(self, fields: Fields) -> Bandable: ...


@dataclass(frozen=True, slots=True, eq=False)
class WeightWindows:
    """A weight map in a store, as `weigh_into` leaves it.

    Attributes
    ----------
    address : str
        A folder, or an address that fsspec reaches.
    group : str
        Where in the store it lies.
    names : tuple of str
        The layers, from the bottom up.
    layers, weights : (H, W, K) Zarr arrays
        As those of `WeightMap`.
    """

    address: str
    group: str
    names: tuple[str, ...] = field(init=False)
    layers: Zarr = field(init=False, repr=False)
    weights: Zarr = field(init=False, repr=False)

    def __post_init__(self) -> None:
        with plain_errors(self.address, "there are no such weights; weigh them first"):
            root = zarr_here().open_group(self.address, path=self.group, mode="r")
            attributes = root.attrs.asdict()
            if attributes["rows"] < root["weights"].shape[0]:
                raise FileError(f"{self.address}: only {attributes['rows']} rows of these weights are there; weigh on")
            object.__setattr__(self, "names", tuple(attributes["layers"]))
            object.__setattr__(self, "layers", root["layers"])
            object.__setattr__(self, "weights", root["weights"])

    def __reduce__(self) -> tuple[object, ...]:
        return WeightWindows, (self.address, self.group)

    def at(self, points: Points) -> PointWeights:
        """Return the weights at points as `WeightMap.at` does: only the window in which they lie is read."""
        if points.uv is None:
            raise ShapeError("a weight map is read by uv, and these points have none")
        height, width, _ = self.weights.shape
        rows, columns = _span(points.uv[:, 1], height), _span(points.uv[:, 0], width)
        with plain_errors(self.address, "these weights are gone; weigh them again"):
            layers, weights = (np.asarray(each[rows, columns]) for each in (self.layers, self.weights))
        return read_at(points, self.names, layers, weights, (height, width, rows.start, columns.start, layers.shape[1]))


def _span(at: NDArray[np.float32], texels: int) -> slice:
    """The texels between which places 0..1 of a map lie, and one more on each side."""
    low, high = (float(at.min()), float(at.max())) if len(at) else (0.0, 0.0)
    first = min(max(int(low * texels - 0.5) - 1, 0), texels - 1)
    return slice(first, max(min(int(high * texels - 0.5) + 3, texels), first + 1))


def weigh_into(
    canvas: Bandable,
    layers: Sequence[Stacked],
    store: str,
    *,
    group: str = "weights",
    stamp: str = "",
    progress: Progress = silent,
    **options: Any,
) -> WeightWindows:
    """Weigh layers over a terrain's canvas into a store, band by band: what is held does not grow with its height.

    Stopped, the next call goes on where it was; with another `stamp` (what the weights depend on) it begins anew.

    Parameters
    ----------
    group : str
        Where in the store the weights go.
    options
        As for `weigh`, the same bytes as it gives.

    Examples
    --------
    >>> jq.weigh_into(ground.canvas(64), layers, "weights.zarr")
    WeightWindows(address='weights.zarr', group='weights', names=('clay', 'salt'))
    """
    canvas = canvas.knowing(remembering(canvas.fields))
    height, width = canvas.texels
    regions = bands((height, width), max(_CHUNK * width, _BAND // _CHUNK * _CHUNK))
    with plain_errors(store, "it cannot be written"):
        zarr = zarr_here()
        root = zarr.open_group(store, path=group, mode="a")
        attributes = root.attrs.asdict()
        done = (
            int(attributes.get("rows", 0))
            if attributes.get("stamp") == stamp and attributes.get("texels") == [height, width]
            else 0
        )
    for number, region in enumerate(regions):
        progress("weighing bands", number, len(regions))
        if region.bottom <= done:
            continue
        made: WeightMap = weigh(canvas.page(rows=(region.top, region.bottom)), layers, **options)
        with plain_errors(store, "it cannot be written"):
            if region.top == 0:
                root = zarr.open_group(store, path=group, mode="w")
                for name, texels in (("layers", made.layers), ("weights", made.weights)):
                    chunk = (min(_CHUNK, height), min(_CHUNK, width), texels.shape[2])
                    root.create_array(name, shape=(height, width, texels.shape[2]), chunks=chunk, dtype=texels.dtype)
            for name, texels in (("layers", made.layers), ("weights", made.weights)):
                root[name][region.top : region.bottom] = texels
            rows = {"rows": region.bottom, "texels": [height, width], "stamp": stamp}
            root.attrs.put({"layers": list(made.names), **rows})
    progress("weighing bands", len(regions), len(regions))
    return WeightWindows(store, group)
