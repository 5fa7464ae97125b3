"""What a mesh lacks, made: normals, tangents, and whatever of those a file has wrong."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields, replace

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.json_types import Facts, Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.meshes.normals import smooth_normals
from jagged_quilt.meshes.tangents import mesh_tangents

_kernels = kernels_of("jagged_quilt.meshes._kernels")

Corners = NDArray[np.int32]
Rows = NDArray[np.int64]
Made = tuple[NDArray[np.float32], Corners, Rows]
"""Vectors of vertices that are split where they part, the triangles by those, and which vertex each was."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Vertices:
    """What is known of the vertices of a mesh; `source` is which of those that were given each one is."""

    position: NDArray[np.float32]
    source: Rows
    normal: NDArray[np.float32] | None = None
    tangent: NDArray[np.float32] | None = None
    uv: NDArray[np.float32] | None = None
    colour: NDArray[np.float32] | None = None

    def vectors(self, name: str) -> NDArray[np.float32]:
        """Return an array by its name, where there is one."""
        found: NDArray[np.float32] = getattr(self, name)
        return found

    def taken(self, rows: Rows) -> Vertices:
        """Return some vertices, in an order."""
        arrays: Facts = {each.name: getattr(self, each.name) for each in fields(self)}
        taken: Facts = {name: None if array is None else array[rows] for name, array in arrays.items()}
        return Vertices(**taken)


@dataclass(slots=True)
class Completion:
    """A mesh while it is made complete; `notes` says in words what was mended, or is odd."""

    vertices: Vertices
    corners: Corners
    notes: list[str] = field(default_factory=list)

    def mend_numbers(self) -> None:
        """Put 0 in place of uv and colours that are not finite."""
        for name in ("uv", "colour"):
            array = getattr(self.vertices, name)
            if array is not None and (bad := ~np.isfinite(array).all(axis=1)).any():
                array[bad] = 0
                self.notes.append(f"{bad.sum():,} of {len(bad):,} vertices have a {name} that is not finite; taken as 0")

    def normals(self, smooth: float) -> None:
        """Make normals where there are none, and all those unit that there are."""
        given = self.vertices.normal
        bad = np.ones(len(self.vertices.position), bool) if given is None else self._directionless(given, "normals")
        if bad.any():
            self._made("normal", bad, lambda some: smooth_normals(self.vertices.position, some, smooth))
        self.vertices = replace(self.vertices, normal=_unit(self.vertices.vectors("normal")))

    def tangents(self) -> None:
        """Make tangents where there are none, from uv; along world +X where there is no uv."""
        given, uv, normal = self.vertices.tangent, self.vertices.uv, self.vertices.vectors("normal")
        if uv is None and given is None:
            sides = np.empty((len(normal), 4), np.float32)
            _kernels.fill_sides(frozen(normal, np.float32), sides)
            self.vertices = replace(self.vertices, tangent=sides)
            return
        bad = np.ones(len(normal), bool) if given is None else self._directionless(given, "tangents")
        if bad.any() and uv is not None:
            own, at = uv, self.vertices.position
            self._made("tangent", bad, lambda some: mesh_tangents(at, normal, own, some))
        elif bad.any():
            assert given is not None
            _kernels.fill_sides(frozen(normal[bad], np.float32), sides := np.empty((int(bad.sum()), 4), np.float32))
            given[bad] = sides
        tangent = self.vertices.vectors("tangent")
        whole = np.column_stack([_unit(tangent[:, :3]), np.where(tangent[:, 3] < 0, -1, 1)])
        self.vertices = replace(self.vertices, tangent=whole if given is not None else tangent)
        if given is not None:
            self._tell_of_hands()

    def _directionless(self, vectors: NDArray[np.float32], name: str) -> NDArray[np.bool_]:
        """Which vectors have no direction. Those that a file leaves out are no numbers at all, and not reported."""
        some = ~np.isnan(vectors).all(axis=1)
        bad = not_unit(vectors[:, :3]) | ~np.isfinite(vectors).all(axis=1)
        if (bad & some).any():
            self.notes.append(f"{(bad & some).sum():,} of {some.sum():,} {name} have no direction; made anew there")
        return bad

    def _made(self, name: str, bad: NDArray[np.bool_], make: Callable[[Corners], Made]) -> None:
        """Make the vectors of some vertices, from the triangles around them; the others stay."""
        touched = bad[self.corners].any(axis=1)
        made, corners, source = make(self.corners[touched])
        if touched.all() and bad.all():
            new: Facts = {name: made}
            self.vertices, self.corners = replace(self.vertices.taken(source), **new), corners
            return
        is_new = bad[source]
        number = np.where(is_new, len(bad) + np.cumsum(is_new) - 1, source)
        whole = self.corners.copy()
        whole[touched] = number[corners]
        vertices = self.vertices.taken(np.concatenate([np.arange(len(bad)), source[is_new]]))
        vertices.vectors(name)[len(bad) :] = made[is_new]
        used, self.corners = only_used(whole, len(vertices.position))
        self.vertices = vertices.taken(used)

    def _tell_of_hands(self) -> None:
        """Tell where the handedness of tangents is not that of uv."""
        if self.vertices.uv is None:
            return
        at = self.vertices.uv.astype(np.float64)[self.corners]
        edges = at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]
        turns = edges[0][:, 1] * edges[1][:, 0] - edges[0][:, 0] * edges[1][:, 1]  # v grows downwards
        hands = self.vertices.vectors("tangent")[:, 3][self.corners].sum(axis=1)
        wrong = int(((turns * hands < 0) & (np.abs(turns) > 1e-14)).sum())
        if wrong:
            self.notes.append(
                f"{wrong:,} of {len(turns):,} triangles have tangents whose handedness contradicts their uv: normal maps made "
                "for other tangents look dented there"
            )


def only_used(corners: Corners, count: int) -> tuple[Rows, Corners]:
    """Return the vertices that triangles use, and the triangles by those."""
    is_used = np.zeros(count, bool)
    is_used[corners] = True
    number = np.cumsum(is_used) - 1
    return np.flatnonzero(is_used), number[corners].astype(np.int32)


def not_unit(vectors: Stored) -> NDArray[np.bool_]:
    """Return which vectors have no direction."""
    return ~np.isfinite(vectors).all(axis=1) | (np.linalg.norm(np.nan_to_num(vectors).astype(np.float64), axis=1) < 1e-6)


def _unit(vectors: NDArray[np.float32]) -> NDArray[np.float32]:
    exact = vectors.astype(np.float64)  # whose squares float32 may not hold
    return (exact / np.linalg.norm(exact, axis=1, keepdims=True)).astype(vectors.dtype)
