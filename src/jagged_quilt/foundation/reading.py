"""Reading people's files: whatever a reader stumbles over becomes one clear line."""

from __future__ import annotations

import functools
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, ParamSpec, TypeVar
from weakref import WeakSet

from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.missing import missing

P = ParamSpec("P")
R = TypeVar("R")
_LONGEST = 200  # characters of another's words

Looks = tuple[int, int, int]


@contextmanager
def reading(path: Path | str, kind: str, refused: type[FileError] = FileError, *, watched: bool = False) -> Iterator[None]:
    """Read a file inside; whatever goes wrong there is raised as `refused`, naming the file and its kind.

    watched : whether results are stamped by the file, so that every `Watch` is to see how it looks.

    Our own errors go through as they are. What is no regular file (a device, a pipe) is refused before it is opened.
    """
    try:
        before = check_regular(path, kind)
        if watched:
            note_looks(path)
        yield
        after = looks_of(path) if before is not None else None
        if before is not None and after is not None and before != after and before[2] == after[2]:
            raise refused(f"{path}: changed while it was read; read it again")  # another file in its place was read whole
    except (QuiltError, NameError, ImportError, Warning):  # those of ours, as they are
        raise
    except MemoryError as error:
        raise refused(f"{path}: reading this {kind} wants more memory than there is") from error
    except RecursionError as error:
        raise refused(f"{path}: this {kind} is nested too deeply to be read") from error
    except FileNotFoundError as error:
        raise refused(missing(Path(path), kind)) from error
    except OSError as error:
        raise refused(f"{path}: the {kind} cannot be read: {error.strerror or plain_words(error)}") from error
    except Exception as error:
        reason = plain_words(error) or type(error).__name__
        raise refused(f"{path}: this {kind} is damaged, or not what its name says ({reason}); get it again") from error


def reads(
    kind: str, refused: type[FileError] = FileError, *, watched: bool = False
) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Let a function whose first argument is a path run within `reading`."""

    def of(function: Callable[P, R]) -> Callable[P, R]:
        @functools.wraps(function)
        def read(*given: P.args, **named: P.kwargs) -> R:
            path: Any = given[0] if given else next(iter(named.values()))
            with reading(path, kind, refused, watched=watched):
                return function(*given, **named)

        return read

    return of


def check_regular(path: Path | str, kind: str) -> Looks | None:
    """Return how a file looks, or None of a folder and of what is not there.

    Raises `FileError` if something stands there that is neither a file nor a folder, or it is no path at all.
    """
    if "\0" in str(path):
        raise FileError(f"{str(path)!r}: is no path; it holds a character 0")
    try:
        found = Path(path).stat()
    except OSError:
        return None  # its reader says so, in its own words
    if not (stat.S_ISREG(found.st_mode) or stat.S_ISDIR(found.st_mode)):
        raise FileError(f"{path}: is a device or a pipe, and no {kind}; save it as a file first")
    return looks_of(path) if stat.S_ISREG(found.st_mode) else None


def looks_of(path: Path | str) -> Looks | None:
    """Return the size of a file, when it was written, and its number in the file system; None if it is not there."""
    try:
        found = Path(path).stat()
    except OSError:
        return None
    return found.st_size, found.st_mtime_ns, found.st_ino


class Watch:
    """Remembers how images and heightmaps looked when they were first read or hashed, by whichever thread of the process."""

    def __init__(self, leave_out: Path) -> None:
        self._leave_out, self._seen = leave_out.absolute(), dict[Path, Looks]()
        _WATCHES.add(self)

    def changed(self) -> Path | None:
        """Return a file that looks otherwise now, but for what lies in the folder to be left out."""
        for path, before in list(self._seen.items()):
            if not path.is_relative_to(self._leave_out) and looks_of(path) != before:
                return path
        return None

    def note(self, path: Path, looks: Looks) -> None:
        """Remember how a file looks, unless that is known."""
        self._seen.setdefault(path, looks)


_WATCHES: WeakSet[Watch] = WeakSet()


def note_looks(path: Path | str) -> None:
    """Let every watch know how a file looks that is about to be read."""
    looks = looks_of(path)
    if looks is not None:
        for each in list(_WATCHES):
            each.note(Path(path).absolute(), looks)


def printable(line: str) -> str:
    """Return a line without what would steer a terminal."""
    return "".join(each if each.isprintable() else " " for each in line)


def plain_words(error: BaseException | Path | str) -> str:
    """Return what an error says in one line of printable characters, shortened."""
    words = " ".join(printable(str(error)).split())
    return words if len(words) <= _LONGEST else words[: _LONGEST - 1] + "…"
