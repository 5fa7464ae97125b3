"""What is raised and warned of. Every error is a `QuiltError`, and the built-in kind that one would catch besides.

Examples
--------
>>> import jagged_quilt as jq
>>> try:
...     jq.Noise(size=-1.0)
... except ValueError as error:
...     print(type(error).__name__)
RangeError
"""

from jagged_quilt.foundation.errors import FileError as FileError
from jagged_quilt.foundation.errors import ImageError as ImageError
from jagged_quilt.foundation.errors import NameNotFoundError as NameNotFoundError
from jagged_quilt.foundation.errors import QuiltError as QuiltError
from jagged_quilt.foundation.errors import QuiltFileError as QuiltFileError
from jagged_quilt.foundation.errors import QuiltWarning as QuiltWarning
from jagged_quilt.foundation.errors import RangeError as RangeError
from jagged_quilt.foundation.errors import ShapeError as ShapeError

__all__ = [
    "FileError",
    "ImageError",
    "NameNotFoundError",
    "QuiltError",
    "QuiltFileError",
    "QuiltWarning",
    "RangeError",
    "ShapeError",
]
