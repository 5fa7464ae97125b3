"""Writing meshes: OBJ with its materials' names, and GLB."""

from __future__ import annotations

import json
import struct
from collections.abc import Mapping
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import write_bytes
from jagged_quilt.foundation.loose import Facts, Stored
from jagged_quilt.meshes.mesh import Mesh


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
    """
    path = Path(path)
    if more and path.suffix.lower() != ".glb":
        raise FileError(f"{path}: {', '.join(more)} can be written to .glb only")
    if path.suffix.lower() == ".obj":
        write_bytes(path, _obj(mesh).encode())
    elif path.suffix.lower() == ".glb":
        write_bytes(path, _glb(mesh, more or {}))
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


def _glb(mesh: Mesh, more: Mapping[str, NDArray[np.float32]]) -> bytes:
    """One buffer, one node and one primitive for each part; vertices are shared."""
    data = bytearray()
    views: list[Facts] = []
    accessors: list[Facts] = []

    def add(values: Stored, kind: str, code: int, target: int) -> int:
        bounds = {"min": values.min(axis=0).tolist(), "max": values.max(axis=0).tolist()} if kind == "VEC3" else {}
        views.append({"buffer": 0, "byteOffset": len(data), "byteLength": values.nbytes, "target": target})
        accessors.append({"bufferView": len(views) - 1, "componentType": code, "count": len(values), "type": kind, **bounds})
        data.extend(np.ascontiguousarray(values).tobytes())
        data.extend(b"\0" * (-len(data) % 4))
        return len(accessors) - 1

    attributes = {"POSITION": add(mesh.position, "VEC3", 5126, 34962), "NORMAL": add(mesh.normal, "VEC3", 5126, 34962)}
    if mesh.uv is not None:
        attributes["TANGENT"] = add(mesh.tangent, "VEC4", 5126, 34962)
        attributes["TEXCOORD_0"] = add(mesh.uv, "VEC2", 5126, 34962)
    if mesh.layout is not None:
        attributes["TEXCOORD_1"] = add(mesh.layout, "VEC2", 5126, 34962)
    if mesh.colour is not None:
        attributes["COLOR_0"] = add(mesh.colour, "VEC4", 5126, 34962)
    for name, values in more.items():
        kind = "SCALAR" if values.shape[1] == 1 else f"VEC{values.shape[1]}"
        attributes[name] = add(np.asarray(values, np.float32), kind, 5126, 34962)
    materials = list(dict.fromkeys(part.material for part in mesh.parts if part.material))
    meshes = []
    for part in mesh.parts:
        index = add(mesh.triangles[part.first : part.last].astype(np.uint32).ravel(), "SCALAR", 5125, 34963)
        primitive = {"attributes": attributes, "indices": index}
        if part.material:
            primitive["material"] = materials.index(part.material)
        meshes.append({"name": part.name, "primitives": [primitive]})
    told = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": list(range(len(meshes)))}],
        "nodes": [
            {"name": part.name, "mesh": number, **({"translation": list(mesh.origin)} if any(mesh.origin) else {})}
            for number, part in enumerate(mesh.parts)
        ],
        "meshes": meshes,
        "buffers": [{"byteLength": len(data)}],
        "bufferViews": views,
        "accessors": accessors,
    }
    if materials:
        told["materials"] = [{"name": name} for name in materials]
    text = json.dumps(told, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    chunks = struct.pack("<I4s", len(text), b"JSON") + text + struct.pack("<I4s", len(data), b"BIN\0") + bytes(data)
    return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks
