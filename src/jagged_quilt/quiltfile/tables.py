"""Tables of a quilt file made from the values that they say: every field, default and choice stands on the value alone."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Collection
from dataclasses import MISSING, Field, fields
from typing import get_type_hints

from pydantic import BaseModel, ConfigDict, create_model
from pydantic import Field as Key

from jagged_quilt.foundation.loose import Facts, Model, Told

MOST = 4096
"""Of layers, meshes, lights, steps of a mask and the like, in one list."""
SWATCHES = 65536
"""Of swatches."""


def some(most: int = MOST, least: int = 0) -> Told:
    """A list of at most so many; of none where `least` is 0 and nothing is said."""
    return Key(min_length=least, max_length=most) if least else Key(default_factory=list, max_length=most)


class Table(BaseModel):
    """A table of a quilt file: every key is known, and of the type it should be."""

    model_config = ConfigDict(extra="forbid", strict=True, allow_inf_nan=False, arbitrary_types_allowed=True)


def keys_of(kind: type, *, leave_out: Collection[str] = ()) -> dict[str, tuple[Model, Model]]:
    """Return the keys that say a dataclass, each with its type and default, for `create_model`.

    What a mask calls otherwise in files is called so (`spelled`); what its repr leaves out is no key.
    """
    hints, out = get_type_hints(kind), {}
    for key, own in _spelled(kind, leave_out).items():
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


def table_of(kind: type, base: Model = Table, *, leave_out: Collection[str] = (), **more: Told) -> Model:
    """Return a table with the keys that say a dataclass, and more keys (type, default)."""
    made = create_model(f"{kind.__name__}Table", __base__=base, **{**keys_of(kind, leave_out=leave_out), **more})
    made.__doc__ = (kind.__doc__ or "").partition("\n")[0]
    return made


def default_of(function: Callable[..., object], name: str) -> Told:
    """Return what a function takes where an argument is not given."""
    return inspect.signature(function).parameters[name].default


def _spelled(kind: type, leave_out: Collection[str]) -> dict[str, list[Field[object]]]:
    """The keys in order, and the fields that each holds."""
    spelled: dict[str, tuple[str, ...]] = getattr(kind, "spelled", {})
    key_of = {name: key for key, names in spelled.items() for name in names}
    out: dict[str, list[Field[object]]] = {}
    for each in fields(kind):
        if each.init and each.repr and each.name not in leave_out:
            out.setdefault(key_of.get(each.name, each.name), []).append(each)
    return out


def _default(each: Field[object]) -> Told:
    if each.default_factory is not MISSING:
        return Key(default_factory=each.default_factory)
    return ... if each.default is MISSING else each.default
