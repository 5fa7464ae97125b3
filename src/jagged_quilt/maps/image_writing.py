"""Writing images, whole or not at all."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

import numpy as np
import OpenImageIO as oiio

from jagged_quilt.foundation.errors import FileError, ShapeError
from jagged_quilt.foundation.files import written_whole
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.maps.image_files import cut_short, library_name, reason_of

_NO_TIME, _TIMED = "1970:01:01 00:00:00", (".exr", ".tif", ".tiff")  # or each hour has its own bytes of an image
_EXIF = "Exif"  # of every TIFF the library tells afterwards that it wrote no such directory


class Rows(Protocol):
    """Texels that are made when they are asked for, rows at a time."""

    @property
    def shape(self) -> tuple[int, ...]: ...
    @property
    def dtype(self) -> np.dtype[np.generic]: ...
    @property
    def ndim(self) -> int: ...
    def __getitem__(self, rows: int | slice, /) -> Stored: ...


def write_image(path: Path | str, texels: Stored | Rows) -> None:
    """Write texels as they are, whole or not at all; the suffix chooses the format.

    Parameters
    ----------
    texels : (H, W) or (H, W, C) uint8, uint16 or float32
        Row 0 on top. Written in bands, so that nothing is copied whole.

    Raises
    ------
    FileError
        If the file cannot be written (a full disk, a folder that may not be written to).

    Examples
    --------
    >>> jq.images.write_image("grey.png", np.full((4, 4, 1), 40000, np.uint16))
    >>> jq.images.read_image("grey.png")[0, 0]
    array([40000], dtype=uint16)
    """
    path = Path(path)
    if texels.dtype not in (np.uint8, np.uint16, np.float32) or texels.ndim not in (2, 3):
        raise ShapeError(
            f"texels must be (H, W) or (H, W, C) of uint8, uint16 or float32; got {texels.dtype} of shape {texels.shape}"
        )
    height, width = texels.shape[:2]
    channels = 1 if texels.ndim == 2 else texels.shape[2]
    spec = oiio.ImageSpec(width, height, channels, str(texels.dtype).replace("float32", "float"))
    spec.attribute("oiio:UnassociatedAlpha", 1)
    spec.attribute("png:compressionLevel", 1)
    spec.attribute("png:filter", 32)
    if path.suffix.lower() in _TIMED:
        spec.attribute("DateTime", _NO_TIME)
    with written_whole(path) as temporary:
        name = library_name(temporary)
        target = oiio.ImageOutput.create(name)
        if target is None:
            oiio.geterror()  # or it is printed when the program ends
            raise FileError(f"{path}: no known image format; use .png, .tif or .exr")
        rows = max(1, (4 << 20) // max(1, texels[0].nbytes))
        good = target.open(name, spec)
        for top in range(0, height, rows):
            bottom = min(top + rows, height)
            band = np.ascontiguousarray(texels[top:bottom]).reshape(bottom - top, width, channels)
            good = good and target.write_scanlines(top, bottom, 0, band)
        trouble = target.geterror()
        good = target.close() and good
        late = target.geterror()
        trouble = trouble or ("" if _EXIF in late else late) or cut_short(temporary)
        if not good or trouble:
            raise FileError(f"{path}: cannot write this image: {reason_of(trouble)}; what was there before is untouched")
