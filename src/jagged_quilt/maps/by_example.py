"""Growing a swatch by example: a tile several times as wide that looks alike everywhere and repeats nowhere within."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import DTypeLike, NDArray

from jagged_quilt.foundation.checks import number_in, whole_number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.texture_map import TextureMap

_MOST_TIMES, _LARGEST = 16, 16384  # and texels along a side
_AT_ONCE = 1 << 18  # texels


@dataclass(frozen=True, slots=True, kw_only=True)
class Grow:
    """How a swatch is grown.

    Attributes
    ----------
    times : int
        How many tiles wide and high the new one is, 2 to 16.
    size : float
        Metres from patch to patch; half a tile where it is 0.
    seed : int
    """

    __repr__ = short_repr

    times: int
    size: float = 0.0
    seed: int = 0

    def __post_init__(self) -> None:
        whole_number_in("grow times", self.times, 2, _MOST_TIMES)
        number_in("grow size", self.size, 0, unit="m")
        whole_number_in("grow seed", self.seed, 0, (1 << 31) - 1)


def grown(swatch: Swatch, grow: Grow) -> Swatch:
    """Return a swatch whose tile is so many times as wide, made of patches of the old one that melt into each other.

    Patches stand on a grid of triangles, each the old tile shifted at random. So that nothing grows pale or ghostly where three
    of them mix, every channel is mixed as a Gaussian of the same ranks, its variance kept, and brought back to its own
    histogram (Heitz and Neyret 2018; Deliot and Heitz 2019); colours along their own axes. All maps move together. For what has
    no order of its own: soil, gravel, lichen, rust; bricks and planks lose theirs.

    Raises
    ------
    RangeError
        If a map would be more than 16384 texels wide.

    Examples
    --------
    >>> jq.grown(clay, jq.Grow(times=2, seed=1))
    Swatch(name='clay', tile=2, relief=0.05, maps={diffuse})
    """
    largest = max(max(each.shape) for each in swatch.maps.values()) * grow.times
    if largest > _LARGEST:
        raise RangeError(f'swatch "{swatch.name}": grown, a map would be {largest} texels wide; at most {_LARGEST} can be made')
    patches = _Patches.of(grow, swatch.tile)
    maps = {role: _grown_map(each, grow, patches) for role, each in swatch.maps.items()}
    return replace(swatch, tile=swatch.tile * grow.times, maps=maps)


class _Patches(NamedTuple):
    """Patches on a grid of triangles over the new tile, R rows of C, R even; and where each lies in the old tile, (R, C, 2) of
    0 to 1."""

    rows: int
    columns: int
    shifts: NDArray[np.float64]

    @classmethod
    def of(cls, grow: Grow, tile: float) -> _Patches:
        across = grow.times * tile / (grow.size or tile / 2)
        columns, rows = max(2, round(across)), max(2, 2 * round(across / np.sqrt(3)))
        return cls(rows, columns, np.random.default_rng(grow.seed).random((rows, columns, 2)))

    def around(
        self, down: NDArray[np.float64], across: NDArray[np.float64]
    ) -> list[tuple[NDArray[np.float64], NDArray[np.float64]]]:
        """Return, for places 0 to 1 of the new tile, each of the three patches around: how much it counts, (N,), and its
        shift, (N, 2)."""
        y = down * self.rows
        x = across * self.columns - 0.5 * y
        row, column = np.floor(y).astype(np.int64), np.floor(x).astype(np.int64)
        b, a = y - row, x - column
        upper = (a + b > 1).astype(np.int64)
        far = np.abs(1 - a - b)
        weights = far, np.where(upper, 1 - b, b), np.where(upper, 1 - a, a)
        corners = ((column + upper, row + upper), (column + upper, row + 1 - upper), (column + 1 - upper, row + upper))
        return [(weight, self._shift(*corner)) for weight, corner in zip(weights, corners, strict=True)]

    def _shift(self, column: NDArray[np.int64], row: NDArray[np.int64]) -> NDArray[np.float64]:
        """Half a patch to the side with each row: after all rows, one stands where another of the first row does."""
        column = column + row // self.rows * (self.rows // 2)
        return self.shifts[row % self.rows, column % self.columns]


def _grown_map(given: TextureMap, grow: Grow, patches: _Patches) -> TextureMap:
    height, width = given.shape
    texels: Stored = given.values if given.role.value.direction else np.asarray(given.texels)
    channels = texels[..., : given.role.value.packed].astype(np.float64).reshape(height * width, -1)
    if (channels == channels[0]).all():
        return given
    axes = _own_axes(channels)
    ranked = [_Ranked.of(each) for each in (channels @ axes).T]
    gauss = np.stack([each.gauss for each in ranked], axis=1).reshape(height, width, -1)
    out = np.empty((height * grow.times, width * grow.times, texels.shape[2]), texels.dtype)
    rows = max(1, _AT_ONCE // out.shape[1])
    for top in range(0, len(out), rows):
        part = out[top : top + rows]
        row, column = (each.ravel() for each in np.mgrid[top : top + len(part), : out.shape[1]])
        mixed, square = np.zeros((len(row), gauss.shape[2])), np.zeros(len(row))
        for weight, shift in patches.around((row + 0.5) / len(out), (column + 0.5) / out.shape[1]):
            moved = np.rint(shift * (height, width)).astype(np.int64)
            mixed += weight[:, None] * gauss[(row + moved[:, 0]) % height, (column + moved[:, 1]) % width]
            square += weight * weight
        mixed /= np.sqrt(square)[:, None]
        found = np.stack([each.back(mixed[:, n]) for n, each in enumerate(ranked)], axis=1) @ axes.T
        part[...] = _stored(found, given, texels.dtype).reshape(part.shape)
    return TextureMap.of_values(given.role, out, given.source) if given.role.value.direction else replace(given, texels=out)


def _stored(values: NDArray[np.float64], given: TextureMap, kind: DTypeLike) -> Stored:
    if given.role.value.direction:
        flat = values / np.maximum(1, np.linalg.norm(values, axis=1, keepdims=True) / 0.999)
        return np.column_stack([flat, np.sqrt(1 - np.einsum("nc,nc->n", flat, flat))]).astype(np.float32)
    if kind == np.float32:
        return np.maximum(values, 0).astype(np.float32)
    return np.rint(np.clip(values, 0, np.iinfo(np.dtype(kind)).max)).astype(kind)


def _own_axes(channels: NDArray[np.float64]) -> NDArray[np.float64]:
    """Axes along which channels vary on their own, (C, C)."""
    if channels.shape[1] == 1:
        return np.eye(1)
    return np.asarray(np.linalg.eigh(np.cov(channels.T))[1])


class _Ranked(NamedTuple):
    """A channel as a Gaussian of the same ranks, (N,), and its values in order."""

    gauss: NDArray[np.float32]
    ordered: NDArray[np.float64]

    @classmethod
    def of(cls, values: NDArray[np.float64]) -> _Ranked:
        from scipy.special import ndtri

        ties = np.random.default_rng(0).random(len(values))  # alike values in no order of place
        order = np.lexsort((ties, values))
        gauss = np.empty(len(values), np.float32)
        gauss[order] = ndtri((np.arange(len(values)) + 0.5) / len(values))
        return cls(gauss, values[order])

    def back(self, gauss: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the values of the same ranks, between the two nearest."""
        from scipy.special import ndtr

        at = np.clip(ndtr(gauss) * len(self.ordered) - 0.5, 0, len(self.ordered) - 1)
        low = at.astype(np.int64)
        high = np.minimum(low + 1, len(self.ordered) - 1)
        return self.ordered[low] + (at - low) * (self.ordered[high] - self.ordered[low])
