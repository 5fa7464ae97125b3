"""What is handed to an engine: meshes with their finished maps, lamps and a camera."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.baking.baked_maps import BakedMaps
from jagged_quilt.blend.settings import NormalSpace
from jagged_quilt.export.tiled import Tiled
from jagged_quilt.foundation.canvas import TEXELS_AT_ONCE, Canvas, Piece, go_over
from jagged_quilt.foundation.canvas import Block as CanvasBlock
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.light.lamps import Light
from jagged_quilt.light.light import Lighting
from jagged_quilt.maps.roles import CUT_OUT, MapRole
from jagged_quilt.maps.texture_map import TextureMap, stored_values
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.surfaces.terrain_mesh import terrain_mesh
from jagged_quilt.surfaces.uv_canvas import UvCanvas


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class SceneThing:
    """A mesh with its maps.

    Attributes
    ----------
    name : str
    mesh : Mesh
        Its uv are those that the maps were baked into.
    maps : BakedMaps or None
        Normals in its tangent space. Where there are none the colours of its vertices say all.
    tiled : mapping of str to Tiled
        Parts that show a swatch by their uv, in place of the maps; see `tiled_parts`.
    """

    name: str
    mesh: Mesh
    maps: BakedMaps | None
    tiled: Mapping[str, Tiled] = field(default_factory=dict)

    def __post_init__(self) -> None:
        all_tiled = set(self.tiled) >= set(self.mesh.part_names)
        if self.maps is None and self.mesh.colour is None and not all_tiled:
            raise ShapeError(f'"{self.name}" has neither maps nor colours of its vertices')
        if self.maps is not None and self.mesh.uv is None:
            raise ShapeError(f'"{self.name}" has maps and no uv to lay them by')
        if self.maps is not None and self.maps.normals is not NormalSpace.TANGENT:
            raise ShapeError(f'the normals of "{self.name}" are those of the world; bake them with normals = "tangent"')


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class EngineScene:
    """Meshes with their maps, in metres, +Y up, under lamps, before a camera.

    Attributes
    ----------
    things : sequence of SceneThing
    lighting : Lighting, optional
        Of its sky nothing is written but in the formats that hold one.
    camera : Camera, optional
    cut_out : float
        The opacity below which nothing is there.
    """

    things: Sequence[SceneThing]
    lighting: Lighting | None = None
    camera: Camera | None = None
    cut_out: float = CUT_OUT

    def __post_init__(self) -> None:
        if not self.things:
            raise ShapeError("there is nothing in the scene; name a thing at least")
        names = [thing.name for thing in self.things]
        for name in names:
            if names.count(name) > 1:
                raise ShapeError(f'two things are called "{name}"')

    def __getitem__(self, name: str) -> SceneThing:
        named = {thing.name: thing for thing in self.things}
        return named[known_name("thing", name, named)]

    def lost_lamps(self) -> list[str]:
        """Return what lamps have that the standards' lamps have not, a line each."""
        lines = []
        for number, light in enumerate(self.lighting.lights if self.lighting else ()):
            if light.position is not None and light.fall_off is not None:
                lines.append(f"lamp {number}: its fall_off; it falls with the square of the distance")
            if light.position is None and light.size:
                lines.append(f"sun {number}: its size; its shadows are hard")
        return lines


def name_of(light: Light) -> str:
    """Return what a light is called in a scene, before its number."""
    return "sun" if light.position is None else "lamp"


def ground_thing(terrain: Terrain, maps: BakedMaps, error: float, *, name: str = "ground", work: Work = ANYHOW) -> SceneThing:
    """Return a terrain as a mesh within `error` metres of its samples, with its maps.

    Normals are turned to lean against the mesh's own, so that they hold what the mesh has lost.

    Examples
    --------
    >>> maps = jq.bake(ground.canvas(16), layers, arrays)
    >>> thing = jq.export.ground_thing(ground, maps, error=0.01)
    """
    mesh = terrain_mesh(terrain, error)
    normal = TextureMap(role=MapRole.NORMAL, texels=maps[MapRole.NORMAL]).values
    world = normal if maps.normals is NormalSpace.WORLD else _by_frames(normal, terrain.canvas(maps.texels), True, work)
    turned = _by_frames(world, UvCanvas(mesh, maps.texels), False, work)
    return SceneThing(name=name, mesh=mesh, maps=_with_normals(maps, turned))


def mesh_thing(
    mesh: Mesh,
    maps: BakedMaps | None,
    *,
    name: str,
    tiled: Mapping[str, Tiled] | None = None,
    work: Work = ANYHOW,
) -> SceneThing:
    """Return a mesh with the maps that were baked into its layout, which becomes its only uv; its colours would tint them, and
    are left away. Without maps it is as it is.

    Examples
    --------
    >>> box = jq.shapes.unwrap(jq.shapes.box(), texels=64)
    >>> thing = jq.export.mesh_thing(box, jq.bake(jq.UvCanvas(box, 64), layers[:1], arrays), name="box")
    """
    if maps is None:
        return SceneThing(name=name, mesh=mesh, maps=None, tiled=tiled or {})
    own = replace(mesh.by_layout(), colour=None)
    if maps.normals is NormalSpace.WORLD:
        world, canvas = TextureMap(role=MapRole.NORMAL, texels=maps[MapRole.NORMAL]).values, UvCanvas(own, maps.texels)
        maps = _with_normals(maps, _by_frames(world, canvas, False, work))
    return SceneThing(name=name, mesh=own, maps=maps, tiled=tiled or {})


def _with_normals(maps: BakedMaps, normals: NDArray[np.float32]) -> BakedMaps:
    """Maps with other normals, in tangent space, with as many bits."""
    bits = 16 if maps[MapRole.NORMAL].dtype == np.uint16 else 8
    own = dict(maps) | {MapRole.NORMAL: stored_values(MapRole.NORMAL, normals, bits)}
    return BakedMaps(own, relief=maps.relief, normals=NormalSpace.TANGENT, cover=maps.cover)


def _by_frames(normals: NDArray[np.float32], canvas: Canvas, to_world: bool, work: Work) -> NDArray[np.float32]:
    """Return unit vectors (H, W, 3) taken from the tangent spaces of a canvas's points to the world, or the other way; where
    the canvas has gaps they stay."""
    given, out = normals.reshape(-1, 3), normals.reshape(-1, 3).copy()

    def turn(piece: Piece) -> None:
        points = piece.points
        normal, tangent = points.normal.astype(np.float64), points.tangent[:, :3].astype(np.float64)
        tangent -= normal * (normal * tangent).sum(axis=1, keepdims=True)
        tangent /= np.maximum(np.linalg.norm(tangent, axis=1, keepdims=True), 1e-12)
        frame = np.stack([tangent, np.cross(normal, tangent) * points.tangent[:, 3:], normal], axis=1)  # (N, axis, xyz)
        vectors = np.asarray(piece.where.of(given), np.float64)
        turned = np.einsum("nij,ni->nj" if to_world else "nij,nj->ni", frame, vectors)
        piece.where.put(out, (turned / np.linalg.norm(turned, axis=1, keepdims=True)).astype(np.float32))

    def turn_block(block: CanvasBlock) -> None:
        for piece in block.pieces:
            turn(piece)

    go_over(canvas, turn_block, most=TEXELS_AT_ONCE, work=work, step="turning normals")
    return out.reshape(normals.shape)
