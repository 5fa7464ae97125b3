"""One line for a value, to be read by people: what differs from the defaults, and no numbers of arrays."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, Field, fields
from enum import Enum
from pathlib import PurePath

import numpy as np

from jagged_quilt.foundation.json_types import Unchecked

_MANY = 4  # values in a row that are written out
_LONG = 200  # letters


def short_repr(value: Unchecked) -> str:
    """Return a dataclass in a line; to be its `__repr__`."""
    said = [
        f"{each.name}={_in_short(own)}"
        for each in fields(value)
        if each.repr and _tells(each, own := getattr(value, each.name))
    ]
    return f"{type(value).__name__}({', '.join(said)})"


def _tells(field: Field[object], own: object) -> bool:
    default = field.default_factory() if field.default_factory is not MISSING else field.default
    if isinstance(own, np.ndarray) or isinstance(default, np.ndarray):
        return own is not default
    return bool(own != default)


def _in_short(own: object) -> str:
    if isinstance(own, np.ndarray):
        return f"<{' x '.join(map(str, own.shape))} {own.dtype}>"
    if isinstance(own, Mapping):
        return "{" + ", ".join(getattr(each, "key", str(each)) for each in own) + "}"
    if isinstance(own, (tuple, list)) and len(own) > _MANY:
        return f"<{len(own)}>"
    if isinstance(own, tuple):
        return f"({', '.join(map(_in_short, own))}{',' if len(own) == 1 else ''})"
    if isinstance(own, float):
        return f"{own:g}"
    if isinstance(own, (str, PurePath)) and len(str(own)) > _LONG:
        return f"<{len(str(own))} letters>"
    if isinstance(own, Enum):
        return repr(getattr(own, "key", own))
    return repr(str(own)) if isinstance(own, (str, PurePath)) else repr(own)
