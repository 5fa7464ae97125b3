"""Wavefront OBJ files: triangles and polygons, several objects and materials."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import read_bytes
from jagged_quilt.meshes.material import MeshMaterial
from jagged_quilt.meshes.mesh import Mesh, Part
from jagged_quilt.meshfiles.mtl import read_mtl
from jagged_quilt.meshfiles.polygons import cut_polygon

Corner = tuple[int, int, int]
"""Place, uv and normal of a corner, each by number or -1."""


@dataclass
class _Scene:
    """What has been read so far."""

    places: list[list[float]] = field(default_factory=list)
    colours: dict[int, list[float]] = field(default_factory=dict)
    uvs: list[list[float]] = field(default_factory=list)
    normals: list[list[float]] = field(default_factory=list)
    parts: dict[tuple[str, str], list[tuple[Corner, Corner, Corner]]] = field(default_factory=dict)
    libraries: list[str] = field(default_factory=list)
    passed_over: dict[str, int] = field(default_factory=dict)
    object: str = ""
    material: str = ""


def read_obj(path: Path, **options: Any) -> Mesh:
    """Read a mesh; `options` are those of `Mesh.of`. A part for each object (or group) and material.

    Raises `FileError` with the line of what cannot be.
    """
    text = read_bytes(path, "mesh").decode("utf-8", "replace").lstrip("\ufeff")
    scene = _Scene()
    for number, line in _statements(text):
        word, _, rest = line.partition(" ")
        try:
            _take(scene, word, rest.strip())
        except (ValueError, IndexError) as error:
            raise FileError(f"{path} line {number}: {error}; got {line[:80]!r}") from None
    if not scene.parts:
        raise FileError(f"{path}: the mesh has no faces")
    return _mesh(path, scene, options)


def _statements(text: str) -> list[tuple[int, str]]:
    """Lines with their numbers, without remarks, those that go on with a backslash joined."""
    out, kept, start = [], "", 0
    for number, raw in enumerate(text.splitlines(), 1):
        line = raw.split("#", 1)[0].strip().replace("\t", " ")
        start = start if kept else number
        if line.endswith("\\") and not line.startswith(("mtllib", "usemtl")):
            kept += line[:-1] + " "
            continue
        if kept or line:
            out.append((start, (kept + line).strip()))
        kept = ""
    return [*out, (start, kept.strip())] if kept.strip() else out


def _take(scene: _Scene, word: str, rest: str) -> None:
    if word == "v":
        values = _numbers(rest, 3)
        if len(values) >= 6:
            scene.colours[len(scene.places)] = values[3:6]
        scene.places.append(values[:3])
    elif word == "vt":
        scene.uvs.append([*_numbers(rest, 1), 0.0][:2])
    elif word == "vn":
        scene.normals.append(_numbers(rest, 3)[:3])
    elif word == "f":
        corners = [_corner(scene, each) for each in rest.split()]
        if len(corners) < 3:
            raise ValueError("a face needs at least three corners")
        cuts = [(0, 1, 2)] if len(corners) == 3 else cut_polygon(np.array([scene.places[c[0]] for c in corners]))
        into = scene.parts.setdefault((scene.object, scene.material), [])
        into.extend((corners[a], corners[b], corners[c]) for a, b, c in cuts)
    elif word in ("o", "g"):
        scene.object = rest
    elif word == "usemtl":
        scene.material = rest
    elif word == "mtllib":
        scene.libraries.append(rest)
    elif word not in ("s", "vp"):
        scene.passed_over[word] = scene.passed_over.get(word, 0) + 1


def _numbers(rest: str, least: int) -> list[float]:
    values = [float(each) for each in rest.split()]
    if len(values) < least:
        raise ValueError(f"{least} numbers are needed")
    return values


def _corner(scene: _Scene, words: str) -> Corner:
    parts = [*words.split("/"), "", ""]
    found = [-1, -1, -1]
    for place, (part, known) in enumerate(zip(parts, (scene.places, scene.uvs, scene.normals), strict=False)):
        if not part:
            continue
        number = int(part)
        at = number - 1 if number > 0 else len(known) + number
        if number == 0 or not 0 <= at < len(known):
            kind = ("vertex", "vt", "vn")[place]
            raise IndexError(f"corner {words} names {kind} {number}; {len(known)} stand before this line")
        found[place] = at
    if found[0] < 0:
        raise ValueError("a corner needs a vertex")
    return found[0], found[1], found[2]


def _mesh(path: Path, scene: _Scene, options: dict[str, Any]) -> Mesh:
    corners = np.array([corner for part in scene.parts.values() for face in part for corner in face], np.int64)
    has_uv, has_normal = bool((corners[:, 1] >= 0).all()), bool((corners[:, 2] >= 0).all())
    if not has_uv:
        corners[:, 1] = -1
    if not has_normal:
        corners[:, 2] = -1
    unique, which = np.unique(corners, axis=0, return_inverse=True)
    uv = None
    if has_uv:
        uv = np.array(scene.uvs, np.float64)[unique[:, 1]] * (1, -1) + (0, 1)
    colour = None
    if scene.colours:
        colour = np.array([scene.colours.get(i, [1.0, 1.0, 1.0]) for i in unique[:, 0].tolist()])
    faces = np.cumsum([0, *map(len, scene.parts.values())])
    parts = [
        Part(name=name, material=material, first=int(first), last=int(last))
        for (name, material), first, last in zip(_named(list(scene.parts), path.stem), faces, faces[1:], strict=False)
    ]
    materials: dict[str, MeshMaterial] = {}
    notes = [f'{count} "{word}" statements passed over' for word, count in scene.passed_over.items()]
    for library in dict.fromkeys(scene.libraries):
        found, missing = read_mtl(path.parent, library)
        materials |= found
        notes += missing
    wanted = dict.fromkeys(part.material for part in parts if part.material)
    notes += [f'material "{name}" is told of in no library' for name in wanted if name not in materials]
    mesh = Mesh.of(
        np.array(scene.places, np.float64)[unique[:, 0]],
        which.reshape(-1, 3),
        uv=uv,
        normal=np.array(scene.normals, np.float64)[unique[:, 2]] if has_normal else None,
        colour=colour,
        parts=parts,
        materials=materials,
        name=str(path),
        **options,
    )
    return mesh.noted(notes, str(path))


def _named(keys: list[tuple[str, str]], stem: str) -> list[tuple[str, str]]:
    """A name of its own for each part: its object, with the material where an object has several."""
    objects = [name for name, _ in keys]
    return [
        ((name or stem) + (f" / {material or 'no material'}" if objects.count(name) > 1 else ""), material)
        for name, material in keys
    ]
