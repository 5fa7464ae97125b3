"""A mesh: triangles of one or several parts, complete with normals and tangents."""

from __future__ import annotations

import warnings
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import finite_array, frozen, known_name, number_in, positive
from jagged_quilt.foundation.errors import QuiltWarning, RangeError, ShapeError
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes import _rows as k
from jagged_quilt.meshes.complete import Completion, Vertices, only_used
from jagged_quilt.meshes.corners import split_vertices
from jagged_quilt.meshes.material import MeshMaterial
from jagged_quilt.meshes.part import Part
from jagged_quilt.meshes.placement import Standable, placement
from jagged_quilt.meshes.settings import SMOOTH
from jagged_quilt.meshes.tangents import mesh_tangents
from jagged_quilt.meshes.vertex_arrays import array_of, check_extent, colours_of, split_origin, triangles_of, vertices_of

_kernels = kernels_of("jagged_quilt.meshes._kernels")


_NOTES = 24  # of a file, that are listed one by one


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Mesh(NotebookValue):
    """Triangles in the world, in metres, +Y up, counter-clockwise from outside. Its arrays are read-only.

    Make one with `Mesh.of`, `read_mesh`, or a made shape; those check and complete it.

    Attributes
    ----------
    position : (V, 3) float32
        Metres from its `origin`.
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
    layout : (V, 2) float32 or None
        A second set of uv, to bake into; where there is none, `uv` is for that too.
    layout_tangent : (V, 4) float32 or None
        As `tangent`, along the layout.
    origin : (float, float, float)
        Metres, world: 0 where it lies near the world's own, else a place amid the mesh, so that float32 is exact enough.
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
    layout: NDArray[np.float32] | None = None
    layout_tangent: NDArray[np.float32] | None = None
    origin: tuple[float, float, float] = (0.0, 0.0, 0.0)

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

        Triangles with places that are not finite, or without area, are left out; what is left out or mended is reported by a
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
        array_of("position", position, 3)
        origin, where = split_origin(np.asarray(position, np.float64))
        corners = triangles_of(triangles, len(where))
        whole = tuple(parts) or (Part(name=name, first=0, last=len(corners)),)
        vertices = Vertices(
            position=where,
            source=np.arange(len(where)),
            normal=vertices_of("normal", normal, len(where), 3),
            uv=vertices_of("uv", uv, len(where), 2),
            tangent=vertices_of("tangent", tangent, len(where), 4),
            colour=colours_of(colour, len(where)),
        )
        notes = list[str]()
        corners, whole = _sound_triangles(where, corners, whole, notes)
        used, corners = only_used(corners, len(where))
        making = Completion(vertices.taken(used), corners, notes)
        making.mend_numbers()
        making.normals(smooth)
        making.tangents()
        for line in notes:
            warnings.warn(f"{name}: {line}", QuiltWarning, stacklevel=2)
        arrays = [(key, getattr(making.vertices, key)) for key in ("position", "normal", "tangent", "uv", "colour")]
        made: Facts = {key: None if array is None else frozen(array, np.float32) for key, array in arrays}
        return cls(
            **made,
            origin=origin,
            triangles=frozen(making.corners, np.int32),
            source=making.vertices.source,
            parts=whole,
            materials=dict(materials or {}),
            repairs=tuple(notes),
        )

    def noted(self, notes: Sequence[str], name: str) -> Mesh:
        """Return the mesh with more in its `repairs`, each a `QuiltWarning` of what is called `name` too."""
        notes = [*notes[:_NOTES], *([f"and {len(notes) - _NOTES:,} more of the kind"] if len(notes) > _NOTES else [])]
        for line in notes:
            warnings.warn(f"{name}: {line}", QuiltWarning, stacklevel=2)
        return replace(self, repairs=(*notes, *self.repairs))

    def __repr__(self) -> str:
        low, high = self.bounds
        size = " x ".join(f"{side:.3g}" for side in high - low)
        kinds = [name for name in ("uv", "layout", "colour") if getattr(self, name) is not None]
        return (
            f"<Mesh {len(self.triangles)} triangles, {len(self.position)} vertices, {len(self.parts)} part(s), {size} m"
            f"{', ' if kinds else ''}{', '.join(kinds)}>"
        )

    @property
    def bounds(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The lowest and the highest x, y and z, in metres."""
        low, high = (each.astype(np.float64) for each in (self.position.min(axis=0), self.position.max(axis=0)))
        return low + self.origin, high + self.origin

    @property
    def world(self) -> NDArray[np.float64]:
        """Where the vertices are in the world, metres, (V, 3)."""
        return self.position.astype(np.float64) + self.origin

    def in_world(self, points: Points) -> Points:
        """Return points whose positions are metres from its origin at their places in the world."""
        return points if not any(self.origin) else points.at(points.position.astype(np.float64) + self.origin)

    @property
    def rows(self) -> k.MeshRows:
        """The mesh as kernels read it."""
        uv, colour = (np.empty((0, width)) if array is None else array for array, width in ((self.uv, 2), (self.colour, 4)))
        return k.MeshRows(
            frozen(self.position, np.float32),
            frozen(self.normal, np.float32),
            frozen(self.tangent, np.float32),
            frozen(uv, np.float32),
            frozen(colour, np.float32),
            frozen(self.triangles, np.int32),
        )

    @property
    def layout_rows(self) -> k.MeshRows:
        """The mesh as kernels read it, with the uv that it is baked into and tangents along those."""
        if self.layout is None:
            return self.rows
        return self.rows._replace(uv=frozen(self.layout, np.float32), tangent=frozen(self.layout_tangent, np.float32))

    @property
    def area(self) -> float:
        """Square metres of all triangles."""
        return float(_areas(self.position, self.triangles).sum())

    @property
    def bare(self) -> NDArray[np.bool_]:
        """Which triangles have no extent in uv, (T,): those without uv among them."""
        if self.uv is None:
            return np.ones(len(self.triangles), bool)
        return _areas(self.uv, self.triangles) <= 0.5e-14

    def metres_of(self, part: Part) -> float:
        """Return the metres that one unit of a part's uv stands for: the root of area in space over area in uv; 1 without."""
        corners = self.triangles[part.first : part.last]
        if self.uv is None:
            return 1.0
        flat = _areas(self.uv, corners)
        has_extent = flat > 0.5e-14
        if not has_extent.any():
            return 1.0
        return float(np.sqrt(_areas(self.position, corners[has_extent]).sum() / flat[has_extent].sum()))

    @property
    def part_names(self) -> tuple[str, ...]:
        """The names of its parts, in order."""
        return tuple(part.name for part in self.parts)

    def part(self, name: str) -> Mesh:
        """Return one part as a mesh of its own; raise `NameNotFoundError` if there is none of that name."""
        known_name("part", name, self.part_names)
        own = self.parts[self.part_names.index(name)]
        used, corners = only_used(self.triangles[own.first : own.last], len(self.position))
        return replace(self.split(used, corners), parts=(replace(own, first=0, last=len(corners)),), repairs=())

    made_canvas: ClassVar[str] = "jq.UvCanvas(mesh, 1024)"

    def placed(
        self,
        matrix: object = None,
        *,
        at: tuple[float, float, float] = (0.0, 0.0, 0.0),
        turn: float = 0.0,
        scale: float = 1.0,
        on: Standable | None = None,
    ) -> Mesh:
        """Return the mesh moved, turned, stretched or mirrored by a (4, 4) matrix.

        Normals go by the inverse transpose and tangents by the matrix; a mirroring turns handedness and the order of
        corners over.

        Parameters
        ----------
        matrix : (4, 4), optional
            In place of the others.
        at : (x, y, z)
            Metres, in the world, of the mesh's origin.
        turn : float
            Degrees clockwise, seen from above.
        scale : float
        on : Terrain, optional
            Upwards from this ground, at `at`.

        Raises
        ------
        ShapeError, RangeError
            If the matrix is no finite (4, 4), or flattens the mesh.
        """
        if matrix is None:
            matrix = placement(np.array(at, np.float64), turn, positive("scale", scale), on)
        finite_array("matrix", matrix, (4, 4))
        given = np.asarray(matrix, np.float64)
        linear = given[:3, :3]
        strength = np.linalg.svd(linear, compute_uv=False)
        if strength.min() < 1e-9 * max(1e-30, strength.max()):
            raise RangeError("matrix must not flatten the mesh: one of its axes has no length")
        positions = self.world @ linear.T + given[:3, 3]
        check_extent(positions)
        origin, where = split_origin(positions)
        normal = self.normal.astype(np.float64) @ np.linalg.inv(linear)
        unit = lambda vectors: vectors / np.linalg.norm(vectors, axis=1, keepdims=True)
        mirrors = np.linalg.det(linear) < 0
        corners = self.triangles[:, ::-1] if mirrors else self.triangles

        def turned(tangent: NDArray[np.float32]) -> NDArray[np.float32]:
            along = unit(tangent[:, :3].astype(np.float64) @ linear.T)
            return frozen(np.column_stack([along, tangent[:, 3:] * (-1 if mirrors else 1)]), np.float32)

        return replace(
            self,
            position=frozen(where, np.float32),
            origin=origin,
            normal=frozen(unit(normal), np.float32),
            tangent=turned(self.tangent),
            layout_tangent=None if self.layout_tangent is None else turned(self.layout_tangent),
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
        whole: Facts = {}
        for key, _ in meshes[0]._vertex_arrays():
            arrays = [getattr(each, key) for each in meshes]
            whole[key] = None if any(array is None for array in arrays) else frozen(np.concatenate(arrays), np.float32)
        origin, where = split_origin(np.concatenate([each.world for each in meshes]))
        whole |= {"position": frozen(where, np.float32), "origin": origin}
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

    def laid_out(self, layout: object) -> Mesh:
        """Return the mesh with a second set of uv, to bake into: its own textures go on lying by the first.

        Parameters
        ----------
        layout : (V, 2)
            For each vertex; vertices are split where tangents along it part.

        Raises
        ------
        ShapeError, RangeError
            If it is not that, or not finite.
        """
        positions = finite_array("layout", layout, (len(self.position), 2))
        tangent, corners, source = mesh_tangents(self.position, self.normal, positions, self.triangles)
        made = self.split(source, corners)
        return replace(made, layout=frozen(positions[source], np.float32), layout_tangent=frozen(tangent, np.float32))

    def by_layout(self) -> Mesh:
        """Return the mesh with the layout as its only uv: as what was baked into it lies."""
        if self.layout is None or self.layout_tangent is None:
            return self
        return replace(self, uv=self.layout, tangent=self.layout_tangent, layout=None, layout_tangent=None)

    def texture_uv(self) -> Mesh:
        """Return the mesh with each part's uv as its material's textures are read: scaled, turned and moved.

        Where its textures are turned or mirrored, tangents are made anew.
        """
        own = [self.materials.get(part.material) for part in self.parts]
        moved = [material is not None and material.moves for material in own]
        if self.uv is None or not any(moved):
            return self
        part_of = np.repeat(np.arange(len(own)), [part.last - part.first for part in self.parts])
        corners, source, first = split_vertices(self.triangles, np.repeat(part_of, 3))
        made = self.split(source, corners)
        uv, number = np.array(self.uv[source], np.float32), part_of[first // 3]
        for index, material in enumerate(own):
            if material is not None:
                uv[number == index] = material.texture_uv(uv[number == index])
        made = replace(made, uv=frozen(uv, np.float32))
        if not any(material is not None and material.turns for material in own):
            return made
        tangent, corners, source = mesh_tangents(made.position, made.normal, uv, made.triangles)
        return replace(made.split(source, corners), tangent=frozen(tangent, np.float32))

    def split(self, source: NDArray[np.int64], corners: NDArray[np.int32]) -> Mesh:
        """Return the mesh with vertices taken, some of them several times, and its triangles by those."""
        taken: Facts = {
            key: None if array is None else frozen(array[source], np.float32) for key, array in self._vertex_arrays()
        }
        return replace(self, **taken, triangles=frozen(corners, np.int32), source=self.source[source])

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
        made = Points(
            position=self.position,
            normal=self.normal,
            tangent=self.tangent,
            footprint=footprint,
            uv=self.uv,
            colour=self.colour,
            uv_gradient=gradient,
        )
        return self.in_world(made)

    def shifted(self, points: Points, by: NDArray[np.float32]) -> Points:
        """Return points moved in space by (N, 3) metres: what a warp looks at need not lie on the mesh."""
        return points.moved(by)

    def _vertex_arrays(self) -> list[tuple[str, NDArray[np.float32] | None]]:
        names = ("position", "normal", "tangent", "uv", "colour", "layout", "layout_tangent")
        return [(key, getattr(self, key)) for key in names]


def _areas(positions: NDArray[np.float32], corners: NDArray[np.int32]) -> NDArray[np.float64]:
    """The area of every triangle, in the plane or in space."""
    at = positions.astype(np.float64)[corners]
    e, f = at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]
    if positions.shape[1] == 2:
        return np.abs(e[:, 0] * f[:, 1] - e[:, 1] * f[:, 0]) / 2
    return np.linalg.norm(np.cross(e, f), axis=1) / 2


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
