"""The arrays of a mesh, as people give them: checked, and brought to the types that it keeps."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import METRES
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.points import LARGEST, NEAR


def check_extent(where: NDArray[np.float64], name: str = "the mesh") -> None:
    """Raise `RangeError` if places (N, 3) lie too far from the origin, or too near to each other, to be distinct."""
    smallest, largest = METRES
    if (far := float(np.abs(where).max(initial=0))) > largest:
        raise RangeError(f"{name} reaches {far:.3g} m from the origin; at most {largest:g} m; is its unit another? metres = …")
    if len(where) and (span := float(np.ptp(where, axis=0).max())) < smallest:
        raise RangeError(f"{name} is {span:.3g} m long; at least {smallest:g} m; is its unit another? metres = …")


def split_origin(where: NDArray[np.float64]) -> tuple[tuple[float, float, float], NDArray[np.float32]]:
    """Return an origin for places, (0, 0, 0) where they are near that of the world, and the places from it, float32."""
    sound = where[np.isfinite(where).all(axis=1)]
    if not len(sound) or np.abs(sound).max() <= NEAR:
        return (0.0, 0.0, 0.0), where.astype(np.float32)
    x, y, z = (float(each) for each in np.round((sound.min(axis=0) + sound.max(axis=0)) / 2))
    if max(abs(x), abs(y), abs(z)) > LARGEST:
        return (0.0, 0.0, 0.0), where.astype(np.float32)
    return (x, y, z), (where - (x, y, z)).astype(np.float32)


def array_of(name: str, values: object, width: int) -> NDArray[np.float32]:
    try:
        array = np.array(values, np.float32, order="C")
    except (TypeError, ValueError):
        raise ShapeError(f"{name} must be numbers of shape (N, {width}); got {type(values).__name__}") from None
    if array.ndim != 2 or array.shape[1] != width:
        raise ShapeError(f"{name} must have shape (N, {width}); got {array.shape}")
    return array


def vertices_of(name: str, values: object | None, count: int, width: int) -> NDArray[np.float32] | None:
    if values is None:
        return None
    array = array_of(name, values, width)
    if len(array) != count:
        raise ShapeError(f"{name} must have one row for each of {count} vertices; got {len(array)}")
    return array


def colours_of(values: object | None, count: int) -> NDArray[np.float32] | None:
    if values is None:
        return None
    array = np.asarray(values, np.float32)
    if array.ndim == 2 and array.shape[1] == 3:
        array = np.column_stack([array, np.ones(len(array), np.float32)])
    return vertices_of("colour", array, count, 4)


def triangles_of(values: object, count: int) -> NDArray[np.int32]:
    given: Stored = np.asarray(values)
    if given.size == 0:
        raise ShapeError("the mesh has no faces")
    if given.ndim != 2 or given.shape[1] != 3 or given.dtype.kind not in "iu":
        raise ShapeError(f"triangles must be whole numbers of shape (T, 3); got {given.dtype} {given.shape}")
    bad: NDArray[np.bool_] = np.asarray((given < 0) | (given >= count))
    if bad.any():
        index = int(np.argwhere(bad)[0, 0])
        named = int(given.ravel()[int(np.argmax(bad))])
        raise RangeError(f"triangle {index} names vertex {named}; there are {count}, from 0 to {count - 1}")
    return np.ascontiguousarray(given, np.int32)
