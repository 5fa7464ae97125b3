"""Image files in and out, as stored, through OpenImageIO.

Values are never converted on the way: 8 bits stay 8 bits, alpha is never multiplied in, and no colour space is guessed.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import FileError, ImageError, RangeError, ShapeError
from jagged_quilt.foundation.files import written_whole

Stored = NDArray[Any]
"""(H, W, C) uint8, uint16 or float32, row 0 on top."""

SUFFIXES = (".png", ".tif", ".tiff", ".exr", ".tga", ".jpg", ".jpeg", ".bmp")
LARGEST_SIDE = 32768
LARGEST_MIB = 4096

oiio.attribute("limits:imagesize_MB", LARGEST_MIB)
oiio.attribute("limits:resolution", LARGEST_SIDE)

_AS_STORED = {"uint8": oiio.UINT8, "uint16": oiio.UINT16, "half": oiio.FLOAT, "float": oiio.FLOAT}


def read_image(path: Path | str) -> Stored:
    """Return the texels of an image file as they are stored; half floats become float32.

    Raises
    ------
    ImageError
        If the file is missing, of no known format, too large, or broken anywhere (a truncated file too).
    RangeError
        If a float image holds NaN or infinity.
    """
    path = Path(path)
    if not path.is_file():
        raise ImageError(f"{path}: there is no such image file")
    wanted = oiio.ImageSpec()
    wanted.attribute("oiio:UnassociatedAlpha", 1)
    source = oiio.ImageInput.open(str(path), wanted)
    if source is None:
        raise ImageError(f"{path}: not an image that can be read: {_reason(oiio.geterror())}")
    try:
        spec = source.spec()
        kind = _AS_STORED.get(str(spec.format))
        if kind is None:
            raise ImageError(f"{path}: holds {spec.format} values; save it as 8 or 16 bit, half or float")
        texels = source.read_image(0, 0, 0, spec.nchannels, kind)
        trouble = source.geterror()
    finally:
        source.close()
    if texels is None or trouble:
        raise ImageError(f"{path}: the image is broken or cut short: {_reason(trouble)}; get the file again")
    stored: Stored = np.ascontiguousarray(texels).reshape(spec.height, spec.width, spec.nchannels)
    if stored.dtype == np.float32 and not np.isfinite(stored).all():
        row, column, _ = (int(i) for i in np.argwhere(~np.isfinite(stored))[0])
        count = int((~np.isfinite(stored)).sum())
        raise RangeError(
            f"{path}: holds {count} NaN or infinite values, the first at row {row}, column {column}; repair the map"
        )
    return stored


def write_image(path: Path | str, texels: Stored) -> None:
    """Write texels as they are, whole or not at all; the suffix chooses the format.

    Parameters
    ----------
    texels : (H, W) or (H, W, C) uint8, uint16 or float32
        Row 0 on top. Written in bands, so that nothing is copied whole.

    Raises
    ------
    FileError
        If the file cannot be written (a full disk, a folder that may not be written to).
    """
    path = Path(path)
    if texels.dtype not in (np.uint8, np.uint16, np.float32) or texels.ndim not in (2, 3):
        raise ShapeError(f"texels must be (H, W) or (H, W, C) of uint8, uint16 or float32; got {texels.dtype} "
                         f"of shape {texels.shape}")  # fmt: skip
    height, width = texels.shape[:2]
    channels = 1 if texels.ndim == 2 else texels.shape[2]
    spec = oiio.ImageSpec(width, height, channels, str(texels.dtype).replace("float32", "float"))
    spec.attribute("oiio:UnassociatedAlpha", 1)
    spec.attribute("png:compressionLevel", 1)
    spec.attribute("png:filter", 32)
    with written_whole(path) as temporary:
        target = oiio.ImageOutput.create(str(temporary))
        if target is None:
            oiio.geterror()  # or it is printed when the program ends
            raise FileError(f"{path}: no known image format; use .png, .tif or .exr")
        rows = max(1, (4 << 20) // max(1, texels[0].nbytes))
        good = target.open(str(temporary), spec)
        for top in range(0, height, rows):
            bottom = min(top + rows, height)
            band = np.ascontiguousarray(texels[top:bottom]).reshape(bottom - top, width, channels)
            good = good and target.write_scanlines(top, bottom, 0, band)
        trouble = target.geterror()
        good = target.close() and good
        if not good or trouble:
            raise FileError(
                f"{path}: cannot write this image: {_reason(trouble or target.geterror())}; what was there before is untouched"
            )


def _reason(message: str) -> str:
    lines = [line.strip() for line in str(message).splitlines() if line.strip()]
    return lines[0] if lines else "no reason given"
