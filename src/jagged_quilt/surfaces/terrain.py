"""A terrain: heights on a grid, in metres."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import TEXELS, Region, checked_texels
from jagged_quilt.foundation.checks import finite_array, frozen, positive
from jagged_quilt.foundation.disk_store import ArrayStore, DiskStore, MappedArray, Memory, arrived, key_of, travelling
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.points import LARGEST, NEAR, Points
from jagged_quilt.meshes._rows import FilledPoints
from jagged_quilt.surfaces.grid_canvas import GridCanvas
from jagged_quilt.surfaces.relief import relief_of
from jagged_quilt.surfaces.settings import Between
from jagged_quilt.surfaces.terrain_fields import TerrainFields

_kernels = kernels_of("jagged_quilt.surfaces._kernels")

_LONGEST = 4 * LARGEST  # metres that a ray goes


class Terrain(NotebookValue):
    """A heightmap over a rectangle of the world.

    Its north-west corner lies at x = 0, z = 0; the first and the last sample of each row and column lie on the border, so
    that samples are `size / (samples - 1)` apart.

    Parameters
    ----------
    heights : (R, C) float32
        Metres; row 0 is north, at least 2 x 2.
    size : (float, float)
        Metres, east and south.
    between : "bilinear" or "cubic"
        Between samples heights and slopes are bilinear; or heights are cubic splines along both axes, and slopes those of the
        splines. Rays meet the bilinear ground in any case.
    shelf : DiskStore, optional
        Where slopes lie, and what masks ask of the whole, if heights are more than can be held: heights that are mapped from a
        .npy file (`numpy.load(path, mmap_mode="r")`, `read_terrain(…, shelf=…)`) are then read where they are needed.

    Raises
    ------
    ShapeError, RangeError
        If the heights are not such a grid or not finite, or a size is not above 0.

    Examples
    --------
    >>> Terrain([[0, 1], [2, 3]], size=(4, 4)).height_range
    (0.0, 3.0)
    """

    def __init__(
        self,
        heights: object,
        *,
        size: tuple[float, float],
        between: Between | str = Between.BILINEAR,
        shelf: DiskStore | None = None,
    ) -> None:
        self.between, self.shelf = Between.of(between, "way between samples"), shelf
        self.heights = finite_array("heights", heights, ("R", "C")) if shelf is None else _as_they_lie(heights)
        if min(self.heights.shape) < 2:
            raise ShapeError(f"a heightmap needs at least 2 x 2 samples; got {self.heights.shape}")
        if not isinstance(size, Sequence | np.ndarray) or len(size) != 2:
            raise ShapeError(f"size must be two lengths, metres east and south, as (256, 256); got {size!r}")
        self.size = (_checked_size("size east", size[0]), _checked_size("size south", size[1]))
        rows, columns = self.heights.shape
        self.spacing = (self.size[0] / (columns - 1), self.size[1] / (rows - 1))
        relief = relief_of(self.heights, self.spacing, self.room, self.key)
        self.height_range = relief.low, relief.high
        """Lowest and highest sample, in metres."""
        if max(-relief.low, relief.high) > LARGEST:
            raise RangeError(f"heights must lie within {LARGEST / 1000:,.0f} km; got {max(-relief.low, relief.high):.4g} m")
        self._grid = _kernels.GridRows(
            self.heights, relief.east, relief.south, *self.spacing, *self.size, self.between is Between.CUBIC
        )
        extremes = relief.high, relief.low, relief.steepest
        self._ground = _kernels.GroundRows(self.heights, relief.highest, *extremes, *self.spacing)

    made_canvas: ClassVar[str] = "terrain.canvas(1024)"

    def __reduce__(self) -> tuple[object, ...]:
        return _made, (travelling(self.heights), self.size, self.between, self.shelf)

    @property
    def room(self) -> ArrayStore:
        """Where large arrays that are made of it lie."""
        return Memory() if self.shelf is None else self.shelf

    @cached_property
    def key(self) -> str:
        """What tells its heights from others on a shelf; empty where there is none."""
        return "" if self.shelf is None else key_of(self.heights)

    def __repr__(self) -> str:
        rows, columns = self.heights.shape
        low, high = self.height_range
        return f"<Terrain {columns} x {rows} samples, {self.size[0]:g} x {self.size[1]:g} m, {low:.2f} to {high:.2f} m high>"

    @property
    def area(self) -> float:
        """Square metres, seen from above."""
        return self.size[0] * self.size[1]

    def layout(self, texels: int) -> tuple[int, int]:
        """Return (rows, columns) of a layout whose longer side has `texels` texels, in proportion to the size."""
        longer = checked_texels(texels)
        scale = longer / max(self.size)
        return max(1, round(self.size[1] * scale)), max(1, round(self.size[0] * scale))

    def canvas(self, texels: int | tuple[int, int] = TEXELS) -> GridCanvas:
        """Return the terrain as a canvas: texels along its longer side, in proportion to the size, or rows and columns."""
        return GridCanvas(self, self.layout(texels) if isinstance(texels, int) else texels)

    @property
    def fields(self) -> TerrainFields:
        """What masks may ask of the whole terrain."""
        return TerrainFields(self)

    def points(self, texels: tuple[int, int], rows: slice = slice(None), columns: slice = slice(None)) -> Points:
        """Return the points at the texel centres of a region of a layout, row by row from the north-west.

        Parameters
        ----------
        texels : (int, int)
            Rows and columns of the whole layout.
        rows, columns : slice
            The region; everything where not given.
        """
        first_row, last_row, _ = rows.indices(texels[0])
        first_column, last_column, _ = columns.indices(texels[1])
        return self.grid_points(
            texels, Region(first_row, max(first_row, last_row), first_column, max(first_column, last_column))
        )

    def grid_points(self, texels: tuple[int, int], region: Region) -> Points:
        """Return the points at the centres of a region of a layout of `texels` (rows, columns)."""
        out = self._empty_points(region.rows * region.columns)
        _kernels.grid_points(tuple(region), self.size[0] / texels[1], self.size[1] / texels[0], self._grid, out)
        return _as_points(out, self.size)

    def points_at(self, positions: object, footprint: object = 1.0) -> Points:
        """Return the points below given places.

        Parameters
        ----------
        places : (N, 2)
            x and z in metres; what lies outside is answered by the nearest border.
        footprint : number or (N,)
            Metres along the ground that one texel or pixel covers.
        """
        finite_array("places", positions, ("N", 2))
        where = np.asarray(positions, np.float64)
        step = finite_array("footprint", np.broadcast_to(np.asarray(footprint, np.float32), len(where)), (len(where),))
        out = self._empty_points(len(where))
        _kernels.ground_points(frozen(where[:, 0], np.float64), frozen(where[:, 1], np.float64), step, self._grid, out)
        return _as_points(out, self.size)

    def meet_rays(self, origin: NDArray[np.float64], directions: NDArray[np.float32]) -> NDArray[np.float32]:
        """Return the metres at which rays from one origin meet the ground, (N,) float32; -1 where they do not."""
        out = np.empty(len(directions), np.float32)
        scratch = np.empty(7 * _kernels.LANES, np.float32)
        _kernels.cast_rays(frozen(origin, np.float64), frozen(directions, np.float32), _LONGEST, self._ground, scratch, out)
        return out

    def sunlit(
        self, points: Points, towards: NDArray[np.float64], known: NDArray[np.uint8] | None = None
    ) -> NDArray[np.float32]:
        """Return 1 where the way from a point towards the light (a unit vector) is free, else 0, (N,) float32.

        known : (R, C) uint8, zeros at first, keeps what is found of samples, for many points under one light.
        """
        out = np.empty(len(points), np.float32)
        x, y, z = (float(each) for each in towards)
        sun = _kernels.SunRows((x, y, z), 0.05 * min(self.spacing), _LONGEST)
        nothing = np.empty((0, 0), np.uint8)
        arrays = points.position, points.normal, points.footprint
        _kernels.cast_shadows(*arrays, sun, self._grid, self._ground, nothing if known is None else known, out)
        return out

    def lamplit(self, points: Points, lamp: tuple[float, float, float]) -> NDArray[np.float32]:
        """Return 1 where the way from a point to a lamp (x, y, z, metres) is free of ground, else 0, (N,) float32."""
        out = np.empty(len(points), np.float32)
        position = (float(lamp[0]), float(lamp[1]), float(lamp[2]))
        origins = points.position, points.normal
        _kernels.cast_to_lamp(*origins, position, 0.05 * min(self.spacing), self._ground, out)
        return out

    def check_above(self, position: tuple[float, float, float]) -> None:
        """Raise `RangeError` if a place (x, y, z) over the ground lies inside it."""
        x, y, z = position
        if 0 <= x <= self.size[0] and 0 <= z <= self.size[1]:
            ground = float(self.points_at([[x, z]]).world[0, 1])
            if y <= ground:
                raise RangeError(
                    f"({x:g}, {y:g}, {z:g}) lies inside the ground, which is {ground:.4g} m high there; set it higher"
                )

    def _empty_points(self, count: int) -> FilledPoints:
        """ArrayStore for points; what float32 leaves away of their positions is kept where the terrain is large."""
        rows = lambda *shape: np.empty((count, *shape), np.float32)
        none, no_four = np.empty((0, 2, 3), np.float32), np.empty((0, 4), np.float32)
        rest = rows(3) if max(self.size) > NEAR else np.empty((0, 3), np.float32)
        return FilledPoints(rows(3), rows(3), rows(4), rows(2), rows(2), none, none, no_four, no_four, rest)

    def shifted(self, points: Points, by: NDArray[np.float32]) -> Points:
        """Return the points of the ground that lie `by` (N, 3) metres away from given ones; clamped at the border."""
        out = self._empty_points(len(points))
        positions = points.world
        xs, zs = (positions[:, axis] + by[:, axis] for axis in (0, 2))
        step = frozen(points.footprint[:, 0], np.float32)
        _kernels.ground_points(frozen(xs, np.float64), frozen(zs, np.float64), step, self._grid, out)
        return _as_points(out, self.size)


def _checked_size(name: str, value: float) -> float:
    """A length that positions can tell of."""
    length = positive(name, value, "m")
    if length > LARGEST:
        raise RangeError(f"{name} must be at most {LARGEST / 1000:,.0f} km; got {length / 1000:,.6g} km")
    return length


def _as_they_lie(heights: object) -> NDArray[np.float32]:
    """Heights that stay where they are."""
    if not isinstance(heights, np.ndarray) or heights.dtype != np.float32 or heights.ndim != 2:
        raise ShapeError("heights for a shelf must be a (R, C) array of float32, as a mapped .npy file")
    return frozen(heights, np.float32)


def _made(heights: Stored | MappedArray, size: tuple[float, float], between: Between, shelf: DiskStore | None) -> Terrain:
    return Terrain(arrived(heights), size=size, between=between, shelf=shelf)


def _as_points(filled: FilledPoints, size: tuple[float, float]) -> Points:
    across = np.zeros((2, 3), np.float32)
    across[0, 0], across[1, 2] = 1 / size[0], 1 / size[1]
    gradient = np.broadcast_to(across, (len(filled.position), 2, 3))
    return Points(
        position=filled.position,
        normal=filled.normal,
        tangent=filled.tangent,
        uv=filled.uv,
        footprint=filled.footprint,
        uv_gradient=gradient,
        rest=filled.rest if len(filled.rest) else None,
    )
