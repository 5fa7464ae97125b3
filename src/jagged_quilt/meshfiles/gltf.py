"""glTF 2.0 files, as JSON with buffers beside it or as one binary file."""

from __future__ import annotations

import base64
import json
import struct
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.files import read_bytes
from jagged_quilt.foundation.loose import Told
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch_source import MapRule
from jagged_quilt.meshes.material import MeshMaterial
from jagged_quilt.meshes.mesh import Mesh, Part

_COMPONENTS: dict[int, type] = {
    5120: np.int8,
    5121: np.uint8,
    5122: np.int16,
    5123: np.uint16,
    5125: np.uint32,
    5126: np.float32,
}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
_KNOWN = {
    "KHR_texture_transform",
    "KHR_mesh_quantization",
    "KHR_materials_unlit",
    "KHR_materials_specular",
    "KHR_materials_ior",
}
_TRIANGLES, _STRIP, _FAN = 4, 5, 6
_SUFFIXES = {"image/png": ".png", "image/jpeg": ".jpg", "image/webp": ".webp", "image/ktx2": ".ktx2"}


@dataclass(frozen=True)
class _File:
    """A glTF file: its JSON, and the binary chunk of a GLB."""

    path: Path
    told: dict[str, Told]
    chunk: bytes | None

    def entry(self, kind: str, number: Told) -> dict[str, Told]:
        """Return an entry of one of its lists; raise `FileError` if it is not there."""
        entries = self.told.get(kind, [])
        if not isinstance(number, int) or not 0 <= number < len(entries):
            raise FileError(f"{self.path}: {kind}[{number}] is named and not there; there are {len(entries)}")
        found: dict[str, Told] = entries[number]
        return found

    def buffer(self, number: int) -> bytes:
        """Return the bytes of a buffer, checked for its length."""
        told = self.entry("buffers", number)
        uri = told.get("uri")
        if uri is None:
            if self.chunk is None:
                raise FileError(f"{self.path}: buffers[{number}] has no uri, and the file has no binary chunk")
            data = self.chunk
        else:
            data = self.linked(uri, f"buffers[{number}]")
        if len(data) < int(told.get("byteLength", 0)):
            raise FileError(f"{self.path}: buffers[{number}] should hold {told['byteLength']} bytes; there are {len(data)}")
        return data

    def linked(self, uri: str, what: str) -> bytes:
        """Return what a uri holds or names."""
        if uri.startswith("data:"):
            return base64.b64decode(uri.partition(",")[2])
        file = self.path.parent / unquote(uri)
        if not file.is_file():
            raise FileError(f"{self.path}: {what} lies in {uri}, which is not there")
        return read_bytes(file, "buffer")

    def view(self, number: int) -> tuple[bytes, int]:
        """Return the bytes of a buffer view, and its stride (0 where it is packed)."""
        told = self.entry("bufferViews", number)
        start = int(told.get("byteOffset", 0))
        if start < 0:
            raise FileError(f"{self.path}: bufferViews[{number}] begins before its buffer")
        data = self.buffer(told.get("buffer", -1))[start : start + int(told["byteLength"])]
        if len(data) < int(told["byteLength"]):
            raise FileError(f"{self.path}: bufferViews[{number}] reaches beyond its buffer")
        return data, int(told.get("byteStride", 0))

    def accessor(self, number: int) -> NDArray[Told]:
        """Return the numbers of an accessor, (count, width); whole numbers that stand for fractions as such."""
        told = self.entry("accessors", number)
        kind, width, count = np.dtype(_COMPONENTS[told["componentType"]]), _WIDTHS[told["type"]], int(told["count"])
        values = np.zeros((count, width), kind)
        if "bufferView" in told:
            values = self._rows(told["bufferView"], int(told.get("byteOffset", 0)), count, width, kind, f"accessors[{number}]")
        if "sparse" in told:
            sparse, values = told["sparse"], values.copy()
            index, new = sparse["indices"], sparse["values"]
            which = self._rows(
                index["bufferView"],
                int(index.get("byteOffset", 0)),
                int(sparse["count"]),
                1,
                np.dtype(_COMPONENTS[index["componentType"]]),
                f"accessors[{number}]",
            )[:, 0]
            if which.size and int(which.max()) >= count:
                raise FileError(f"{self.path}: accessors[{number}] changes row {int(which.max())} of {count}")
            values[which] = self._rows(
                new["bufferView"], int(new.get("byteOffset", 0)), int(sparse["count"]), width, kind, f"accessors[{number}]"
            )
        if told.get("normalized") and kind.kind in "iu":
            top = float(np.iinfo(kind.str).max)
            return np.maximum(values.astype(np.float64) / top, -1)
        return values

    def _rows(self, view: int, start: int, count: int, width: int, kind: np.dtype[Told], what: str) -> NDArray[Told]:
        data, stride = self.view(view)
        step = stride or width * kind.itemsize
        if count and start + (count - 1) * step + width * kind.itemsize > len(data):
            raise FileError(f"{self.path}: {what} reaches beyond its buffer view")
        if not count:
            return np.zeros((0, width), kind)
        return np.ndarray((count, width), kind.newbyteorder("<"), data, start, (step, kind.itemsize)).astype(kind)


def read_gltf(path: Path, **options: Told) -> Mesh:
    """Read the meshes of the default scene, placed by its nodes; a part for each primitive.

    `options` are those of `Mesh.of`. Raises `FileError` if something that is named is not there or does not fit.
    """
    file = _opened(path)
    try:
        return _mesh(file, options)
    except QuiltError:
        raise
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, RecursionError) as error:
        raise FileError(f"{path}: this is no sound glTF file ({type(error).__name__}: {error})") from error


def _opened(path: Path) -> _File:
    data, chunk = read_bytes(path, "mesh"), None
    if data[:4] == b"glTF":
        if len(data) < 20:
            raise FileError(f"{path}: the file is cut short")
        version, length = struct.unpack_from("<II", data, 4)
        if version != 2 or length > len(data):
            raise FileError(
                f"{path}: its head tells of GLB version {version} and {length} bytes; there are {len(data)} bytes, "
                "and only version 2 is read"
            )
        at, text = 12, b""
        while at + 8 <= length:
            size, kind = struct.unpack_from("<I4s", data, at)
            part = data[at + 8 : at + 8 + size]
            if kind == b"JSON":
                text = part
            elif kind == b"BIN\0" and chunk is None:
                chunk = part
            at += 8 + size
        data = text
    try:
        told = json.loads(data)
    except ValueError as error:
        raise FileError(f"{path}: this is no glTF file ({error})") from error
    if not isinstance(told, dict) or str(told.get("asset", {}).get("version", "2")).split(".")[0] != "2":
        raise FileError(f"{path}: this is no glTF file of version 2")
    strange = set(told.get("extensionsRequired", [])) - _KNOWN
    if strange:
        raise FileError(f"{path}: the file needs {', '.join(sorted(strange))}, which is not read; write it without")
    return _File(path, told, chunk)


def _mesh(file: _File, options: dict[str, Told]) -> Mesh:
    materials, notes = {}, list[str]()
    for number in range(len(file.told.get("materials", []))):
        made, missing = _material(file, number)
        materials[made.name] = made
        notes += missing
    pieces, names = [], dict[str, int]()
    for node, frame in _nodes(file):
        told = file.entry("meshes", node["mesh"])
        for place, primitive in enumerate(told.get("primitives", [])):
            if primitive.get("mode", _TRIANGLES) not in (_TRIANGLES, _STRIP, _FAN):
                notes.append("points or lines passed over")
                continue
            name = str(node.get("name") or told.get("name") or "mesh")
            name += f" / {place + 1}" if len(told["primitives"]) > 1 else ""
            names[name] = names.get(name, 0) + 1
            name += f" ({names[name]})" if names[name] > 1 else ""
            pieces.append(_piece(file, primitive, frame, name, list(materials)))
    if not pieces:
        raise FileError(f"{file.path}: the mesh has no faces")
    keys = ("position", "normal", "uv", "tangent", "colour")
    whole: dict[str, Told] = {}
    for key in keys:
        arrays = [piece[key] for piece in pieces]
        whole[key] = None if any(array is None for array in arrays) else np.concatenate(arrays)
    for key in keys[1:]:
        if whole[key] is None and any(piece[key] is not None for piece in pieces):
            notes.append(f"not all parts have {'normals' if key == 'normal' else key}; made anew or left out for all")
    starts = np.cumsum([0, *(len(piece["position"]) for piece in pieces)])
    faces = np.cumsum([0, *(len(piece["triangles"]) for piece in pieces)])
    corners = np.concatenate([piece["triangles"] + start for piece, start in zip(pieces, starts, strict=False)])
    parts = [
        replace(piece["part"], first=int(first), last=int(last))
        for piece, first, last in zip(pieces, faces, faces[1:], strict=False)
    ]
    name = str(file.path)
    mesh = Mesh.of(whole.pop("position"), corners, **whole, parts=parts, materials=materials, name=name, **options)
    return mesh.noted(notes, name)


def _nodes(file: _File) -> Iterator[tuple[dict[str, Told], NDArray[np.float64]]]:
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
    file: _File, primitive: dict[str, Told], frame: NDArray[np.float64], name: str, materials: list[str]
) -> dict[str, Told]:
    """One primitive in the world."""
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
    return {
        "position": position @ linear.T + frame[:3, 3],
        "normal": normal,
        "uv": read("TEXCOORD_0"),
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


def _material(file: _File, number: int) -> tuple[MeshMaterial, list[str]]:
    """A material with the maps and the constants that it names, and what was missing."""
    told = file.entry("materials", number)
    name = str(told.get("name") or f"material {number}")
    base = told.get("pbrMetallicRoughness", {})
    rules: list[MapRule] = []
    embedded: dict[str, bytes] = {}
    missing: list[str] = []

    def add(texture: dict[str, Told] | None, *wanted: tuple[MapRole, str]) -> bool:
        if texture is None:
            return False
        source = file.entry("textures", texture["index"]).get("source")
        if source is None:
            return False
        image = file.entry("images", source)
        named = image.get("uri", "")
        if named and not named.startswith("data:"):
            known = unquote(named)
            if not (file.path.parent / known).is_file():
                missing.append(f'material "{name}" names {known}, which is not there')
                return False
        else:
            data = file.linked(named, f"images[{source}]") if named else file.view(image["bufferView"])[0]
            known = f"{file.path.stem}_{source}{_SUFFIXES.get(image.get('mimeType', ''), '.png')}"
            embedded[known] = data
        rules.extend(
            MapRule(
                role=role, file=known, channel=channel, green="up" if role is MapRole.NORMAL else None, whole_file=bool(channel)
            )
            for role, channel in wanted
        )
        return True

    colour = [float(each) for each in base.get("baseColorFactor", (1, 1, 1, 1))]
    if not add(base.get("baseColorTexture"), (MapRole.DIFFUSE, "")):
        rules.append(MapRule(role=MapRole.DIFFUSE, value=(colour[0], colour[1], colour[2])))
    if not add(base.get("metallicRoughnessTexture"), (MapRole.ROUGHNESS, "g"), (MapRole.METALLIC, "b")):
        rules.append(MapRule(role=MapRole.ROUGHNESS, value=(float(base.get("roughnessFactor", 1)),)))
        if float(base.get("metallicFactor", 1)) > 0:
            rules.append(MapRule(role=MapRole.METALLIC, value=(float(base.get("metallicFactor", 1)),)))
    add(told.get("normalTexture"), (MapRole.NORMAL, ""))
    add(told.get("occlusionTexture"), (MapRole.OCCLUSION, "r"))
    moved = (base.get("baseColorTexture") or {}).get("extensions", {}).get("KHR_texture_transform", {})
    scale, offset = moved.get("scale", (1, 1)), moved.get("offset", (0, 0))
    made = MeshMaterial(
        name=name,
        folder=file.path.parent,
        rules=tuple(rules),
        scale=(float(scale[0]), float(scale[1])),
        offset=(float(offset[0]), float(offset[1])),
        rotation=float(np.degrees(moved.get("rotation", 0.0))),
        embedded=embedded,
    )
    return made, missing
