"""Reading heightmaps: grey images of any depth, heights packed into red, green and blue, raw 16-bit samples."""

from __future__ import annotations

import math
import warnings
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import number_in, whole_number_in
from jagged_quilt.foundation.choices import Choice
from jagged_quilt.foundation.errors import FileError, ImageError, QuiltWarning, RangeError
from jagged_quilt.foundation.files import read_bytes
from jagged_quilt.foundation.loose import Stored
from jagged_quilt.maps.conversions import without_stairs
from jagged_quilt.maps.image_files import LIMITS, ImageLimits, read_image
from jagged_quilt.maps.texture_map import grey_of

_FEW_LEVELS = 257  # of 8 bits, wherever they are stored
_MANY_SAMPLES = 1024
_LOWEST_STEP = 32  # of 65536: lower ones do not show
_TREADS = 0.3  # share of neighbours that are alike


class HeightForm(Choice):
    """How a file holds heights."""

    GREY = "grey"
    """A grey image: 8 or 16 bits from black to white, or floats."""
    RGB24 = "rgb24"
    """An image of 8 bits a channel: red counts most, then green, then blue."""
    RAW16 = "raw16"
    """Nothing but samples of 16 bits without a sign, row by row."""


class ByteOrder(Choice):
    """Which byte of a raw sample comes first: the one that counts least, or most."""

    LITTLE = "little"
    BIG = "big"


def read_heightmap(
    path: Path | str,
    heights: tuple[float, float] | None = None,
    *,
    form: HeightForm | str = HeightForm.GREY,
    samples: tuple[int, int] | None = None,
    byte_order: ByteOrder | str = ByteOrder.LITTLE,
    smooth: bool = False,
    limits: ImageLimits = LIMITS,
) -> NDArray[np.float32]:
    """Return heights in metres, (R, C) float32, row 0 north.

    Parameters
    ----------
    heights : (float, float), optional
        Metres at the smallest and at the largest number that can be stored (0.0 and 1.0 in a float file). May be left out
        for a float file that holds metres.
    form : "grey", "rgb24" or "raw16"
    samples : (int, int)
        Of a raw file: how many from west to east, and from north to south.
    byte_order : "little" or "big"
        Of a raw file.
    smooth : bool
        Take the stairs out of heights of few levels, moving none by more than half a step.
    limits : ImageLimits
        The largest image that is decoded.

    Raises
    ------
    FileError, ImageError, RangeError
        If the file cannot be read, does not fit its form, or heights are missing or upside down.
    """
    path = Path(path)
    kind = HeightForm.of(form, "form of heightmap")
    if kind is not HeightForm.RAW16 and samples is not None:
        raise RangeError(f'samples are said of raw files; an image knows its own (form = "{form}")')
    if kind is HeightForm.RAW16:
        stored, top = _read_raw(path, samples, ByteOrder.of(byte_order, "byte order")), 65535.0
    else:
        stored, top = _read_picture(path, kind, limits)
    if heights is None:
        if stored.dtype.kind != "f":
            raise RangeError(f"{path}: heights are needed, metres at black and at white (only a float file may hold metres)")
        return stored.astype(np.float32)
    low, high = (number_in("heights", h, unit="m") for h in heights)
    if not low < high:
        raise RangeError(f"heights must be the lower one first: metres at black, metres at white; got {[low, high]}")
    metres = low + (high - low) / top * stored.astype(np.float64)
    step = _stair(stored) * (high - low) / top
    if step and smooth:
        return without_stairs(metres.astype(np.float32), step=step, wraps=False)
    if step:
        warnings.warn(
            f"{path}: heights of 8 bits have stairs of {step:.3g} m; use 16 bits or float, or smooth = true",
            QuiltWarning,
            stacklevel=3,
        )
    return metres.astype(np.float32)


def _read_picture(path: Path, kind: HeightForm, limits: ImageLimits) -> tuple[Stored, float]:
    """Return samples (R, C) and what the largest one that can be stored is."""
    texels = read_image(path, limits)
    if kind is HeightForm.RGB24:
        if texels.dtype != np.uint8 or texels.shape[2] < 3:
            raise ImageError(
                f"{path}: heights of 24 bits need red, green and blue of 8 bits each; this image has "
                f"{texels.shape[2]} channels of {8 * texels.itemsize} bits"
            )
        red, green, blue = (texels[..., c].astype(np.uint32) for c in range(3))
        return (red << 16) + (green << 8) + blue, float((1 << 24) - 1)
    if texels.shape[2] in (2, 4):
        texels = texels[..., :-1]
    one = grey_of(texels) if texels.shape[2] == 3 else texels
    if one is None or one.shape[2] != 1:
        raise ImageError(
            f'{path}: a heightmap must be grey; this image has colour (form = "rgb24" for heights packed into '
            "red, green and blue)"
        )
    grey = one[..., 0]
    apart = float((texels.max(axis=2) - texels.min(axis=2)).max())
    if apart > 0:
        whole = float(np.iinfo(texels.dtype).max) if texels.dtype.kind == "u" else 1.0
        warnings.warn(
            f"{path}: its red, green and blue differ by up to {255 * apart / whole:.0f} of 255; their mean is taken",
            QuiltWarning,
            stacklevel=3,
        )
    return grey, float(np.iinfo(grey.dtype).max) if grey.dtype.kind == "u" else 1.0


def _read_raw(path: Path, samples: tuple[int, int] | None, byte_order: ByteOrder) -> NDArray[np.uint16]:
    data = read_bytes(path, "heightmap")
    count = len(data) // 2
    side = math.isqrt(count)
    fits = f"; it would hold {side} x {side}" if side * side * 2 == len(data) else ""
    if samples is None:
        raise RangeError(f"{path}: a raw file does not tell its size; say how many samples east and south{fits}")
    across, down = (whole_number_in("samples", number, 2, 1 << 17) for number in samples)
    if across * down * 2 != len(data):
        raise FileError(
            f"{path}: {across} x {down} samples of 16 bits are {across * down * 2} bytes; this file has {len(data)}{fits}"
        )
    given = np.frombuffer(data, "<u2" if byte_order is ByteOrder.LITTLE else ">u2").reshape(down, across)
    if 8 * _unrest(given.byteswap()) < _unrest(given):
        other = "big" if byte_order is ByteOrder.LITTLE else "little"
        warnings.warn(
            f'{path}: looks as if its bytes stood the other way round; try byte_order = "{other}"', QuiltWarning, stacklevel=4
        )
    return given.astype(np.uint16)


def _unrest(samples: NDArray[np.uint16]) -> float:
    """How much neighbours differ, on average."""
    return float(np.abs(np.diff(samples.astype(np.float32), axis=1)).mean())


def _stair(stored: Stored) -> float:
    """The step between levels, in the unit of what is stored, where there are no more than 8 bits hold; else 0.

    Deeper files have stairs too if they were made from 8 bits: few levels, evenly apart, and treads between them.
    """
    if stored.dtype == np.uint8:
        return 1.0
    if stored.dtype.kind == "f" or stored.size < _MANY_SAMPLES:
        return 0.0
    levels = np.unique(stored).astype(np.float64)
    if not 2 <= len(levels) <= _FEW_LEVELS:
        return 0.0
    rises = np.diff(levels)
    step = float(rises.min())
    is_even = bool((np.abs(rises - np.rint(rises / step) * step) <= 1 + rises / step).all())
    treads = [float((np.diff(stored.astype(np.float64), axis=axis) == 0).mean()) for axis in (0, 1)]
    return step if is_even and step >= _LOWEST_STEP and max(treads) > _TREADS else 0.0
