"""Names in mesh files: several things may bear one, and files are named in odd ways."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path, PureWindowsPath


def told_apart(names: Sequence[str]) -> list[str]:
    """Return names that are all different: the second of a name gets a 2, the third a 3."""
    taken, out = set(names), list[str]()
    given = set[str]()
    for name in names:
        own, number = name, 2
        while own in given or (own != name and own in taken):
            own, number = f"{name} {number}", number + 1
        given.add(own)
        out.append(own)
    return out


def find_file(folder: Path, name: str) -> Path | None:
    """Return a file that another file names, however its path is written; None if it is not there.

    Backslashes count as slashes; a path from another machine is looked for by its last name beside the file.
    """
    name = name.strip().strip('"')
    if not name:
        return None
    plain = PureWindowsPath(name)
    for candidate in (folder / name, folder / plain.as_posix(), folder / plain.name):
        if candidate.is_file():
            return candidate
    wanted = plain.name.lower()
    if folder.is_dir():
        return next((p for p in sorted(folder.iterdir()) if p.name.lower() == wanted and p.is_file()), None)
    return None
