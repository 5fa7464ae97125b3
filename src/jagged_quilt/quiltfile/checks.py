"""What is wrong with a quilt file beyond its keys: names, what needs another part of the file, files out of reach."""

from __future__ import annotations

import re

from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import QuiltFileError, RangeError
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.quiltfile.key_paths import Path as KeyPath
from jagged_quilt.quiltfile.layer_tables import OWN
from jagged_quilt.quiltfile.locator import Locator

GROUND = "ground"
"""What films call the terrain."""


def check_table(where: Locator, within: PathGuard) -> None:
    """Raise `QuiltFileError` for what no key by itself shows."""
    _check_printable(where)
    _check_names(where)
    _check_parts(where)
    _check_files(where, within)


def _check_printable(where: Locator) -> None:
    """Refuse names that would steer a terminal or break a line: they are printed."""
    table = where.table
    said: list[tuple[KeyPath, str]] = [(("title",), table.title)]
    for name in ("swatch", "medley", "mesh"):
        said += [((name, index, "name"), each.name) for index, each in enumerate(getattr(table, name))]
    said += [(("layer", index, "label"), each.label) for index, each in enumerate(table.layer)]
    for number, mesh in enumerate(table.mesh):
        said += [(("mesh", number, "layer", index, "label"), each.label) for index, each in enumerate(mesh.layer)]
    for key, text in said:
        if not text.isprintable():
            with where.at(*key):
                raise RangeError(f"must be text that can be printed in one line; got {text!r}")


def _check_names(where: Locator) -> None:
    names = [swatch.name for swatch in where.table.swatch]
    if not names and not any(layer.is_own for mesh in where.table.mesh for layer in mesh.layer):
        raise QuiltFileError(f"{where.path}: there is no swatch; write a [[swatch]], or a [[mesh]] with a layer of its own")
    known: dict[str, None] = {}
    for index, name in enumerate(names):
        with where.at("swatch", index, "name"):
            if name == OWN:
                raise RangeError(f'"{OWN}" stands for the material of a mesh; give this swatch another name')
            if name in known:
                raise RangeError(f'two swatches are called "{name}"; give one of them another name')
        known[name] = None
    for index, medley in enumerate(where.table.medley):
        for which, name in enumerate(medley.swatches):
            with where.at("medley", index, "swatches", which):
                known_name("swatch", name, known)
    for index, medley in enumerate(where.table.medley):
        with where.at("medley", index, "name"):
            if medley.name in known:
                raise RangeError(f'something else is called "{medley.name}" already; give this medley another name')
        known[medley.name] = None
    for index, mesh in enumerate(where.table.mesh if where.table.surface else ()):
        with where.at("mesh", index, "name"):
            if mesh.name == GROUND:
                raise RangeError(f'"{GROUND}" is what the terrain is called; give this mesh another name')
    labels = set[str]()
    for index, layer in enumerate(where.table.layer):
        with where.at("layer", index, "swatch"):
            known_name("swatch or medley", layer.swatch, known)
            if layer.name in labels:
                raise RangeError(f'two layers are called "{layer.name}"; give this one a label of its own')
        labels.add(layer.name)


def _check_parts(where: Locator) -> None:
    """Refuse what needs another part of the file that is not there, and names of meshes that are no names."""
    if where.table.layer:
        with where.at("layer"):
            if where.table.surface is None:
                raise RangeError("layers lie on the ground, and there is no [surface]; a mesh has layers of its own")
    with where.at("adopt"):
        if where.table.adopt is not None and not where.table.layer:
            raise RangeError("adopted weights need the layers that they go to; write [[layer]]")
    folders = dict[str, str]()
    for number, mesh in enumerate(where.table.mesh):
        with where.at("mesh", number, "name"):
            check_own_name(mesh.name, folders)
        with where.at("mesh", number, "stand"):
            if mesh.stand and where.table.surface is None:
                raise RangeError("there is no ground to stand on; write a [surface], or say at = [x, y, z]")


def _check_files(where: Locator, within: PathGuard) -> None:
    """Refuse what is named outside of the file's folder, unless it is allowed; nothing allows daubs, which are written."""
    for key, name in where.table.named_files():
        with where.at(*key):
            if key[-1] != "daubs":
                within.check(within.home / name)
            elif not PathGuard(within.home).holds(within.home / name):
                raise RangeError(f'must lie in the folder of the quilt file, or below: daubs are written; got "{name}"')


def check_own_name(name: str, taken: dict[str, str]) -> None:
    """Raise `RangeError` if a name is none, or makes the name of a file or folder that another, of `taken`, makes already."""
    if not re.fullmatch(r"[\w -]+", name):
        raise RangeError(f'"{name}" must be a name of letters, digits, spaces, - and _')
    file = name.replace(" ", "_").casefold()
    if file in taken:
        why = "is there twice" if taken[file] == name else f'and "{taken[file]}" make one name of a file, "{file}"'
        raise RangeError(f'"{name}" {why}; give it a name of its own')
    taken[file] = name
