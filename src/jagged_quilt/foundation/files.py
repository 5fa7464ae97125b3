"""Files written whole or not at all, and identified by what is in them."""

from __future__ import annotations

import hashlib
import json
import os
import re
import shutil
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path

import xxhash

from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.foundation.missing import missing
from jagged_quilt.foundation.reading import note_looks, reading

VOUCHING: ContextVar[Path | None] = ContextVar("vouching", default=None)
"""A manifest elsewhere that vouches for what is about to be replaced: it goes before the first file moves."""

_AT_ONCE = 1 << 24  # bytes
_TICK = 2_000_000_000  # nanoseconds; the coarsest clock of a common file system


@contextmanager
def written_whole(path: Path) -> Iterator[Path]:
    """Give a temporary path beside `path`, which takes its name if the block ends well and vanishes if not.

    Raises
    ------
    FileError
        If the folder cannot be made or the file cannot be written; what stood at `path` before is still there.
    """
    path = Path(path)
    make_folder(path.parent)
    try:
        handle, name = tempfile.mkstemp(prefix=temporary_prefix(), suffix=path.suffix, dir=path.parent)
        os.close(handle)
    except OSError as error:
        raise _cannot_write(path, error) from error
    temporary = Path(name)
    try:
        yield temporary
        temporary.chmod(0o644)
        put_in_place(temporary, path)
    except FileError:
        raise
    except OSError as error:
        raise _cannot_write(path, error) from error
    finally:
        temporary.unlink(missing_ok=True)


@contextmanager
def written_together(folder: Path) -> Iterator[Path]:
    """Give a folder to write a set of files into, which all move to `folder` if the block ends well and vanish if not.

    The manifests (.json) that stood there go before the first file moves, and their successors move last, so that a manifest
    never stands beside files that are not its own, whenever the process dies. Raises `FileError` if something cannot be
    written.
    """
    folder = make_folder(Path(folder))
    try:
        stage = Path(tempfile.mkdtemp(prefix=temporary_prefix(), dir=folder))
    except OSError as error:
        raise _cannot_write(folder, error) from error
    try:
        yield stage
        manifest = VOUCHING.get()
        if manifest is not None:
            manifest.unlink(missing_ok=True)
        new = sorted(stage.iterdir(), key=lambda p: (p.suffix == ".json", p.name))
        for path in new:
            if path.suffix == ".json":
                (folder / path.name).unlink(missing_ok=True)
        for path in new:
            put_in_place(path, folder / path.name)
    except FileError as error:
        raise FileError(str(error).replace(str(stage), str(folder))) from error
    except OSError as error:
        raise _cannot_write(folder, error) from error
    finally:
        shutil.rmtree(stage, ignore_errors=True)


def put_in_place(made: Path, path: Path) -> None:
    """Give a finished file its name: the one place where anything of ours takes a name that others read."""
    made.replace(path)


LEFT_OVER = re.compile(r"\.new-(\d+)-(\d+)-.*")
"""The names of temporary files: the process, and when it started."""


def temporary_prefix() -> str:
    """Return how the names of this process's temporary files begin: with the process and when it started."""
    return f".new-{os.getpid()}-{_started(os.getpid())}-"


def remove_left_overs(folder: Path) -> None:
    """Remove temporary files and folders, here and below, of processes that are no more."""
    for path in list(folder.rglob(".new-*")) if folder.is_dir() else ():
        found = LEFT_OVER.fullmatch(path.name)
        if found and _started(int(found[1])) != int(found[2]):
            if path.is_dir():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink(missing_ok=True)


def _started(process: int) -> int:
    """When a process started, in ticks since the machine did; 0 where that is unknown and it runs, -1 where it does not."""
    try:
        return int(Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[19])
    except (OSError, ValueError, IndexError):
        pass
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return -1
    except OSError:
        return 0
    return 0 if not Path("/proc/self/stat").exists() else -1


def write_bytes(path: Path, data: bytes) -> None:
    """Write a whole file, or raise `FileError` and leave what was there."""
    with written_whole(path) as temporary:
        temporary.write_bytes(data)


def write_json(path: Path, value: object) -> None:
    """Write a value as JSON that a person can read."""
    write_bytes(path, (json.dumps(value, indent=2, ensure_ascii=False) + "\n").encode("utf-8", "surrogatepass"))


def read_bytes(path: Path, kind: str = "file") -> bytes:
    """Return a file's bytes; raise `FileError` that names the kind of file if that fails."""
    with reading(path, kind):
        return Path(path).read_bytes()


def read_json(path: Path, kind: str) -> Facts:
    """Return the object of a JSON file; raise `FileError` if it is missing or broken."""
    try:
        value = json.loads(read_bytes(path, kind))
    except ValueError as error:
        raise FileError(f"{path}: the {kind} is broken ({error}); delete it and make it again") from error
    if not isinstance(value, dict):
        raise FileError(f"{path}: the {kind} must hold an object; delete it and make it again")
    return value


def make_folder(path: Path) -> Path:
    """Make a folder and its parents; raise `FileError` if something else is in the way."""
    try:
        path.mkdir(parents=True, exist_ok=True)
    except (FileExistsError, NotADirectoryError):
        raise FileError(f"{path}: results need a folder here, and a file is in the way; name another folder") from None
    except OSError as error:
        raise FileError(f"{path}: cannot make this folder: {error.strerror or error}") from error
    return path


def fingerprint(*parts: bytes | memoryview | str) -> str:
    """Return a short hash of all parts, which tells whether anything changed."""
    digest = hashlib.blake2b(digest_size=16)
    for part in parts:
        data = part.encode("utf-8", "surrogateescape") if isinstance(part, str) else part  # a path may hold any bytes
        digest.update(len(data).to_bytes(8, "little"))
        digest.update(data)
    return digest.hexdigest()


def digest_of_file(path: Path, kind: str = "file") -> str:
    """Return a hash of a file's bytes, which need not fit in memory; raise `FileError` if it cannot be read."""
    digest = xxhash.xxh3_128()
    note_looks(path)
    try:
        with path.open("rb") as file:
            while piece := file.read(_AT_ONCE):
                digest.update(piece)
    except FileNotFoundError:
        raise FileError(missing(Path(path), kind)) from None
    except OSError as error:
        raise FileError(f"{path}: the {kind} cannot be read: {error.strerror or error}") from error
    return digest.hexdigest()


class FileDigests:
    """Hashes of files' bytes; a file that looks as it did when it was hashed before is not read again.

    A file looks the same if its size and time of change are the same, and that time lay well before it was hashed (or it
    could have been changed again within one tick of the clock).

    Parameters
    ----------
    known : mapping
        What `records` gave earlier.
    """

    def __init__(self, known: Facts | None = None) -> None:
        self._known = dict(known or {})
        self._records: Facts = {}

    def digest(self, path: Path, kind: str = "file") -> str:
        """Return a hash of a file's bytes; raise `FileError` that names the kind of file if it cannot be read."""
        try:
            looks = path.stat()
        except OSError:
            return digest_of_file(path, kind)  # which tells why not
        key = fingerprint(str(path.absolute()))
        before = list(self._known.get(key) or (0, 0, ""))
        if before[:2] == [looks.st_size, looks.st_mtime_ns]:
            self._records[key] = before
            note_looks(path)
            return str(before[2])
        digest = digest_of_file(path, kind)
        if time.time_ns() - looks.st_mtime_ns > _TICK:
            self._records[key] = [looks.st_size, looks.st_mtime_ns, digest]
        return digest

    def records(self) -> Facts:
        """Return what is known now, to be kept as JSON: no paths, only hashes of them."""
        return dict(sorted(self._records.items()))


def _cannot_write(path: Path, error: OSError) -> FileError:
    return FileError(f"{path}: cannot write this file: {error.strerror or error}; what was there before is untouched")
