"""Where compiled kernels are kept, and what they depend on."""

from __future__ import annotations

import hashlib
import sys
from pathlib import Path

import numba

from jagged_quilt.foundation._kernels import noise
from jagged_quilt.foundation.compiler import content_of
from jagged_quilt.foundation.shipped_kernels import family_here, target_here


def cache_folder() -> Path | None:
    """Return the folder in which the compiler keeps the kernels of this room, or None if it keeps none."""
    path = getattr(getattr(noise, "_cache", None), "cache_path", None)
    return None if path is None else Path(path)


def cache_key() -> str:
    """Return a hash of all that compiled kernels depend on: their sources, the compiler and the processor."""
    return _hash_of(source_key(), target_here())


def source_key() -> str:
    """Return a hash of what compiled kernels depend on whatever the processor: their sources, the compiler and Python."""
    package = Path(__file__).parents[1]
    sources = [content_of(each) for each in sorted(package.glob("*/_*kernels.py"))]
    return _hash_of(numba.__version__, sys.version_info[:2], sources)


def came_compiled() -> bool:
    """Return whether a wheel brought all kernels for this processor, compiled from the sources that are here."""
    family = family_here()
    return family is not None and family.of == source_key()


def _hash_of(*parts: object) -> str:
    return hashlib.blake2b(repr(parts).encode(), digest_size=16).hexdigest()
