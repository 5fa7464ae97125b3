"""The head of a KTX2 file: what is in it, its data format descriptor and its notes."""

from __future__ import annotations

import struct
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from jagged_quilt.codecs.pixel_formats import PixelFormat

_COLOUR_MODEL = {PixelFormat.BC1: 128, PixelFormat.BC3: 130, PixelFormat.BC4: 131, PixelFormat.BC5: 132, PixelFormat.BC7: 134}
_ALPHA, _LINEAR, _SIGNED_FLOAT = 15, 0x10, 0xC0
_ONE = 0x3F800000  # as a float's bits; with the sign bit, minus one


@dataclass(frozen=True, kw_only=True)
class Ktx2Head:
    """All of a KTX2 file but its texels.

    Attributes
    ----------
    pixels : PixelFormat
    channels : int
        As stored: 1, 2 or 4 (3 in some files of others).
    srgb : bool
        Whether red, green and blue are sRGB-encoded (alpha never is).
    width, height, slices, levels : int
    zstd : bool
        Whether levels are compressed.
    notes : mapping
        Key/value data, UTF-8.
    """

    pixels: PixelFormat
    channels: int
    srgb: bool
    width: int
    height: int
    slices: int
    levels: int
    zstd: bool = True
    notes: Mapping[str, str] = field(default_factory=dict)

    def size(self, level: int) -> tuple[int, int]:
        """(rows, columns) of a level."""
        return max(1, self.height >> level), max(1, self.width >> level)

    @property
    def unit_bytes(self) -> int:
        """Bytes of one texel, or of one block of texels."""
        return self.pixels.level_bytes(1, 1, self.channels)

    def slice_bytes(self, level: int) -> int:
        """Bytes of one slice of a level, not compressed."""
        return self.pixels.level_bytes(*self.size(level), self.channels)


def descriptor_of(head: Ktx2Head) -> bytes:
    """Return the data format descriptor (Khronos Data Format 1.3): Rec. 709 primaries, straight alpha."""
    block = head.pixels.value.block
    if block:
        model, sides, plane = _COLOUR_MODEL[head.pixels], (3, 3, 0, 0), block
        kinds: tuple[int, ...] = {PixelFormat.BC3: (_ALPHA, 0), PixelFormat.BC5: (0, 1)}.get(head.pixels, (0,))
        bits = 8 * block // len(kinds)
        low, high = 0, 0xFFFFFFFF
    else:
        model, sides = 1, (0, 0, 0, 0)
        kinds = (0, 1, 2, _ALPHA)[: head.channels]
        size = np.dtype(head.pixels.value.kind).itemsize
        bits, plane = 8 * size, size * head.channels
        low, high = (_ONE | 1 << 31, _ONE) if head.pixels is PixelFormat.HALF else (0, int(head.pixels.top))
    samples = b""
    for index, kind in enumerate(kinds):
        marks = (_LINEAR if head.srgb and kind == _ALPHA else 0) | (_SIGNED_FLOAT if head.pixels is PixelFormat.HALF else 0)
        samples += struct.pack("<HBB4B2I", bits * index, bits - 1, kind | marks, 0, 0, 0, 0, low, high)
    basic = struct.pack("<IHH4B4B8B", 0, 2, 24 + len(samples), model, 1, 2 if head.srgb else 1, 0, *sides, plane, *(0,) * 7)
    return struct.pack("<I", 4 + len(basic) + len(samples)) + basic + samples


def notes_as_bytes(notes: Mapping[str, str]) -> bytes:
    """Return notes as key/value data, in order."""
    out = b""
    for key in sorted(notes):
        entry = key.encode() + b"\0" + notes[key].encode() + b"\0"
        out += struct.pack("<I", len(entry)) + entry + b"\0" * (-len(entry) % 4)
    return out


def notes_of(data: bytes) -> dict[str, str]:
    """Return the notes that key/value data holds."""
    notes, at = {}, 0
    while at + 4 <= len(data):
        (length,) = struct.unpack_from("<I", data, at)
        key, _, value = data[at + 4 : at + 4 + length].partition(b"\0")
        notes[key.decode()] = value.rstrip(b"\0").decode(errors="replace")
        at += 4 + length + (-length % 4)
    return notes
