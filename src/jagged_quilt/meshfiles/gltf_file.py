"""glTF 2.0 files as they lie on disk: JSON with buffers beside it, or one binary file."""

from __future__ import annotations

import base64
import json
import struct
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import read_bytes
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.meshfiles.names import find_file

_COMPONENTS: dict[int, type] = {
    5120: np.int8,
    5121: np.uint8,
    5122: np.int16,
    5123: np.uint16,
    5125: np.uint32,
    5126: np.float32,
}
_FEW = 65_536  # rows, that any file may ask for
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
_KNOWN = (
    "EXT_mesh_gpu_instancing",
    "KHR_texture_transform",
    "KHR_mesh_quantization",
    "KHR_materials_",
    "EXT_texture_webp",
    "MSFT_texture_dds",
    "KHR_lights_punctual",
)
"""How the names of extensions begin that a file may need: those that are read, or that change nothing of shapes and maps."""


@dataclass(frozen=True)
class GltfFile:
    """A glTF file: its JSON, the binary chunk of a GLB, how far its names may lead, and how many bytes
    it has."""

    path: Path
    document: dict[str, Unchecked]
    chunk: bytes | None
    within: PathGuard
    length: int
    _buffers: dict[int, bytes] = field(default_factory=dict)
    _linked: dict[str, bytes] = field(default_factory=dict)

    @property
    def held(self) -> int:
        """How many bytes the file and what was read of its buffers hold."""
        return self.length + sum(map(len, self._buffers.values()))

    def entry(self, kind: str, number: Unchecked) -> dict[str, Unchecked]:
        """Return an entry of one of its lists; raise `FileError` if it is not there."""
        entries = self.document.get(kind, [])
        if not isinstance(number, int) or not 0 <= number < len(entries):
            raise FileError(f"{self.path}: {kind}[{number}] is named and not there; there are {len(entries)}")
        found: dict[str, Unchecked] = entries[number]
        return found

    def buffer(self, number: int) -> bytes:
        """Return the bytes of a buffer, read once and checked for its length."""
        if number not in self._buffers:
            self._buffers[number] = self._read_buffer(number)
        return self._buffers[number]

    def _read_buffer(self, number: int) -> bytes:
        entry = self.entry("buffers", number)
        uri = entry.get("uri")
        if uri is None:
            if self.chunk is None:
                raise FileError(f"{self.path}: buffers[{number}] has no uri, and the file has no binary chunk")
            data = self.chunk
        else:
            data = self.linked(uri, f"buffers[{number}]")
        if len(data) < int(entry.get("byteLength", 0)):
            raise FileError(f"{self.path}: buffers[{number}] should hold {entry['byteLength']} bytes; there are {len(data)}")
        return data

    def linked(self, uri: str, what: str) -> bytes:
        """Return what a uri holds or names, read once."""
        if uri not in self._linked:
            self._linked[uri] = self._read_linked(uri, what)
        return self._linked[uri]

    def _read_linked(self, uri: str, what: str) -> bytes:
        if uri.startswith("data:"):
            return base64.b64decode(uri.partition(",")[2])
        try:
            file = self.beside(uri)
        except FileError as error:
            raise FileError(f"{self.path}: {what} lies in {error}") from error
        return read_bytes(file, "buffer")

    def beside(self, uri: str) -> Path:
        """Return the file that a uri names; raise `FileError` if it is not there, or lies outside."""
        try:
            return find_file(unquote(uri), self.within)
        except FileError:
            with suppress(FileError):
                return find_file(uri, self.within)  # a name with a % in it
            raise

    def view(self, number: int) -> tuple[memoryview, int]:
        """Return the bytes of a buffer view, and its stride (0 where it is packed)."""
        entry = self.entry("bufferViews", number)
        start = int(entry.get("byteOffset", 0))
        if start < 0:
            raise FileError(f"{self.path}: bufferViews[{number}] begins before its buffer")
        data = memoryview(self.buffer(entry.get("buffer", -1)))[start : start + int(entry["byteLength"])]
        if len(data) < int(entry["byteLength"]):
            raise FileError(f"{self.path}: bufferViews[{number}] reaches beyond its buffer")
        return data, int(entry.get("byteStride", 0))

    def accessor(self, number: int) -> NDArray[Unchecked]:
        """Return the numbers of an accessor, (count, width); whole numbers that stand for fractions as such."""
        entry = self.entry("accessors", number)
        kind, width, count = np.dtype(_COMPONENTS[entry["componentType"]]), _WIDTHS[entry["type"]], int(entry["count"])
        if count < 0 or ("bufferView" not in entry and count > max(self.held, _FEW)):
            raise FileError(f"{self.path}: accessors[{number}] asks for {count:,} rows; the file holds {self.held:,} bytes")
        values = np.zeros((0 if "bufferView" in entry else count, width), kind)
        if "bufferView" in entry:
            values = self._rows(
                entry["bufferView"], int(entry.get("byteOffset", 0)), count, width, kind, f"accessors[{number}]"
            )
        if "sparse" in entry:
            sparse, values = entry["sparse"], values.copy()
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
        if entry.get("normalized") and kind.kind in "iu":
            top = float(np.iinfo(kind.str).max)
            return np.maximum(values.astype(np.float64) / top, -1)
        return values

    def is_whole(self, number: int) -> bool:
        """Tell whether the numbers of an accessor are stored as whole ones."""
        return np.dtype(_COMPONENTS[self.entry("accessors", number)["componentType"]]).kind in "iu"

    def _rows(self, view: int, start: int, count: int, width: int, kind: np.dtype[Unchecked], what: str) -> NDArray[Unchecked]:
        data, stride = self.view(view)
        step = stride or width * kind.itemsize
        if count and start + (count - 1) * step + width * kind.itemsize > len(data):
            raise FileError(f"{self.path}: {what} reaches beyond its buffer view")
        if not count:
            return np.zeros((0, width), kind)
        return np.ndarray((count, width), kind.newbyteorder("<"), data, start, (step, kind.itemsize)).astype(kind)


def opened(path: Path, within: PathGuard) -> GltfFile:
    """Open a file; raise `FileError` if it is none of version 2, or needs what is not read."""
    data, chunk = read_bytes(path, "mesh"), None
    held = len(data)
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
        document = json.loads(data.decode(json.detect_encoding(data)) if data else data)
    except ValueError as error:
        raise FileError(f"{path}: this is no glTF file ({error})") from error
    if not isinstance(document, dict) or str(document.get("asset", {}).get("version", "2")).split(".")[0] != "2":
        raise FileError(f"{path}: this is no glTF file of version 2")
    strange = {each for each in document.get("extensionsRequired", []) if not str(each).startswith(_KNOWN)}
    if strange:
        raise FileError(f"{path}: the file needs {', '.join(sorted(strange))}, which is not read; write it without")
    return GltfFile(path, document, chunk, within, held)
