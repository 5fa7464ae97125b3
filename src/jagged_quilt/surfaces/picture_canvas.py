"""What a camera sees as a canvas: every pixel a point of the surface that it meets first."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import Block, Part, Piece, Region, Where, bands
from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces import _sight_kernels
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.parts import parts_of
from jagged_quilt.surfaces.sight import points_on
from jagged_quilt.surfaces.terrain import Terrain

_THICK = 0.02  # of its size: how far below its lowest place the ground is still seen from the side


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class PictureBlock(Block):
    """Some rows of pixels: a piece for each part that is seen, and the ray through every pixel.

    Attributes
    ----------
    rays : (P, 3) float32
        Unit, world, row by row; also of pixels that meet nothing.
    cut : (P,) float32
        Metres at which a pixel sees where the ground is cut off at its border, from the side; -1 where it does not.
    """

    rays: NDArray[np.float32]
    cut: NDArray[np.float32]


@dataclass(frozen=True, slots=True, eq=False)
class _Met:
    """What rays meet of one surface: which rays, the points, how far they lie, and on which triangles of a mesh."""

    rays: NDArray[np.int64]
    points: Points
    far: NDArray[np.float32]
    triangles: NDArray[np.int32] | None
    is_cut: NDArray[np.bool_] | None = None


class PictureCanvas:
    """The pixels of a camera before some surfaces; its parts are those of the first surface, then of the next.

    Parameters
    ----------
    surfaces : sequence of Terrain or Mesh
    rows, columns : int
        Pixels, or rays where there are several for a pixel.
    """

    def __init__(self, camera: Camera, surfaces: Sequence[Terrain | Mesh], rows: int, columns: int) -> None:
        self.camera, self.surfaces, self.texels = camera, tuple(surfaces), (rows, columns)
        floors = [each for each in self.surfaces if not isinstance(each, Mesh)]
        self._floors = {each: each.height_range[0] - _THICK * max(each.size) for each in floors}
        self._parts = [(number, part) for number, surface in enumerate(self.surfaces) for part in parts_of(surface)]

    def __repr__(self) -> str:
        return f"<PictureCanvas {self.texels[1]} x {self.texels[0]} before {len(self.surfaces)} surfaces>"

    @property
    def parts(self) -> tuple[Part, ...]:
        """Those of all surfaces, in order."""
        return tuple(part for _, part in self._parts)

    @property
    def padding(self) -> None:
        """What no ray meets is left as it is."""
        return None

    def surface_of(self, part: int) -> Terrain | Mesh:
        """Return the surface that a part belongs to."""
        return self.surfaces[self._parts[part][0]]

    def blocks(self, most: int) -> Sequence[Region]:
        """Return bands of rows."""
        return bands(self.texels, most)

    def block(self, region: Region) -> PictureBlock:
        """Return what the pixels of a region see first, from either side of the triangles of meshes."""
        rows, columns = self.texels
        rays = self.camera.rays(rows, columns, slice(region.top, region.bottom))
        nearest = np.full(len(rays), np.inf, np.float32)
        met = [self._meet(surface, rays, region) for surface in self.surfaces]
        for one in met:
            nearest[one.rays] = np.minimum(nearest[one.rays], one.far)
        at = np.arange(len(rays)) % columns
        wanted = (at >= region.left) & (at < region.right)
        cut = np.full(len(rays), -1, np.float32)
        for one in met:
            if one.is_cut is not None:
                seen = one.is_cut & (one.far <= nearest[one.rays])
                cut[one.rays[seen]] = one.far[seen]
        pieces = tuple(
            piece
            for number, one in enumerate(met)
            for piece in self._pieces(number, one, (one.far <= nearest[one.rays]) & wanted[one.rays], region.top * columns)
        )
        return PictureBlock(region=region, pieces=pieces, rays=rays[wanted], cut=cut[wanted])

    def _pieces(self, number: int, met: _Met, first: NDArray[np.bool_], start: int) -> Iterator[Piece]:
        """Yield what is seen of each part of a surface."""
        surface = self.surfaces[number]
        before = next(place for place, (own, _) in enumerate(self._parts) if own == number)
        if met.triangles is None or not isinstance(surface, Mesh):
            if met.is_cut is not None:
                first = first & ~met.is_cut
            if first.any():
                yield Piece(points=met.points[first], where=Where(each=met.rays[first] + start), part=before)
            return
        for place, part in enumerate(surface.parts):
            own = first & (met.triangles >= part.first) & (met.triangles < part.last)
            if own.any():
                yield Piece(
                    points=met.points[own],
                    where=Where(each=met.rays[own] + start),
                    part=before + place,
                    triangles=met.triangles[own],
                )

    def _meet(self, surface: Terrain | Mesh, rays: NDArray[np.float32], region: Region) -> _Met:
        met = self._meet_mesh(surface, rays, region) if isinstance(surface, Mesh) else self._meet_ground(surface, rays)
        far = np.linalg.norm(met.points.places - self.camera.position, axis=1).astype(np.float32)
        return replace(met, far=far)

    def _meet_ground(self, terrain: Terrain, rays: NDArray[np.float32]) -> _Met:
        origin = np.array(self.camera.position, np.float64)
        distance = terrain.meet_rays(origin, rays)
        lowest = self._floors[terrain]
        met = (distance >= 0) & (origin[1] + rays[:, 1] * np.maximum(distance, 0) >= lowest)
        far = distance[met].astype(np.float64)
        where = origin + rays[met].astype(np.float64) * far[:, None]
        across = far * self.camera.side_of_pixel(self.texels[0])
        points = terrain.points_at(where[:, [0, 2]], np.maximum(across, 1e-6).astype(np.float32))
        is_cut = where[:, 1] < points.places[:, 1] - 1e-3 * min(terrain.spacing)
        return _Met(np.flatnonzero(met), self.camera.as_seen(points, rays[met], across), distance[met], None, is_cut)

    def _meet_mesh(self, mesh: Mesh, rays: NDArray[np.float32], region: Region) -> _Met:
        rows, columns = self.texels
        depth = np.zeros((region.rows, columns))
        seen = np.full(depth.shape, -1, np.int32)
        shares = np.empty((*depth.shape, 2), np.float32)
        places = frozen(self.camera.on_picture(mesh.world, rows, columns), np.float64)
        _sight_kernels.draw_triangles(places, mesh.triangles, region.top, region.bottom, columns, depth, seen, shares)
        met = seen.ravel() >= 0
        which = seen.ravel()[met]
        points = points_on(mesh, which, shares.reshape(-1, 2)[met])
        along = rays[met]
        far = 1 / (depth.ravel()[met] * (along @ self.camera.axes()[0].astype(np.float32)))
        turned = np.where(np.einsum("nd,nd->n", points.normal, along) > 0, np.float32(-1), np.float32(1))
        hand = np.column_stack([points.tangent[:, :3], points.tangent[:, 3] * turned])
        points = replace(points, normal=points.normal * turned[:, None], tangent=hand)  # the inside is lit from inside
        seen_so = self.camera.as_seen(points, along, far * self.camera.side_of_pixel(rows))
        return _Met(np.flatnonzero(met), seen_so, far.astype(np.float32), which)
