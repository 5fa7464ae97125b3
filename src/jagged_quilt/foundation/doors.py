"""The door by which every file comes in: whatever its reader stumbles over becomes one clear line."""

from __future__ import annotations

import functools
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

from jagged_quilt.foundation.errors import FileError, QuiltError

P = ParamSpec("P")
R = TypeVar("R")
_LONGEST = 200  # characters of another's words


@contextmanager
def door(path: Path | str, kind: str, refused: type[FileError] = FileError) -> Iterator[None]:
    """Read a file inside; whatever goes wrong there is raised as `refused`, naming the file and its kind.

    Our own errors go through as they are. What is no regular file (a device, a pipe) is refused before it is opened.
    """
    try:
        check_regular(path, kind)
        yield
    except (QuiltError, NameError, ImportError):  # those of ours, as they are
        raise
    except MemoryError as error:
        raise refused(f"{path}: reading this {kind} wants more memory than there is") from error
    except RecursionError as error:
        raise refused(f"{path}: this {kind} is nested too deeply to be read") from error
    except FileNotFoundError as error:
        raise refused(f"{path}: there is no such {kind}") from error
    except OSError as error:
        raise refused(f"{path}: the {kind} cannot be read: {error.strerror or plain_words(error)}") from error
    except Exception as error:
        told = plain_words(error) or type(error).__name__
        raise refused(f"{path}: this {kind} is damaged, or not what its name says ({told}); get it again") from error


def by_door(kind: str, refused: type[FileError] = FileError) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Let a function whose first argument is a path read by the door."""

    def of(function: Callable[P, R]) -> Callable[P, R]:
        @functools.wraps(function)
        def read(*given: P.args, **named: P.kwargs) -> R:
            path: Any = given[0] if given else next(iter(named.values()))
            with door(path, kind, refused):
                return function(*given, **named)

        return read

    return of


def check_regular(path: Path | str, kind: str) -> None:
    """Raise `FileError` if something stands at a path that is neither a file nor a folder, or no path at all."""
    if "\0" in str(path):
        raise FileError(f"{str(path)!r}: is no path; it holds a character 0")
    try:
        looks = Path(path).stat().st_mode
    except OSError:
        return  # its reader says so, in its own words
    if not (stat.S_ISREG(looks) or stat.S_ISDIR(looks)):
        raise FileError(f"{path}: is a device or a pipe, and no {kind}; save it as a file first")


def plain_words(error: BaseException | str) -> str:
    """Return what an error says in one line of printable characters, shortened."""
    words = " ".join("".join(c if c.isprintable() else " " for c in str(error)).split())
    return words if len(words) <= _LONGEST else words[: _LONGEST - 1] + "…"
