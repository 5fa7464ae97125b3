"""The ground and the meshes as a scene, and the ground as a mesh."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from jagged_quilt.export.engine_scene import EngineScene, SceneThing, ground_thing, mesh_thing
from jagged_quilt.export.gltf_scene import write_gltf
from jagged_quilt.export.tiled import Tiled, tiled_parts, why_baked
from jagged_quilt.export.usd_scene import write_usd
from jagged_quilt.export.vertices import coloured_mesh
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.meshfiles.write import write_mesh
from jagged_quilt.quiltfile.checks import GROUND
from jagged_quilt.results.bake_steps import mesh_options
from jagged_quilt.results.export_maps import baked_maps
from jagged_quilt.results.exporter import Exporter, Written, option
from jagged_quilt.results.results import Results
from jagged_quilt.surfaces.terrain_mesh import terrain_mesh

_FINER = 4  # than a terrain's samples lie apart is its mesh, where nobody says how far it may lie from them
_WITHIN = "How far the ground may lie from its samples."


@dataclass(frozen=True, kw_only=True)
class SceneFiles(Exporter):
    """The ground and the meshes with their maps, lamps and the camera of the view, as glTF or OpenUSD."""

    key: ClassVar[str] = "scene"
    form: str = option("glb", "The kind of file.", flag="as", words=("glb", "gltf", "usda", "usdc"))
    within: float | None = option(None, f"{_WITHIN} A quarter of their distance where not given.", metavar="METRES")
    texels: int | None = option(None, "Along the longer side of maps; as they are where not given.")
    metallic: bool = option(False, "Base colour and metallic in place of diffuse and specular, for glTF.")
    tiled: bool = option(False, "What lies by uv alone keeps its tile, and is not baked; for glTF.")

    @property
    def name(self) -> str:
        return f"export scene {self.form}"

    def write(self, results: Results, folder: Path) -> Written:
        if self.tiled and self.form.startswith("usd"):
            raise RangeError("tiles are kept in glTF alone; say --as glb or --as gltf, or leave --tiled out")
        quilt = results.quilt
        scene = EngineScene(
            things=scene_things(results, ground=True, within=self.within, texels=self.texels, tiled=self.tiled),
            lighting=quilt.lighting,
            camera=quilt.camera,
            cut_out=quilt.table.seen.cut_out,
        )
        path = folder / ("" if self.form == "glb" else f"scene_{self.form}") / f"scene.{self.form}"
        if self.form.startswith("usd"):
            files, lost = write_usd(scene, path)
        else:
            files, lost = write_gltf(scene, path, metallic=self.metallic)
        triangles = sum(len(thing.mesh.triangles) for thing in scene.things)
        lamps = len(scene.lighting.lights) if scene.lighting else 0
        lost = (*lost, *(_baked_in_spite(results) if self.tiled else ()))
        return Written(tuple(files), f"things: {len(scene.things)}, of {triangles:,} triangles; lamps: {lamps}", lost)


@dataclass(frozen=True, kw_only=True)
class TerrainFiles(Exporter):
    """The terrain as a mesh."""

    key: ClassVar[str] = "terrain"
    within: float = option(0.25, _WITHIN, metavar="METRES")
    near: float | None = option(None, "From the camera of the view on, beyond this, coarser.", metavar="METRES")

    def steps(self, results: Results) -> list[str]:
        return []

    def write(self, results: Results, folder: Path) -> Written:
        quilt = results.quilt
        camera = None if self.near is None else quilt.camera.position
        mesh = terrain_mesh(quilt.terrain, self.within, camera=camera, near=self.near or 50.0)
        rows, columns = quilt.terrain.heights.shape
        words = f"{len(mesh.triangles):,} triangles; all samples would take {2 * (rows - 1) * (columns - 1):,}"
        return Written((write_mesh(mesh, folder / "terrain.glb"),), words)


def scene_things(
    results: Results, *, ground: bool = False, within: float | None = None, texels: int | None = None, tiled: bool = False
) -> list[SceneThing]:
    """Return the meshes with their maps; with `ground`, that before them."""
    quilt, things = results.quilt, list[SceneThing]()
    baked = dict(baked_maps(results, texels, 8, ground=ground))
    if ground and GROUND in baked:
        far = min(quilt.terrain.spacing) / _FINER if within is None else within
        things.append(ground_thing(quilt.terrain, baked[GROUND], far, name=GROUND, work=results.work))
    for number, (table, mesh) in enumerate(zip(quilt.table.mesh, quilt.meshes, strict=True)):
        if table.name not in baked:
            mesh = coloured_mesh(mesh, quilt.layers_by_part[number], results.arrays, **mesh_options(results, number))
        alone = _tiled(results, number) if tiled and not quilt.films_on(table.name) else {}
        things.append(mesh_thing(mesh, baked.get(table.name), name=table.name, tiled=alone, work=results.work))
    return things


def _baked_in_spite(results: Results) -> list[str]:
    """What is baked though swatches were to keep their tiles, a line each, with the reason."""
    out = []
    for number, (table, mesh) in enumerate(zip(results.quilt.table.mesh, results.quilt.meshes, strict=True)):
        why = why_baked(mesh, results.quilt.layers_by_part[number])
        if results.quilt.films_on(table.name):
            why = {part.name: "a film lies on it" for part in mesh.parts}
        out += [f'the tile of "{table.name}", part "{part}": {reason}; baked instead' for part, reason in why.items()]
    return out


def _tiled(results: Results, number: int) -> dict[str, Tiled]:
    """The parts of a mesh that need no baked maps."""
    layers = results.quilt.layers_by_part[number]
    shown = {layer.swatch for own in layers.values() for layer in own}
    swatches = {source.name: source.read() for source in results.sources if source.name in shown}
    return tiled_parts(results.quilt.meshes[number], layers, swatches)
