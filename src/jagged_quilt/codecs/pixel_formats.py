"""How the texels of a texture array are stored."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np

from jagged_quilt.foundation.checks import known_name


@dataclass(frozen=True, slots=True)
class FormatFacts:
    """What is true of a pixel format.

    Attributes
    ----------
    key : str
        Its name in quilt files and manifests.
    channels : tuple of int
        How many channels it can be asked for.
    kind : str
        NumPy type of a channel once decoded.
    block : int
        Bytes of a block of 4 x 4 texels; 0 where every texel stands alone.
    plain, srgb : mapping of channels to int
        The format's number in the Vulkan registry, for plain data and for sRGB-encoded colour.
    words : str
    """

    key: str
    channels: tuple[int, ...]
    kind: str
    block: int
    plain: dict[int, int]
    srgb: dict[int, int]
    words: str


class PixelFormat(Enum):
    """The pixel formats of texture arrays; `value` holds the `FormatFacts`."""

    UNORM8 = FormatFacts("unorm8", (1, 2, 3, 4), "uint8", 0, {1: 9, 2: 16, 3: 23, 4: 37}, {1: 15, 2: 22, 3: 29, 4: 43}, "8 bit")
    UNORM16 = FormatFacts("unorm16", (1, 2, 4), "uint16", 0, {1: 70, 2: 77, 4: 91}, {}, "16 bit")
    HALF = FormatFacts("half", (1, 2, 4), "float16", 0, {1: 76, 2: 83, 4: 97}, {}, "half float")
    BC1 = FormatFacts("bc1", (3,), "uint8", 8, {4: 131}, {4: 132}, "BC1, 4 bits a texel")
    BC3 = FormatFacts("bc3", (4,), "uint8", 16, {4: 137}, {4: 138}, "BC3, 8 bits a texel")
    BC4 = FormatFacts("bc4", (1,), "uint8", 8, {1: 139}, {}, "BC4, 4 bits a texel")
    BC5 = FormatFacts("bc5", (2,), "uint8", 16, {2: 141}, {}, "BC5, 8 bits a texel")
    BC7 = FormatFacts("bc7", (3, 4), "uint8", 16, {4: 145}, {4: 146}, "BC7, 8 bits a texel")

    @property
    def key(self) -> str:
        """The format's name in quilt files and manifests."""
        return self.value.key

    @property
    def top(self) -> float:
        """What 1.0 is stored as."""
        return {"uint8": 255.0, "uint16": 65535.0, "float16": 1.0}[self.value.kind]

    def stored_channels(self, wanted: int) -> int:
        """Return how many channels a texel takes in memory for `wanted` ones: three are padded to four."""
        return 4 if wanted == 3 else wanted

    def level_bytes(self, height: int, width: int, channels: int) -> int:
        """Return the bytes of one slice of one level."""
        if self.value.block:
            return -(-height // 4) * -(-width // 4) * self.value.block
        return height * width * channels * np.dtype(self.value.kind).itemsize


def format_named(name: str) -> PixelFormat:
    """Return the format of a name; raise `NameNotFoundError` with the nearest if there is none."""
    keys = {each.key: each for each in PixelFormat}
    return keys[known_name("pixel format", name, keys)]


_BY_NUMBER = {
    number: (each, channels, srgb)
    for each in PixelFormat
    for srgb, numbers in ((False, each.value.plain), (True, each.value.srgb))
    for channels, number in numbers.items()
} | {133: (PixelFormat.BC1, 4, False), 134: (PixelFormat.BC1, 4, True)}


def format_of_number(number: int) -> tuple[PixelFormat, int, bool]:
    """Return the format, its channels and whether it is sRGB-encoded, from its Vulkan number; raise `ValueError`."""
    if number not in _BY_NUMBER:
        raise ValueError(f"texels of format {number} of the Vulkan registry cannot be read")
    return _BY_NUMBER[number]
