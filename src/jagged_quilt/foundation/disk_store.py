"""A shelf: a folder for arrays that are too large to hold. They are mapped, so that what is not read is not in memory."""

from __future__ import annotations

import os
import re
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import DTypeLike

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import fingerprint, make_folder, written_whole
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.reading import reads

Fill = Callable[[Stored], None]


class ArrayStore(Protocol):
    """Where large arrays lie."""

    def empty(self, shape: tuple[int, ...], kind: DTypeLike) -> Stored:
        """Return room for an array that nobody asks for again."""
        ...

    def kept(self, name: str, key: str, shape: tuple[int, ...], kind: DTypeLike, fill: Fill) -> Stored:
        """Return an array, read-only: that of before, if it was made by the same key, or one that `fill` fills."""
        ...


class Memory:
    """Arrays in memory, each made anew."""

    def empty(self, shape: tuple[int, ...], kind: DTypeLike) -> Stored:
        """Return room in memory."""
        return np.empty(shape, kind)

    def kept(self, name: str, key: str, shape: tuple[int, ...], kind: DTypeLike, fill: Fill) -> Stored:
        """Return a filled array."""
        array = np.empty(shape, kind)
        fill(array)
        return frozen(array, kind)


MEMORY = Memory()


@dataclass(frozen=True, slots=True)
class DiskStore:
    """Arrays in a folder, as .npy files that anything reads.

    A file takes its name when it is whole. Of each name the newest key is kept, and what was made by another goes.

    Attributes
    ----------
    folder : Path
        Made when it is needed.
    """

    folder: Path

    def __post_init__(self) -> None:
        object.__setattr__(self, "folder", Path(self.folder).absolute())  # it travels

    def empty(self, shape: tuple[int, ...], kind: DTypeLike) -> Stored:
        """Return room in a file that has no name: it goes when the last who reads it does. Raises `FileError`."""
        size = int(np.prod(shape)) * np.dtype(kind).itemsize
        try:
            with tempfile.TemporaryFile(dir=make_folder(self.folder)) as file:
                _reserve(file.fileno(), size)
                return np.asarray(np.memmap(file, kind, "r+", shape=shape))
        except OSError as error:
            raise self._no_room(size, error) from error

    def kept(self, name: str, key: str, shape: tuple[int, ...], kind: DTypeLike, fill: Fill) -> Stored:
        """Return an array of a file, mapped, which is written first where there is none by that key.

        Raises `FileError` if it cannot be written.
        """
        stem = re.sub(r"[^A-Za-z0-9.]+", "_", name)
        path = self.folder / f"{stem}-{key}.npy"
        if not path.is_file():
            size = int(np.prod(shape)) * np.dtype(kind).itemsize
            with written_whole(path) as temporary:
                try:
                    _reserve_array(temporary, shape, np.dtype(kind))
                except OSError as error:
                    raise self._no_room(size, error) from error
                array = np.load(temporary, mmap_mode="r+")
                fill(np.asarray(array))
                array.flush()
            for other in self.folder.glob(f"{stem}-*.npy"):
                if other != path:
                    other.unlink(missing_ok=True)
        return mapped(path)

    def _no_room(self, size: int, error: OSError) -> FileError:
        return FileError(f"{self.folder}: no room for {size / (1 << 20):,.0f} MiB: {error.strerror or error}")


def _reserve_array(path: Path, shape: tuple[int, ...], kind: np.dtype) -> None:
    """Write the head of a .npy file, and take the room for its numbers."""
    with path.open("wb") as file:
        head = {"descr": np.lib.format.dtype_to_descr(kind), "fortran_order": False, "shape": shape}
        np.lib.format.write_array_header_1_0(file, head)
        file.flush()
        _reserve(file.fileno(), file.tell() + int(np.prod(shape)) * kind.itemsize)


def _reserve(file: int, size: int) -> None:
    """Take the room on the disk now: a full one would be found out by a crash."""
    if hasattr(os, "posix_fallocate"):
        os.posix_fallocate(file, 0, size)
    else:
        os.ftruncate(file, size)


@reads("array")
def mapped(path: Path) -> Stored:
    """Return the array of a .npy file, mapped and read-only; raise `FileError` if it is none, or gone."""
    try:
        return np.asarray(np.load(path, mmap_mode="r", allow_pickle=False))
    except (OSError, ValueError, EOFError) as error:
        raise FileError(f"{path}: cannot be read as an array: {getattr(error, 'strerror', None) or error}") from error


def key_of(array: Stored) -> str:
    """Return what tells an array from others: of a mapped file its name, size and time of change, else a hash of its bytes."""
    reference = travelling(array)
    if isinstance(reference, MappedArray):
        looks = reference.path.stat()
        return fingerprint(str(reference.path.absolute()), f"{looks.st_size} {looks.st_mtime_ns}")
    return fingerprint(repr((array.shape, array.dtype.str)), *(np.ascontiguousarray(row).tobytes() for row in array))


@dataclass(frozen=True, slots=True)
class MappedArray:
    """An array that travels by the name of its file."""

    path: Path

    def here(self) -> Stored:
        """Return it, mapped."""
        return mapped(self.path)


def travelling(array: Stored) -> Stored | MappedArray:
    """Return what is to be pickled for an array: itself, or the name of its file if it is the whole of one on a shelf."""
    base: object = array
    while isinstance(base, np.ndarray) and not isinstance(base, np.memmap):
        base = base.base
    if not isinstance(base, np.memmap) or base.nbytes != array.nbytes or not base.offset:
        return array
    return MappedArray(Path(base.filename)) if isinstance(base.filename, str | Path) else array


def arrived(reference: Stored | MappedArray) -> Stored:
    """Return the array that travelled."""
    return reference.here() if isinstance(reference, MappedArray) else reference
