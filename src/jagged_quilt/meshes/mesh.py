"""A mesh: triangles of one or several parts, complete with normals and tangents."""

from __future__ import annotations

import warnings
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import finite_array, frozen, known_name, number_in
from jagged_quilt.foundation.errors import QuiltWarning, RangeError, ShapeError
from jagged_quilt.foundation.loose import Stored
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.shown import Shown
from jagged_quilt.meshes import _kernels
from jagged_quilt.meshes.material import MeshMaterial
from jagged_quilt.meshes.normals import smooth_normals
from jagged_quilt.meshes.tangents import mesh_tangents

SMOOTH = 60.0  # degrees, where nothing else is said


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Part:
    """Some of the triangles of a mesh.

    Attributes
    ----------
    name, material : str
    first, last : int
        Its triangles, first and one past the last.
    frame : (4, 4) float64
        Takes places of its own space to places of the world.
    """

    name: str
    material: str = ""
    first: int = 0
    last: int = 0
    frame: NDArray[np.float64] = field(default_factory=lambda: np.eye(4))


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Mesh(Shown):
    """Triangles in the world, in metres, +Y up, counter-clockwise from outside. Its arrays are read-only.

    Make one with `Mesh.of`, `read_mesh`, or a made shape; those check and complete it.

    Attributes
    ----------
    position : (V, 3) float32
    normal : (V, 3) float32
    tangent : (V, 4) float32
        The handedness in w; along world +X where there is no uv.
    triangles : (T, 3) int32
    uv : (V, 2) float32 or None
        (0, 0) is the top left of an image, v grows downwards.
    colour : (V, 4) float32 or None
    parts : tuple of Part
    materials : dict of name to MeshMaterial
    source : (V,) int64
        Which of the vertices that were given each one is: they are split where normals or tangents part.
    repairs : tuple of str
        What was mended, in words.
    """

    position: NDArray[np.float32]
    normal: NDArray[np.float32]
    tangent: NDArray[np.float32]
    triangles: NDArray[np.int32]
    uv: NDArray[np.float32] | None
    colour: NDArray[np.float32] | None
    parts: tuple[Part, ...]
    materials: Mapping[str, MeshMaterial]
    source: NDArray[np.int64]
    repairs: tuple[str, ...] = ()

    @classmethod
    def of(
        cls,
        position: object,
        triangles: object,
        *,
        normal: object | None = None,
        uv: object | None = None,
        tangent: object | None = None,
        colour: object | None = None,
        parts: Sequence[Part] = (),
        materials: Mapping[str, MeshMaterial] | None = None,
        smooth: float = SMOOTH,
        name: str = "mesh",
    ) -> Mesh:
        """Make a mesh from anything array-like, mended and complete.

        Triangles with places that are not finite, or without area, are left out; what is left out or mended is told by a
        `QuiltWarning` and kept in `repairs`.

        Parameters
        ----------
        position : (V, 3)
            Metres, world.
        triangles : (T, 3) int
        normal : (V, 3), optional
            Made where they are not given: smooth over edges that turn by no more than `smooth` degrees.
        uv : (V, 2), optional
        tangent : (V, 4), optional
            Made from uv where they are not given (see `mesh_tangents`).
        colour : (V, 3) or (V, 4), optional
            0..1.
        parts : sequence of Part, optional
            All triangles are one part called `name` where they are not given.

        Raises
        ------
        ShapeError, RangeError
            If shapes do not fit, an index names no vertex, or no triangle is left.
        """
        number_in("smooth", smooth, 0, 180, "degrees")
        where = _array("position", position, 3)
        corners = _triangles(triangles, len(where))
        whole = tuple(parts) or (Part(name=name, first=0, last=len(corners)),)
        given = {
            "normal": _vertices("normal", normal, len(where), 3),
            "uv": _vertices("uv", uv, len(where), 2),
            "tangent": _vertices("tangent", tangent, len(where), 4),
            "colour": _colours(colour, len(where)),
        }
        repairs = list[str]()
        corners, whole = _sound_triangles(where, corners, whole, repairs)
        used, corners = _only_used(corners, len(where))
        where = where[used]
        given = {key: None if array is None else array[used] for key, array in given.items()}
        mesh = cls._complete(where, corners, given, smooth, repairs)
        source, rest = used[mesh.pop("source")], tuple(repairs)
        for line in rest:
            warnings.warn(f"{name}: {line}", QuiltWarning, stacklevel=2)
        return cls(**mesh, source=source, parts=whole, materials=dict(materials or {}), repairs=rest)

    @staticmethod
    def _complete(
        where: NDArray[np.float32], corners: NDArray[np.int32], given: dict[str, Any], smooth: float, repairs: list[str]
    ) -> dict[str, Any]:
        """The arrays of a mesh from sound triangles: bad attributes mended, missing ones made."""
        normal, uv, tangent, colour = (given[key] for key in ("normal", "uv", "tangent", "colour"))
        source = np.arange(len(where))
        for name, array in (("uv", uv), ("colour", colour)):
            if array is not None and (bad := ~np.isfinite(array).all(axis=1)).any():
                array[bad] = 0
                repairs.append(f"{bad.sum()} of {len(bad)} vertices have a {name} that is not finite; taken as 0")
        if normal is not None and (bad := _not_unit(normal)).any():
            repairs.append(f"{bad.sum()} of {len(bad)} normals have no direction; all were made anew")
            normal = None
        if normal is None:
            normal, corners, split = smooth_normals(where, corners, smooth)
            where, source, uv, colour, tangent = where[split], source[split], *_taken((uv, colour, tangent), split)
        else:
            normal = normal / np.linalg.norm(normal, axis=1, keepdims=True)
        if tangent is not None and (bad := _not_unit(tangent[:, :3]) | ~np.isfinite(tangent[:, 3])).any():
            repairs.append(f"{bad.sum()} of {len(bad)} tangents have no direction; all were made anew")
            tangent = None
        if tangent is None and uv is not None:
            tangent, corners, split = mesh_tangents(where, normal, uv, corners)
            where, source, normal, uv, colour = where[split], source[split], normal[split], *_taken((uv, colour), split)
        elif tangent is None:
            tangent = np.empty((len(where), 4), np.float32)
            _kernels.fill_sides(frozen(normal, np.float32), tangent)
        else:
            unit = tangent[:, :3] / np.linalg.norm(tangent[:, :3], axis=1, keepdims=True)
            tangent = np.column_stack([unit, np.where(tangent[:, 3] < 0, -1, 1)])
        arrays = {"position": where, "normal": normal, "tangent": tangent, "uv": uv, "colour": colour}
        out = {key: None if array is None else frozen(array, np.float32) for key, array in arrays.items()}
        return {**out, "triangles": frozen(corners, np.int32), "source": source}

    def noted(self, notes: Sequence[str], name: str) -> Mesh:
        """Return the mesh with more told in its `repairs`, each a `QuiltWarning` of what is called `name` too."""
        for line in notes:
            warnings.warn(f"{name}: {line}", QuiltWarning, stacklevel=2)
        return replace(self, repairs=(*notes, *self.repairs))

    def __repr__(self) -> str:
        low, high = self.bounds
        size = " x ".join(f"{side:.3g}" for side in high - low)
        kinds = [name for name in ("uv", "colour") if getattr(self, name) is not None]
        return (
            f"<Mesh {len(self.triangles)} triangles, {len(self.position)} vertices, {len(self.parts)} part(s), {size} m"
            f"{', ' if kinds else ''}{', '.join(kinds)}>"
        )

    @property
    def bounds(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The lowest and the highest x, y and z, in metres."""
        return self.position.min(axis=0).astype(np.float64), self.position.max(axis=0).astype(np.float64)

    @property
    def rows(self) -> _kernels.MeshRows:
        """The mesh as kernels read it."""
        uv, colour = (np.empty((0, width)) if array is None else array for array, width in ((self.uv, 2), (self.colour, 4)))
        return _kernels.MeshRows(
            frozen(self.position, np.float32),
            frozen(self.normal, np.float32),
            frozen(self.tangent, np.float32),
            frozen(uv, np.float32),
            frozen(colour, np.float32),
            frozen(self.triangles, np.int32),
        )

    @property
    def area(self) -> float:
        """Square metres of all triangles."""
        at = self.position.astype(np.float64)[self.triangles]
        return float(np.linalg.norm(np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]), axis=1).sum() / 2)

    @property
    def part_names(self) -> tuple[str, ...]:
        """The names of its parts, in order."""
        return tuple(part.name for part in self.parts)

    def part(self, name: str) -> Mesh:
        """Return one part as a mesh of its own; raise `NameNotFoundError` if there is none of that name."""
        known_name("part", name, self.part_names)
        own = self.parts[self.part_names.index(name)]
        used, corners = _only_used(self.triangles[own.first : own.last], len(self.position))
        taken: dict[str, Any] = {
            key: None if array is None else frozen(array[used], np.float32) for key, array in self._vertex_arrays()
        }
        return replace(
            self,
            **taken,
            triangles=frozen(corners, np.int32),
            source=self.source[used],
            parts=(replace(own, first=0, last=len(corners)),),
            repairs=(),
        )

    def placed(self, matrix: object) -> Mesh:
        """Return the mesh moved, turned, stretched or mirrored by a (4, 4) matrix.

        Normals go by the inverse transpose and tangents by the matrix; a mirroring turns handedness and the order of
        corners over.

        Raises `ShapeError` or `RangeError` if it is no finite (4, 4), or flattens the mesh.
        """
        given = finite_array("matrix", matrix, (4, 4)).astype(np.float64)
        linear = given[:3, :3]
        strength = np.linalg.svd(linear, compute_uv=False)
        if strength.min() < 1e-9 * max(1e-30, strength.max()):
            raise RangeError("matrix must not flatten the mesh: one of its axes has no length")
        where = self.position.astype(np.float64) @ linear.T + given[:3, 3]
        normal = self.normal.astype(np.float64) @ np.linalg.inv(linear)
        along = self.tangent[:, :3].astype(np.float64) @ linear.T
        unit = lambda vectors: vectors / np.linalg.norm(vectors, axis=1, keepdims=True)
        mirrors = np.linalg.det(linear) < 0
        hand = self.tangent[:, 3:] * (-1 if mirrors else 1)
        corners = self.triangles[:, ::-1] if mirrors else self.triangles
        return replace(
            self,
            position=frozen(where, np.float32),
            normal=frozen(unit(normal), np.float32),
            tangent=frozen(np.column_stack([unit(along), hand]), np.float32),
            triangles=frozen(corners, np.int32),
            parts=tuple(replace(part, frame=given @ part.frame) for part in self.parts),
        )

    @classmethod
    def joined(cls, meshes: Sequence[Mesh]) -> Mesh:
        """Return several meshes as one, part after part; what not all of them have, uv or colour, the whole has not."""
        if not meshes:
            raise ShapeError("there is no mesh to join; name at least one")
        vertices = np.cumsum([0, *(len(each.position) for each in meshes)])
        faces = np.cumsum([0, *(len(each.triangles) for each in meshes)])
        whole: dict[str, Any] = {}
        for key, _ in meshes[0]._vertex_arrays():
            arrays = [getattr(each, key) for each in meshes]
            whole[key] = None if any(array is None for array in arrays) else frozen(np.concatenate(arrays), np.float32)
        corners = np.concatenate([each.triangles + start for each, start in zip(meshes, vertices, strict=False)])
        parts = tuple(
            replace(part, first=int(part.first + start), last=int(part.last + start))
            for each, start in zip(meshes, faces, strict=False)
            for part in each.parts
        )
        materials = {name: each for mesh in meshes for name, each in mesh.materials.items()}
        return cls(
            **whole,
            triangles=frozen(corners, np.int32),
            parts=parts,
            materials=materials,
            source=np.concatenate([each.source for each in meshes]),
            repairs=tuple(line for each in meshes for line in each.repairs),
        )

    def texture_uv(self) -> Mesh:
        """Return the mesh with each part's uv as its material's textures are read: scaled, turned and moved."""
        if self.uv is None:
            return self
        uv = np.array(self.uv)
        for part in self.parts:
            if part.material in self.materials:
                own = np.unique(self.triangles[part.first : part.last])
                uv[own] = self.materials[part.material].texture_uv(self.uv[own])
        return replace(self, uv=frozen(uv, np.float32))

    def points(self) -> Points:
        """Return a point for every vertex; the footprint is the side of a square as large as what the vertex stands for."""
        area = np.zeros(len(self.position), np.float32)
        _kernels.vertex_areas(self.position, self.triangles, area)
        side = np.sqrt(np.maximum(area, np.float32(1e-18)), out=area)
        footprint = np.repeat(side[:, None], 2, axis=1)
        gradient = None
        if self.uv is not None:
            flat = np.zeros((len(self.position), 6), np.float32)
            _kernels.vertex_gradients(self.position, self.uv, self.triangles, np.empty((4, 3)), np.zeros(len(flat)), flat)
            gradient = flat.reshape(-1, 2, 3)
        return Points(
            position=self.position,
            normal=self.normal,
            tangent=self.tangent,
            footprint=footprint,
            uv=self.uv,
            colour=self.colour,
            uv_gradient=gradient,
        )

    def shifted(self, points: Points, by: NDArray[np.float32]) -> Points:
        """Return points moved in space by (N, 3) metres: what a warp looks at need not lie on the mesh."""
        return replace(points, position=points.position + by)

    def _vertex_arrays(self) -> list[tuple[str, NDArray[np.float32] | None]]:
        return [(key, getattr(self, key)) for key in ("position", "normal", "tangent", "uv", "colour")]


def _array(name: str, values: object, width: int) -> NDArray[np.float32]:
    try:
        array = np.array(values, np.float32, order="C")
    except (TypeError, ValueError):
        raise ShapeError(f"{name} must be numbers of shape (N, {width}); got {type(values).__name__}") from None
    if array.ndim != 2 or array.shape[1] != width:
        raise ShapeError(f"{name} must have shape (N, {width}); got {array.shape}")
    return array


def _vertices(name: str, values: object | None, count: int, width: int) -> NDArray[np.float32] | None:
    if values is None:
        return None
    array = _array(name, values, width)
    if len(array) != count:
        raise ShapeError(f"{name} must have one row for each of {count} vertices; got {len(array)}")
    return array


def _colours(values: object | None, count: int) -> NDArray[np.float32] | None:
    if values is None:
        return None
    array = np.asarray(values, np.float32)
    if array.ndim == 2 and array.shape[1] == 3:
        array = np.column_stack([array, np.ones(len(array), np.float32)])
    return _vertices("colour", array, count, 4)


def _triangles(values: object, count: int) -> NDArray[np.int32]:
    given: Stored = np.asarray(values)
    if given.size == 0:
        raise ShapeError("the mesh has no faces")
    if given.ndim != 2 or given.shape[1] != 3 or given.dtype.kind not in "iu":
        raise ShapeError(f"triangles must be whole numbers of shape (T, 3); got {given.dtype} {given.shape}")
    bad: NDArray[np.bool_] = np.asarray((given < 0) | (given >= count))
    if bad.any():
        place = int(np.argwhere(bad)[0, 0])
        named = int(given.ravel()[int(np.argmax(bad))])
        raise RangeError(f"triangle {place} names vertex {named}; there are {count}, from 0 to {count - 1}")
    return np.ascontiguousarray(given, np.int32)


def _sound_triangles(
    where: NDArray[np.float32], corners: NDArray[np.int32], parts: tuple[Part, ...], repairs: list[str]
) -> tuple[NDArray[np.int32], tuple[Part, ...]]:
    """Leave out triangles that cannot be drawn, and say so."""
    finite: NDArray[np.bool_] = np.all(np.isfinite(where), axis=1)
    sound = finite[corners].all(axis=1)
    if not sound.all():
        repairs.append(f"{(~finite).sum()} of {len(where)} positions are not finite; {(~sound).sum()} triangles left out")
    at = np.where(finite[:, None], where, 0).astype(np.float64)[corners]
    edges = at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]
    area = np.linalg.norm(np.cross(*edges), axis=1)
    longest = np.maximum(np.einsum("td,td->t", edges[0], edges[0]), np.einsum("td,td->t", edges[1], edges[1]))
    flat: NDArray[np.bool_] = sound & (area <= 1e-10 * longest)
    if flat.any():
        repairs.append(f"{flat.sum()} of {len(corners)} triangles have no area; left out")
    sound &= ~flat
    if not sound.any():
        raise ShapeError(f"no triangle is left of {len(corners)}: {'; '.join(repairs)}")
    if sound.all():
        return corners, parts
    before = np.concatenate([[0], np.cumsum(sound)])
    moved = (replace(part, first=int(before[part.first]), last=int(before[part.last])) for part in parts)
    return corners[sound], tuple(part for part in moved if part.last > part.first)


def _only_used(corners: NDArray[np.int32], count: int) -> tuple[NDArray[np.int64], NDArray[np.int32]]:
    """The vertices that triangles use, and the triangles by those."""
    is_used = np.zeros(count, bool)
    is_used[corners] = True
    number = np.cumsum(is_used) - 1
    return np.flatnonzero(is_used), number[corners].astype(np.int32)


def _not_unit(vectors: NDArray[np.float32]) -> NDArray[np.bool_]:
    return ~np.isfinite(vectors).all(axis=1) | (np.linalg.norm(np.nan_to_num(vectors), axis=1) < 1e-6)


def _taken(arrays: tuple[Any, ...], source: NDArray[np.int64]) -> tuple[Any, ...]:
    return tuple(None if array is None else array[source] for array in arrays)
