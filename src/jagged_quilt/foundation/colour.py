"""The sRGB transfer curve (IEC 61966-2-1), both ways, on arrays of any shape."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from jagged_quilt.foundation.checks import number_in
from jagged_quilt.foundation.errors import RangeError, ShapeError


def linear_from_srgb(encoded: ArrayLike) -> NDArray[np.float32]:
    """Return linear light, 0..1, from sRGB-encoded values, 0..1.

    Examples
    --------
    >>> jq.convert.linear_from_srgb([0.0, 0.5, 1.0]).round(3)
    array([0.   , 0.214, 1.   ], dtype=float32)
    """
    encoded = np.asarray(encoded, dtype=np.float32)
    return np.where(encoded <= 0.04045, encoded / 12.92, ((np.maximum(encoded, 0) + 0.055) / 1.055) ** 2.4).astype(np.float32)


def colour_of(given: str) -> tuple[float, float, float]:
    """Return linear light from "#rrggbb", which is sRGB; raise `RangeError` if it is not written so."""
    digits = given.removeprefix("#")
    if len(digits) != 6 or any(d not in "0123456789abcdefABCDEF" for d in digits):
        raise RangeError(f'a colour must be written "#rrggbb"; got {given!r}')
    levels = np.array([int(digits[at : at + 2], 16) for at in (0, 2, 4)], np.float64) / 255
    red, green, blue = (float(each) for each in linear_from_srgb(levels))
    return red, green, blue


def rgb_of(name: str, given: object, most: float = 1.0) -> tuple[float, float, float]:
    """Return linear light from "#rrggbb", or from three numbers from 0 to `most`; raise `QuiltError` if it is neither."""
    if isinstance(given, str):
        return colour_of(given)
    if not isinstance(given, (tuple, list)) or len(given) != 3:
        raise ShapeError(f'{name} must be three numbers, or "#rrggbb"; got {given!r}')
    red, green, blue = (number_in(name, each, 0, most) for each in given)
    return red, green, blue


def srgb_from_linear(linear: ArrayLike) -> NDArray[np.float32]:
    """Return sRGB-encoded values, 0..1, from linear light; what lies outside 0..1 is clamped.

    Examples
    --------
    >>> jq.convert.srgb_from_linear([0.0, 0.214, 1.0]).round(2)
    array([0. , 0.5, 1. ], dtype=float32)
    """
    linear = np.clip(np.asarray(linear, dtype=np.float32), 0, 1)
    return np.where(linear <= 0.0031308, linear * 12.92, 1.055 * linear ** (1 / 2.4) - 0.055).astype(np.float32)


def srgb_encode_table(entries: int = 8192) -> NDArray[np.uint8]:
    """Return the 8-bit sRGB value of each of `entries` equal steps of linear light from 0 to 1.

    8192 steps are the fewest (as a power of two) that give every 8-bit value back after decode and encode with room to
    spare: in the darks, one step is 0.4 of an 8-bit step.
    """
    linear = np.arange(entries, dtype=np.float32) / (entries - 1)
    return np.rint(srgb_from_linear(linear) * 255).astype(np.uint8)


def oklab(linear: NDArray[np.floating]) -> NDArray[np.float64]:
    """Return linear sRGB, (…, 3), in Oklab, in which distances are about as they look (Ottosson, 2020)."""
    cones = np.array(
        [
            [0.4122214708, 0.5363325363, 0.0514459929],
            [0.2119034982, 0.6806995451, 0.1073969566],
            [0.0883024619, 0.2817188376, 0.6299787005],
        ]
    )
    to_lab = np.array(
        [
            [0.2104542553, 0.7936177850, -0.0040720468],
            [1.9779984951, -2.4285922050, 0.4505937099],
            [0.0259040371, 0.7827717662, -0.8086757660],
        ]
    )
    lab: NDArray[np.float64] = np.cbrt(linear.astype(np.float64) @ cones.T) @ to_lab.T
    return lab
