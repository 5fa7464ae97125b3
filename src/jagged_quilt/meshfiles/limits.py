"""How much a mesh file may ask for beyond what it holds, so that a small file costs little."""

from __future__ import annotations

from pathlib import Path

from jagged_quilt.foundation.errors import FileError

# Of any file, and besides one for so many bytes that it holds: a file that places one mesh often asks for more than it holds.
_LIMITS = {"materials": (8_192, 256), "parts": (16_384, 64), "vertices": (1 << 21, 1), "corners": (1 << 22, 1)}


def check_count(path: Path, kind: str, count: int, held: int) -> None:
    """Raise `FileError` if a file of `held` bytes asks for more than may be."""
    few, each = _LIMITS[kind]
    most = max(few, held // each)
    if count > most:
        raise FileError(f"{path}: makes {count:,} {kind} or more of {held:,} bytes; at most {most:,} are read: split it")
