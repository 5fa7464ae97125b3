"""Where a key stands in a TOML file: run only when there is an error to show."""

from __future__ import annotations

import re
from functools import lru_cache

Path = tuple[str | int, ...]

_KEY = re.compile(r"""^\s*("[^"]*"|'[^']*'|[A-Za-z0-9_.-]+)\s*=""")


@lru_cache(maxsize=2)
def lines_of_keys(text: str) -> dict[Path, int]:
    """Return the line, from 1, of every table and key of a TOML text, by its path.

    A path is as pydantic gives it: `("layer", 2, "mask", 0, "band")`.
    """
    found: dict[Path, int] = {}
    counts: dict[Path, int] = {}
    table: Path = ()
    depth = 0
    for number, line in enumerate(text.splitlines(), 1):
        bare = re.sub(r'"(\\.|[^"\\])*"|\'[^\']*\'', '""', line).split("#")[0]
        header = _header(line) if depth == 0 else None
        if header:
            table = _enter(header.split("."), line.lstrip().startswith("[["), counts)
            found.setdefault(table, number)
        elif depth == 0 and (key := _KEY.match(line)):
            found[(*table, *(part.strip("\"' ") for part in key[1].split(".")))] = number
        depth += 0 if header else bare.count("[") + bare.count("{") - bare.count("]") - bare.count("}")
    return found


def _header(line: str) -> str | None:
    """The name of a table that a line begins; None if it begins none."""
    bare = line.strip()
    name, closed, _ = bare.lstrip("[").partition("]")
    return name.strip() if closed and bare.startswith("[") else None


def line_of(text: str, path: Path) -> int | None:
    """Return the line of a key, or of the nearest table around it that stands in the file."""
    found = lines_of_keys(text)
    while path:
        if path in found:
            return found[path]
        path = path[:-1]
    return None


def words_of(path: Path) -> str:
    """Write a path as people do: `layer[2].mask[0].band`."""
    out = ""
    for part in path:
        out += f"[{part}]" if isinstance(part, int) else f".{part}" if out else part
    return out


def _enter(names: list[str], repeated: bool, counts: dict[Path, int]) -> Path:
    """The path of a table header, counting the tables of arrays."""
    path: Path = ()
    for name in names[:-1]:
        path = (*path, name.strip("\"' "))
        if path in counts:
            path = (*path, counts[path])
    path = (*path, names[-1].strip("\"' "))
    if repeated:
        counts[path] = counts.get(path, -1) + 1
        path = (*path, counts[path])
    return path
