"""Names in mesh files: several things may bear one, and files are named in odd ways."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path, PureWindowsPath

from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.foundation.reading import plain_words


def distinct_names(names: Sequence[str]) -> list[str]:
    """Return names that are all different: the second of a name gets a 2, the third a 3."""
    taken, out = set(names), list[str]()
    given, following = set[str](), dict[str, int]()
    for name in names:
        own, number = name, following.get(name, 2)
        while own in given or (own != name and own in taken):
            own, number = f"{name} {number}", number + 1
        given.add(own)
        following[name] = number
        out.append(own)
    return out


def find_file(name: str, within: PathGuard) -> Path:
    """Return a file that another file names, however its path is written.

    Backslashes count as slashes; a path from another machine is looked for by its last name beside the file.

    Raises
    ------
    FileError
        If it is not there, or lies where the names of the file may not lead.
    """
    folder, near = within.home, list[Path]()
    for written in dict.fromkeys((name, name.strip().strip('"'))):  # a name may begin with a blank
        plain = PureWindowsPath(written)
        own = [folder / written, folder / plain.as_posix(), folder / plain.name] if len(plain.parts) > 1 else []
        own += [folder / each for each in _names_in(folder).get(plain.name.lower(), ())]
        near += sorted(own, key=lambda path: path.name != plain.name)  # as it is written, rather than in other letters
    there = [each for each in near if _is_file(each)]
    if not there:
        raise FileError(f"{plain_words(name)}, which is not there")
    return next((each for each in there if within.holds(each)), None) or within.check(there[0])


def _is_file(path: Path) -> bool:
    try:
        return path.is_file()
    except OSError:  # a name longer than the file system has any
        return False


def _names_in(folder: Path) -> dict[str, list[str]]:
    """The names in a folder by what they are in small letters."""
    try:
        return _listed(folder, folder.stat().st_mtime_ns)
    except OSError:
        return {}


@lru_cache(maxsize=4)
def _listed(folder: Path, _changed: int) -> dict[str, list[str]]:
    names: dict[str, list[str]] = {}
    for path in sorted(folder.iterdir()):
        names.setdefault(path.name.lower(), []).append(path.name)
    return names
