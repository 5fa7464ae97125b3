"""A terrain: heights on a grid, in metres."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from functools import cached_property
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import finite_array, known_name, positive, whole_number_in
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.grid import Grid
from jagged_quilt.foundation.points import Field, Points
from jagged_quilt.surfaces import _kernels
from jagged_quilt.surfaces.heightmap import read_heightmap
from jagged_quilt.surfaces.tiles import read_tiles


class Terrain:
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

    Raises
    ------
    ShapeError, RangeError
        If the heights are not such a grid or not finite, or a size is not above 0.
    """

    def __init__(self, heights: object, *, size: tuple[float, float], between: str = "bilinear") -> None:
        self.between = known_name("way between samples", between, ("bilinear", "cubic"))
        self.heights = finite_array("heights", heights, ("R", "C"))
        if min(self.heights.shape) < 2:
            raise ShapeError(f"a heightmap needs at least 2 x 2 samples; got {self.heights.shape}")
        if len(size) != 2:
            raise ShapeError(f"size must be two lengths, east and south; got {size!r}")
        self.size = (positive("size east", size[0], "m"), positive("size south", size[1], "m"))
        rows, columns = self.heights.shape
        self.spacing = (self.size[0] / (columns - 1), self.size[1] / (rows - 1))
        south, east = np.gradient(self.heights.astype(np.float64), self.spacing[1], self.spacing[0])
        self._east, self._south = east.astype(np.float32), south.astype(np.float32)
        self._fields: dict[object, Field] = {}
        self._lock = threading.RLock()

    @classmethod
    def read(
        cls,
        path: Path | str | Sequence[Sequence[Path | str]],
        *,
        size: tuple[float, float],
        heights: tuple[float, float] | None = None,
        form: str = "grey",
        samples: tuple[int, int] | None = None,
        byte_order: str = "little",
        smooth: bool = False,
        between: str = "bilinear",
    ) -> Terrain:
        """Read a terrain from a heightmap file, or from several that meet at their borders.

        Parameters
        ----------
        path : path, or rows of paths
            Of several files: from north to south, and in each row from west to east; neighbours share the samples of
            their common border (see `read_tiles`).
        size : (float, float)
            Metres, east and south.
        heights, form, samples, byte_order, smooth
            As for `read_heightmap`.
        between : "bilinear" or "cubic"
        """
        options = {"form": form, "samples": samples, "byte_order": byte_order, "smooth": smooth}
        if isinstance(path, (str, Path)):
            metres = read_heightmap(path, heights, **options)  # type: ignore[arg-type]
        else:
            metres = read_tiles(path, heights, **options)
        return cls(metres, size=size, between=between)

    def __repr__(self) -> str:
        rows, columns = self.heights.shape
        low, high = self.height_range
        return f"<Terrain {columns} x {rows} samples, {self.size[0]:g} x {self.size[1]:g} m, {low:.2f} to {high:.2f} m high>"

    @property
    def height_range(self) -> tuple[float, float]:
        """Lowest and highest sample, in metres."""
        return float(self.heights.min()), float(self.heights.max())

    @property
    def area(self) -> float:
        """Square metres, seen from above."""
        return self.size[0] * self.size[1]

    def layout(self, texels: int) -> tuple[int, int]:
        """Return (rows, columns) of a layout whose longer side has `texels` texels, in proportion to the size."""
        longer = whole_number_in("texels", texels, 1, 1 << 17)
        scale = longer / max(self.size)
        return max(1, round(self.size[1] * scale)), max(1, round(self.size[0] * scale))

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
        out = _empty_points(max(0, last_row - first_row) * max(0, last_column - first_column))
        _kernels.grid_points(
            first_row, last_row, first_column, last_column, self.size[0] / texels[1], self.size[1] / texels[0],
            *self._grid, *out,
        )  # fmt: skip
        return _as_points(out, self.size)

    def points_at(self, places: object, footprint: object = 1.0) -> Points:
        """Return the points below given places.

        Parameters
        ----------
        places : (N, 2)
            x and z in metres; what lies outside is answered by the nearest border.
        footprint : number or (N,)
            Metres along the ground that one texel or pixel covers.
        """
        where = finite_array("places", places, ("N", 2)).astype(np.float64)
        step = finite_array("footprint", np.broadcast_to(np.asarray(footprint, np.float32), len(where)), (len(where),))
        out = _empty_points(len(where))
        _kernels.place_points(np.ascontiguousarray(where[:, 0]), np.ascontiguousarray(where[:, 1]), step, *self._grid, *out)
        return _as_points(out, self.size)

    def meet_rays(self, origin: NDArray[np.float64], directions: NDArray[np.float32]) -> NDArray[np.float32]:
        """Return the metres at which rays from one origin meet the ground, (N,) float32; -1 where they do not."""
        out = np.empty(len(directions), np.float32)
        _kernels.cast_rays(origin, directions, 1e6, self.heights, self._highest, *self.spacing, out)
        return out

    def sunlit(self, points: Points, towards: NDArray[np.float64]) -> NDArray[np.float32]:
        """Return 1 where the way from a point towards the light (a unit vector) is free, else 0, (N,) float32."""
        out = np.empty(len(points), np.float32)
        lift = 0.05 * min(self.spacing)
        _kernels.cast_shadows(
            points.position, points.normal, towards, lift, 1e6, self.heights, self._highest, *self.spacing, out
        )
        return out

    def shifted(self, points: Points, by: NDArray[np.float32]) -> Points:
        """Return the points of the ground that lie `by` (N, 3) metres away from given ones; clamped at the border."""
        out = _empty_points(len(points))
        xs, zs = (points.position[:, axis].astype(np.float64) + by[:, axis] for axis in (0, 2))
        _kernels.place_points(np.ascontiguousarray(xs), np.ascontiguousarray(zs), points.footprint[:, 0], *self._grid, *out)
        return _as_points(out, self.size)

    def curvature(self, scale: float) -> Field:
        """Return the mean curvature of the ground in 1/m, above 0 on ridges.

        Heights are smoothed by a Gaussian of `scale` / 4 metres first, so that what is about `scale` metres across tells.
        The curvature is that of a graph, ((1 + hz²) hxx - 2 hx hz hxz + (1 + hx²) hzz) / -2 (1 + hx² + hz²)^1.5.
        """
        return self.remembered(("curvature", positive("scale", scale, "m")), lambda: self._curvature(scale))

    def _curvature(self, scale: float) -> Grid:
        from scipy.ndimage import gaussian_filter

        across, down = self.spacing
        heights = gaussian_filter(self.heights.astype(np.float64), (scale / 4 / down, scale / 4 / across), mode="nearest")
        hz, hx = np.gradient(heights, down, across)
        hxx, hzz, hxz = np.gradient(hx, across, axis=1), np.gradient(hz, down, axis=0), np.gradient(hx, down, axis=0)
        bent = (1 + hz**2) * hxx - 2 * hx * hz * hxz + (1 + hx**2) * hzz
        return self._field(bent / (-2 * (1 + hx**2 + hz**2) ** 1.5))

    def hidden_sky(self, reach: float) -> Field:
        """Return how much of the light of an even sky the ground itself keeps away, 0..1.

        The horizon is searched in 16 directions up to `reach` metres; a direction whose horizon stands at an angle e over
        level lets in cos²(e) of what a cosine-weighted sky sends from it (Max 1988; Bavoil and Sainz 2008).
        """
        return self.remembered(("hidden sky", positive("reach", reach, "m")), lambda: self._hidden_sky(reach))

    def _hidden_sky(self, reach: float) -> Grid:
        hidden = np.empty_like(self.heights)
        steps = _steps_out(reach, self.spacing)
        _kernels.hidden_sky(self.heights, steps, np.hypot(*(steps * self.spacing).T).astype(np.float32), hidden)
        return self._field(hidden)

    def remembered(self, key: object, make: Callable[[], Field]) -> Field:
        """Return the field that was made for a key before, or make it and keep it as long as the terrain."""
        with self._lock:
            if key not in self._fields:
                self._fields[key] = make()
            return self._fields[key]

    def _field(self, values: NDArray[np.floating]) -> Grid:
        return Grid(np.ascontiguousarray(values, np.float32), (0.0, 0.0), self.spacing)

    @property
    def _grid(self) -> tuple[object, ...]:
        return (self.heights, self._east, self._south, *self.spacing, *self.size, self.between == "cubic")

    @cached_property
    def _highest(self) -> NDArray[np.float32]:
        blocks = [-(-(n - 1) // _kernels.BLOCK) for n in self.heights.shape]
        out = np.empty((blocks[0], blocks[1]), np.float32)
        _kernels.highest_of_blocks(self.heights, out)
        return out


def _empty_points(count: int) -> tuple[NDArray[np.float32], ...]:
    return tuple(np.empty((count, width), np.float32) for width in (3, 3, 4, 2, 2))


def _as_points(filled: tuple[NDArray[np.float32], ...], size: tuple[float, float]) -> Points:
    for array in filled:
        array.flags.writeable = False
    position, normal, tangent, uv, footprint = filled
    across = np.zeros((2, 3), np.float32)
    across[0, 0], across[1, 2] = 1 / size[0], 1 / size[1]
    gradient = np.broadcast_to(across, (len(position), 2, 3))
    return Points(position=position, normal=normal, tangent=tangent, uv=uv, footprint=footprint, uv_gradient=gradient)


def _steps_out(reach: float, spacing: tuple[float, float]) -> NDArray[np.int32]:
    """Samples (east, south) to look at in 16 directions, each 1.25 times as far as the one before; (D * S, 2), one direction
    after the other, padded with the last."""
    distances = [min(spacing)]
    while distances[-1] * 1.25 <= reach:
        distances.append(distances[-1] * 1.25)
    angle = 2 * np.pi * (np.arange(16) + 0.5) / 16
    ways = np.stack([np.cos(angle) / spacing[0], np.sin(angle) / spacing[1]], axis=1)
    steps = np.rint(ways[:, None, :] * np.array(distances)[None, :, None]).astype(np.int32)
    steps[(steps == 0).all(axis=2)] = (1, 0)
    return steps.reshape(-1, 2)
