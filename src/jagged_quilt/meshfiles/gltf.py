"""glTF 2.0: the meshes of a scene."""

from __future__ import annotations

import itertools
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.meshes.material import MeshMaterial
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.part import Part
from jagged_quilt.meshfiles.gltf_file import GltfFile, opened
from jagged_quilt.meshfiles.gltf_materials import read_material, texture_set
from jagged_quilt.meshfiles.limits import check_count
from jagged_quilt.meshfiles.names import distinct_names

_TRIANGLES, _STRIP, _FAN = 4, 5, 6
_OF_INSTANCES = {"TRANSLATION": "translation", "ROTATION": "rotation", "SCALE": "scale"}
_ROUNDED = 1e-3  # of the layout: so far beyond 0 and 1 quantised uv may lie
_SETS = 8  # of joints that a vertex may have, four each


def read_gltf(path: Path, within: PathGuard, *, second_uv: bool = False, **options: Unchecked) -> Mesh:
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


def _mesh(file: GltfFile, second_uv: bool, options: dict[str, Unchecked]) -> Mesh:
    listed = file.document.get("materials", [])
    check_count(file.path, "materials", len(listed), file.held)
    names = distinct_names([str(each.get("name") or f"material {number}") for number, each in enumerate(listed)])
    made = [read_material(file, number, name) for number, name in enumerate(names)]
    notes = [line for _, lines in made for line in lines]
    pieces, passed_over, vertices, corners = list[dict[str, Unchecked]](), 0, 0, 0
    frames = _frames(file)
    for number in [each for each in frames if "mesh" in file.entry("nodes", each)]:
        node = file.entry("nodes", number)
        one = file.entry("meshes", node["mesh"])
        joints = _joints(file, node["skin"], frames) if "skin" in node else None
        placements = [np.eye(4)] if joints is not None else [frames[number] @ own for own in _instances(file, node)]
        for frame, (index, primitive) in itertools.product(placements, enumerate(one.get("primitives", []))):
            if primitive.get("mode", _TRIANGLES) not in (_TRIANGLES, _STRIP, _FAN):
                passed_over += 1
                continue
            name = str(node.get("name") or one.get("name") or "mesh")
            name += f" / {index + 1}" if len(one["primitives"]) > 1 else ""
            pieces.append(_piece(file, primitive, frame, name, names, joints))
            if primitive.get("targets") and any(node.get("weights") or one.get("weights") or []):
                notes.append(f'"{name}" has default morph weights, which are not supported; it keeps its base shape')
            vertices, corners = vertices + len(pieces[-1]["position"]), corners + 3 * len(pieces[-1]["triangles"])
            check_count(file.path, "parts", len(pieces), file.held)
            check_count(file.path, "vertices", vertices, file.held)
            check_count(file.path, "corners", corners, file.held)
    if not pieces:
        raise FileError(f"{file.path}: the mesh has no faces")
    materials = _without_quantisation(pieces, _coloured(pieces, {each.name: each for each, _ in made}, notes))
    notes += [f"{passed_over} primitives of points or lines passed over"] if passed_over else []
    whole: dict[str, Unchecked] = {
        key: _whole(key, pieces, notes) for key in ("normal", "uv", "tangent", "colour", *(["layout"] if second_uv else []))
    }
    layout = whole.pop("layout", None)
    starts = np.cumsum([0, *(len(piece["position"]) for piece in pieces)])
    faces = np.cumsum([0, *(len(piece["triangles"]) for piece in pieces)])
    parts = [
        replace(piece["part"], name=name, first=int(first), last=int(last))
        for piece, name, first, last in zip(
            pieces, distinct_names([piece["part"].name for piece in pieces]), faces, faces[1:], strict=False
        )
    ]
    mesh = Mesh.of(
        np.concatenate([piece["position"] for piece in pieces]),
        np.concatenate([piece["triangles"] + start for piece, start in zip(pieces, starts, strict=False)]),
        **whole,
        parts=parts,
        materials=materials,
        name=str(file.path),
        **options,
    )
    mesh = mesh if layout is None else mesh.laid_out(layout[mesh.source])
    return mesh.noted(notes, str(file.path))


_STANDS_IN = {"normal": np.nan, "tangent": np.nan, "uv": 0.0, "layout": 0.0, "colour": 1.0}
"""What vertices have of which others have more: what is no number is made, no uv has no extent, no colour is white."""


def _whole(key: str, pieces: list[dict[str, Unchecked]], notes: list[str]) -> NDArray[Unchecked] | None:
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


def _coloured(
    pieces: list[dict[str, Unchecked]], materials: dict[str, MeshMaterial], notes: list[str]
) -> dict[str, MeshMaterial]:
    """Mark the materials whose base colour vertex colours multiply (COLOR_0); note what of that is not supported."""
    tints: dict[str, list[NDArray[Unchecked]]] = {}
    for piece in pieces:
        if piece["colour"] is not None and piece["part"].material in materials:
            tints.setdefault(piece["part"].material, []).append(piece["colour"])
    for name, colours in tints.items():
        if MapRole.METALLIC in materials[name].roles:
            notes.append(f'material "{name}" is tinted by vertex colours (COLOR_0); what its metal reflects is not')
        if any((each[:, 3] != 1).any() for each in colours):
            notes.append(f'material "{name}" has vertex colours (COLOR_0) with an alpha, which is not supported and is ignored')
    return {name: replace(each, vertex_colours=name in tints) for name, each in materials.items()}


def _without_quantisation(pieces: list[dict[str, Unchecked]], materials: dict[str, MeshMaterial]) -> dict[str, MeshMaterial]:
    """Move the transform of textures into uv that are whole numbers, where it only takes those back to what they stand for.

    Such uv lie within 0 to 1 once they are transformed; as stored they fill a small part of that.
    """
    out = dict(materials)
    for name, material in materials.items():
        own = [piece for piece in pieces if piece["part"].material == name and piece["uv"] is not None]
        if not own or not material.moves or material.turns or not all(piece["uv_is_whole"] for piece in own):
            continue
        laid = [material.texture_uv(piece["uv"]) for piece in own]
        if all(((uv > -_ROUNDED) & (uv < 1 + _ROUNDED)).all() for uv in laid):
            for piece, uv in zip(own, laid, strict=True):
                piece["uv"] = uv
            out[name] = replace(material, scale=(1.0, 1.0), offset=(0.0, 0.0))
    return out


def _frames(file: GltfFile) -> dict[int, NDArray[np.float64]]:
    """What places each node of the default scene in the world, by its number."""
    nodes = file.document.get("nodes", [])
    scenes = file.document.get("scenes")
    children = {child for node in nodes for child in node.get("children", [])}
    roots = (
        file.entry("scenes", file.document.get("scene", 0)).get("nodes", []) if scenes else set(range(len(nodes))) - children
    )
    waiting, out = [(int(root), np.eye(4)) for root in roots], dict[int, NDArray[np.float64]]()
    while waiting:
        number, above = waiting.pop(0)
        node = file.entry("nodes", number)
        if number in out:
            raise FileError(f"{file.path}: nodes[{number}] is its own ancestor, or has two")
        out[number] = above @ _placement(node)
        waiting += [(child, out[number]) for child in node.get("children", [])]
    return out


def _instances(file: GltfFile, node: dict[str, Unchecked]) -> list[NDArray[np.float64]]:
    """Where the instances of a node's mesh stand in the node's own space; one in its place where it has none."""
    given = node.get("extensions", {}).get("EXT_mesh_gpu_instancing", {}).get("attributes", {})
    known = {word: file.accessor(given[key]) for key, word in _OF_INSTANCES.items() if key in given}
    counts = {len(values) for values in known.values()}
    if len(counts) > 1:
        raise FileError(f"{file.path}: the attributes of instances have {' and '.join(map(str, sorted(counts)))} rows")
    count = counts.pop() if counts else 1
    check_count(file.path, "parts", count, file.held)
    return [_placement({key: values[row] for key, values in known.items()}) for row in range(count)]


def _joints(file: GltfFile, number: int, frames: dict[int, NDArray[np.float64]]) -> NDArray[np.float64]:
    """What the joints of a skin do to the places of a mesh, (J, 4, 4); the node of the mesh itself does nothing to them."""
    skin = file.entry("skins", number)
    joints = skin["joints"]
    parents = {child: index for index, node in enumerate(file.document.get("nodes", [])) for child in node.get("children", [])}
    world = np.array([frames[each] if each in frames else _outside(file, each, parents) for each in joints])
    if "inverseBindMatrices" not in skin:
        return world
    inverse = file.accessor(skin["inverseBindMatrices"])
    if len(inverse) < len(joints) or inverse.shape[1] != 16:
        raise FileError(f"{file.path}: skins[{number}] has {len(joints)} joints and {len(inverse)} inverse bind matrices")
    bound: NDArray[np.float64] = world @ inverse[: len(joints)].astype(np.float64).reshape(-1, 4, 4).transpose(0, 2, 1)
    return bound


def _outside(file: GltfFile, number: int, parents: dict[int, int]) -> NDArray[np.float64]:
    """What places a node that is not in the default scene, by all above it."""
    frame, seen = np.eye(4), set[int]()
    while number is not None and number not in seen:
        seen.add(number)
        frame = _placement(file.entry("nodes", number)) @ frame
        number = parents.get(number)  # type: ignore[assignment]
    return frame


def _skinned(
    file: GltfFile, given: dict[str, int], joints: NDArray[np.float64], name: str
) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
    """What places each vertex, (V, 3, 3) and (V, 3): the mean of its joints by their weights; None where it has none."""
    sets = [index for index in range(_SETS) if f"JOINTS_{index}" in given and f"WEIGHTS_{index}" in given]
    if not sets:
        return None
    which = np.concatenate([file.accessor(given[f"JOINTS_{index}"]) for index in sets], axis=1).astype(np.int64)
    weight = np.concatenate([file.accessor(given[f"WEIGHTS_{index}"]) for index in sets], axis=1).astype(np.float64)
    if which.shape != weight.shape or (which.size and int(which.max()) >= len(joints)):
        raise FileError(f'{file.path}: the joints of "{name}" do not fit its skin of {len(joints)}')
    total = weight.sum(axis=1, keepdims=True)
    weight = np.where(total > 0, weight / np.where(total > 0, total, 1), 1 / weight.shape[1])
    linear, move = np.zeros((len(which), 3, 3)), np.zeros((len(which), 3))
    for column in range(which.shape[1]):
        own = joints[which[:, column]]
        linear += weight[:, column, None, None] * own[:, :3, :3]
        move += weight[:, column, None] * own[:, :3, 3]
    return linear, move


def _placement(node: dict[str, Unchecked]) -> NDArray[np.float64]:
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
    file: GltfFile,
    primitive: dict[str, Unchecked],
    frame: NDArray[np.float64],
    name: str,
    materials: list[str],
    joints: NDArray[np.float64] | None,
) -> dict[str, Unchecked]:
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
    skinned = None if joints is None else _skinned(file, given, joints, name)
    linear, move = (frame[:3, :3], frame[:3, 3]) if skinned is None else skinned
    sizes = np.linalg.det(linear)
    if skinned is None and abs(sizes) < 1e-30:
        raise FileError(f'{file.path}: "{name}" is flattened by its node: one of its axes has no length')
    mirrors = bool(np.median(sizes) < 0) if np.size(sizes) else False
    along = lambda vectors: (linear @ vectors[..., None])[..., 0]
    normal, tangent, colour = read("NORMAL"), read("TANGENT"), read("COLOR_0")
    if normal is not None:
        normal = (_of_normals(linear) @ normal.astype(np.float64)[..., None])[..., 0]
    if tangent is not None:
        tangent = np.column_stack([along(tangent[:, :3]), tangent[:, 3] * (-1 if mirrors else 1)])
    if colour is not None and colour.shape[1] == 3:
        colour = np.column_stack([colour, np.ones(len(colour), np.float32)])
    number = primitive.get("material")
    material = "" if number is None else materials[int(number)]
    own = texture_set(file, number)
    uv = read(f"TEXCOORD_{own}")
    return {
        "position": along(position) + move,
        "normal": normal,
        "uv": uv,
        "uv_is_whole": uv is not None and file.is_whole(given[f"TEXCOORD_{own}"]),
        "layout": read(f"TEXCOORD_{0 if own else 1}"),
        "tangent": tangent,
        "colour": colour,
        "triangles": corners[:, ::-1] if mirrors else corners,
        "part": Part(name=name, material=material, frame=frame),
    }


def _of_normals(linear: NDArray[np.float64]) -> NDArray[np.float64]:
    """What turns normals, (…, 3, 3), where `linear` turns places: the inverse transpose up to a length, without a division, so
    that a joint may shrink to nothing."""
    a, b, c = (linear[..., column] for column in range(3))
    cofactors = np.stack([np.cross(b, c), np.cross(c, a), np.cross(a, b)], axis=-1)
    turned: NDArray[np.float64] = cofactors * np.where(np.linalg.det(linear) < 0, -1.0, 1.0)[..., None, None]
    return turned


def _faces(index: NDArray[np.int64], mode: int) -> NDArray[np.int64]:
    if mode == _TRIANGLES:
        return index[: len(index) // 3 * 3].reshape(-1, 3)
    if mode == _FAN:
        return np.stack([np.full(max(0, len(index) - 2), index[0] if len(index) else 0), index[1:-1], index[2:]], axis=1)
    strip = np.stack([index[:-2], index[1:-1], index[2:]], axis=1)
    strip[1::2] = strip[1::2][:, [1, 0, 2]]
    return strip
