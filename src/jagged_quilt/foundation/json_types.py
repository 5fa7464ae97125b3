"""The types that mypy cannot narrow, each with its reason; everything else says what it is."""

from __future__ import annotations

from typing import Any, TypeAlias

from numpy.typing import NDArray

Stored: TypeAlias = NDArray[Any]  # numbers of whichever dtype a file or a caller holds
Unchecked: TypeAlias = Any  # what JSON or TOML holds, before it is checked
Facts: TypeAlias = dict[str, Any]  # a table of such
Model: TypeAlias = Any  # a table made at run time from a value's fields, which mypy does not see
Compiled: TypeAlias = Any  # what Numba makes of a function carries no types
