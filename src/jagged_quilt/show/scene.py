"""What stands before a camera: a terrain and meshes, each with its layers."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend.blender import Blender
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.projection import Filter
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.seen import ShadowMap
from jagged_quilt.meshes.surface import MeshSurface
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import Kept, WeightMap


@dataclass(frozen=True, slots=True, eq=False)
class Dressed:
    """A terrain or a mesh with its layers.

    Attributes
    ----------
    surface : Terrain or Mesh
    layers : sequence of Layer, or mapping of part to such
    weights : WeightMap, Weigher or None
        None answers the masks of the layers.
    """

    surface: Terrain | Mesh
    layers: Sequence[Layer] | Mapping[str, Sequence[Layer]]
    weights: WeightMap | Weigher | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Sight:
    """Points of one kind that a camera sees: which rays meet them, and what blends there.

    Attributes
    ----------
    rays : (N,) int64
        By number, of the rays that were cast.
    triangles : (N,) int32 or None
        Of a mesh.
    """

    points: Points
    rays: NDArray[np.int64]
    blender: Blender
    weights: Kept
    mesh: Mesh | None
    triangles: NDArray[np.int32] | None


class Scene:
    """Things before a camera, ready to be drawn row by row.

    Parameters
    ----------
    things : sequence of Dressed
    arrays : TextureArrays
    filter : "anisotropic" and others
        Of layers that do not say.
    """

    def __init__(self, things: Sequence[Dressed], arrays: TextureArrays, *, filter: Filter = "trilinear") -> None:
        self.things = tuple(things)
        self.meshes = [thing.surface for thing in things if isinstance(thing.surface, Mesh)]
        self.terrains = [thing.surface for thing in things if isinstance(thing.surface, Terrain)]
        self._made = [_made(thing, arrays, filter) for thing in things]

    def seen(self, camera: Camera, rows: int, columns: int, region: slice) -> tuple[NDArray[np.float32], list[Sight]]:
        """Return the rays of some rows of pixels, and what they meet first."""
        rays = camera.rays(rows, columns, region)
        nearest = np.full(len(rays), np.inf, np.float32)
        met: list[tuple[int, NDArray[np.int64], Points, NDArray[np.int32] | None, NDArray[np.float32]]] = []
        eye = np.array(camera.position, np.float32)
        for number, thing in enumerate(self.things):
            triangles = None
            if isinstance(thing.surface, Mesh):
                points, hit, _, triangles = camera.mesh_points(thing.surface, rows, columns, region)
            else:
                points, hit, _ = camera.points(thing.surface, rows, columns, region)
            which = np.flatnonzero(hit)
            far = np.linalg.norm(points.position - eye, axis=1)
            nearest[which] = np.minimum(nearest[which], far)
            met.append((number, which, points, triangles, far))
        return rays, [sight for number, which, points, triangles, far in met
                      for sight in self._sights(number, which, points, triangles, far <= nearest[which])]  # fmt: skip

    def _sights(
        self, number: int, which: NDArray[np.int64], points: Points, triangles: NDArray[np.int32] | None,
        first: NDArray[np.bool_],
    ) -> Iterator[Sight]:  # fmt: skip
        surface = self.things[number].surface
        for last_of_part, before, blender, weigh in self._made[number]:
            own = first if triangles is None else first & (triangles >= before) & (triangles < last_of_part)
            if own.any():
                some = points[own]
                yield Sight(some, which[own], blender, weigh(some), surface if isinstance(surface, Mesh) else None,
                            None if triangles is None else triangles[own])  # fmt: skip

    def shadows(self, towards: NDArray[np.float64]) -> Callable[[Points], NDArray[np.float32]]:
        """Return what says how much of a light reaches points, 0..1."""
        cast = ShadowMap(self.meshes, towards) if self.meshes else None

        def reaches(points: Points) -> NDArray[np.float32]:
            free = (points.normal @ towards.astype(np.float32) > 0).astype(np.float32)
            for terrain in self.terrains:
                free *= terrain.sunlit(points, towards)
            return free * cast.free(points) if cast else free

        return reaches


def _made(
    thing: Dressed, arrays: TextureArrays, filter: Filter
) -> list[tuple[int, int, Blender, Callable[[Points], Kept]]]:  # fmt: skip
    """A blender and what weighs, for each part: one past its last triangle, and its first."""
    given: Any = thing.weights
    if isinstance(thing.surface, Terrain):
        layers: Any = thing.layers
        source = Weigher(layers, thing.surface) if given is None else given
        return [(0, 0, Blender(arrays, layers, filter=filter), source.at)]
    surface = MeshSurface(thing.surface)
    out = []
    for part in thing.surface.parts:
        own = thing.layers[part.name] if isinstance(thing.layers, Mapping) else thing.layers
        source = Weigher(own, surface) if given is None else given
        out.append((part.last, part.first, Blender(arrays, own, filter=filter, frame=part.frame), source.at))
    return out
