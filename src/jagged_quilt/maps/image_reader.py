"""What reads an image format that the image library does not: a module of its own for each."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import ClassVar

from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.maps.image_limits import SUFFIXES, ImageLimits


@dataclass(frozen=True, eq=False)
class Image:
    """An image file as it is stored.

    Attributes
    ----------
    texels : (H, W, C) uint8, uint16 or float32
        Upright: what the file says of its orientation is done.
    channels : tuple of str
        Their names in the file; R, G, B, A or Y in a common image.
    """

    texels: Stored
    channels: tuple[str, ...]


class ImageReader(ABC):
    """Reads one image format. A subclass is used from then on for files with its suffixes, wherever images are read.

    Attributes
    ----------
    suffixes : tuple of str
        In lower case, with the dot.
    """

    suffixes: ClassVar[tuple[str, ...]] = ()

    def __init_subclass__(cls) -> None:
        IMAGE_READERS.update(dict.fromkeys(cls.suffixes, cls))

    @abstractmethod
    def size(self, path: Path, limits: ImageLimits) -> tuple[int, int]:
        """Return the rows and columns of a file by its head; raise `ImageError` if it cannot be read or is too large."""

    def is_deep(self, path: Path, limits: ImageLimits) -> bool:  # of a format that can be
        """Whether a file has more than 8 bits a channel, by its head."""
        return False

    @abstractmethod
    def read(self, path: Path, limits: ImageLimits) -> Image:
        """Return the whole of a file; raise `ImageError` as `size` does, or if it is broken anywhere."""


IMAGE_READERS: dict[str, type[ImageReader]] = {}
"""By suffix; all other formats are the image library's."""
_OURS = {".ktx2": "jagged_quilt.maps.ktx2_images"}  # loaded at first use


def reader_of(path: Path) -> ImageReader | None:
    """Return what reads a file, or None where the image library does."""
    suffix = path.suffix.lower()
    if suffix not in IMAGE_READERS and suffix in _OURS:
        import_module(_OURS[suffix])
    kind = IMAGE_READERS.get(suffix)
    return kind() if kind else None


def image_suffixes() -> frozenset[str]:
    """Return the suffixes of all files that are read as images."""
    return frozenset(SUFFIXES) | IMAGE_READERS.keys()
