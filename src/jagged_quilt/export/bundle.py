"""A bundle: a folder that holds all that a blend is made of, and a document that says what each file is."""

from __future__ import annotations

import hashlib
import json
import shutil
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, fields, is_dataclass
from enum import Enum
from importlib import resources
from pathlib import Path
from typing import Any

import numpy as np

from jagged_quilt.arrays.mips import level_count
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend.film import Film
from jagged_quilt.blend.plan import BlendPlan
from jagged_quilt.codecs.ktx2 import Ktx2File, write_unpacked
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import make_folder, put_in_place, temporary_prefix, write_json
from jagged_quilt.foundation.json_types import Facts, Stored
from jagged_quilt.light.light import Lighting
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain

DOCUMENT, SCHEMA = "bundle.json", "bundle.schema.json"
VERSION = 1
_TOP = 65535
_CONVENTIONS = {
    "world": "right-handed, metres, +Y up; the ground's north-west corner is at x = 0, z = 0; x runs east, z south",
    "images": "row 0 on top; uv (0, 0) is the top left corner of the top left texel, v grows downwards",
    "colour": "diffuse, specular and emission are sRGB where an array says so, else linear light; primaries of Rec. 709",
    "normals": "x along u, y up the image (falling v); stored 0..1 for -1..1, z is what is missing to 1",
    "weights": "sum to 1 at every texel",
    "angles": "degrees",
}


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Bundle:
    """What a bundle holds, beside its weights, meshes and shaders.

    Attributes
    ----------
    title : str
    plan : BlendPlan
        Of the ground.
    arrays : TextureArrays
        Opened from their files, which are copied as they are.
    terrain : Terrain
    films : sequence of Film
    lighting, camera
        Of the view.
    """

    title: str
    plan: BlendPlan
    arrays: TextureArrays
    terrain: Terrain
    films: Sequence[Film]
    lighting: Lighting
    camera: Camera


def write_bundle(folder: Path | str, bundle: Bundle, fill: Callable[[Path], Facts], *, zstd: bool = True) -> list[Path]:
    """Write a bundle, whole or not at all; one that lies there gives way. Return the files.

    Parameters
    ----------
    fill : callable
        Writes weights, meshes and shaders into a folder, and returns what `bundle.json` says of them.
    zstd : bool
        False unpacks arrays that are compressed, for readers that know no zstd; else they are copied as they are.

    Raises
    ------
    FileError
        If the folder holds something else, or cannot be written.
    """
    folder = Path(folder)
    if folder.exists() and (not folder.is_dir() or (any(folder.iterdir()) and not (folder / DOCUMENT).is_file())):
        raise FileError(f"{folder}: holds something that is no bundle; name a folder that is empty or not there")
    make_folder(folder.parent)
    stage = Path(tempfile.mkdtemp(prefix=temporary_prefix(), dir=folder.parent))
    try:
        document: Facts = {"$schema": SCHEMA, "version": VERSION, "title": bundle.title, "conventions": _CONVENTIONS}
        document |= {
            "arrays": _write_arrays(stage / "arrays", bundle.arrays, zstd),
            "ground": _write_ground(stage, bundle.terrain),
        }
        document |= {"layers": [_layer(bundle, number) for number in range(len(bundle.plan.layers))]}
        document |= {"weighed_layers": len(bundle.plan.names), "relief": bundle.plan.relief, "filter": str(bundle.plan.filter)}
        document |= {"films": [facts_of(film) | {"amounts": f"weights/film_{n}.png"} for n, film in enumerate(bundle.films)]}
        document |= {"lights": [{"kind": each.kind} | facts_of(each) for each in bundle.lighting.lights]}
        document |= {"camera": facts_of(bundle.camera)} | fill(stage)
        (stage / SCHEMA).write_bytes(resources.files("jagged_quilt.export").joinpath(SCHEMA).read_bytes())
        files = sorted(path for path in stage.rglob("*") if path.is_file())
        document["files"] = [_file(path, stage) for path in files]
        write_json(stage / DOCUMENT, document)
        stage.chmod(0o755)
        _swap(stage, folder)
    finally:
        shutil.rmtree(stage, ignore_errors=True)
    return [folder / path.relative_to(stage) for path in files] + [folder / DOCUMENT]


def _swap(stage: Path, folder: Path) -> None:
    """Put a finished folder in the place of another one."""
    if not folder.exists():
        put_in_place(stage, folder)
        return
    former = Path(tempfile.mkdtemp(prefix=temporary_prefix(), dir=folder.parent)) / "former"
    folder.rename(former)
    try:
        put_in_place(stage, folder)
    except BaseException:
        former.rename(folder)
        raise
    finally:
        shutil.rmtree(former.parent, ignore_errors=True)


def _file(path: Path, stage: Path) -> Facts:
    """What is said of a file: where it lies, its bytes, their hash."""
    with path.open("rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    return {"path": path.relative_to(stage).as_posix(), "bytes": path.stat().st_size, "sha256": digest}


def _write_arrays(folder: Path, arrays: TextureArrays, zstd: bool) -> list[Facts]:
    """Copy the arrays' files, or unpack them; return what is said of each."""
    make_folder(folder)
    out = []
    for layout, store in zip(arrays.layouts, arrays.stores, strict=True):
        assert isinstance(store, Ktx2File)
        is_packed = store.head.zstd and zstd
        if is_packed == store.head.zstd:
            shutil.copyfile(store.path, folder / store.path.name)
        else:
            write_unpacked(store, folder / store.path.name)
        out.append(
            {
                "name": layout.name,
                "file": f"arrays/{store.path.name}",
                "format": layout.pixels.key,
                "srgb": layout.srgb,
                "channels": [str(each) for each in layout.channels],
                "side": arrays.side,
                "levels": level_count(arrays.side),
                "slices": arrays.slice_count(layout.name),
                "compressed": "zstd" if is_packed else "none",
            }
        )
    return out


class _Heights:
    """A heightmap as 16-bit rows, made when they are asked for."""

    def __init__(self, terrain: Terrain) -> None:
        self._heights, (self._low, high) = terrain.heights, terrain.height_range
        self._span = max(high - self._low, 1e-9)
        self.shape, self.ndim, self.dtype = terrain.heights.shape, 2, np.dtype(np.uint16)

    def __getitem__(self, rows: int | slice) -> Stored:
        part = np.asarray(self._heights[rows], np.float64)
        return np.rint(_TOP * np.clip((part - self._low) / self._span, 0, 1)).astype(np.uint16)


def _write_ground(stage: Path, terrain: Terrain) -> Facts:
    """Write the heightmap; return what is said of the ground."""
    make_folder(stage / "ground")
    rows: Any = _Heights(terrain)
    write_image(stage / "ground" / "height.png", rows)
    return {
        "heightmap": "ground/height.png",
        "bits": 16,
        "samples": list(terrain.heights.shape),
        "size": list(terrain.size),
        "heights": list(terrain.height_range),
        "between": str(terrain.between),
    }


def _layer(bundle: Bundle, number: int) -> Facts:
    """What is said of a layer: its swatch, where that lies, how it lies, how it meets others."""
    plan, layer = bundle.plan, bundle.plan.layers[number]
    of_swatch = bundle.arrays.facts[bundle.arrays.index_of(layer.swatch)]
    lie, row = layer.projection, plan.layer_rows[number]
    facts: Facts = {
        "name": plan.names[number] if number < len(plan.names) else layer.name,
        "swatch": layer.swatch,
        "slices": of_swatch.slices,
        "tile": [of_swatch.tile, of_swatch.tile * of_swatch.aspect],
        "relief": of_swatch.relief,
        "softness": layer.softness,
        "meets": dict(layer.meets),
        "projection": {"kind": lie.key, "matrix": np.asarray(lie.turned).tolist()} | facts_of(lie),
        "tuning": facts_of(layer.tuning) | {"colours": np.asarray(row["colours"], float).round(7).tolist()},
        "per_map": {
            role: {"matrix": np.asarray(own.turned).tolist()} | facts_of(own) for role, own in dict(layer.per_map).items()
        },
    }
    if number < len(plan.names) and plan.far[number] >= 0 and layer.far is not None:
        facts["far"] = {"layer": int(plan.far[number]), "start": layer.far.start, "over": layer.far.over}
    return facts


def facts_of(value: Any) -> Any:
    """Return a value as JSON holds it: dataclasses as their fields, enums by their names; masks and pictures are left away."""
    if is_dataclass(value) and not isinstance(value, type):
        facts = {each.name: facts_of(getattr(value, each.name)) for each in fields(value) if each.init and each.name != "mask"}
        return {name: each for name, each in facts.items() if each is not None}
    if isinstance(value, Enum):
        return str(value)
    if isinstance(value, Mapping):
        return {str(key): facts_of(each) for key, each in value.items()}
    if isinstance(value, tuple | list):
        return [facts_of(each) for each in value]
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, np.ndarray):
        return None
    return value


def check_bundle(folder: Path | str) -> Facts:
    """Return what `bundle.json` says; raise `FileError` if a file that it names is missing, or is another than it was.

    Examples
    --------
    >>> jq.export.check_bundle("out/bundle")["files"]  # doctest: +SKIP
    """
    folder = Path(folder)
    try:
        document: Facts = json.loads((folder / DOCUMENT).read_text("utf-8"))
        files = [(str(each["path"]), str(each["sha256"])) for each in document["files"]]
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise FileError(f"{folder / DOCUMENT}: this is no bundle ({error})") from error
    for name, digest in files:
        path = folder / name
        if not path.is_file():
            raise FileError(f"{path}: is missing; write the bundle again")
        if _file(path, folder)["sha256"] != digest:
            raise FileError(f"{path}: is not the file that was written; write the bundle again")
    return document
