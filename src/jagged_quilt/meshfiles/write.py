"""Writing meshes: OBJ with its materials' names, and GLB."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import write_bytes
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshfiles.gltf_write import GltfWriter


def write_mesh(mesh: Mesh, path: Path | str, *, more: Mapping[str, NDArray[np.float32]] | None = None) -> Path:
    """Write a mesh as .obj or .glb, in metres, +Y up; return the path. In a .glb a layout is the second set of uv.

    Parameters
    ----------
    more : mapping of str to (V, 1 to 4) float32, optional
        Further attributes of the vertices of a .glb; by the standard their names begin with "_".

    Raises
    ------
    FileError
        For any other suffix, or `more` in an .obj file.

    Examples
    --------
    >>> jq.export.write_mesh(jq.shapes.box(), "box.glb").name
    'box.glb'
    """
    path = Path(path)
    if more and path.suffix.lower() != ".glb":
        raise FileError(f"{path}: {', '.join(more)} can be written to .glb only")
    if path.suffix.lower() == ".obj":
        write_bytes(path, _obj(mesh).encode())
    elif path.suffix.lower() == ".glb":
        writer = GltfWriter()
        names = list(dict.fromkeys(part.material for part in mesh.parts if part.material))
        plain = {"pbrMetallicRoughness": {"metallicFactor": 0.0}}  # by the standard it would be a metal
        numbers = {name: writer.add("materials", {"name": name, **plain}) for name in names}
        writer.add_mesh(mesh, [numbers.get(part.material) for part in mesh.parts], more or {})
        write_bytes(path, writer.glb())
    else:
        raise FileError(f"{path}: meshes are written as .obj or .glb; got {path.suffix or 'no suffix'}")
    return path


def _obj(mesh: Mesh) -> str:
    rows = lambda word, values: [f"{word} " + " ".join(f"{x:.7g}" for x in row) for row in values.tolist()]
    lines = rows("v", mesh.position if mesh.colour is None else np.column_stack([mesh.position, mesh.colour[:, :3]]))
    if any(mesh.origin):  # all digits that places far away need
        lines = [
            f"v {' '.join(f'{x:.12g}' for x in row)} {line.split(' ', 4)[4] if mesh.colour is not None else ''}".rstrip()
            for row, line in zip(mesh.world.tolist(), lines, strict=True)
        ]
    if mesh.uv is not None:
        lines += rows("vt", mesh.uv.astype(np.float64) * (1.0, -1.0) + (0.0, 1.0))
    lines += rows("vn", mesh.normal)
    corner = (lambda i: f"{i}/{i}/{i}") if mesh.uv is not None else (lambda i: f"{i}//{i}")
    for part in mesh.parts:
        lines.append(f"o {part.name}")
        lines += [f"usemtl {part.material}"] if part.material else []
        lines += ["f " + " ".join(corner(i + 1) for i in face) for face in mesh.triangles[part.first : part.last].tolist()]
    return "\n".join(lines) + "\n"
