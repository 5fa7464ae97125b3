"""Reading a quilt file: TOML, then every key checked, every error with its line."""

from __future__ import annotations

import dataclasses
import json
import re
import tomllib
from collections.abc import Iterator, Mapping
from pathlib import Path

from pydantic import BaseModel, ValidationError

from jagged_quilt.foundation.errors import FileError, NameNotFoundError, QuiltFileError
from jagged_quilt.foundation.files import read_bytes
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.foundation.reading import reads
from jagged_quilt.quiltfile.formulas import put_numbers
from jagged_quilt.quiltfile.key_paths import Path as KeyPath
from jagged_quilt.quiltfile.key_paths import words_of
from jagged_quilt.quiltfile.layer_tables import without_idle
from jagged_quilt.quiltfile.mask_tables import mask_kinds, step_of
from jagged_quilt.quiltfile.schema import QuiltTable
from jagged_quilt.quiltfile.unknown_keys import fault_at, unknown_key

_PARTS = 64
_DEEP = re.compile(rf"""(?<![\w"'-])(?:[\w"'-]++[ \t]*+\.[ \t]*+){{{_PARTS}}}""")  # what takes the parser of TOML long
_FAULTS = 24  # that are listed one by one
_MAY_HOLD_FORMULAS = ("layer", "medley", "mesh")


@reads("quilt file")
def read_table(path: Path, time: float | None = None, changes: Mapping[str, Unchecked] | None = None) -> tuple[QuiltTable, str]:
    """Return what a quilt file says, checked, and its text.

    Parameters
    ----------
    time : float, optional
        What formulas read, in place of what the file says.
    changes : mapping, optional
        Key paths, as `layer[2].mask[0].threshold`, and the values to put there.

    Raises
    ------
    FileError
        If there is no such file.
    QuiltFileError
        If it is no TOML, or a key is unknown, missing or of the wrong type: one line for each fault.
    """
    if path.is_dir():
        raise FileError(f"{path}: this is a folder; name the quilt file in it")
    data = read_bytes(path, "quilt file")
    try:
        text = data.decode("utf-8")
        if deep := _DEEP.search(text):
            raise QuiltFileError(f"{path} line {text[: deep.start()].count(chr(10)) + 1}: a key of more than {_PARTS} parts")
        document = tomllib.loads(text)
        if time is not None and isinstance(document.setdefault("weights", {}), dict):
            document["weights"]["time"] = float(time)
        for key, value in (changes or {}).items():
            put_at(document, key, value)
        _put_numbers(path, text, document)
        for swatch in document["swatch"] if isinstance(document.get("swatch"), list) else ():
            if isinstance(swatch, dict) and "plain" in swatch and "folder" not in swatch:
                swatch.setdefault("tile", 1.0)  # what is the same everywhere needs none
        _take_names(path, text, document)
        return QuiltTable.model_validate_json(
            json.dumps(document, default=str)
        ), text  # as JSON, lists are tuples and names choices
    except UnicodeDecodeError as error:
        raise QuiltFileError(f"{path}: a quilt file is UTF-8 text; byte {error.start} is not") from None
    except tomllib.TOMLDecodeError as error:
        raise QuiltFileError(f"{path}: not TOML: {error}") from None
    except ValidationError as error:
        raise QuiltFileError(_faults(path, text, error)) from None


def _take_names(path: Path, text: str, document: dict[str, Unchecked]) -> None:
    """Let layers say `name`, as all other tables do, for `label`."""
    tables = lambda holder, key: holder[key] if isinstance(holder, dict) and isinstance(holder.get(key), list) else []
    of_meshes = [(("mesh", number, "layer"), tables(mesh, "layer")) for number, mesh in enumerate(tables(document, "mesh"))]
    for key, layers in [(("layer",), tables(document, "layer")), *of_meshes]:
        for full, layer in enumerate(layers):
            if isinstance(layer, dict) and "name" in layer:
                if "label" in layer:
                    both = fault_at(path, text, (*key, full, "name"), "is the same as label; remove one of them")
                    raise QuiltFileError(both)
                layer["label"] = layer.pop("name")


def _faults(path: Path, text: str, error: ValidationError) -> str:
    """A line for each fault; of very many for the first."""
    found = _each_once(error.errors())
    if any(e["type"] == "json_invalid" for e in found):
        return f"{path}: this quilt file is nested too deeply to be read"
    return _lines([fault_at(path, text, _key_path(e), _words(e)) for e in found[:_FAULTS]], len(found))


def _lines(faults: list[str], count: int = 0) -> str:
    """Faults, a line each; of very many, `count` where not all are given, only the first."""
    more = max(len(faults), count) - _FAULTS
    return "\n".join([*dict.fromkeys(faults[:_FAULTS]), *([f"and {more:,} more"] if more > 0 else [])])


def _put_numbers(path: Path, text: str, document: dict[str, Unchecked]) -> None:
    given = document.get("weights", {})
    now = given.get("time", 0.0) if isinstance(given, dict) else None
    faults: list[str] = []
    for name in _MAY_HOLD_FORMULAS:
        if isinstance(now, (int, float)) and isinstance(document.get(name), list):
            put_numbers(document[name], float(now), lambda key, why: faults.append(fault_at(path, text, key, why)), (name,))
    if faults:
        raise QuiltFileError(_lines(faults))


def put_at(document: dict[str, Unchecked], key: str, value: Unchecked) -> None:
    """Put a value at a key path of a table; raise `NameNotFoundError` if the table around it is not there.

    A whole number where the file has a number with a point becomes one too.
    """
    around, dot, _ = key.rpartition(".")
    if dot and not list(_full_keys(document, parts_of(key))):  # a table that the file does not write, as that of a tuning
        outer, dot, name = around.rpartition(".")
        if dot and len(keys := list(_full_keys(document, parts_of(outer)))) == 1:
            holder: Unchecked = document
            for part in keys[0]:
                holder = holder[part]
            if isinstance(holder, dict) and name.isidentifier():
                holder.setdefault(name, {})
    full = full_key(document, key)
    table: Unchecked = document
    for part in full[:-1]:
        table = table[part]
    last: Unchecked = full[-1]
    before = table[last] if isinstance(table, list) else table.get(last)
    table[last] = float(value) if isinstance(before, float) and isinstance(value, (int, float)) else value
    if last == "projection" and isinstance(table, dict):
        without_idle(table)


def full_key(document: dict[str, Unchecked], key: str) -> KeyPath:
    """Return the full path of a key as people write it, `layer[2].mask[0].threshold`.

    A list is entered by a number from 0, or by a name: `layer[salt crust].mask[1].threshold`. Where it is entered with
    neither, its only member that has the rest of the path is meant.
    """
    keys = list(_full_keys(document, parts_of(key)))
    if len(keys) != 1:
        why = "leads nowhere" if not keys else f"can mean {', '.join(words_of(full) for full in keys)}"
        raise NameNotFoundError(f'"{key}" {why}; write it as layer[2].mask[0].threshold or layer[name].mask[0].threshold')
    return keys[0]


def parts_of(key: str) -> list[str | int]:
    """Split a key path into names and numbers."""
    parts: list[str | int] = []
    for name, index in re.findall(r"([^.\[\]]+)|\[([^\]]*)\]", key):
        parts.append(name if name else int(index) if index.isdigit() else index)
    return parts


def _full_keys(table: Unchecked, parts: list[str | int], before: KeyPath = ()) -> Iterator[KeyPath]:
    """Yield the full key paths that a path can mean."""
    if not parts:
        yield before
        return
    first, rest = parts[0], parts[1:]
    if isinstance(table, list):
        for full, inner in enumerate(table):
            if isinstance(first, int) or _is_called(inner, first):
                if first == full or isinstance(first, str):
                    yield from _full_keys(inner, rest, (*before, full))
            elif isinstance(inner, dict) and not any(_is_called(other, first) for other in table):
                yield from _full_keys(inner, parts, (*before, full))
    elif isinstance(table, dict) and isinstance(first, str) and (first in table or (before and not rest)):
        yield from _full_keys(table.get(first), rest, (*before, first))  # a last key may be one that is not written yet


def _is_called(table: Unchecked, name: str | int) -> bool:
    return isinstance(table, dict) and name in (table.get("label"), table.get("swatch"), table.get("name"))


def _each_once(errors: list[Unchecked]) -> list[Unchecked]:
    """Leave out all but the last of several values that one list lacks."""
    last = {e["loc"][:-1]: e for e in errors if _lacks_values(e)}
    return [e for e in errors if not _lacks_values(e) or last[e["loc"][:-1]] is e]


def _lacks_values(error: Unchecked) -> bool:
    return error["type"] == "missing" and isinstance(error["loc"][-1], int)


def _key_path(error: Unchecked) -> KeyPath:
    """Leave out the kind of mask and the types of a choice of types, which pydantic puts into the path."""
    location = error["loc"][:-1] if _lacks_values(error) else error["loc"]
    return tuple(part for full, part in enumerate(location) if not _is_kind(location, full) and not _is_type(part))


def _is_kind(location: tuple[int | str, ...], full: int) -> bool:
    return full >= 2 and location[full - 2] in ("mask", "of") and location[full] in mask_kinds()


def _is_type(part: str | int) -> bool:
    return isinstance(part, str) and (part in ("float", "int", "str") or "[" in part)


def _words(error: Unchecked) -> str:
    kind, location, given = error["type"], error["loc"], error["input"]
    if kind in ("extra_forbidden", "unexpected_keyword_argument"):
        known = _known_keys(location)
        return unknown_key(str(location[-1]), known)
    if kind == "missing":
        return f"must have {location[-1] + 1} values; got {_short(given)}" if _lacks_values(error) else "this key is missing"
    if kind == "value_error":
        return str(error["ctx"]["error"])
    message = (
        error["msg"]
        .replace("Input should be", "must be")
        .replace("List should have", "must have")
        .replace("Tuple should have", "must have")
    )
    message = message.replace("items after validation", "values").replace("item after validation", "value")
    return f"{message[0].lower()}{message[1:]}; got {_short(given)}"


def _known_keys(location: tuple[int | str, ...]) -> list[str]:
    """The keys of the table in which an unknown one stands."""
    model: Unchecked = QuiltTable
    for full, part in enumerate(location[:-1]):
        if isinstance(part, int):
            continue
        if _is_kind(location, full):
            model = step_of(str(part))
            continue
        field = model.model_fields.get(part) if isinstance(model, type) and issubclass(model, BaseModel) else None
        model = _inner(field.annotation) if field else None
    if dataclasses.is_dataclass(model):
        return [each.name for each in dataclasses.fields(model)]
    return list(model.model_fields) if isinstance(model, type) and issubclass(model, BaseModel) else []


def _inner(annotation: Unchecked) -> Unchecked:
    """The model within a list or an option."""
    if isinstance(annotation, type) and (dataclasses.is_dataclass(annotation) or issubclass(annotation, BaseModel)):
        return annotation
    return next((m for m in map(_inner, getattr(annotation, "__args__", ())) if m is not None), None)


def _short(value: object) -> str:
    text = repr(value)
    return text if len(text) <= 60 else text[:57] + "..."
