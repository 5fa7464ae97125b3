"""PLY files: vertices with colours, and polygons."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import read_bytes
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.part import Part
from jagged_quilt.meshfiles.polygons import cut_polygons

_KINDS = {
    "char": "i1",
    "int8": "i1",
    "uchar": "u1",
    "uint8": "u1",
    "short": "i2",
    "int16": "i2",
    "ushort": "u2",
    "uint16": "u2",
    "int": "i4",
    "int32": "i4",
    "uint": "u4",
    "uint32": "u4",
    "float": "f4",
    "float32": "f4",
    "double": "f8",
    "float64": "f8",
}
_FORMATS = {"ascii": "", "binary_little_endian": "<", "binary_big_endian": ">"}
_UV = (("u", "v"), ("s", "t"), ("texture_u", "texture_v"))
_UV_OF_CORNERS = ("texcoord", "texture_uv")


@dataclass
class _Element:
    name: str
    count: int
    properties: list[tuple[str, str, str]]  # name, kind, and the kind of a list's length or ""


def read_ply(path: Path, **options: Unchecked) -> Mesh:
    """Read a mesh; `options` are those of `Mesh.of`. v is taken to grow upwards, as nearly all programs write it.

    Raises `FileError` if the file is cut short or is not what its header tells.
    """
    data = read_bytes(path, "mesh")
    elements, order, start = _header(path, data)
    read = _Ascii(path, data[start:]) if not order else _Binary(path, data, start, order)
    found: dict[str, Unchecked] = {element.name: read.element(element) for element in elements}
    if "vertex" not in found or "face" not in found:
        raise FileError(f"{path}: the file has no {'vertex' if 'vertex' not in found else 'face'} element")
    vertex, face = found["vertex"], found["face"]
    if not {"x", "y", "z"} <= set(vertex):
        raise FileError(f"{path}: vertices need x, y and z; they have {', '.join(vertex)}")
    take = lambda *names: np.stack([np.asarray(vertex[n], np.float64) for n in names], axis=1)
    has = lambda *names: set(names) <= set(vertex)
    where = take("x", "y", "z")
    lists = next((face[name] for name in ("vertex_indices", "vertex_index") if name in face), None)
    if lists is None:
        raise FileError(f"{path}: faces need vertex_indices; they have {', '.join(face)}")
    flat, counts = _as_rows(lists)
    bad = (flat < 0) | (flat >= len(where))
    if bad.any():
        at = int(np.argmax(bad))
        number = int(np.searchsorted(np.cumsum(counts), at, side="right"))
        raise FileError(f"{path}: face {number} names vertex {int(flat[at])}; there are {len(where)}")
    notes = list[str]()
    if (counts < 3).any():
        notes.append(f"{(counts < 3).sum():,} of {len(counts):,} faces have fewer than three corners; left out")
    kept = np.repeat(counts >= 3, counts)
    uv = next((take(*pair) * (1, -1) + (0, 1) for pair in _UV if has(*pair)), None)
    own = next((_as_rows(face[name], float)[0] for name in _UV_OF_CORNERS if name in face), None)
    if uv is None and own is not None and len(own) == 2 * len(flat):  # two numbers a corner: a vertex for each
        uv = (own.reshape(-1, 2) * (1, -1) + (0, 1))[kept]
        rows = flat[kept]
        vertex = {name: np.asarray(values)[rows] for name, values in vertex.items() if not isinstance(values, (list, _Lists))}
        where = where[rows]
        corners, _ = cut_polygons(where, counts[counts >= 3])
    else:
        cut, _ = cut_polygons(where[flat[kept]], counts[counts >= 3])
        corners = flat[kept][cut]
    colour = None
    if has("red", "green", "blue"):
        names = ["red", "green", "blue"] + (["alpha"] if has("alpha") else [])
        top = 255.0 if np.asarray(vertex["red"]).dtype.kind in "iu" or read.is_byte("red") else 1.0
        colour = take(*names) / top
    mesh = Mesh.of(
        where,
        corners,
        uv=uv,
        normal=take("nx", "ny", "nz") if has("nx", "ny", "nz") else None,
        colour=colour,
        parts=[Part(name=path.stem, last=len(corners))],
        name=str(path),
        **options,
    )
    return mesh.noted(notes, str(path))


def _header(path: Path, data: bytes) -> tuple[list[_Element], str, int]:
    end = data.find(b"end_header")
    if not data.startswith(b"ply") or end < 0:
        raise FileError(f"{path}: this is no PLY file, or its header has no end")
    newline = data.find(b"\n", end)
    start = newline + 1 if newline >= 0 else len(data)
    elements: list[_Element] = []
    order = None
    for line in data[:end].decode("ascii", "replace").splitlines()[1:]:
        words = line.split()
        try:
            if words[:1] == ["format"]:
                order = _FORMATS[words[1]]
            elif words[:1] == ["element"]:
                elements.append(_Element(words[1], int(words[2]), []))
                if elements[-1].count < 0:
                    raise ValueError
            elif words[:2] == ["property", "list"]:
                elements[-1].properties.append((words[4], _KINDS[words[3]], _KINDS[words[2]]))
                if elements[-1].properties[-1][2][0] == "f":
                    raise ValueError
            elif words[:1] == ["property"]:
                elements[-1].properties.append((words[2], _KINDS[words[1]], ""))
        except (KeyError, IndexError, ValueError):
            raise FileError(f"{path}: the header cannot say {line.strip()!r}") from None
    if order is None:
        raise FileError(f"{path}: the header names no format")
    for element in elements:
        if element.count > (len(data) - start if element.properties else 0):  # each takes a byte or more
            why = f"{len(data) - start:,} bytes follow" if element.properties else "none has a property"
            raise FileError(f"{path}: the header tells of {element.count:,} {element.name} elements, and {why}")
    return elements, order, start


class _Ascii:
    """Reads elements of plain text."""

    def __init__(self, path: Path, data: bytes) -> None:
        self._path, self._lines, self._bytes = path, iter(data.decode("ascii", "replace").splitlines()), set[str]()

    def is_byte(self, name: str) -> bool:
        return name in self._bytes

    def element(self, element: _Element) -> dict[str, Unchecked]:
        self._bytes |= {name for name, kind, _ in element.properties if kind in ("u1", "i1")}
        out: dict[str, list[Unchecked]] = {name: [] for name, _, _ in element.properties}
        for number in range(element.count):
            words = next((line.split() for line in self._lines if line.strip()), [])
            at = 0
            try:
                for name, kind, length in element.properties:
                    count = int(words[at]) if length else 1
                    at += 1 if length else 0
                    values = [float(w) if kind[0] == "f" else int(w) for w in words[at : at + count]]
                    if len(values) < count:
                        raise IndexError
                    out[name].append(values if length else values[0])
                    at += count
            except (IndexError, ValueError):
                raise FileError(
                    f"{self._path}: {element.name} {number} is not what the header tells; got {' '.join(words)[:60]!r}"
                ) from None
        return {
            name: values if length else np.array(values)
            for (name, _, length), values in zip(element.properties, out.values(), strict=True)
        }


class _Binary:
    """Reads binary elements; those of one length at once."""

    def __init__(self, path: Path, data: bytes, start: int, order: str) -> None:
        self._path, self._data, self._at, self._order = path, data, start, order

    def is_byte(self, name: str) -> bool:
        return False  # its numbers are of the kind that the header tells

    def element(self, element: _Element) -> dict[str, Unchecked]:
        lengths = {name: self._first_length(element, name) for name, _, length in element.properties if length}
        if any(length > len(self._data) for length in lengths.values()):
            raise FileError(f"{self._path}: the file is cut short within a list")
        fields: list[Unchecked] = []
        for name, kind, length in element.properties:
            if length:
                fields += [(name + " length", self._order + length), (name, self._order + kind, (lengths[name],))]
            else:
                fields.append((name, self._order + kind))
        row = np.dtype(fields)
        if self._at + row.itemsize * element.count <= len(self._data):
            rows = np.frombuffer(self._data, row, element.count, self._at)
            if all((rows[name + " length"] == count).all() for name, count in lengths.items()):
                self._at += row.itemsize * element.count
                return {name: rows[name] for name, _, _ in element.properties}
        if not lengths:
            raise FileError(f"{self._path}: the file is cut short within its {element.name} elements")
        return self._one_by_one(element)

    def _first_length(self, element: _Element, wanted: str) -> int:
        at = self._at
        for name, kind, length in element.properties:
            if length:
                size = np.dtype(length).itemsize
                if at + size > len(self._data):
                    return 0
                count = int(np.frombuffer(self._data, self._order + length, 1, at)[0])
                if name == wanted:
                    return max(0, count)
                at += size + count * np.dtype(kind).itemsize
            else:
                at += np.dtype(kind).itemsize
        return 0

    def _one_by_one(self, element: _Element) -> dict[str, Unchecked]:
        """Elements with lists of several lengths: first where each property of each lies, then all of a property at once."""
        sizes = [np.dtype(kind).itemsize for _, kind, _ in element.properties]
        lengths = [struct.Struct(self._order + np.dtype(kind).char) if kind else None for _, _, kind in element.properties]
        starts, counts = (np.empty((len(sizes), element.count), np.int64) for _ in range(2))
        at, last = self._at, len(self._data)
        for number in range(element.count):
            for index, (size, length) in enumerate(zip(sizes, lengths, strict=True)):
                count = 1
                if length is not None:
                    count = max(0, length.unpack_from(self._data, at)[0]) if at + length.size <= last else last
                    at += length.size
                starts[index, number], counts[index, number] = at, count
                at += size * count
                if at > last:
                    raise FileError(f"{self._path}: the file is cut short within a list")
        self._at = at
        data = np.frombuffer(self._data, np.uint8)
        out: dict[str, Unchecked] = {}
        for index, (name, kind, is_list) in enumerate(element.properties):
            within = np.arange(counts[index].sum()) - np.repeat(np.cumsum(counts[index]) - counts[index], counts[index])
            first = np.repeat(starts[index], counts[index]) + sizes[index] * within
            values = data[first[:, None] + np.arange(sizes[index])].view(self._order + kind)[:, 0]
            out[name] = _Lists(values, counts[index]) if is_list else values
        return out


class _Lists(NamedTuple):
    """Lists one after the other, and how long each is."""

    flat: NDArray[Unchecked]
    counts: NDArray[np.int64]


def _as_rows(lists: Unchecked, kind: type[int] | type[float] = int) -> tuple[NDArray[Unchecked], NDArray[np.int64]]:
    """Lists one after the other, and how long each is."""
    if isinstance(lists, _Lists):
        return lists.flat.astype(kind), lists.counts
    if isinstance(lists, np.ndarray) and lists.ndim == 2:
        return lists.astype(kind).ravel(), np.full(len(lists), lists.shape[1])
    counts = np.array([len(each) for each in lists], np.int64)
    return np.array([value for each in lists for value in each], kind), counts
