"""What to say of a file that is not there: which one is near, and what its name looks like."""

from __future__ import annotations

import difflib
from contextlib import suppress
from pathlib import Path

_ESCAPES = {"\b": "b", "\t": "t", "\n": "n", "\f": "f", "\r": "r"}


def missing(path: Path, kind: str) -> str:
    """Return that a file or folder is not there, with the nearest that is, or the first folder on the way that is not.

    Examples
    --------
    >>> missing(Path("ground\\\\heights.png"), "heightmap").split("; ")[1]
    'write / between folders: ground/heights.png'
    """
    return f"{path}: there is no such {kind}{_hint(path)}"


def _hint(path: Path) -> str:
    escaped = [letter for sign, letter in _ESCAPES.items() if sign in str(path)]
    if escaped:
        return f"; a backslash before {escaped[0]} is no folder in a quilt file: write / between folders"
    if "\\" in str(path):
        return f"; write / between folders: {str(path).replace(chr(92), '/')}"
    folder = path.parent
    while not folder.exists() and folder != folder.parent:
        path, folder = folder, folder.parent
    is_folder = "" if path.parent == folder and path.suffix else "folder "
    there: dict[str, str] = {}
    with suppress(OSError):
        there = {_stem(each.name): each.name for each in sorted(folder.iterdir())}
    near = difflib.get_close_matches(_stem(path.name), there, n=1, cutoff=0.6)
    if near:
        return f'; did you mean "{there[near[0]]}"?'
    return f"; there is no {is_folder}{path.name} in {folder}" if is_folder else ""


def _stem(name: str) -> str:
    """A name up to its first dot, if it does not begin with that: what files of one kind differ in."""
    return name[:1] + name[1:].split(".")[0]
