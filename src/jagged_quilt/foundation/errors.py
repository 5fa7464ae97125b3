"""Every error that a user of the library may meet.

All are `QuiltError`, and each is also the built-in kind that a Python user would catch.
"""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from contextlib import contextmanager


class QuiltError(Exception):
    """The input was refused; the message says what came, where, and what to do."""


class ShapeError(QuiltError, ValueError):
    """An array has the wrong shape or type."""


class RangeError(QuiltError, ValueError):
    """A number lies outside of what is allowed, or is not finite."""


class NameNotFoundError(QuiltError, LookupError, ValueError):
    """A name stands for nothing; the message suggests the nearest that does."""


class FileError(QuiltError, OSError):
    """A file is missing, broken, or cannot be written."""


class ImageError(FileError):
    """An image file cannot be read as what it should be."""


class QuiltFileError(QuiltError, ValueError):
    """A quilt file says something that cannot be; the message names the file, the line and the key path."""


class QuiltWarning(UserWarning):
    """Something was accepted that a careful eye should look at."""


@contextmanager
def warning_of(what: str) -> Iterator[None]:
    """Say of every `QuiltWarning` that is raised within what it is of."""
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always", QuiltWarning)
        yield
    for each in caught:
        if isinstance(each.message, QuiltWarning):
            warnings.warn(f"{what}: {each.message}", QuiltWarning, stacklevel=3)
        else:
            warnings.warn_explicit(each.message, each.category, each.filename, each.lineno)
