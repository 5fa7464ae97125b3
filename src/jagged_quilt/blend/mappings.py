"""Mappings: the ways in which the layers of a blend are put on a surface, as a table for the kernel."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend import _rows as k
from jagged_quilt.blend.projection import Detail, Filter, PerMap, ProjectionBase
from jagged_quilt.blend.warps import AnyWarp
from jagged_quilt.foundation.checks import finite_array, frozen
from jagged_quilt.foundation.choices import Wrap
from jagged_quilt.foundation.errors import RangeError

_NOWHERE = 2.0  # above any cosine


@dataclass
class Mappings:
    """The mappings of some layers, each kept once.

    Parameters
    ----------
    frame : (4, 4)
        Takes places of the object to places of the world; its axes must be unit.
    metres : float
        What one unit of uv stands for, where a projection does not say.

    Attributes
    ----------
    rows : list of () MAPPING
    warps : list of AnyWarp
    """

    frame: NDArray[np.float64] = field(default_factory=lambda: np.eye(4))
    metres: float = 1.0
    rows: list[NDArray[np.void]] = field(default_factory=list)
    warps: list[AnyWarp] = field(default_factory=list)

    def add(
        self, projection: ProjectionBase, tile: float, filter: Filter, per_map: PerMap | None = None, aspect: float = 1.0
    ) -> int:
        """Return the number of the mapping of a projection, a new one if it is the first of its kind.

        per_map : how a map is mapped on top of that.
        aspect : how much longer tiles are along v.
        """
        offset, turn = np.array(projection.offset, np.float64), projection.turned
        if per_map is not None:
            offset, turn = offset + np.linalg.inv(turn) @ per_map.offset, per_map.turned @ turn
        row = np.zeros((), k.MAPPING)
        row["kind"], row["planes"] = projection.kind, projection.planes_used
        row["sharing"], row["sharpness"] = projection.planes, projection.plane_sharpness
        for prefix in ("", "exact_"):
            row[f"{prefix}axes"], row[f"{prefix}origin"] = projection.axes_in(self.frame)
            row[f"{prefix}offset"], row[f"{prefix}turn"] = offset, turn
        row["aspect"] = aspect
        row["warp"] = -1 if projection.warp is None else self._warp(projection.warp)
        row["cheap"] = projection.detail is Detail.CHEAP
        row["true_steps"] = (projection.filter or filter) is Filter.ANISOTROPIC
        row["slope_from"] = row["slope_to"] = _NOWHERE
        projection.fill_mapping(row, tile=tile, unit=self.metres)
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
        """The mappings, (C,) MAPPING."""
        return frozen(np.stack(self.rows), k.MAPPING)

    def _warp(self, warp: AnyWarp) -> int:
        if warp not in self.warps:
            self.warps.append(warp)
        return self.warps.index(warp)


def is_plain(projections: Sequence[ProjectionBase], filter: Filter) -> bool:
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
