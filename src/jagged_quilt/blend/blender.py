"""The plan of a blend: arrays and layers laid out for the kernel, and the calls that run it."""

from __future__ import annotations

import math
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.mips import level_count
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend import _kernels as k
from jagged_quilt.blend.layer import Layer, Triplanar
from jagged_quilt.foundation.colour import srgb_decode_table, srgb_encode_table
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.points import Points
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.weights.weight_map import Kept

Filter = Literal["bilinear", "trilinear"]
NormalSpace = Literal["tangent", "world"]

BLOCK = 512  # texels; their samples stay in the second-level cache
_SOFTEST_CUT = 1e-6

_OUTPUT_OF_ROLE = {
    MapRole.DIFFUSE: k.DIFFUSE,
    MapRole.NORMAL: k.NORMAL,
    MapRole.ROUGHNESS: k.ROUGHNESS,
    MapRole.SPECULAR: k.SPECULAR,
    MapRole.OCCLUSION: k.OCCLUSION,
    MapRole.HEIGHT: k.HEIGHT,
}


@dataclass(frozen=True, slots=True, eq=False)
class Texels:
    """What a blend gives: one row of `values` per point, linear.

    Attributes
    ----------
    values : (N, 12) float32
    """

    values: NDArray[np.float32]

    def __getitem__(self, role: MapRole) -> NDArray[np.float32]:
        """Return one role: (N, 3) linear colour or unit normals (-1..1), or (N,) numbers 0..1."""
        first, channels = _OUTPUT_OF_ROLE[role], role.value.channels
        return self.values[:, first] if channels == 1 else self.values[:, first : first + channels]


@dataclass(frozen=True, slots=True, eq=False)
class EncodedTexels:
    """Where a blend stores finished texels, each (N,) or (N, C), by the convention of its role."""

    diffuse: NDArray[np.uint8]
    normal: NDArray[np.uint8]
    roughness: NDArray[np.uint8]
    specular: NDArray[np.uint8]
    occlusion: NDArray[np.uint8]
    height: NDArray[np.uint16]


class Blender:
    """Blends layers at points.

    Parameters
    ----------
    arrays : TextureArrays
    layers : sequence of Layer
        From the bottom up, as they were weighed.
    filter : "trilinear" or "bilinear"
        Whether mips are chosen by the points' footprints, or the full size is always read.

    Raises
    ------
    NameNotFoundError
        If a layer names a swatch that the arrays do not hold.
    """

    def __init__(self, arrays: TextureArrays, layers: Sequence[Layer], *, filter: Filter = "trilinear") -> None:
        if filter not in ("bilinear", "trilinear"):
            raise RangeError(f'filter must be "bilinear" or "trilinear"; got {filter!r}')
        if not layers:
            raise ShapeError("there is no layer to blend; name at least one")
        self._layer_count = len(layers)
        slices = [arrays.slice_of(layer.swatch) for layer in layers]
        self.tallest_relief = max(arrays.reliefs[s] for s in slices)
        """Metres of relief that height 1 stands for."""
        self._layers_f = np.array([_layer_row(layer, arrays, self.tallest_relief) for layer in layers])
        self._layers_i = np.array(
            [(s, k.TRIPLANAR if isinstance(layer.projection, Triplanar) else k.PLANAR)
             for s, layer in zip(slices, layers, strict=True)], np.int32,
        )  # fmt: skip
        self._texels = arrays.texels
        self._is_colour = np.array([layout.colour for layout in arrays.layouts])
        self._side_bits = arrays.side.bit_length() - 1
        self._level_start = arrays.level_starts[:-1].astype(np.int32)
        self._levels = level_count(arrays.side) if filter == "trilinear" else 1
        self._decode = srgb_decode_table()
        self._encode = srgb_encode_table()
        self._role_row, self._neutral_rows = _role_rows(arrays)
        self._height_array = int(self._role_row[k.HEIGHT]) // 4 if self._role_row[k.HEIGHT] < 4 * len(self._is_colour) else 0
        self._scratch = threading.local()

    def blend(self, points: Points, weights: Kept, *, normals: NormalSpace = "tangent") -> Texels:
        """Blend at points.

        Parameters
        ----------
        weights : (N, K) layers and (N, K) float32
            As `WeightMap.at` or `weigh_points` answers.
        normals : "tangent" or "world"
            In the tangent space of the points, or in the world.

        Raises
        ------
        ShapeError, RangeError
            If weights do not fit the points or the layers, are not finite, or sum to something else than 1.
        """
        world = _is_world(normals)
        self._check(points, weights)
        out = np.empty((len(points), k.OUTPUTS), np.float32)
        for first in range(0, len(points), BLOCK):
            last = min(first + BLOCK, len(points))
            out[first:last] = self._block(points, weights, first, last, world)[: last - first]
        return Texels(out)

    def blend_into(
        self, target: EncodedTexels, points: Points, weights: Kept, *, normals: NormalSpace = "tangent"
    ) -> None:
        """Blend at points and store the texels in `target`, whose arrays have one row per point."""
        world = _is_world(normals)
        self._check(points, weights)
        for first in range(0, len(points), BLOCK):
            last = min(first + BLOCK, len(points))
            blended = self._block(points, weights, first, last, world)
            k.encode(
                first, last - first, blended, self._encode, target.diffuse, target.normal, target.roughness,
                target.specular, target.occlusion, target.height,
            )  # fmt: skip

    def _block(self, points: Points, weights: Kept, first: int, last: int, world: bool) -> NDArray[np.float32]:
        index, weight = weights
        scratch = self._scratch_for(weight.shape[1])
        k.blend_block(
            first, last, points.position, points.normal, points.tangent, points.footprint, index, weight,
            self._layers_f, self._layers_i, self._texels, self._is_colour, self._side_bits, self._level_start,
            self._levels, self._decode, self._role_row, self._height_array, world, *scratch,
        )  # fmt: skip
        return scratch[-1]  # type: ignore[no-any-return]

    def _scratch_for(self, most: int) -> tuple[Any, ...]:
        """This thread's buffers, for `most` layers at a texel."""
        if getattr(self._scratch, "most", 0) < most:
            samples = 3 * most * BLOCK + k.PAD
            entries = most * BLOCK + 1
            rows = np.empty((4 * len(self._is_colour) + len(self._neutral_rows), samples), np.float32)
            rows[4 * len(self._is_colour) :] = self._neutral_rows[:, None]
            self._scratch.buffers = (
                np.empty((4, samples), np.float32), np.empty((3, samples), np.int32),
                np.empty((2, entries), np.float32), np.empty((2, entries), np.int32),
                rows, np.empty(samples, np.float32),
                np.empty(BLOCK + 1, np.int32), np.empty(BLOCK + 1, np.int32), np.empty((BLOCK, k.OUTPUTS), np.float32),
            )  # fmt: skip
            self._scratch.most = most
        return self._scratch.buffers  # type: ignore[no-any-return]

    def _check(self, points: Points, weights: Kept) -> None:
        index, weight = weights
        if index.shape != weight.shape or index.ndim != 2 or len(index) != len(points) or weight.dtype != np.float32:
            raise ShapeError(f"weights must be (N, K) layers and (N, K) float32 for {len(points)} points; "
                             f"got {index.shape} and {weight.dtype} {weight.shape}")  # fmt: skip
        if len(points) == 0:
            return
        if int(index.max()) >= self._layer_count or int(index.min()) < 0:
            raise RangeError(f"weights name layer {int(index.max())}, and there are {self._layer_count}")
        sums = weight.sum(axis=1)
        if not (np.abs(sums - 1) <= 1e-4).all() or float(weight.min()) < 0:
            worst = int(np.argmax(np.abs(np.nan_to_num(sums, nan=np.inf) - 1)))
            raise RangeError(f"weights must be from 0 and sum to 1 at every point; point {worst} sums to {sums[worst]}")


def _layer_row(layer: Layer, arrays: TextureArrays, tallest: float) -> tuple[float, ...]:
    which = arrays.slice_of(layer.swatch)
    sharpness = layer.projection.sharpness if isinstance(layer.projection, Triplanar) else 0.0
    softness = max(layer.softness, _SOFTEST_CUT)
    return (
        1 / arrays.tiles[which],
        sharpness,
        (1 - softness) / softness,
        arrays.reliefs[which] / tallest,
        math.log2(arrays.side / arrays.tiles[which]),
    )


def _role_rows(arrays: TextureArrays) -> tuple[NDArray[np.int32], NDArray[np.float32]]:
    """Return which row of the sample buffers each output reads, and the values of the rows that hold neutral roles."""
    rows = np.full(k.OUTPUTS, -1, np.int32)
    for row, layout in enumerate(arrays.layouts):
        for channel, content in enumerate(layout.channels):
            if content is not None:
                rows[_OUTPUT_OF_ROLE[content[0]] + content[1]] = 4 * row + channel
    neutral = []
    for role, first in _OUTPUT_OF_ROLE.items():
        for channel, value in enumerate(role.value.neutral):
            if rows[first + channel] < 0:
                rows[first + channel] = 4 * len(arrays.layouts) + len(neutral)
                neutral.append(value * 0.5 + 0.5 if role is MapRole.NORMAL else value)
    return rows, np.array(neutral, np.float32)


def _is_world(normals: str) -> bool:
    if normals not in ("tangent", "world"):
        raise RangeError(f'normals must be "tangent" or "world"; got {normals!r}')
    return normals == "world"
