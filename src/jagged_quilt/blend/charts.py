"""Charts: the ways in which the layers of a blend lie on a surface, as a table for the kernel."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend import _rows as k
from jagged_quilt.blend.projection import (
    Apart,
    Detail,
    Filter,
    Planar,
    Polar,
    Projection,
    Round,
    Space,
    Triplanar,
    Uv,
    unit_axis,
)
from jagged_quilt.blend.warps import AnyWarp
from jagged_quilt.foundation.checks import finite_array, frozen
from jagged_quilt.foundation.choices import Wrap
from jagged_quilt.foundation.errors import RangeError

_NOWHERE = 2.0  # above any cosine


@dataclass
class Charts:
    """The charts of some layers, each kept once.

    Parameters
    ----------
    frame : (4, 4)
        Takes places of the object to places of the world; its axes must be unit.
    metres : float
        What one unit of uv stands for, where a projection does not say.

    Attributes
    ----------
    rows : list of () CHART
    warps : list of AnyWarp
    """

    frame: NDArray[np.float64] = field(default_factory=lambda: np.eye(4))
    metres: float = 1.0
    rows: list[NDArray[np.void]] = field(default_factory=list)
    warps: list[AnyWarp] = field(default_factory=list)

    def add(self, projection: Projection, tile: float, filter: Filter, apart: Apart | None = None, aspect: float = 1.0) -> int:
        """Return the number of the chart on which a projection lies, a new one if it is the first of its kind.

        apart : how a map lies on top of that.
        aspect : how much longer tiles are along v.
        """
        offset, turn = np.array(projection.offset, np.float64), projection.turned
        if apart is not None:
            offset, turn = offset + np.linalg.inv(turn) @ apart.offset, apart.turned @ turn
        row = np.zeros((), k.CHART)
        row["kind"], row["planes"] = projection.chart, projection.planes_used
        row["sharing"], row["sharpness"] = projection.planes, sharpness_of(projection)
        row["axes"], row["origin"] = self._axes(projection)
        row["offset"], row["turn"] = offset, turn
        row["flat"] = aspect
        row["exact_axes"], row["exact_origin"] = self._axes(projection)
        row["exact_offset"], row["exact_turn"] = offset, turn
        row["warp"] = -1 if projection.warp is None else self._warp(projection.warp)
        row["cheap"] = projection.detail is Detail.CHEAP
        row["fine"] = (projection.filter or filter) is Filter.ANISOTROPIC
        row["slope_from"] = row["slope_to"] = _NOWHERE
        if isinstance(projection, Uv):
            row["radius"] = self.metres if projection.metres is None else projection.metres
        if isinstance(projection, Round):
            row["radius"] = projection.radius
            exact = projection.repeats(tile) * tile * projection.scales[0]
            row["around"] = exact / (2 * np.pi * projection.radius)
            row["spiral"] = exact * projection.spiral / 360 if isinstance(projection, Polar) else 0
        if isinstance(projection, Triplanar) and projection.above > 0:
            row["slope_from"] = np.cos(np.radians(projection.above))
            row["slope_to"] = np.cos(np.radians(min(90.0, projection.above + projection.above_fade)))
        if isinstance(projection, Triplanar) and projection.eye is not None and projection.beyond > 0:
            row["eye"] = projection.eye
            row["near"], row["far"] = projection.beyond, projection.beyond + projection.beyond_fade
        for number, known in enumerate(self.rows):
            alike = row.copy()
            for own in ("planes", "sharing", "sharpness"):
                alike[own] = known[own]
            if alike.tobytes() == known.tobytes():
                known["planes"] |= row["planes"]
                if (known["sharing"], known["sharpness"]) != (row["sharing"], row["sharpness"]):
                    known["sharing"] = -1
                return number
        self.rows.append(row)
        return len(self.rows) - 1

    @property
    def table(self) -> NDArray[np.void]:
        """The charts, (C,) CHART."""
        return frozen(np.stack(self.rows), k.CHART)

    def _warp(self, warp: AnyWarp) -> int:
        if warp not in self.warps:
            self.warps.append(warp)
        return self.warps.index(warp)

    def _axes(self, projection: Projection) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The axes of a chart in the world, one a row, and its origin."""
        if isinstance(projection, Uv):
            return np.eye(3), np.zeros(3)
        axes, origin = np.eye(3), np.zeros(3)
        if isinstance(projection, Planar):
            axes = _seen_along(unit_axis(projection.axis))
        if isinstance(projection, Round):
            axes, origin = _standing(unit_axis(projection.axis)), np.array(projection.centre, np.float64)
        if projection.space is Space.OBJECT:
            return axes @ self.frame[:3, :3].T, self.frame[:3, :3] @ origin + self.frame[:3, 3]
        return axes, origin


def sharpness_of(projection: Projection) -> float:
    """How sharply a projection parts its planes; 1 where it has but one."""
    return projection.sharpness if isinstance(projection, Triplanar) else 1.0


def is_plain(projections: Sequence[Projection], filter: Filter) -> bool:
    """Whether all layers repeat, and are read by the same one of the two plain filters."""
    return filter in (Filter.BILINEAR, Filter.TRILINEAR) and all(
        each.wraps == (Wrap.REPEAT, Wrap.REPEAT) and each.filter in (None, filter) for each in projections
    )


def rigid_frame(matrix: object) -> NDArray[np.float64]:
    """Return the turn and the place of a transform without its scale, so that metres stay metres, (4, 4).

    The turn is that of the polar decomposition; a mirrored object keeps a frame that is not, so that text stays readable.

    Raises `ShapeError` or `RangeError` if it is no (4, 4) of finite numbers, or flattens the object.
    """
    finite_array("frame", matrix, (4, 4))
    given = np.asarray(matrix, np.float64)
    left, strengths, right = np.linalg.svd(given[:3, :3])
    if strengths.min() < 1e-9 * max(1e-30, strengths.max()):
        raise RangeError("frame must not flatten the object: one of its axes has no length")
    turn = left @ right
    out = np.eye(4)
    out[:3, :3] = turn * np.sign(np.linalg.det(turn))
    out[:3, 3] = given[:3, 3]
    return out


def _seen_along(axis: NDArray[np.float64]) -> NDArray[np.float64]:
    """Axes of a chart that is seen along `axis`, from its plane Y for upright axes and from its plane Z for others, so that
    the pattern's top is north, or up."""
    if abs(axis[1]) >= 0.7071:
        axis = axis if axis[1] > 0 else -axis
        south = np.array([0.0, 0.0, 1.0]) - axis * axis[2]
        south /= np.linalg.norm(south)
        return np.stack([np.cross(axis, south), axis, south])
    up = np.array([0.0, 1.0, 0.0]) - axis * axis[1]
    up /= np.linalg.norm(up)
    return np.stack([np.cross(up, axis), up, axis])


def _standing(axis: NDArray[np.float64]) -> NDArray[np.float64]:
    """Axes of a chart whose Y is `axis` and whose Z is as near as can be to world +Z (or, where the axis is that, to -Y)."""
    ahead = np.array([0.0, 0.0, 1.0]) if abs(axis[2]) < 0.999 else np.array([0.0, -1.0, 0.0])
    ahead = ahead - axis * (ahead @ axis)
    ahead /= np.linalg.norm(ahead)
    return np.stack([np.cross(axis, ahead), axis, ahead])
