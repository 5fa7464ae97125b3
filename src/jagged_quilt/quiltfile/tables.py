"""Tables of a quilt file made from the values that they say: every field, default and choice stands on the value alone."""

from __future__ import annotations

import sys
from collections.abc import Collection
from dataclasses import MISSING, Field, fields
from types import SimpleNamespace
from typing import get_type_hints

from pydantic import BaseModel, ConfigDict, create_model
from pydantic import Field as Key

from jagged_quilt.foundation.json_types import Facts, Model, Unchecked

MOST = 4096
"""Of layers, meshes, lights, steps of a mask and the like, in one list."""
SWATCHES = 65536
"""Of swatches."""


def some(most: int = MOST, least: int = 0) -> Unchecked:
    """A list of at most so many; of none where `least` is 0 and nothing is said."""
    return Key(min_length=least, max_length=most) if least else Key(default_factory=list, max_length=most)


class Table(BaseModel):
    """A table of a quilt file: every key is known, and of the type it should be."""

    model_config = ConfigDict(extra="forbid", strict=True, allow_inf_nan=False, arbitrary_types_allowed=True, defer_build=True)


def keys_of(kind: type, *, leave_out: Collection[str] = ()) -> dict[str, tuple[Model, Model]]:
    """Return the keys that say a dataclass, each with its type and default, for `create_model`.

    What a mask calls otherwise in files is called so (`file_keys`); what its repr leaves out is no key.
    """
    spelled, out = _spelled(kind, leave_out), {}
    hints = _hints(kind, {each.name for own in spelled.values() for each in own})
    for key, own in spelled.items():
        types = [hints[each.name] for each in own]
        defaults = [_default(each) for each in own]
        out[key] = (types[0] if len(own) == 1 else tuple[tuple(types)], defaults[0])  # type: ignore[misc]
    return out


def said(table: BaseModel, kind: type, *, leave_out: Collection[str] = ()) -> Facts:
    """Return the fields of a dataclass as a table says them."""
    out: Facts = {}
    for key, own in _spelled(kind, leave_out).items():
        value = getattr(table, key)
        out |= {own[0].name: value} if len(own) == 1 else dict(zip([each.name for each in own], value, strict=True))
    return out


def table_of(kind: type, base: Model = Table, *, leave_out: Collection[str] = (), **more: Unchecked) -> Model:
    """Return a table with the keys that say a dataclass, and more keys (type, default)."""
    made = create_model(f"{kind.__name__}Table", __base__=base, **{**keys_of(kind, leave_out=leave_out), **more})
    made.__doc__ = (kind.__doc__ or "").partition("\n")[0]
    return made


def _hints(kind: type, names: Collection[str]) -> dict[str, Model]:
    """The types of some fields of a dataclass; those of others need not be loaded."""
    out: dict[str, Model] = {}
    for base in reversed(kind.__mro__):
        own = {name: said for name, said in vars(base).get("__annotations__", {}).items() if name in names}
        out |= get_type_hints(SimpleNamespace(__annotations__=own), vars(sys.modules[base.__module__]))
    return out


def _spelled(kind: type, leave_out: Collection[str]) -> dict[str, list[Field[object]]]:
    """The keys in order, and the fields that each holds."""
    spelled: dict[str, tuple[str, ...]] = getattr(kind, "file_keys", {})
    key_of = {name: key for key, names in spelled.items() for name in names}
    out: dict[str, list[Field[object]]] = {}
    for each in fields(kind):
        if each.init and each.repr and each.name not in leave_out:
            out.setdefault(key_of.get(each.name, each.name), []).append(each)
    return out


def _default(each: Field[object]) -> Unchecked:
    if each.default_factory is not MISSING:
        return Key(default_factory=each.default_factory)
    return ... if each.default is MISSING else each.default
