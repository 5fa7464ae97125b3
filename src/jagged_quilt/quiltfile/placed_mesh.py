"""The meshes of a quilt file: read, put in their place, each part with its layers."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.unwrap import unwrap
from jagged_quilt.meshfiles.read import read_mesh
from jagged_quilt.quiltfile.schema import MeshTable
from jagged_quilt.surfaces.terrain import Terrain


def placed_mesh(table: MeshTable, folder: Path, terrain: Terrain | None) -> Mesh:
    """Read the mesh of a table and put it in its place; on the ground where it is to stand there."""
    mesh = read_mesh(folder / table.file, smooth=table.smooth, up=table.up, metres=table.metres)
    if table.unwrap:
        mesh = unwrap(mesh, texels=table.texels, padding=max(2, table.padding // 4))
    at = np.array(table.at, np.float64)
    if table.stand:
        assert terrain is not None
        at[1] += float(terrain.points_at([[at[0], at[2]]]).position[0, 1])
    return mesh.placed(_placement(at, table.turn, table.scale))


def layers_of_parts(mesh: Mesh, layers: list[tuple[str, Layer]]) -> dict[str, list[Layer]]:
    """Return the layers of each part: its own, or those that name no part.

    Raises
    ------
    NameNotFoundError
        If layers name a part that is not there.
    RangeError
        If a part has no layers.
    """
    for part, _ in layers:
        if part:
            known_name("part", part, mesh.part_names)
    out = {}
    for name in mesh.part_names:
        own = [layer for part, layer in layers if part == name] or [layer for part, layer in layers if not part]
        if not own:
            raise RangeError(f'part "{name}" has no layers; give it some, or some that name no part')
        out[name] = own
    return out


def _placement(at: NDArray[np.float64], turn: float, scale: float) -> NDArray[np.float64]:
    """The matrix that scales, turns clockwise as seen from above, and moves."""
    angle = -np.radians(turn)
    out = np.eye(4)
    out[:3, :3] = scale * np.array([[np.cos(angle), 0, np.sin(angle)], [0, 1, 0], [-np.sin(angle), 0, np.cos(angle)]])
    out[:3, 3] = at
    return out
