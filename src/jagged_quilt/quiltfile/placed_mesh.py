"""The meshes of a quilt file: read, put in their place, each part with its layers."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.choices import Wrap
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.part import Part
from jagged_quilt.meshes.placement import placement
from jagged_quilt.meshes.unwrap import unwrap
from jagged_quilt.meshfiles.read import read_mesh
from jagged_quilt.quiltfile.layer_tables import OWN
from jagged_quilt.quiltfile.schema import MeshTable
from jagged_quilt.surfaces.terrain import Terrain

_BASE = 0.1  # of its height: a mesh stands on its vertices up to there
_MOST_OF_BASE = 4096  # vertices
_LEANS = 3
_NO_GAP = 0.01  # metres
_SMALLEST_GAP, _GAP_OF_SIZE = 0.05, 0.02  # metres, and of how wide a mesh is: such a gap is reported


def placed_mesh(table: MeshTable, within: PathGuard, terrain: Terrain | None, progress: Progress = silent) -> Mesh:
    """Read the mesh of a table and put it in its place; on the ground where it is to stand there.

    What the file names may lie below its own folder, and `within`. How far it sinks into ground that is not level, or hangs
    above it, is the first of its `repairs`. Where a layer shows its own materials, its uv are those by
    which their textures are read.
    """
    second = table.into == "second uv"
    how: Facts = {"smooth": table.smooth, "up": table.up, "metres": table.metres, "second_uv": second}
    mesh = read_mesh(within.home / table.file, allow=(within.home, *within.allowed), **how)
    if table.unwrap:
        faces = "bare" if table.unwrap == "bare" else "all"
        mesh = unwrap(mesh, texels=table.texels, padding=max(2, table.padding // 4), faces=faces, progress=progress)
    if any(layer.is_own for layer in table.layer):
        laid = mesh.texture_uv()
        mesh = laid if laid is mesh or mesh.layout is not None else mesh.laid_out(mesh.uv).texture_uv()
    matrix = placement(np.array(table.at, np.float64), table.turn, table.scale)
    if not table.stand:
        return mesh.placed(matrix)
    assert terrain is not None
    base = _base_of(mesh)
    flat = base @ matrix[1, :3]  # how high above its origin
    matrix = _leaning(matrix, base, flat, terrain) if table.stand == "lean" else _upright(matrix, terrain)
    gap = _gap_words(matrix, base, flat, terrain)
    if gap and table.stand != "lean":
        gap += '; stand = "lean" lays it along the slope'
    placed = mesh.placed(matrix)
    return replace(placed, repairs=(gap, *placed.repairs)) if gap else placed


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
    projection = layer.projection
    if projection.unit_is_measured:
        projection = projection.with_unit(_metres(mesh, material.name))
    if projection.uses_uv and projection.wraps == (Wrap.REPEAT, Wrap.REPEAT) and projection.shuffle is None:
        projection = replace(projection, wrap=material.wrap)
    tuning = replace(layer.tuning, vertex_colour=layer.tuning.vertex_colour or material.vertex_colours)
    return replace(layer, swatch=own_name(name, material.name), projection=projection, label=layer.label or OWN, tuning=tuning)


def _base_of(mesh: Mesh) -> NDArray[np.float64]:
    """Vertices of the lowest part of a mesh, on which it stands, (N, 3), in its own space."""
    low, high = mesh.world[:, 1].min(), mesh.world[:, 1].max()
    base = mesh.world[mesh.world[:, 1] <= low + _BASE * (high - low)]
    return base[:: max(1, len(base) // _MOST_OF_BASE)]


def _above(
    matrix: NDArray[np.float64], base: NDArray[np.float64], flat: NDArray[np.float64], terrain: Terrain
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Where the places of a base come to lie, (N, 3), and how much higher above the ground than on flat ground, (N,)."""
    positions = base @ matrix[:3, :3].T + matrix[:3, 3]
    return positions, positions[:, 1] - flat - terrain.points_at(positions[:, [0, 2]]).world[:, 1]


def _upright(matrix: NDArray[np.float64], terrain: Terrain) -> NDArray[np.float64]:
    """Raise a mesh by the height of the ground below its origin."""
    out = matrix.copy()
    out[1, 3] += float(terrain.points_at([matrix[[0, 2], 3]]).world[0, 1])
    return out


def _leaning(
    matrix: NDArray[np.float64], base: NDArray[np.float64], flat: NDArray[np.float64], terrain: Terrain
) -> NDArray[np.float64]:
    """Turn a mesh about its origin so that it stands square to the plane that fits the ground below its base, and let it down
    until it is as far above that as below on average."""
    out = _upright(matrix, terrain)
    for _ in range(_LEANS):  # leaning moves it sideways
        positions = base @ out[:3, :3].T + out[:3, 3]
        ground = terrain.points_at(positions[:, [0, 2]]).world[:, 1]
        plane = np.column_stack([positions[:, [0, 2]] - matrix[[0, 2], 3], np.ones(len(positions))])
        east, south, _height = np.linalg.lstsq(plane, ground, rcond=None)[0]
        normal = np.array([-east, 1.0, -south]) / np.sqrt(1 + east**2 + south**2)
        out[:3, :3] = _turn_up_to(normal) @ matrix[:3, :3]
        out[1, 3] -= float(_above(out, base, flat, terrain)[1].mean())
    out[1, 3] += matrix[1, 3]
    return out


def _turn_up_to(normal: NDArray[np.float64]) -> NDArray[np.float64]:
    """The shortest turn, (3, 3), that takes +Y to a unit vector that points upwards."""
    x, y, z = normal
    return np.array([[1 - x * x / (1 + y), x, -x * z / (1 + y)], [-x, y, -z], [-x * z / (1 + y), z, 1 - z * z / (1 + y)]])


def _gap_words(matrix: NDArray[np.float64], base: NDArray[np.float64], flat: NDArray[np.float64], terrain: Terrain) -> str:
    """How far a standing mesh sinks in and hangs above the ground, beside flat ground; empty where nobody sees it."""
    positions, above = _above(matrix, base, flat, terrain)
    sinks, hangs = max(0.0, -float(above.min())), max(0.0, float(above.max()))
    seen = max(_SMALLEST_GAP, _GAP_OF_SIZE * float(np.ptp(positions[:, [0, 2]], axis=0).max()))
    if max(sinks, hangs) <= seen:
        return ""
    both = (sinks, f"sinks in by up to {sinks:.2f} m"), (hangs, f"hangs up to {hangs:.2f} m above it")
    return f"the ground below it is not level: it {' and '.join(words for gap, words in both if gap >= _NO_GAP)}"
