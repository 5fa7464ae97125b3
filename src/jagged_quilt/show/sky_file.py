"""A sky image out of a file."""

from __future__ import annotations

import warnings
from pathlib import Path

import numpy as np

from jagged_quilt.foundation.colour import linear_from_srgb
from jagged_quilt.foundation.errors import QuiltWarning, RangeError, ShapeError
from jagged_quilt.foundation.reading import reads
from jagged_quilt.light.sky_image import SkyImage
from jagged_quilt.maps.image_files import read_image
from jagged_quilt.maps.image_limits import LIMITS, ImageLimits


@reads("sky image")
def read_sky(path: Path | str, *, bearing: float = 0.0, exposure: float = 0.0, limits: ImageLimits = LIMITS) -> SkyImage:
    """Read an equirectangular image of the sky, as EXR or HDR files hold them; the middle of the left border looks north.

    Files of whole numbers are taken for sRGB, with a warning: nothing in them is brighter than white, and 8 bits show bands.

    Parameters
    ----------
    bearing : float
        Degrees by which it is turned over east.
    exposure : float
        Stops.

    Raises
    ------
    ImageError
        If the file is missing or broken.
    ShapeError
        If it is not twice as wide as high, or not of colour.
    RangeError
        If it holds NaN, infinity, or light below 0.

    Examples
    --------
    >>> jq.read_sky("sky.exr", bearing=40.0)
    <SkyImage 64 x 32, bearing 40, exposure 0>
    """
    path = Path(path)
    texels = read_image(path, limits)
    if texels.shape[2] < 3:
        raise ShapeError(f"{path}: a sky image has three channels, red, green and blue; got {texels.shape[2]}")
    texels = texels[..., :3]
    if texels.dtype.kind == "u":
        top = np.iinfo(texels.dtype).max
        texels = linear_from_srgb(texels.astype(np.float32) / np.float32(top))
        low = "and shows bands; " if top == 255 else ""
        warnings.warn(
            f"{path}: a sky image of low range lights weakly, since nothing in it is brighter than white, {low}"
            "use an EXR or HDR file",
            QuiltWarning,
            stacklevel=2,
        )
    try:
        return SkyImage(texels, bearing, exposure, path)
    except (ShapeError, RangeError) as error:
        raise type(error)(f"{path}: {error}") from error
