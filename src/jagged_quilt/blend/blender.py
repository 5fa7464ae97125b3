"""The plan of a blend: arrays and layers laid out for the kernel, and the calls that run it."""

from __future__ import annotations

import math
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.layout import Layout
from jagged_quilt.arrays.mips import level_count
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend import _kernels as k
from jagged_quilt.blend.charts import Charts, is_plain, layer_code, rigid_frame
from jagged_quilt.blend.layer import Layer, one_each
from jagged_quilt.blend.projection import FILTERS, Filter
from jagged_quilt.blend.survey import Survey
from jagged_quilt.foundation.checks import known_name, positive
from jagged_quilt.foundation.colour import srgb_encode_table
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.points import Points
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.weights.weight_map import Kept

NormalSpace = Literal["tangent", "world"]

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

    @classmethod
    def empty(cls, count: int) -> EncodedTexels:
        """Return room for `count` texels, all 0."""
        three = [np.zeros((count, 3), np.uint8) for _ in range(3)]
        one = [np.zeros(count, np.uint8) for _ in range(2)]
        return cls(three[0], three[1], one[0], three[2], one[1], np.zeros(count, np.uint16))


class Blender:
    """Blends layers at points.

    Parameters
    ----------
    arrays : TextureArrays
    layers : sequence of Layer
        From the bottom up, as they were weighed.
    filter : "trilinear", "anisotropic", "bilinear" or "nearest"
        How texels are read where a layer does not say: with mips chosen by the points' footprints, by several samples along
        the footprint, or at full size.
    frame : (4, 4), optional
        Takes places of the object to places of the world, for layers that are laid on in the object's space; its scale is
        left out, so that tiles stay true in metres.
    relief : float, optional
        Metres of relief that height 1 stands for; those of the tallest swatch where it is not given.

    Raises
    ------
    NameNotFoundError
        If a layer names a swatch that the arrays do not hold.
    """

    def __init__(
        self, arrays: TextureArrays, layers: Sequence[Layer], *, filter: Filter = "trilinear", frame: object | None = None,
        relief: float | None = None,
    ) -> None:  # fmt: skip
        known_name("filter", filter, FILTERS)
        if not layers:
            raise ShapeError("there is no layer to blend; name at least one")
        layers = one_each(layers)
        self._layer_count = len(layers)
        slices = [arrays.place_of(layer.swatch) for layer in layers]
        self.tallest_relief = max(arrays.reliefs[s] for s in slices) if relief is None else positive("relief", relief, "m")
        """Metres of relief that height 1 stands for."""
        tiles = [arrays.tiles[which] for which in slices]
        self._layers = np.array(
            [
                _layer_row(layer, arrays, which, self.tallest_relief, filter)
                for layer, which in zip(layers, slices, strict=True)
            ],
            np.float32,
        )
        self._charts = Charts(np.eye(4) if frame is None else rigid_frame(frame))
        self._chart_of = np.array(
            [self._charts.add(layer.projection, tile, filter) for layer, tile in zip(layers, tiles, strict=True)], np.int32
        )
        self._chart_table = self._charts.table
        self._tile_of = np.array([1 / tile for tile in tiles])
        projections = [layer.projection for layer in layers]
        self._is_plain = is_plain(projections, filter)
        self._most_taps = max(
            each.anisotropy if (each.filter or filter) == "anisotropic" else 1 for each in projections
        )  # fmt: skip
        used = sorted(set(slices))
        self._slice_of = np.array([used.index(which) for which in slices], np.int32)
        layouts, self._texels = arrays.blend_texels([arrays.names[which] for which in used])
        self._is_colour = np.array([layout.srgb for layout in layouts])
        self._side_bits = arrays.side.bit_length() - 1
        self._slice_count = len(used)
        has_mips = any((each.filter or filter) in ("trilinear", "anisotropic") for each in projections)
        self._levels = level_count(arrays.side) if has_mips else 1
        self._encode = srgb_encode_table()
        self._role_row, self._neutral = _role_rows(layouts)
        self._mixed = _mixed_channels(self._role_row, self._is_colour)
        self._scratch = threading.local()

    @property
    def needs_uv(self) -> bool:
        """Whether a layer is laid on by the points' uv."""
        return self._charts.need_uv

    @property
    def needs_true_steps(self) -> bool:
        """Whether a layer is read along the true sides of the footprint."""
        return self._charts.need_true_steps

    def blend(self, points: Points, weights: Kept, *, normals: NormalSpace = "tangent", columns: int = 0) -> Texels:
        """Blend at points.

        Parameters
        ----------
        weights : (N, K) layers and (N, K) float32
            As `WeightMap.at` or `weigh_points` answers.
        normals : "tangent" or "world"
            In the tangent space of the points, or in the world.
        columns : int
            Where the points are the rows of a grid, how wide it is: the same result, sooner.

        Raises
        ------
        ShapeError, RangeError
            If weights do not fit the points or the layers, are not finite, or sum to something else than 1.
        """
        self._check(points, weights, columns)
        out = np.empty((len(points), k.OUTPUTS), np.float32)
        k.blend_points(out, *self._input(points, weights, normals, columns))
        return Texels(out)

    def blend_into(
        self,
        target: EncodedTexels,
        points: Points,
        weights: Kept,
        *,
        normals: NormalSpace = "tangent",
        columns: int = 0,
        where: NDArray[np.int64] | None = None,
    ) -> None:
        """Blend at points and store the texels in `target`, whose arrays have one row per point.

        `columns` is as for `blend`; with `where`, (N,), point n is stored in row where[n].
        """
        self._check(points, weights, columns)
        k.blend_encoded(
            np.empty(0, np.int64) if where is None else where, self._encode, target.diffuse, target.normal,
            target.roughness, target.specular, target.occlusion,
            target.height, *self._input(points, weights, normals, columns),
        )  # fmt: skip

    def survey(self, points: Points, weights: Kept) -> Survey:
        """Return what the blend goes by at points: how textures lie there, how dense and how stretched."""
        self._check(points, weights, 0)
        out = np.empty((len(points), k.SURVEYED), np.float32)
        k.survey_points(out, *self._input(points, weights, "world", 0))
        heaviest = np.take_along_axis(weights[0], np.argmax(weights[1], axis=1)[:, None], axis=1)[:, 0]
        return Survey.of(out, points, self._tile_of[heaviest], 1 << self._side_bits)

    def _input(self, points: Points, weights: Kept, normals: NormalSpace, columns: int) -> tuple[Any, ...]:
        """What every kernel takes, and this thread's buffers."""
        index, weight = (np.ascontiguousarray(each) for each in weights)
        return (
            columns, points.position, points.normal, points.tangent, points.footprint, *self._own_coordinates(points),
            self._true_steps(points), self._charts.moves(points), index, weight, self._layers, self._tile_of, self._slice_of,
            self._chart_of, self._chart_table, self._texels, self._is_colour, self._side_bits, self._slice_count,
            self._levels, self._is_plain, self._role_row, self._mixed, self._neutral, _is_world(normals),
            *self._scratch_for(weight.shape[1]),
        )  # fmt: skip

    def _own_coordinates(self, points: Points) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """The uv of the points and its gradients, (N, 2) and (N, 6); none where no layer is laid on by them."""
        if not self._charts.need_uv:
            return np.empty((0, 2), np.float32), np.empty((0, 6), np.float32)
        if points.uv is None:
            raise ShapeError("a layer is laid on by uv, and these points have none; unwrap the mesh, or use triplanar")
        gradients = points.uv_gradient
        if gradients is None:  # as if they were metres along the tangent and against the bitangent
            along = points.tangent[:, :3]
            gradients = np.stack([along, -np.cross(points.normal, along) * points.tangent[:, 3:]], axis=1)
        return points.uv, np.ascontiguousarray(gradients.reshape(-1, 6), np.float32)

    def _true_steps(self, points: Points) -> NDArray[np.float32]:
        """The steps to the next texels, (N, 6); none where no layer is read along them."""
        if not self._charts.need_true_steps:
            return np.empty((0, 6), np.float32)
        return np.ascontiguousarray(points.true_steps().reshape(-1, 6), np.float32)

    def _scratch_for(self, most: int) -> tuple[Any, ...]:
        """This thread's buffers, for `most` layers at a texel."""
        if getattr(self._scratch, "most", 0) < most:
            arrays, passes = len(self._is_colour), 3 * most * (2 if self._levels > 1 else 1) * self._most_taps
            charts = len(self._chart_table)
            rows = {  # name: (rows of k.B lanes, type)
                "who": (1, np.int64),
                "frame": (k.FRAME_ROWS, np.float32),
                "moved": (k.MOVED_ROWS, np.float32),
                "places": (k.PLACE_ROWS * most, np.float32),
                "counts": (3 * most, np.float32),
                "taps": (3 * most, np.float32),
                "tiles": (most, np.float64),
                "slices": (most, np.int32),
                "charts_at": (most, np.int32),
                "is_laid": (-(-charts // k.B), np.int32),
                "laid_at": (most, np.int64),
                "laid": (k.LAID_ROWS * (charts + most), np.float32),
                "pass_place": (-(-passes // k.B), np.int32),
                "pass_plane": (-(-passes // k.B), np.int32),
                "at": (4, np.int32),
                "around": (4 * arrays * passes, np.uint32),
                "between": (2 * passes, np.float32),
                "shares": (passes, np.float32),
                "heights": (passes, np.float32),
                "tall": (most, np.float32),
                "tallest": (1, np.float32),
                "kept": (most, np.float32),
                "whole": (1, np.float32),
                "weight": (1, np.float32),
                "channels": (4 * arrays, np.float32),
                "sums": (k.SUM_ROWS, np.float32),
                "steps": (k.OUTPUTS, np.int32),
            }
            self._scratch.buffers = tuple(np.zeros(count * k.B, kind) for count, kind in rows.values())
            self._scratch.most = most
        buffers: tuple[Any, ...] = self._scratch.buffers
        return buffers

    def _check(self, points: Points, weights: Kept, columns: int) -> None:
        index, weight = weights
        if columns < 0 or (columns and len(points) % columns):
            raise ShapeError(f"columns must divide the number of points, {len(points)}; got {columns}")
        if index.shape != weight.shape or index.ndim != 2 or len(index) != len(points) or weight.dtype != np.float32:
            raise ShapeError(f"weights must be (N, K) layers and (N, K) float32 for {len(points)} points; "
                             f"got {index.shape} and {weight.dtype} {weight.shape}")  # fmt: skip
        bad = k.first_bad_weights(index, weight, self._layer_count)
        if bad >= 0:
            raise RangeError(f"weights must be from 0 and sum to 1, of layers below {self._layer_count}, at every point; "
                             f"point {bad} has {weight[bad].tolist()} of {index[bad].tolist()}")  # fmt: skip


def _layer_row(layer: Layer, arrays: TextureArrays, which: int, tallest: float, filter: Filter) -> tuple[float, ...]:
    """One row of the kernel's table of layers."""
    softness = max(layer.softness, _SOFTEST_CUT)
    return (
        (1 - softness) / softness,
        arrays.reliefs[which] / tallest,
        math.log2(arrays.side / arrays.tiles[which]),
        *layer_code(layer.projection, filter),
    )


def _role_rows(layouts: Sequence[Layout]) -> tuple[NDArray[np.int32], NDArray[np.float32]]:
    """Return, for each output, 4 * array + channel that holds it, or -1, and the neutral value that then stands in."""
    rows = np.full(k.OUTPUTS, -1, np.int32)
    neutral = np.zeros(k.OUTPUTS, np.float32)
    for row, layout in enumerate(layouts):
        for place, channel in enumerate(layout.channels):
            if channel.role is not None:
                rows[_OUTPUT_OF_ROLE[channel.role] + channel.component] = 4 * row + place
    for role, first in _OUTPUT_OF_ROLE.items():
        neutral[first : first + role.value.channels] = role.value.neutral
    return rows, neutral


def _mixed_channels(role_row: NDArray[np.int32], is_colour: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Return which channels (4 * array + channel) are plain sums: those that roles read, but normals, height and colour."""
    mixed = np.zeros(4 * len(is_colour), bool)
    for role in (*range(k.DIFFUSE, k.DIFFUSE + 3), k.ROUGHNESS, *range(k.SPECULAR, k.SPECULAR + 3), k.OCCLUSION):
        row = int(role_row[role])
        if row >= 0 and not (is_colour[row // 4] and row % 4 < 3):
            mixed[row] = True
    return mixed


def _is_world(normals: str) -> bool:
    if normals not in ("tangent", "world"):
        raise RangeError(f'normals must be "tangent" or "world"; got {normals!r}')
    return normals == "world"
