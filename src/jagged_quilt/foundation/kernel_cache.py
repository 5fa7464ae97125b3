"""Where compiled kernels are kept, and what they depend on."""

from __future__ import annotations

import hashlib
from pathlib import Path

import numba
from numba.core.registry import cpu_target

from jagged_quilt.foundation._kernels import noise
from jagged_quilt.foundation.compiler import content_of


def cache_folder() -> Path | None:
    """Return the folder in which the compiler keeps the kernels of this room, or None if it keeps none."""
    path = getattr(getattr(noise, "_cache", None), "cache_path", None)
    return None if path is None else Path(path)


def cache_key() -> str:
    """Return a hash of all that compiled kernels depend on: their sources, the compiler and the processor."""
    package = Path(__file__).parents[1]
    sources = [content_of(each) for each in sorted(package.glob("*/_*kernels.py"))]
    processor = cpu_target.target_context.codegen().magic_tuple()
    return hashlib.blake2b(repr((numba.__version__, processor, sources)).encode(), digest_size=16).hexdigest()
