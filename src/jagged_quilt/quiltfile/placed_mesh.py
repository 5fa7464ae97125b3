"""The meshes of a quilt file: read, put in their place, each part with its layers."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.projection import Uv
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.loose import Facts
from jagged_quilt.foundation.within import Within
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.meshes.mesh import Mesh, Part
from jagged_quilt.meshes.unwrap import unwrap
from jagged_quilt.meshfiles.read import read_mesh
from jagged_quilt.quiltfile.layer_tables import OWN
from jagged_quilt.quiltfile.schema import MeshTable
from jagged_quilt.surfaces.terrain import Terrain


def placed_mesh(table: MeshTable, within: Within, terrain: Terrain | None) -> Mesh:
    """Read the mesh of a table and put it in its place; on the ground where it is to stand there.

    What the file names may lie below its own folder, and `within`. Where a layer shows its own materials, its uv are those by
    which their textures are read.
    """
    second = table.into == "second uv"
    how: Facts = {"smooth": table.smooth, "up": table.up, "metres": table.metres, "second_uv": second}
    mesh = read_mesh(within.home / table.file, allow=(within.home, *within.allowed), **how)
    if table.unwrap:
        faces = "bare" if table.unwrap == "bare" else "all"
        mesh = unwrap(mesh, texels=table.texels, padding=max(2, table.padding // 4), faces=faces)
    if any(layer.is_own for layer in table.layer):
        laid = mesh.texture_uv()
        mesh = laid if laid is mesh or mesh.layout is not None else mesh.laid_out(mesh.uv).texture_uv()
    at = np.array(table.at, np.float64)
    if table.stand:
        assert terrain is not None
        at[1] += float(terrain.points_at([[at[0], at[2]]]).places[0, 1])
    return mesh.placed(_placement(at, table.turn, table.scale))


def own_name(mesh: str, material: str) -> str:
    """What the swatch of a mesh's own material is called."""
    return f"{mesh}: {material}"


def own_sources(name: str, mesh: Mesh, folder: Path, layers: dict[str, list[Layer]]) -> list[SwatchSource]:
    """Return where the swatches of a mesh's own materials come from, of those that layers show; one repeat is one unit of uv.

    Parameters
    ----------
    folder : Path
        Where images that lie within the mesh file are written.
    """
    shown = {layer.swatch for own in layers.values() for layer in own}
    out = []
    for material in mesh.materials.values():
        if own_name(name, material.name) in shown:
            made = material.swatch_source(tile=_metres(mesh, material.name), folder=folder if material.embedded else None)
            out.append(replace(made, name=own_name(name, material.name)))
    return out


def _metres(mesh: Mesh, material: str) -> float:
    """The metres that one unit of uv stands for where a material shows: the mean over its parts, by area."""
    parts = [part for part in mesh.parts if part.material == material]
    faces = np.array([part.last - part.first for part in parts], float)
    return float(np.exp(np.average(np.log([mesh.metres_of(part) for part in parts]), weights=faces)))


def layers_of_parts(name: str, mesh: Mesh, layers: list[tuple[str, Layer]]) -> dict[str, list[Layer]]:
    """Return the layers of each part: its own, or those that name no part. Those of the mesh's own materials name these.

    Raises
    ------
    NameNotFoundError
        If layers name a part that is not there.
    RangeError
        If a part has no layers.
    """
    for named, _ in layers:
        if named:
            known_name("part", named, mesh.part_names)
    out = {}
    for part in mesh.parts:
        own = [layer for on, layer in layers if on == part.name] or [layer for on, layer in layers if not on]
        if not own:
            raise RangeError(f'part "{part.name}" has no layers; give it some, or some that name no part')
        out[part.name] = [_of_material(name, mesh, part, layer) if layer.swatch == OWN else layer for layer in own]
    return out


def _of_material(name: str, mesh: Mesh, part: Part, layer: Layer) -> Layer:
    """A layer that shows the material of a part."""
    material = mesh.materials.get(part.material)
    if material is None or not material.rules:
        what = f'material "{part.material}", of which nothing is known' if part.material else "no material"
        raise RangeError(f'part "{part.name}" has {what}; give it a layer of a swatch: part = "{part.name}"')
    lie = layer.projection
    if isinstance(lie, Uv) and lie.metres is None:
        lie = replace(lie, metres=_metres(mesh, material.name))
    return replace(layer, swatch=own_name(name, material.name), projection=lie, label=layer.label or OWN)


def _placement(at: NDArray[np.float64], turn: float, scale: float) -> NDArray[np.float64]:
    """The matrix that scales, turns clockwise as seen from above, and moves."""
    angle = -np.radians(turn)
    out = np.eye(4)
    out[:3, :3] = scale * np.array([[np.cos(angle), 0, np.sin(angle)], [0, 1, 0], [-np.sin(angle), 0, np.cos(angle)]])
    out[:3, 3] = at
    return out
