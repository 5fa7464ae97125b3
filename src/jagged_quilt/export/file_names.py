"""File names for things that people name as they like."""

from __future__ import annotations

import re
from collections.abc import Sequence


def stems_of(names: Sequence[str]) -> dict[str, str]:
    """Return for each name the stem of a file: letters, digits and underscores, lower case, each only once."""
    out: dict[str, str] = {}
    for number, name in enumerate(names):
        stem = re.sub(r"[^A-Za-z0-9]+", "_", name).strip("_").lower() or "unnamed"
        out[name] = stem if stem not in out.values() else f"{stem}_{number}"
    return out
