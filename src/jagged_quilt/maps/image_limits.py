"""Which image files there are, and how large one may be."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from jagged_quilt.foundation.checks import whole_number_in
from jagged_quilt.foundation.errors import ImageError

LARGEST_SIDE = 1 << 20
"""Texels along a side, or MiB, that nothing may pass."""
SUFFIXES = (
    ".png",
    ".tif",
    ".tiff",
    ".exr",
    ".tga",
    ".jpg",
    ".jpeg",
    ".bmp",
    ".dds",
    ".ktx2",
    ".hdr",
    ".webp",
    ".ppm",
    ".pgm",
    ".gif",
)


@dataclass(frozen=True, slots=True)
class ImageLimits:
    """The largest image that is decoded. It travels with whatever reads.

    Attributes
    ----------
    largest_side : int
        Texels along the longer side.
    largest_mib : int
        MiB of texels, decoded.
    """

    largest_side: int = 32768
    largest_mib: int = 4096

    def __post_init__(self) -> None:
        whole_number_in("largest_side", self.largest_side, 1, LARGEST_SIDE)
        whole_number_in("largest_mib", self.largest_mib, 1, LARGEST_SIDE)

    def check(self, path: Path, width: int, height: int, texel_bytes: int) -> None:
        """Raise `ImageError` if an image of so many texels is more than may be decoded."""
        mib = width * height * texel_bytes / (1 << 20)
        side, most = self.largest_side, self.largest_mib
        if not (0 < width <= side and 0 < height <= side and mib <= most):
            raise ImageError(
                f"{path}: {width} x {height} texels, {mib:,.0f} MiB, are more than is read (side {side}, "
                f"{most} MiB); make it smaller, or allow more: ImageLimits, or [images] in a quilt file"
            )


LIMITS = ImageLimits()
"""Those that hold where nothing is said."""
NO_LIMITS = ImageLimits(LARGEST_SIDE, LARGEST_SIDE)
LOSSY = (".jpg", ".jpeg", ".webp", ".gif", ".dds")
"""Of these, formats that may not keep every value."""
