"""Zarr, where it is installed, and what stores raise in plain words."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, TypeAlias

from jagged_quilt.foundation.errors import FileError, QuiltError

Zarr: TypeAlias = Any  # its module, groups and arrays: imported where they are used


def zarr_here() -> Zarr:
    """Return Zarr; raise `FileError` that says how to install it where it is not."""
    try:
        import zarr
        import zarr.codecs
    except ImportError:
        raise FileError('stores need zarr; install it with: pip install "jagged-quilt[cluster]"') from None
    return zarr


@contextmanager
def plain_errors(address: str, none: str) -> Iterator[None]:
    """Turn what stores raise into a `FileError` that names the address.

    none : what is said where there is nothing at that address.
    """
    try:
        yield
    except QuiltError:
        raise
    except Exception as error:  # of whatever store: there are many
        reason = getattr(error, "strerror", None) or str(error) or type(error).__name__
        if isinstance(error, KeyError | FileNotFoundError) or "No group found" in reason:
            raise FileError(f"{address}: {none}") from error
        raise FileError(f"{address}: {reason}") from error
