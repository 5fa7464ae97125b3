"""A weight map: at every texel the layers that show most, and how much."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import bands
from jagged_quilt.foundation.checks import frozen, instance_of, known_name
from jagged_quilt.foundation.disk_store import MEMORY, ArrayStore
from jagged_quilt.foundation.errors import FileError, RangeError, ShapeError
from jagged_quilt.foundation.files import read_json, write_json, written_together
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.reading import reads
from jagged_quilt.maps.image_files import image_bands, image_size, read_channels_into
from jagged_quilt.maps.image_limits import ImageLimits
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.masks.image_mask import fractions
from jagged_quilt.weights.point_weights import PointWeights
from jagged_quilt.weights.settings import KEEP, checked_keep

_kernels = kernels_of("jagged_quilt.weights._kernels")

if TYPE_CHECKING:
    from pandas import DataFrame

_AT_ONCE = 1 << 22  # texels
OURS = ImageLimits(largest_side=1 << 20, largest_mib=1 << 20)  # as large as we wrote them


def index_type(layers: int) -> type[np.uint8] | type[np.uint16]:
    """Return the smallest type that numbers so many layers."""
    return np.uint8 if layers <= 256 else np.uint16


_SUM_WITHIN = 1 / 512  # of 1: less than half a step of 8 bits


def unit_of(bits: int) -> int:
    """Return what weights of so many bits sum to."""
    if bits not in (8, 16):
        raise RangeError(f"weights are stored in 8 or in 16 bits; got {bits!r}")
    return (1 << bits) - 1


def storage(unit: int) -> type[np.uint8] | type[np.uint16]:
    """Return the type that holds weights that sum to `unit`."""
    return np.uint8 if unit == 255 else np.uint16


def keep_largest(weights: NDArray[np.float32], index: Stored, weight: NDArray[np.float32], lost: NDArray[np.float32]) -> None:
    """From weights (L, N) fill the largest (N, K) of each point, made to sum to 1, and what the cut lost (N,)."""
    ranks, line = (index.shape[1], _kernels.LINE), _kernels.LINE
    largest, carried = (np.empty(size, np.float32) for size in (ranks, line))
    which, number = (np.empty(size, np.int32) for size in (ranks, line))
    scratch = _kernels.KeepScratch(largest, which, carried, number, np.empty(line, np.float32))
    _kernels.keep_largest(weights, scratch, index, weight, lost)


def _check_shares(weights: Stored) -> None:
    """Raise unless weights are (H, W, K) floats that sum to 1 at every texel."""
    if weights.dtype.kind != "f":
        raise ShapeError(
            f"weights must be floats that sum to 1; got {weights.dtype}: divide by their sum "
            "(weights / weights.sum(axis=2, keepdims=True)), or, where they sum to exactly 255 or 65535, make "
            "jq.WeightMap(names=…, layers=…, weights=…) of them as they are"
        )
    if weights.ndim != 3 or 0 in weights.shape:
        raise ShapeError(f"weights must have shape (rows, columns, kept layers); got {weights.shape}")
    for band in bands(weights.shape[:2], _AT_ONCE):
        some = weights[band.top : band.bottom]
        total = some.sum(axis=2, dtype=np.float64)
        off = ~(np.abs(total - 1) <= _SUM_WITHIN) | (some < 0).any(axis=2)  # NaN among them
        if off.any():
            row, column = (int(each) for each in np.argwhere(off)[0])
            raise RangeError(
                f"weights must be 0 or more and sum to 1 at every texel; row {band.top + row}, column {column} holds "
                f"{some[row, column].tolist()}: divide by their sum (weights / weights.sum(axis=2, keepdims=True))"
            )


def read_at(
    points: Points, names: tuple[str, ...], layers: Stored, weights: Stored, window: tuple[int, int, int, int, int]
) -> PointWeights:
    """Return the weights at points of a map of which a window is given, (H, W, K) each, bilinear between texels.

    window : rows and columns of the whole map, its first row and column that are here, and how many columns are.
    """
    instance_of("where weights are read", points, Points, "points: terrain.points_at([[x, z], …])")
    if points.uv is None:
        raise ShapeError("a weight map is read by uv, and these points have none")
    keep, unit = layers.shape[2], np.float32(np.iinfo(weights.dtype).max)
    most = min(4 * keep, len(names))
    index, weight = np.empty((len(points), most), layers.dtype), np.empty((len(points), most), np.float32)
    flat = (frozen(each, each.dtype).reshape(-1, keep) for each in (layers, weights))
    _kernels.read_between(points.uv, *flat, window, unit, np.zeros(len(names), np.float32), index, weight)
    return PointWeights(names, index, weight)


@dataclass(frozen=True, eq=False, kw_only=True, repr=False)
class WeightMap(NotebookValue):
    """The K layers that show most at every texel, with weights that sum to exactly 255 (65535 at 16 bits).

    Attributes
    ----------
    names : tuple of str
        The layers, from the bottom up.
    layers : (H, W, K) uint8 or uint16
        Which layers.
    weights : (H, W, K) uint8 or uint16
        How much of each; they sum to 255 or 65535, and 0 is no layer at all.
    lost : (H, W) uint8 or None
        How much weight was cut at each texel, in 255ths, rounded up; None where that is not known.
    lost_mean, lost_worst : float
        How much weight, 0..1, was cut from the layers that were not among the K: over all texels and at the worst one.
    """

    names: tuple[str, ...]
    layers: Stored
    weights: Stored
    lost: NDArray[np.uint8] | None = None
    lost_mean: float = 0.0
    lost_worst: float = 0.0

    def __post_init__(self) -> None:
        if self.layers.ndim != 3 or self.layers.shape != self.weights.shape or 0 in self.layers.shape:
            raise ShapeError(f"layers and weights must both be (H, W, K); got {self.layers.shape} and {self.weights.shape}")
        if self.weights.dtype not in (np.uint8, np.uint16) or self.layers.dtype.kind != "u":
            raise ShapeError(
                f"layers must be unsigned and weights uint8 or uint16; got {self.layers.dtype} and {self.weights.dtype}"
            )
        if int(self.layers.max()) >= len(self.names):
            raise RangeError(f"layer {int(self.layers.max())} is above the last of {len(self.names)} layers")
        bad = _kernels.first_bad_sum(frozen(self.weights, self.weights.dtype).reshape(-1, self.weights.shape[2]), self.unit)
        if bad >= 0:
            row, column = divmod(int(bad), self.weights.shape[1])
            total = int(self.weights[row, column].sum(dtype=np.uint32))
            raise RangeError(f"weights must sum to {self.unit}; row {row}, column {column} sums to {total}")
        for name in ("layers", "weights"):
            object.__setattr__(self, name, frozen(getattr(self, name), getattr(self, name).dtype))

    @classmethod
    def of(
        cls,
        names: tuple[str, ...],
        layers: Stored,
        weights: NDArray[np.float32],
        *,
        bits: int = 8,
        lost_mean: float = 0.0,
        lost_worst: float = 0.0,
    ) -> WeightMap:
        """Make one from weights (H, W, K) of floats that sum to 1 at every texel, rounded so that their sums are exact.

        Raises
        ------
        ShapeError
            If the weights are whole numbers, or not (H, W, K).
        RangeError
            If one is not finite or below 0, or a texel does not sum to 1 within 1/512.
        """
        unit = unit_of(bits)
        _check_shares(np.asarray(weights))
        stored = np.empty(weights.shape, storage(unit))
        _kernels.quantise(frozen(weights, np.float32).reshape(-1, weights.shape[2]), stored.reshape(-1, weights.shape[2]), unit)
        return cls(names=names, layers=layers, weights=stored, lost_mean=lost_mean, lost_worst=lost_worst)

    @classmethod
    def from_channels(
        cls, channels: Stored, names: Sequence[str], *, sums: str = "normalise", keep: int = KEEP, bits: int = 8
    ) -> WeightMap:
        """Make one from a channel for each layer, as splat maps hold them.

        Parameters
        ----------
        channels : (rows, columns, layers) uint8, uint16 or float
            How much of each layer; whole numbers are shares of the largest that they can be.
        names : sequence of str
            One for each channel, the lowest layer first.
        sums : "normalise" or "refuse"
            What becomes of texels whose channels do not sum to 1 within rounding.
        keep : int
            How many layers a texel keeps, 1 to 16: the largest.
        bits : 8 or 16

        Raises
        ------
        ShapeError, RangeError
            If channels and names do not fit, a value is below 0 or not finite, a texel holds nothing, or sums are refused.

        Examples
        --------
        >>> WeightMap.from_channels(np.array([[[200, 100]]], np.uint8), ["sand", "rock"]).weights.tolist()
        [[[170, 85]]]
        """
        given, names = np.asarray(channels), tuple(names)
        if given.ndim != 3 or given.shape[2] != len(names) or 0 in given.shape:
            raise ShapeError(
                f"channels must be (rows, columns, {len(names)}), one for each of the layers {list(names)}; got {given.shape}"
            )
        if given.dtype.kind not in "fu" or (given.dtype.itemsize == 8 and given.dtype.kind == "u"):
            raise ShapeError(f"channels must be uint8, uint16 or floats; got {given.dtype}")
        known_name("way to settle sums", sums, ["normalise", "refuse"])
        shares = given.astype(np.float32) if given.dtype.kind == "f" else fractions(given)
        if not np.isfinite(shares).all() or shares.min() < 0:
            raise RangeError("channels must be finite and not below 0; clip them first: np.clip(channels, 0, None)")
        total = shares.sum(axis=2)
        if (total <= 0).any():
            row, column = np.argwhere(total <= 0)[0]
            raise RangeError(f"{int((total <= 0).sum())} texels hold nothing, the first at row {row}, column {column}")
        slack = 1e-3 if given.dtype.kind == "f" else 0.51 * len(names) / np.iinfo(given.dtype).max
        if sums == "refuse" and (worst := float(np.abs(total - 1).max())) > slack:
            raise RangeError(f'channels must sum to 1; they are off by up to {worst:.3g}; sums="normalise" divides by the sum')
        shares /= total[..., None]
        rows, columns = total.shape
        keep = min(checked_keep(keep), len(names))
        index = np.empty((rows * columns, keep), index_type(len(names)))
        weight, lost = np.empty((rows * columns, keep), np.float32), np.empty(rows * columns, np.float32)
        keep_largest(np.ascontiguousarray(shares.reshape(-1, len(names)).T), index, weight, lost)
        made = cls.of(names, index.reshape(rows, columns, keep), weight.reshape(rows, columns, keep), bits=bits)
        return replace(made, lost_mean=float(lost.mean()), lost_worst=float(lost.max()))

    def __repr__(self) -> str:
        height, width, keep = self.layers.shape
        keep = min(keep, len(self.names))
        return f"<WeightMap {width} x {height} texels, {keep} of {len(self.names)} layers at each: {', '.join(self.names)}>"

    @property
    def unit(self) -> int:
        """What the weights of a texel sum to: 255 or 65535."""
        return int(np.iinfo(self.weights.dtype).max)

    def at(self, points: Points) -> PointWeights:
        """Return the weights at points, bilinear between texels, clamped at the border (what an engine will do).

        Raises
        ------
        ShapeError
            If the points have no uv.
        """
        height, width, _ = self.layers.shape
        return read_at(points, self.names, self.layers, self.weights, (height, width, 0, 0, width))

    def layer(self, name: str | int) -> NDArray[np.float32]:
        """Return how much of one layer shows, (H, W) float32, 0..1."""
        which = name if isinstance(name, int) else self.names.index(known_name("layer", name, self.names))
        return np.where(self.layers == which, self.weights, 0).sum(axis=2, dtype=np.float32) / np.float32(self.unit)

    def shares(self) -> dict[str, float]:
        """Return the share of the surface that each layer covers; they sum to 1."""
        sums = np.zeros(len(self.names))
        for band in bands(self.layers.shape[:2], _AT_ONCE):
            rows = slice(band.top, band.bottom)
            sums += np.bincount(self.layers[rows].ravel(), self.weights[rows].ravel(), minlength=len(self.names))
        return {name: float(s / sums.sum()) for name, s in zip(self.names, sums, strict=True)}

    def layers_per_texel(self) -> NDArray[np.uint8]:
        """Return how many layers show at each texel, (H, W) uint8."""
        return np.count_nonzero(self.weights, axis=2).astype(np.uint8)

    def dominant(self) -> Stored:
        """Return which layer shows most at each texel, (H, W); the first one stored among equals."""
        most = self.weights.argmax(axis=2)[..., None]
        return np.take_along_axis(self.layers, most, axis=2)[..., 0]

    def coverage(self, area: float | None = None) -> DataFrame:
        """Return how much of the surface each layer covers, one row a layer, from the bottom up.

        Parameters
        ----------
        area : float, optional
            Square metres of the surface, seen from above (`Terrain.area`).

        Returns
        -------
        pandas.DataFrame
            percent (of the surface), square_metres (where the area is given), texels (where it shows at all), dominant_texels
            (where it shows most), mean_weight (0..1, over the texels where it shows).
        """
        try:
            from pandas import DataFrame
        except ImportError as error:
            raise RangeError("a table needs pandas; install it with: pip install 'jagged-quilt[tables]'") from error
        return DataFrame(self.covered(area), index=list(self.names)).rename_axis("layer")

    def covered(self, area: float | None = None) -> dict[str, NDArray[np.float64] | NDArray[np.int64]]:
        """Return the columns of `coverage` as arrays, (L,) each."""
        count = len(self.names)
        sums = np.bincount(self.layers.ravel(), self.weights.ravel(), minlength=count) / self.unit
        present = np.bincount(self.layers[self.weights > 0], minlength=count)
        shares = sums / (self.layers.shape[0] * self.layers.shape[1])
        columns: dict[str, NDArray[np.float64] | NDArray[np.int64]] = {"percent": 100 * shares}
        if area is not None:
            columns["square_metres"] = area * shares
        columns["texels"] = present
        columns["dominant_texels"] = np.bincount(self.dominant().ravel(), minlength=count)
        columns["mean_weight"] = np.divide(sums, present, out=np.zeros(count), where=present > 0)
        return columns

    def in_bits(self, bits: int) -> WeightMap:
        """Return the weights stored in 8 or 16 bits, which sum to exactly 255 or 65535 again."""
        unit = unit_of(bits)
        if unit == self.unit:
            return self
        keep = self.layers.shape[2]
        stored = np.empty(self.weights.shape, storage(unit))
        shares = self.weights.reshape(-1, keep) * np.float32(1 / self.unit)
        _kernels.quantise(frozen(shares, np.float32), stored.reshape(-1, keep), unit)
        return replace(self, weights=stored)

    def resized(self, rows: int, columns: int, *, enlarge: bool = True, keep: int | None = None) -> WeightMap:
        """Return the weights at another size; every texel still sums to 1.

        Smaller, each texel is the mean of all that it covers; larger, weights are bilinear between texels.

        Parameters
        ----------
        enlarge : bool
            False leaves a map as it is that would grow along either side.
        keep : int, optional
            How many layers a texel keeps; as many as now where it is not given.
        """
        height, width, own = self.layers.shape
        if ((rows, columns) == (height, width) and keep in (None, own)) or (not enlarge and (rows > height or columns > width)):
            return self
        keep = min(own if keep is None else keep, len(self.names))
        index = np.empty((rows, columns, keep), self.layers.dtype)
        stored = np.empty((rows, columns, keep), self.weights.dtype)
        sums = np.zeros((len(self.names), columns), np.float32)
        weight, lost = np.empty((columns, keep), np.float32), np.empty((rows, columns), np.float32)
        for row in range(rows):
            _kernels.resize_row(row, rows, self.layers, self.weights, np.float32(self.unit), sums)
            keep_largest(sums, index[row], weight, lost[row])
            _kernels.quantise(frozen(weight, np.float32), stored[row], self.unit)
        return WeightMap(
            names=self.names,
            layers=index,
            weights=stored,
            lost=np.ceil(lost * 255 - 1e-3).astype(np.uint8),
            lost_mean=float(lost.mean()),
            lost_worst=float(lost.max()),
        )

    def save(self, folder: Path | str) -> list[Path]:
        """Write PNG files of four channels each (layer numbers, and their weights), one of what was cut, and a manifest.

        Return the files.
        """
        folder = Path(folder)
        keep = self.layers.shape[2]
        lost = {"mean": self.lost_mean, "worst": self.lost_worst}
        manifest = {
            "layers": list(self.names),
            "keep": keep,
            "bits": 8 * self.weights.itemsize,
            "lost": lost,
            "lost_map": self.lost is not None,
            "shares": self.shares(),
        }
        names = []
        with written_together(folder) as stage:
            for first in range(0, keep, 4):
                for kind, texels in (("layers", self.layers), ("weights", self.weights)):
                    names.append(f"{kind}_{first // 4}.png")
                    write_image(stage / names[-1], _Four(texels[..., first : first + 4]))
            if self.lost is not None:
                names.append("lost.png")
                write_image(stage / names[-1], self.lost[..., None])
            write_json(stage / "weights.json", manifest)
        return [folder / name for name in [*names, "weights.json"]]


class _Four:
    """Up to four channels as four, padded with zeros when they are read, rows at a time."""

    def __init__(self, texels: Stored) -> None:
        self._texels, self.dtype, self.ndim = texels, texels.dtype, 3
        self.shape = (*texels.shape[:2], 4)

    def __getitem__(self, rows: int | slice) -> Stored:
        part = self._texels[rows]
        return np.concatenate([part, np.zeros((*part.shape[:-1], 4 - part.shape[-1]), self.dtype)], axis=-1)


@reads("weight map")
def open_weights(folder: Path | str, room: ArrayStore = MEMORY) -> WeightMap:
    """Open what `WeightMap.save` wrote, to the byte; raise `FileError` if something is missing or does not fit together.

    room : where the weights lie, in memory or on a `DiskStore` if they are more than can be held.

    Examples
    --------
    >>> files = jq.weigh(ground.canvas(16), layers).save("weights")
    >>> jq.open_weights("weights")
    <WeightMap 16 x 16 texels, 2 of 2 layers at each: clay, salt>
    """
    folder = Path(folder)
    manifest = read_json(folder / "weights.json", "list of weights")
    try:
        keep = int(manifest["keep"])
        return WeightMap(
            names=tuple(manifest["layers"]),
            layers=_sheets(folder, "layers", keep, room),
            weights=_sheets(folder, "weights", keep, room),
            lost=read_channels_into(room, folder / "lost.png", OURS).texels[..., 0] if manifest.get("lost_map") else None,
            lost_mean=float(manifest["lost"]["mean"]),
            lost_worst=float(manifest["lost"]["worst"]),
        )
    except (KeyError, TypeError, ValueError) as error:
        raise FileError(f"{folder}: these weights do not fit together ({error}); weigh again") from error


def _sheets(folder: Path, kind: str, keep: int, room: ArrayStore) -> Stored:
    """The channels of some sheets side by side, (H, W, K)."""
    out: Stored | None = None
    for first in range(0, keep, 4):
        path = folder / f"{kind}_{first // 4}.png"
        for top, band in image_bands(path, OURS):
            if out is None:
                out = room.empty((*image_size(path, OURS), keep), band.texels.dtype)
            part = out[top : top + len(band.texels), :, first : first + 4]
            part[...] = band.texels[..., : part.shape[2]]
    if out is None:
        raise ValueError("no layer is kept")
    return out


def patched(whole: WeightMap, part: WeightMap, top: int, left: int) -> WeightMap:
    """Return a map with some of it, from a row and a column on, in place of what was there."""
    rows, columns = part.layers.shape[:2]
    where = slice(top, top + rows), slice(left, left + columns)
    layers, weights = whole.layers.copy(), whole.weights.copy()
    layers[where], weights[where] = part.layers, part.weights
    lost = None if whole.lost is None else whole.lost.copy()
    if lost is None or part.lost is None:
        return replace(whole, layers=layers, weights=weights, lost=None)
    lost[where] = part.lost
    mean, worst = float(lost.mean(dtype=np.float64)) / 255, max(whole.lost_worst, part.lost_worst)
    return replace(whole, layers=layers, weights=weights, lost=lost, lost_mean=mean, lost_worst=worst)
