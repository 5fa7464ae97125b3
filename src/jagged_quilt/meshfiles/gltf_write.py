"""A glTF 2.0 file while it is put together: one buffer, meshes, images, and what else its lists take."""

from __future__ import annotations

import json
import struct
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.files import written_together
from jagged_quilt.foundation.json_types import Facts, Stored
from jagged_quilt.meshes.mesh import Mesh

_FLOATS, _NUMBERS = 5126, 5125
_VERTICES, _CORNERS = 34962, 34963


class GltfWriter:
    """What a glTF file will hold; `add` and the like return the number of what was added.

    Attributes
    ----------
    document : dict
        Its JSON, but for what is said of the buffer and the extensions.
    """

    def __init__(self) -> None:
        self.document: Facts = {"asset": {"version": "2.0", "generator": "Jagged Quilt"}, "scene": 0, "scenes": [{"nodes": []}]}
        self._data, self._images, self._used = bytearray(), dict[str, bytes](), set[str]()

    def add(self, kind: str, entry: Facts) -> int:
        """Add an entry to one of its lists ("materials", "cameras" …)."""
        entries: list[Facts] = self.document.setdefault(kind, [])
        entries.append(entry)
        return len(entries) - 1

    def add_node(self, node: Facts) -> int:
        """Add a node of the scene."""
        number = self.add("nodes", node)
        self.document["scenes"][0]["nodes"].append(number)
        return number

    def use(self, extension: str, entry: Facts) -> Facts:
        """Return what an `extensions` key holds of an extension, and note that the file uses it."""
        self._used.add(extension)
        return {extension: entry}

    def add_light(self, node: Facts, light: Facts) -> int:
        """Add a lamp of KHR_lights_punctual, and the node that places it."""
        self._used.add("KHR_lights_punctual")
        lights = self.document.setdefault("extensions", {}).setdefault("KHR_lights_punctual", {"lights": []})["lights"]
        lights.append(light)
        return self.add_node({**node, "extensions": {"KHR_lights_punctual": {"light": len(lights) - 1}}})

    def add_texture(self, file: str, png: bytes) -> int:
        """Add a PNG file as a texture that repeats and is read with mips."""
        if "samplers" not in self.document:
            self.add("samplers", {"magFilter": 9729, "minFilter": 9987, "wrapS": 10497, "wrapT": 10497})
        self._images[file] = png
        image = self.add("images", {"name": file.removesuffix(".png"), "mimeType": "image/png"})
        return self.add("textures", {"sampler": 0, "source": image})

    def add_mesh(
        self, mesh: Mesh, materials: Sequence[int | None], more: Mapping[str, NDArray[np.float32]] | None = None
    ) -> None:
        """Add a mesh: a node and a primitive for each part, of the material named for it; vertices are shared.

        A layout is the second set of uv. `more` are further attributes of vertices, (V, 1 to 4), whose names begin with "_".
        """
        attributes = {"POSITION": self._values(mesh.position, "VEC3"), "NORMAL": self._values(mesh.normal, "VEC3")}
        if mesh.uv is not None:
            attributes["TANGENT"] = self._values(mesh.tangent, "VEC4")
            attributes["TEXCOORD_0"] = self._values(mesh.uv, "VEC2")
        if mesh.layout is not None:
            attributes["TEXCOORD_1"] = self._values(mesh.layout, "VEC2")
        if mesh.colour is not None:
            attributes["COLOR_0"] = self._values(mesh.colour, "VEC4")
        for name, values in (more or {}).items():
            kind = "SCALAR" if values.shape[1] == 1 else f"VEC{values.shape[1]}"
            attributes[name] = self._values(np.asarray(values, np.float32), kind)
        placed = {"translation": list(mesh.origin)} if any(mesh.origin) else {}
        for part, material in zip(mesh.parts, materials, strict=True):
            corners = mesh.triangles[part.first : part.last].astype(np.uint32).ravel()
            primitive = {"attributes": attributes, "indices": self._accessor(corners, "SCALAR", _NUMBERS, _CORNERS)}
            if material is not None:
                primitive["material"] = material
            number = self.add("meshes", {"name": part.name, "primitives": [primitive]})
            self.add_node({"name": part.name, "mesh": number, **placed})

    def glb(self) -> bytes:
        """Return all of it as one binary file."""
        document, data = self._closed(), self._data
        for number, png in enumerate(self._images.values()):
            document["images"][number]["bufferView"] = self._view(png)
        document["buffers"] = [{"byteLength": len(data)}]
        text = json.dumps(document, separators=(",", ":")).encode()
        text += b" " * (-len(text) % 4)
        chunks = struct.pack("<I4s", len(text), b"JSON") + text + struct.pack("<I4s", len(data), b"BIN\0") + bytes(data)
        return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks

    def save(self, path: Path) -> list[Path]:
        """Write a .gltf file, its buffer and its images beside it; return the files."""
        document = self._closed()
        for entry, file in zip(document.get("images", []), self._images, strict=True):
            entry["uri"] = file
        buffer = f"{path.stem}.bin"
        document["buffers"] = [{"byteLength": len(self._data), "uri": buffer}]
        with written_together(path.parent) as stage:
            (stage / buffer).write_bytes(self._data)
            for file, png in self._images.items():
                (stage / file).write_bytes(png)
            (stage / path.name).write_text(json.dumps(document, indent=1) + "\n", encoding="utf-8")
        return [path, *(path.with_name(file) for file in (buffer, *self._images))]

    def _closed(self) -> Facts:
        return {**self.document, **({"extensionsUsed": sorted(self._used)} if self._used else {})}

    def _values(self, values: Stored, kind: str) -> int:
        return self._accessor(values, kind, _FLOATS, _VERTICES)

    def _accessor(self, values: Stored, kind: str, code: int, target: int) -> int:
        bounds = {"min": values.min(axis=0).tolist(), "max": values.max(axis=0).tolist()} if kind == "VEC3" else {}
        view = self._view(np.ascontiguousarray(values).tobytes())
        self.document["bufferViews"][view]["target"] = target
        return self.add("accessors", {"bufferView": view, "componentType": code, "count": len(values), "type": kind, **bounds})

    def _view(self, data: bytes) -> int:
        number = self.add("bufferViews", {"buffer": 0, "byteOffset": len(self._data), "byteLength": len(data)})
        self._data.extend(data)
        self._data.extend(b"\0" * (-len(data) % 4))
        return number
