"""Working alone: what only one process at a time may write to."""

from __future__ import annotations

import tempfile
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path

from filelock import BaseFileLock, FileLock, Timeout

from jagged_quilt.foundation.errors import QuiltWarning
from jagged_quilt.foundation.files import fingerprint


@contextmanager
def alone_with(path: Path) -> Iterator[None]:
    """Work alone with a file or a folder; wait, and say so, while another process does. Threads of one process share it."""
    lock = take(path)
    try:
        yield
    finally:
        lock.release()


def take(path: Path) -> BaseFileLock:
    """Take a file or a folder for this process until `release` of what is returned was called as often as this."""
    lock = _lock_of(str(path.resolve()))
    try:
        lock.acquire(timeout=0)
    except Timeout:
        warnings.warn(f"{path}: another process works here; waiting until it is done", QuiltWarning, stacklevel=3)
        lock.acquire()
    return lock


@cache
def _lock_of(path: str) -> BaseFileLock:
    """One lock for each path, in the folder of temporary files, so that nothing lies beside what it stands for."""
    name = f"jagged-quilt-{fingerprint(path)}.lock"
    return FileLock(Path(tempfile.gettempdir()) / name, thread_local=False, mode=0o666)
