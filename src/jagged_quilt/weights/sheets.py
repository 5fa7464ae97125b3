"""The images that hold weights: read as they are stored, and checked to fit each other."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from jagged_quilt.foundation.canvas import bands
from jagged_quilt.foundation.disk_store import ArrayStore
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.maps.image_files import read_channels_into
from jagged_quilt.maps.image_limits import ImageLimits

_AT_ONCE = 1 << 22  # texels


def palette_numbers(file: Path) -> Stored | None:
    """Return the numbers of a palette's colours, (H, W, 1), of a file that has one; None of any other."""
    from PIL import Image as Opened

    try:
        with Opened.open(file) as picture:
            return np.array(picture)[..., None] if picture.mode == "P" else None
    except (OSError, ValueError, SyntaxError):
        return None


def read_sheet(file: Path, limits: ImageLimits, room: ArrayStore) -> Stored:
    """Return an image as it is stored, (H, W, C)."""
    texels = read_channels_into(room, file, limits).texels
    if texels.dtype.kind == "f" and (texels.min() < 0 or texels.max() > 4):
        raise RangeError(f"{file}: weights must be from 0 to 1; this file holds {texels.min():g} to {texels.max():g}")
    return texels


def is_grey(texels: Stored) -> bool:
    """Whether all channels hold the same."""
    parts = (texels[band.top : band.bottom] for band in bands(texels.shape[:2], _AT_ONCE))
    return texels.shape[2] == 1 or not any((part != part[..., :1]).any() for part in parts)


def checked_sheet(name: str, array: Stored) -> Stored:
    """Return an array as an image, (H, W, C)."""
    image = array[..., None] if array.ndim == 2 else array
    if image.ndim != 3 or 0 in image.shape or image.dtype.kind not in "uf":
        raise ShapeError(
            f"{name}: a splat sheet must be (rows, columns, channels) of uint8, uint16 or floats; got {array.dtype} "
            f"{array.shape}"
        )
    if image.dtype.kind == "f" and not np.isfinite(image).all():
        raise RangeError(f"{name}: a splat sheet must be finite")
    return image


def check_sizes(files: Sequence[Path], images: Sequence[Stored]) -> None:
    """Raise `ShapeError` unless all images have one size."""
    for file, image in zip(files, images, strict=True):
        if image.shape[:2] != images[0].shape[:2]:
            (h0, w0), (h, w) = images[0].shape[:2], image.shape[:2]
            raise ShapeError(f"sheets of one set must have one size; {files[0]} has {w0} x {h0} and {file} has {w} x {h}")


def step_of(image: Stored) -> float:
    """One step of what is stored."""
    return 1 / float(np.iinfo(image.dtype).max) if image.dtype.kind == "u" else 1e-5
