"""Unknown keys of a quilt file, found at once: by the schema that ships with the package, with nothing heavy loaded.

Reading a file loads NumPy and builds all its tables, which takes longer than to find the commonest mistake there is. What is
found here reading would find too, and says in the same words; what needs more than names of keys is left to it.
"""

from __future__ import annotations

import difflib
import json
import tomllib
from collections.abc import Iterator, Mapping
from importlib import resources
from pathlib import Path

from jagged_quilt.quiltfile.key_paths import Path as KeyPath
from jagged_quilt.quiltfile.key_paths import line_of, words_of

SCHEMA_FILE = "quilt.schema.json"
_KINDS: dict[str, type | tuple[type, ...]] = {
    "object": dict,
    "array": list,
    "string": str,
    "boolean": bool,
    "integer": int,
    "number": (int, float),
    "null": type(None),
}


def unknown_keys(path: Path) -> list[str]:
    """Return a line for each key of a quilt file that is unknown or missing.

    None where the file cannot be read, or where something else is wrong too: reading then says all of it at once.
    """
    try:
        text = path.read_text("utf-8")
        document = tomllib.loads(text)
        schema = shipped_schema()
        return [fault_at(path, text, key, message) for key, message in _faults(schema, schema, document, ())]
    except (OSError, ValueError):
        return []


def shipped_schema() -> Mapping[str, object]:
    """Return the schema of quilt files, without the masks of anybody's own modules."""
    schema: Mapping[str, object] = json.loads(resources.files(__package__).joinpath(SCHEMA_FILE).read_text("utf-8"))
    return schema


def fault_at(path: Path, text: str, key: KeyPath, message: str) -> str:
    """Return one line that names the file, the line and the key path of a fault."""
    line = line_of(text, key)
    return f"{path}{f' line {line}' if line else ''}, {words_of(key)}: {message}"


def unknown_key(name: str, known: list[str]) -> str:
    """Return what to say of a key that is none of those that are known."""
    near = difflib.get_close_matches(name, known, n=1, cutoff=0.5)
    return "unknown key" + (f'; did you mean "{near[0]}"?' if near else f"; there are: {', '.join(known)}" if known else "")


class _OtherFaultError(ValueError):
    """Something is wrong that is no matter of names."""


def _faults(whole: Mapping[str, object], schema: object, value: object, key: KeyPath) -> Iterator[tuple[KeyPath, str]]:
    """The keys that are wrong, in the order in which reading finds them."""
    one = _resolved(whole, schema, value)
    if isinstance(value, list):
        for index, each in enumerate(value):
            yield from _faults(whole, one.get("items", True), each, (*key, index))
    elif isinstance(value, dict):
        known, others, required = one.get("properties", {}), one.get("additionalProperties", True), one.get("required", ())
        assert isinstance(known, dict)
        assert isinstance(required, (list, tuple))
        for name, inner in known.items():
            if name in value:
                yield from _faults(whole, inner, value[name], (*key, name))
            elif name in required:
                yield (*key, name), "this key is missing"
        for name, each in value.items():
            if name not in known and others is False:
                yield (*key, name), unknown_key(name, list(known))
            elif name not in known:
                yield from _faults(whole, others, each, (*key, name))


def _resolved(whole: Mapping[str, object], schema: object, value: object) -> dict[str, object]:
    """The one schema that a value must follow; an empty one where it may be anything."""
    while isinstance(schema, dict) and "$ref" in schema:
        tables = whole["$defs"]
        assert isinstance(tables, dict)
        schema = tables[str(schema["$ref"]).rpartition("/")[2]]
    if not isinstance(schema, dict):
        return {}
    choices = [each for word in ("anyOf", "oneOf") for each in schema.get(word, ())]
    found = []
    for each in choices or [schema]:
        if choices:
            try:
                found.append(_resolved(whole, each, value))
            except _OtherFaultError:
                continue
        elif _is_of(each, value) and _kind_fits(each, value):
            return dict(each)
    if not found:
        raise _OtherFaultError
    return found[0] if len(found) == 1 or not isinstance(value, (list, dict)) else {}


def _is_of(schema: dict[str, object], value: object) -> bool:
    """Whether a value is of the type, and one of the choices, that a schema names."""
    if "enum" in schema and value not in schema["enum"]:  # type: ignore[operator]  # a list
        return False
    if "const" in schema and value != schema["const"]:
        return False
    said = schema.get("type")
    kinds = _KINDS.get(str(said), object)
    return isinstance(value, kinds) and not (isinstance(value, bool) and said in ("number", "integer"))


def _kind_fits(schema: dict[str, object], value: object) -> bool:
    """Whether a table of one kind, as masks and lights are, is of that kind."""
    properties = schema.get("properties")
    kind = properties.get("kind") if isinstance(properties, dict) else None
    if not isinstance(kind, dict) or not isinstance(value, dict):
        return True
    said = [kind["const"]] if "const" in kind else kind.get("enum", ())
    return value.get("kind", kind.get("default")) in said
