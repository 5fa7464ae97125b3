"""KTX2 files that hold one image, by our own reader."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from jagged_quilt.codecs.ktx2 import Ktx2File
from jagged_quilt.codecs.pixel_formats import PixelFormat
from jagged_quilt.foundation.errors import FileError, ImageError
from jagged_quilt.maps.image_limits import ImageLimits
from jagged_quilt.maps.image_reader import Image, ImageReader


class Ktx2Images(ImageReader):
    """KTX2 with a single slice, its finest level."""

    suffixes = (".ktx2",)

    def size(self, path: Path, limits: ImageLimits) -> tuple[int, int]:
        """Return rows and columns."""
        head = _opened(path, limits).head
        return head.height, head.width

    def is_deep(self, path: Path, limits: ImageLimits) -> bool:
        """Whether it holds 16 bits or half floats."""
        return _opened(path, limits).head.pixels in (PixelFormat.UNORM16, PixelFormat.HALF)

    def read(self, path: Path, limits: ImageLimits) -> Image:
        """Return the image, decoded."""
        try:
            file = _opened(path, limits)
            head, texels = file.head, file.texels(0, 0)
        except ImageError:
            raise
        except FileError as error:
            raise ImageError(str(error)) from error
        return Image(texels.astype(np.float32) if texels.dtype == np.float16 else texels, tuple("RGBA"[: head.channels]))


def _opened(path: Path, limits: ImageLimits) -> Ktx2File:
    file = Ktx2File(path)
    head = file.head
    limits.check(path, head.width, head.height, 2 * head.channels)
    if head.slices > 1:
        raise ImageError(f"{path}: holds {head.slices} slices; a map must be one image")
    return file
