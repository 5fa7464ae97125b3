"""Reading a quilt file: TOML, then every key checked, every error with its line."""

from __future__ import annotations

import difflib
import tomllib
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ValidationError

from jagged_quilt.foundation.errors import FileError, QuiltFileError
from jagged_quilt.foundation.files import read_bytes
from jagged_quilt.quiltfile.places import Path as KeyPath
from jagged_quilt.quiltfile.places import line_of, words_of
from jagged_quilt.quiltfile.schema import QuiltTable

_KINDS = {"height", "slope", "noise", "constant"}


def read_table(path: Path) -> tuple[QuiltTable, str]:
    """Return what a quilt file says, checked, and its text.

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
        return QuiltTable.model_validate(tomllib.loads(text)), text
    except UnicodeDecodeError as error:
        raise QuiltFileError(f"{path}: a quilt file is UTF-8 text; byte {error.start} is not") from None
    except tomllib.TOMLDecodeError as error:
        raise QuiltFileError(f"{path}: not TOML: {error}") from None
    except ValidationError as error:
        faults = [fault_at(path, text, _key_path(e["loc"]), _words(e)) for e in error.errors()]
        raise QuiltFileError("\n".join(dict.fromkeys(faults))) from None


def fault_at(path: Path, text: str, key: KeyPath, message: str) -> str:
    """Return one line that names the file, the line and the key path of a fault."""
    line = line_of(text, key)
    return f"{path}{f' line {line}' if line else ''}, {words_of(key)}: {message}"


def _key_path(location: tuple[int | str, ...]) -> KeyPath:
    """Leave out the kind of mask, which pydantic puts into the path."""
    return tuple(
        part for place, part in enumerate(location)
        if not (part in _KINDS and place >= 2 and location[place - 2] == "mask")
    )  # fmt: skip


def _words(error: Any) -> str:
    kind, location, given = error["type"], error["loc"], error["input"]
    if kind == "extra_forbidden":
        known = _known_keys(location)
        near = difflib.get_close_matches(str(location[-1]), known, n=1, cutoff=0.5)
        hint = f'; did you mean "{near[0]}"?' if near else f"; there are: {', '.join(known)}" if known else ""
        return f"unknown key{hint}"
    if kind == "missing":
        return "this key is missing"
    if kind == "union_tag_invalid":
        return f"unknown kind {given.get('kind')!r}; there are: {', '.join(sorted(_KINDS))}"
    if kind == "union_tag_not_found":
        return f'a mask needs its kind; write kind = "…" with one of: {", ".join(sorted(_KINDS))}'
    message = error["msg"].replace("Input should be", "must be").replace("List should have", "must have")
    message = message.replace("items after validation", "values").replace("item after validation", "value")
    return f"{message[0].lower()}{message[1:]}; got {_short(given)}"


def _known_keys(location: tuple[int | str, ...]) -> list[str]:
    """The keys of the table in which an unknown one stands."""
    model: Any = QuiltTable
    for part in location[:-1]:
        if isinstance(part, int):
            continue
        if part in _KINDS and isinstance(model, dict):
            model = model[part]
            continue
        field = model.model_fields.get(part) if isinstance(model, type) and issubclass(model, BaseModel) else None
        model = _inner(field.annotation) if field else None
    return list(model.model_fields) if isinstance(model, type) and issubclass(model, BaseModel) else []


def _inner(annotation: Any) -> Any:
    """The model within a list, an option or a union of mask kinds (as a dict by kind)."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    models = [m for m in map(_inner, getattr(annotation, "__args__", ())) if m is not None]
    if len(models) > 1:
        return {m.model_fields["kind"].annotation.__args__[0]: m for m in models}
    return models[0] if models else None


def _short(value: object) -> str:
    text = repr(value)
    return text if len(text) <= 60 else text[:57] + "..."
