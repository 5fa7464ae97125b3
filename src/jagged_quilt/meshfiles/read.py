"""Reading a mesh file by its suffix."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Literal

import numpy as np

from jagged_quilt.foundation.checks import known_name, positive
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.foundation.reading import reads
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.settings import METRES, SMOOTH, UP
from jagged_quilt.meshes.vertex_arrays import check_extent
from jagged_quilt.meshfiles.gltf import read_gltf
from jagged_quilt.meshfiles.obj import read_obj
from jagged_quilt.meshfiles.ply import read_ply

READERS: dict[str, Callable[..., Mesh]] = {
    ".obj": read_obj,
    ".gltf": read_gltf,
    ".glb": read_gltf,
    ".ply": lambda path, _, **how: read_ply(path, **how),  # which names no other file
}
_UP = {"y": np.eye(4), "z": np.array([[1.0, 0, 0, 0], [0, 0, 1, 0], [0, -1, 0, 0], [0, 0, 0, 1]])}


@reads("mesh file")
def read_mesh(
    path: Path | str,
    *,
    smooth: float = SMOOTH,
    up: Literal["y", "z"] = UP,
    metres: float = METRES,
    second_uv: bool = False,
    allow: Sequence[Path | str] = (),
) -> Mesh:
    """Read a mesh from an OBJ, glTF, GLB or PLY file.

    Normals and tangents are made where there are none; what is mended is reported by a `QuiltWarning`.

    Parameters
    ----------
    smooth : float
        Degrees: made normals are smooth over edges that turn by no more.
    up : "y" or "z"
        Which of the file's axes points up.
    metres : float
        What one unit of the file stands for.
    second_uv : bool
        Whether the second set of uv of a glTF file is the mesh's `layout`, to bake into.
    allow : sequence of paths
        Folders that its materials, images and buffers may lie in, besides its own folder and what lies below it.

    Raises
    ------
    FileError, ShapeError, RangeError
        If the file cannot be read, something that it names is not there, or no triangle is left.

    Examples
    --------
    >>> jq.read_mesh("jar.obj")
    <Mesh 13824 triangles, 7081 vertices, 1 part(s), 0.374 x 0.6 x 0.374 m, uv>
    """
    path = Path(path)
    known_name("axis", up, _UP)
    scale = positive("metres", metres)
    if path.suffix.lower() not in READERS:
        raise FileError(f"{path}: meshes are read from {', '.join(READERS)}; got {path.suffix or 'no suffix'}")
    read = READERS[path.suffix.lower()]
    within = PathGuard(path.parent, tuple(map(Path, allow)))
    own: Facts = {"second_uv": True} if second_uv and read is read_gltf else {}
    mesh = read(path, within, smooth=smooth, **own)
    if second_uv and mesh.layout is None:
        raise FileError(f"{path}: has no second set of uv for all its faces")
    if up != "y" or scale != 1:
        return mesh.placed(_UP[up] @ np.diag([scale, scale, scale, 1.0]))
    check_extent(mesh.world, str(path))
    return mesh
