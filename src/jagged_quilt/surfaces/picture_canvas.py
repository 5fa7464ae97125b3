"""What a camera sees as a canvas: every pixel a point of the surface that it meets first."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import Block, CanvasPart, Piece, Region, Where, bands, numbers_of
from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.points import Points
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.mesh_points import points_on
from jagged_quilt.surfaces.parts import parts_of
from jagged_quilt.surfaces.peeling import Holes, IsThere, draw_there, holes_of_parts
from jagged_quilt.surfaces.terrain import Terrain

_THICK = 0.02  # of its size: how far below its lowest place the ground is still seen from the side


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class PictureBlock(Block):
    """Some pixels: a piece for each part that is seen, and the ray through every pixel.

    Attributes
    ----------
    pixels : (P,) int64
        Which pixels of the canvas, by number row by row from the top left.
    rays : (P, 3) float32
        Unit, world; also of pixels that meet nothing.
    cut : (P,) float32
        Metres at which a pixel sees where the ground is cut off at its border, from the side; -1 where it does not.
    rows_of : sequence of (N,) int64
        For each piece, the rows of its points in these arrays.
    """

    pixels: NDArray[np.int64]
    rays: NDArray[np.float32]
    cut: NDArray[np.float32]
    rows_of: tuple[NDArray[np.int64], ...]


@dataclass(frozen=True, slots=True, eq=False)
class _Met:
    """What rays meet of one surface, a row for each: how far away (infinity where nothing), and whether it is the cut border;
    of a mesh, which triangle and the shares of its second and third corners; of the ground, how far away it is not there."""

    far: NDArray[np.float32]
    is_cut: NDArray[np.bool_] | None = None
    triangles: NDArray[np.int32] | None = None
    shares: NDArray[np.float32] | None = None
    holes: NDArray[np.float32] | None = None


class _Drawn(NamedTuple):
    """A mesh on the picture: its vertices, pixels across and down and 1 / metres ahead, (V, 3), and the rows that it spans."""

    positions: NDArray[np.float64]
    top: float
    bottom: float


class PictureCanvas:
    """The pixels of a camera before some surfaces; its parts are those of the first surface, then of the next.

    Parameters
    ----------
    surfaces : sequence of Terrain or Mesh
    rows, columns : int
        Pixels, or rays where there are several for a pixel.
    only : (rows, columns) bool, optional
        The pixels to look at; all where it is not given.
    footprint : float
        How many pixels wide the surface is read.
    is_there : callable, optional
        Says of a part, by its number, whether points of it are there, (N,); None where all of them are. Rays go on through
        what is not. Where the ground is not, its inside shows, or the meshes that stand there.
    """

    def __init__(
        self,
        camera: Camera,
        surfaces: Sequence[Terrain | Mesh],
        rows: int,
        columns: int,
        *,
        only: NDArray[np.bool_] | None = None,
        footprint: float = 1.0,
        is_there: Holes | None = None,
    ) -> None:
        self.camera, self.surfaces, self.texels = camera, tuple(surfaces), (rows, columns)
        self._is_there = is_there
        self._only, self._pixel = only, footprint * camera.side_of_pixel(rows)
        floors = [each for each in self.surfaces if not isinstance(each, Mesh)]
        self._floors = {each: each.height_range[0] - _THICK * max(each.size) for each in floors}
        self._drawn: dict[int, _Drawn] = {}
        self._parts = [(number, part) for number, surface in enumerate(self.surfaces) for part in parts_of(surface)]

    def __repr__(self) -> str:
        return f"<PictureCanvas {self.texels[1]} x {self.texels[0]} before {len(self.surfaces)} surfaces>"

    @property
    def parts(self) -> tuple[CanvasPart, ...]:
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
        """Return bands of rows, so high that about so many pixels of each are looked at."""
        share = 1.0 if self._only is None else float(self._only.mean())
        return bands(self.texels, round(most / max(share, 0.02)))

    def block(self, region: Region) -> PictureBlock:
        """Return what the pixels of a region see first, from either side of the triangles of meshes."""
        pixels = numbers_of(region, self.texels[1])
        if self._only is not None:
            pixels = pixels[self._only.reshape(-1)[pixels]]
        rays = self.camera.rays(*self.texels, pixels)
        met = [self._meet(number, rays, pixels, region) for number in range(len(self.surfaces))]
        nearest = np.min([one.far for one in met], axis=0) if met else np.empty(0)
        cut = np.full(len(rays), -1, np.float32)
        pieces: list[tuple[NDArray[np.int64], Piece]] = []
        for number, one in enumerate(met):
            first = np.isfinite(one.far) & (one.far <= nearest)
            if one.is_cut is not None:
                cut[first & one.is_cut] = one.far[first & one.is_cut]
                first &= ~one.is_cut
            if one.holes is not None:
                inside = np.isfinite(one.holes) & ~np.isfinite(nearest)
                cut[inside] = one.holes[inside]
            pieces += self._pieces(number, one, first, rays, pixels)
        rows_of = tuple(rows for rows, _ in pieces)
        return PictureBlock(
            region=region, pieces=tuple(piece for _, piece in pieces), pixels=pixels, rays=rays, cut=cut, rows_of=rows_of
        )

    def _pieces(
        self, number: int, met: _Met, first: NDArray[np.bool_], rays: NDArray[np.float32], pixels: NDArray[np.int64]
    ) -> Iterator[tuple[NDArray[np.int64], Piece]]:
        """Yield what is seen first of each part of a surface, with the rows of its rays."""
        surface = self.surfaces[number]
        before = next(index for index, (own, _) in enumerate(self._parts) if own == number)
        if not isinstance(surface, Mesh):
            rows = np.flatnonzero(first)
            if len(rows):
                yield (
                    rows,
                    Piece(
                        points=self._on_ground(surface, rays[rows], met.far[rows]), where=Where(each=pixels[rows]), part=before
                    ),
                )
            return
        assert met.triangles is not None
        assert met.shares is not None
        for index, part in enumerate(surface.parts):
            rows = np.flatnonzero(first & (met.triangles >= part.first) & (met.triangles < part.last))
            if len(rows):
                which = met.triangles[rows]
                points = self._on_mesh(surface, which, met.shares[rows], rays[rows], met.far[rows])
                yield rows, Piece(points=points, where=Where(each=pixels[rows]), part=before + index, triangles=which)

    def _meet(self, number: int, rays: NDArray[np.float32], pixels: NDArray[np.int64], region: Region) -> _Met:
        surface = self.surfaces[number]
        if isinstance(surface, Mesh):
            return self._meet_mesh(surface, self._on_picture(number), rays, pixels, region)
        return self._without_holes(surface, rays, self._meet_ground(surface, rays))

    def _meet_ground(self, terrain: Terrain, rays: NDArray[np.float32]) -> _Met:
        """The border of the ground is cut off below it, down to its floor."""
        origin = np.array(self.camera.position, np.float64)
        far = terrain.meet_rays(origin, rays)
        reached = far >= 0
        far[~reached | (origin[1] + rays[:, 1] * far < self._floors[terrain])] = np.inf
        at_border = np.zeros(len(far), bool)
        seen = np.flatnonzero(np.isfinite(far))
        where = origin + rays[seen].astype(np.float64) * far[seen, None]
        half = np.array(terrain.size) / 2
        inside = half - np.abs(where[:, [0, 2]] - half)
        near = seen[inside.min(axis=1) < 1e-6 * half.max() + 1e-6 * far[seen]]
        if len(near):
            below = origin + rays[near].astype(np.float64) * far[near, None]
            ground = terrain.points_at(below[:, [0, 2]]).world[:, 1]
            at_border[near] = below[:, 1] < ground - 1e-3 * min(terrain.spacing)
        return _Met(far, at_border)

    def _without_holes(self, terrain: Terrain, rays: NDArray[np.float32], met: _Met) -> _Met:
        part = next(index for index, (own, _) in enumerate(self._parts) if self.surfaces[own] is terrain)
        is_there = None if self._is_there is None else self._is_there(part)
        assert met.is_cut is not None
        rows = np.flatnonzero(np.isfinite(met.far) & ~met.is_cut)
        if is_there is None or not len(rows):
            return met
        gone = rows[~is_there(self._on_ground(terrain, rays[rows], met.far[rows]))]
        holes = np.full(len(rays), np.inf, np.float32)
        holes[gone], met.far[gone] = met.far[gone], np.inf
        return replace(met, holes=holes)

    def _on_ground(self, terrain: Terrain, rays: NDArray[np.float32], far: NDArray[np.float32]) -> Points:
        where = np.array(self.camera.position, np.float64) + rays.astype(np.float64) * far[:, None]
        across = far.astype(np.float64) * self._pixel
        points = terrain.points_at(where[:, [0, 2]], np.maximum(across, 1e-6).astype(np.float32))
        return self.camera.as_seen(points, rays, across)

    def _on_picture(self, number: int) -> _Drawn:
        """Where the vertices of a mesh lie on the picture, worked out once for all blocks."""
        if number not in self._drawn:
            mesh = self.surfaces[number]
            assert isinstance(mesh, Mesh)
            positions = frozen(self.camera.on_picture(mesh.world, *self.texels), np.float64)
            down = positions[positions[:, 2] > 0, 1]
            self._drawn[number] = _Drawn(positions, float(down.min(initial=np.inf)), float(down.max(initial=-np.inf)))
        return self._drawn[number]

    def _meet_mesh(
        self, mesh: Mesh, drawn: _Drawn, rays: NDArray[np.float32], pixels: NDArray[np.int64], region: Region
    ) -> _Met:
        columns = self.texels[1]
        if drawn.bottom < region.top or drawn.top > region.bottom:  # no row of this block sees it
            nothing = np.full(len(rays), np.inf, np.float32), np.full(len(rays), -1, np.int32)
            return _Met(nothing[0], None, nothing[1], np.empty((len(rays), 2), np.float32))
        depth = np.zeros((region.rows, columns))
        seen = np.full(depth.shape, -1, np.int32)
        shares = np.empty((*depth.shape, 2), np.float32)
        own = pixels - region.top * columns
        is_there = self._of_mesh(mesh, rays, own, depth)
        draw_there(drawn.positions, mesh.triangles, (region.top, region.bottom), depth, seen, shares, is_there, own)
        near, ahead = depth.reshape(-1)[own], rays @ self.camera.axes()[0].astype(np.float32)
        far = np.where(near > 0, 1 / np.where(near > 0, near * ahead, 1), np.inf).astype(np.float32)
        return _Met(far, None, seen.reshape(-1)[own], shares.reshape(-1, 2)[own])

    def _of_mesh(
        self, mesh: Mesh, rays: NDArray[np.float32], own: NDArray[np.int64], depth: NDArray[np.float64]
    ) -> IsThere | None:
        """What says whether places of a mesh's triangles are there, as they are seen from pixels of a region."""
        number = next(number for number, surface in enumerate(self.surfaces) if surface is mesh)
        before = next(index for index, (of, _) in enumerate(self._parts) if of == number)
        holes = None if self._is_there is None else holes_of_parts(mesh, before, self._is_there)
        if holes is None:
            return None
        row_of = np.full(depth.size, -1, np.int64)
        row_of[own] = np.arange(len(own))
        ahead = rays @ self.camera.axes()[0].astype(np.float32)

        def is_there(which: NDArray[np.int32], shares: NDArray[np.float32], pixels: NDArray[np.int64]) -> NDArray[np.bool_]:
            rows = row_of[pixels]
            far = (1 / (depth.reshape(-1)[pixels] * ahead[rows])).astype(np.float32)
            return holes(which, lambda some: self._on_mesh(mesh, which[some], shares[some], rays[rows[some]], far[some]))

        return is_there

    def _on_mesh(
        self,
        mesh: Mesh,
        which: NDArray[np.int32],
        shares: NDArray[np.float32],
        rays: NDArray[np.float32],
        far: NDArray[np.float32],
    ) -> Points:
        points = points_on(mesh, which, shares)
        turned = np.where(np.einsum("nd,nd->n", points.normal, rays) > 0, np.float32(-1), np.float32(1))
        hand = np.column_stack([points.tangent[:, :3], points.tangent[:, 3] * turned])
        points = replace(points, normal=points.normal * turned[:, None], tangent=hand)  # the inside is lit from inside
        return self.camera.as_seen(points, rays, far.astype(np.float64) * self._pixel)
