"""The checks that every door makes, so that kernels need none."""

from __future__ import annotations

import difflib
import math
from collections.abc import Container, Iterable
from typing import TypeVar

import numpy as np
from numpy.typing import DTypeLike, NDArray

from jagged_quilt.foundation.errors import NameNotFoundError, RangeError, ShapeError
from jagged_quilt.foundation.json_types import Stored

T = TypeVar("T")

_NAMES = 24  # that an error tells
METRES = 1e-6, 1e9
"""Between which every length lies: its square and its inverse are then far from the ends of float32."""


def number_in(name: str, value: float, low: float = -math.inf, high: float = math.inf, unit: str = "") -> float:
    """Return `value` as a float; raise `RangeError` unless it is finite and in [low, high]."""
    try:
        number = float(value)
    except (TypeError, ValueError, OverflowError):
        raise RangeError(f"{name} must be a number; got {value!r}") from None
    if isinstance(value, bool | str | bytes):
        raise RangeError(f"{name} must be a number; got {value!r}")
    if not math.isfinite(number) or not low <= number <= high:
        raise RangeError(f"{name} must be {_range_words(low, high, unit)}; got {value}")
    return number


def positive(name: str, value: float, unit: str = "") -> float:
    """Return `value` as a float; raise `RangeError` unless it is finite and above 0, and of metres within `METRES`."""
    number = number_in(name, value, unit=unit)
    if number <= 0:
        raise RangeError(f"{name} must be above 0{unit and ' ' + unit}; got {value}")
    return number_in(name, value, *METRES, unit) if unit == "m" else number


def whole_number_in(name: str, value: int, low: int, high: int) -> int:
    """Return `value` as an int; raise `RangeError` unless it is a whole number in [low, high]."""
    if isinstance(value, bool) or not isinstance(value, (int, np.integer)) or not low <= value <= high:
        raise RangeError(f"{name} must be a whole number from {low} to {high}; got {value!r}")
    return int(value)


def instance_of(what: str, value: T, kind: type | tuple[type, ...], wanted: str) -> T:
    """Return `value`; raise `ShapeError` unless it is of a kind; `wanted` says in words what to give instead."""
    if isinstance(value, kind):
        return value
    raise wrong_kind(what, value, wanted)


def wrong_kind(what: str, value: object, wanted: str) -> ShapeError:
    """Return the error of something that is not of the kind that is wanted; `wanted` says in words what to give instead."""
    got = value.__name__ if isinstance(value, type) else type(value).__name__
    article = "an" if got[:1].lower() in "aeiou" else "a"
    return ShapeError(f"{what} must be {wanted}; got {'the type' if isinstance(value, type) else article} {got}")


def power_of_two(name: str, value: int, high: int) -> int:
    """Return `value`; raise `RangeError` unless it is a power of two up to `high`."""
    size = whole_number_in(name, value, 1, high)
    if size & (size - 1):
        lower = 1 << (size.bit_length() - 1)
        raise RangeError(
            f"{name} must be a power of two, so that repeats line up with mips; got {size} (nearest: {lower} or {2 * lower})"
        )
    return size


def finite_array(name: str, values: object, shape: tuple[int | str, ...]) -> NDArray[np.float32]:
    """Return a read-only float32 copy of `values`.

    Parameters
    ----------
    shape : tuple
        Wanted size of each axis; a string stands for any size and names it in the error.

    Raises
    ------
    ShapeError
        If the shape differs.
    RangeError
        If a value is NaN or infinite; the message says how many and where the first is.
    """
    try:
        array = np.array(values, dtype=np.float32, order="C")
    except (TypeError, ValueError):
        raise ShapeError(f"{name} must be numbers of shape {_shape_words(shape)}; got {type(values).__name__}") from None
    if array.ndim != len(shape) or any(isinstance(n, int) and n != m for n, m in zip(shape, array.shape, strict=True)):
        raise ShapeError(f"{name} must have shape {_shape_words(shape)}; got {array.shape}")
    bad = ~np.isfinite(array)
    if bad.any():
        first = tuple(int(i) for i in np.argwhere(bad)[0])
        raise RangeError(f"{name} must be finite; got {int(bad.sum())} NaN or infinite values, the first at {first}")
    array.flags.writeable = False
    return array


def frozen(values: object, kind: DTypeLike) -> Stored:
    """Return values as a contiguous, read-only array: a copy only where they are not contiguous and of that type already.

    What goes into a kernel is frozen, so that every kernel is compiled once, for such arrays.
    """
    array: Stored = np.ascontiguousarray(values, dtype=kind)
    if array.flags.writeable:
        array = array.view()
        array.flags.writeable = False
    return array


def known_name(kind: str, name: str, known: Iterable[str]) -> str:
    """Return `name`; raise `NameNotFoundError` with the nearest known name unless it is one of `known`."""
    if isinstance(known, Container) and name in known:
        return name
    names = list(known)
    if name in names:
        return name
    near = difflib.get_close_matches(name, names, n=1, cutoff=0.5)
    there = ", ".join(names[:_NAMES]) + (f" and {len(names) - _NAMES:,} more" if len(names) > _NAMES else "")
    hint = f'; did you mean "{near[0]}"?' if near else f"; there are: {there or 'none'}"
    raise NameNotFoundError(f'no {kind} is called "{name}"{hint}')


def _range_words(low: float, high: float, unit: str) -> str:
    tail = f" {unit}" if unit else ""
    if math.isinf(low) and math.isinf(high):
        return "a finite number"
    if math.isinf(high):
        return f"at least {low:g}{tail}"
    if math.isinf(low):
        return f"at most {high:g}{tail}"
    return f"from {low:g} to {high:g}{tail}"


def _shape_words(shape: tuple[int | str, ...]) -> str:
    return "(" + ", ".join(str(n) for n in shape) + ("," if len(shape) == 1 else "") + ")"
