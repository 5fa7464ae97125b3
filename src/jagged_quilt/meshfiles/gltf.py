"""glTF 2.0: the meshes of a scene."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.loose import Told
from jagged_quilt.foundation.within import Within
from jagged_quilt.meshes.mesh import Mesh, Part
from jagged_quilt.meshfiles.gltf_file import GltfFile, opened
from jagged_quilt.meshfiles.gltf_materials import read_material, texture_set
from jagged_quilt.meshfiles.limits import check_count
from jagged_quilt.meshfiles.names import told_apart

_TRIANGLES, _STRIP, _FAN = 4, 5, 6


def read_gltf(path: Path, within: Within, *, second_uv: bool = False, **options: Told) -> Mesh:
    """Read the meshes of the default scene, placed by its nodes; a part for each primitive.

    With `second_uv` the other set of uv is the layout.

    `options` are those of `Mesh.of`. Raises `FileError` if something that is named is not there or does not fit.
    """
    file = opened(path, within)
    try:
        return _mesh(file, second_uv, options)
    except QuiltError:
        raise
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, RecursionError) as error:
        raise FileError(f"{path}: this is no sound glTF file ({type(error).__name__}: {error})") from error


def _mesh(file: GltfFile, second_uv: bool, options: dict[str, Told]) -> Mesh:
    told = file.told.get("materials", [])
    check_count(file.path, "materials", len(told), file.held)
    names = told_apart([str(each.get("name") or f"material {number}") for number, each in enumerate(told)])
    made = [read_material(file, number, name) for number, name in enumerate(names)]
    notes = [line for _, lines in made for line in lines]
    pieces, passed_over, vertices, corners = list[dict[str, Told]](), 0, 0, 0
    for node, frame in _nodes(file):
        one = file.entry("meshes", node["mesh"])
        for place, primitive in enumerate(one.get("primitives", [])):
            if primitive.get("mode", _TRIANGLES) not in (_TRIANGLES, _STRIP, _FAN):
                passed_over += 1
                continue
            name = str(node.get("name") or one.get("name") or "mesh")
            name += f" / {place + 1}" if len(one["primitives"]) > 1 else ""
            pieces.append(_piece(file, primitive, frame, name, names))
            vertices, corners = vertices + len(pieces[-1]["position"]), corners + 3 * len(pieces[-1]["triangles"])
            check_count(file.path, "parts", len(pieces), file.held)
            check_count(file.path, "vertices", vertices, file.held)
            check_count(file.path, "corners", corners, file.held)
    if not pieces:
        raise FileError(f"{file.path}: the mesh has no faces")
    notes += [f"{passed_over} primitives of points or lines passed over"] if passed_over else []
    whole: dict[str, Told] = {
        key: _whole(key, pieces, notes) for key in ("normal", "uv", "tangent", "colour", *(["layout"] if second_uv else []))
    }
    layout = whole.pop("layout", None)
    starts = np.cumsum([0, *(len(piece["position"]) for piece in pieces)])
    faces = np.cumsum([0, *(len(piece["triangles"]) for piece in pieces)])
    parts = [
        replace(piece["part"], name=name, first=int(first), last=int(last))
        for piece, name, first, last in zip(
            pieces, told_apart([piece["part"].name for piece in pieces]), faces, faces[1:], strict=False
        )
    ]
    mesh = Mesh.of(
        np.concatenate([piece["position"] for piece in pieces]),
        np.concatenate([piece["triangles"] + start for piece, start in zip(pieces, starts, strict=False)]),
        **whole,
        parts=parts,
        materials={each.name: each for each, _ in made},
        name=str(file.path),
        **options,
    )
    mesh = mesh if layout is None else mesh.laid_out(layout[mesh.source])
    return mesh.noted(notes, str(file.path))


_STANDS_IN = {"normal": np.nan, "tangent": np.nan, "uv": 0.0, "layout": 0.0, "colour": 1.0}
"""What vertices have of which others have more: what is no number is made, no uv has no extent, no colour is white."""


def _whole(key: str, pieces: list[dict[str, Told]], notes: list[str]) -> NDArray[Told] | None:
    """An attribute of all pieces, one after the other; None where none has it."""
    arrays = [piece[key] for piece in pieces]
    width = next((array.shape[1] for array in arrays if array is not None), 0)
    if not width:
        return None
    lacking = [piece for piece, array in zip(pieces, arrays, strict=True) if array is None]
    if lacking and key == "layout":
        notes.append(f"{len(lacking)} of {len(pieces)} parts have no second set of uv; it is left out for all")
        return None
    if lacking and key == "uv":
        bare, all_faces = (sum(len(piece["triangles"]) for piece in some) for some in (lacking, pieces))
        notes.append(f"{bare:,} of {all_faces:,} faces have no uv")
    return np.concatenate(
        [
            np.full((len(piece["position"]), width), _STANDS_IN[key]) if array is None else array
            for piece, array in zip(pieces, arrays, strict=True)
        ]
    )


def _nodes(file: GltfFile) -> Iterator[tuple[dict[str, Told], NDArray[np.float64]]]:
    """The nodes of the default scene that have a mesh, with what places them in the world."""
    nodes = file.told.get("nodes", [])
    scenes = file.told.get("scenes")
    children = {child for node in nodes for child in node.get("children", [])}
    roots = file.entry("scenes", file.told.get("scene", 0)).get("nodes", []) if scenes else set(range(len(nodes))) - children
    waiting, seen = [(int(root), np.eye(4)) for root in roots], set[int]()
    while waiting:
        number, above = waiting.pop(0)
        node = file.entry("nodes", number)
        if number in seen:
            raise FileError(f"{file.path}: nodes[{number}] is its own ancestor, or has two")
        seen.add(number)
        frame = above @ _placement(node)
        if "mesh" in node:
            yield node, frame
        waiting += [(child, frame) for child in node.get("children", [])]


def _placement(node: dict[str, Told]) -> NDArray[np.float64]:
    if "matrix" in node:
        return np.array(node["matrix"], np.float64).reshape(4, 4).T
    out = np.eye(4)
    x, y, z, w = node.get("rotation", (0, 0, 0, 1))
    turn = np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )
    out[:3, :3] = turn * np.array(node.get("scale", (1, 1, 1)), np.float64)
    out[:3, 3] = node.get("translation", (0, 0, 0))
    return out


def _piece(
    file: GltfFile, primitive: dict[str, Told], frame: NDArray[np.float64], name: str, materials: list[str]
) -> dict[str, Told]:
    """One primitive in the world: what it lacks is None."""
    given = primitive["attributes"]
    read = lambda key: file.accessor(given[key]) if key in given else None
    position = read("POSITION")
    if position is None:
        raise FileError(f'{file.path}: "{name}" has no positions')
    position = position.astype(np.float64)
    index = np.arange(len(position))
    if "indices" in primitive:
        given_index = file.accessor(primitive["indices"])
        if given_index.dtype.kind != "u" or given_index.shape[1] != 1:
            raise FileError(f'{file.path}: the indices of "{name}" are no whole numbers')
        index = given_index[:, 0].astype(np.int64)
    corners = _faces(index, primitive.get("mode", _TRIANGLES))
    if corners.size and int(corners.max()) >= len(position):
        raise FileError(f'{file.path}: "{name}" names vertex {int(corners.max())}; there are {len(position)}')
    linear = frame[:3, :3]
    if abs(np.linalg.det(linear)) < 1e-30:
        raise FileError(f'{file.path}: "{name}" is flattened by its node: one of its axes has no length')
    mirrors = np.linalg.det(linear) < 0
    normal, tangent, colour = read("NORMAL"), read("TANGENT"), read("COLOR_0")
    if normal is not None:
        normal = normal.astype(np.float64) @ np.linalg.inv(linear)
    if tangent is not None:
        tangent = np.column_stack([tangent[:, :3] @ linear.T, tangent[:, 3] * (-1 if mirrors else 1)])
    if colour is not None and colour.shape[1] == 3:
        colour = np.column_stack([colour, np.ones(len(colour), np.float32)])
    number = primitive.get("material")
    material = "" if number is None else materials[int(number)]
    own = texture_set(file, number)
    return {
        "position": position @ linear.T + frame[:3, 3],
        "normal": normal,
        "uv": read(f"TEXCOORD_{own}"),
        "layout": read(f"TEXCOORD_{0 if own else 1}"),
        "tangent": tangent,
        "colour": colour,
        "triangles": corners[:, ::-1] if mirrors else corners,
        "part": Part(name=name, material=material, frame=frame),
    }


def _faces(index: NDArray[np.int64], mode: int) -> NDArray[np.int64]:
    if mode == _TRIANGLES:
        return index[: len(index) // 3 * 3].reshape(-1, 3)
    if mode == _FAN:
        return np.stack([np.full(max(0, len(index) - 2), index[0] if len(index) else 0), index[1:-1], index[2:]], axis=1)
    strip = np.stack([index[:-2], index[1:-1], index[2:]], axis=1)
    strip[1::2] = strip[1::2][:, [1, 0, 2]]
    return strip
