"""KTX2 files (Khronos, KTX File Format Specification 2.0): 2D arrays of RGBA8 with mips, compressed with zstd."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import zstandard
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import FileError, ShapeError
from jagged_quilt.foundation.files import read_bytes, write_bytes

_IDENTIFIER = b"\xabKTX 20\xbb\r\n\x1a\n"
_HEADER = struct.Struct("<9I4I2Q")
_LEVEL = struct.Struct("<3Q")
_RGBA8_UNORM, _RGBA8_SRGB = 37, 43
_ZSTD = 2
_LARGEST = 8 << 30


@dataclass(frozen=True, eq=False)
class Ktx2:
    """A 2D array texture.

    Attributes
    ----------
    levels : list of (S, H, W, 4) uint8
        From the full size down; S slices.
    srgb : bool
        Whether red, green and blue are sRGB-encoded (alpha never is).
    notes : dict
        Key/value data, UTF-8.
    """

    levels: list[NDArray[np.uint8]]
    srgb: bool
    notes: dict[str, str] = field(default_factory=dict)


def write_ktx2(path: Path, texture: Ktx2) -> None:
    """Write a KTX2 file, whole or not at all."""
    slices, height, width, channels = texture.levels[0].shape
    if channels != 4 or any(level.dtype != np.uint8 for level in texture.levels):
        raise ShapeError(f"{path}: levels must be (S, H, W, 4) uint8; got {texture.levels[0].shape}")
    packer = zstandard.ZstdCompressor(level=3, write_checksum=True)
    packed = [packer.compress(np.ascontiguousarray(level).tobytes()) for level in texture.levels]
    descriptor = _descriptor(texture.srgb)
    notes = _notes({"KTXorientation": "rd", "KTXwriter": "Jagged Quilt", **texture.notes})
    count = len(packed)
    descriptor_at = len(_IDENTIFIER) + _HEADER.size + count * _LEVEL.size
    notes_at = descriptor_at + len(descriptor)
    offset = notes_at + len(notes)
    index = [b""] * count
    for level in reversed(range(count)):  # the smallest level comes first in the file
        index[level] = _LEVEL.pack(offset, len(packed[level]), texture.levels[level].nbytes)
        offset += len(packed[level])
    header = _HEADER.pack(
        _RGBA8_SRGB if texture.srgb else _RGBA8_UNORM, 1, width, height, 0, slices, 1, count, _ZSTD,
        descriptor_at, len(descriptor), notes_at, len(notes), 0, 0,
    )  # fmt: skip
    write_bytes(path, b"".join([_IDENTIFIER, header, *index, descriptor, notes, *reversed(packed)]))


def read_ktx2(path: Path) -> Ktx2:
    """Read a file of the kind that `write_ktx2` writes.

    Raises
    ------
    FileError
        If it is missing, of another kind, cut short, or damaged (each level carries a checksum).
    """
    data = read_bytes(path, "KTX2 file")
    try:
        return _parse(data)
    except (struct.error, zstandard.ZstdError, ValueError, IndexError) as error:
        raise FileError(f"{path}: broken, or not a KTX2 file that can be read: {error}; pack again") from error


def _parse(data: bytes) -> Ktx2:
    if not data.startswith(_IDENTIFIER):
        raise ValueError("it does not begin as a KTX2 file does")
    start = len(_IDENTIFIER)
    (vk_format, _, width, height, depth, slices, faces, count, scheme, _, _, notes_at, notes_length, _, _) = (
        _HEADER.unpack_from(data, start)
    )
    if vk_format not in (_RGBA8_SRGB, _RGBA8_UNORM) or depth or faces != 1 or scheme != _ZSTD:
        raise ValueError(f"only 2D arrays of RGBA8 with zstd are read (format {vk_format}, scheme {scheme})")
    if not 1 <= count <= 16 or width * height * max(1, slices) * 4 > _LARGEST:
        raise ValueError(f"unlikely size {width} x {height} x {slices} with {count} levels")
    slices = max(1, slices)
    unpacker = zstandard.ZstdDecompressor()
    levels = []
    for level in range(count):
        offset, length, whole = _LEVEL.unpack_from(data, start + _HEADER.size + level * _LEVEL.size)
        shape = (slices, max(1, height >> level), max(1, width >> level), 4)
        if whole != int(np.prod(shape)) or offset + length > len(data):
            raise ValueError(f"level {level} does not have the size that the header tells")
        raw = unpacker.decompress(data[offset : offset + length], max_output_size=whole)
        levels.append(np.frombuffer(raw, np.uint8).reshape(shape))
    return Ktx2(levels, vk_format == _RGBA8_SRGB, _read_notes(data[notes_at : notes_at + notes_length]))


def _descriptor(srgb: bool) -> bytes:
    """The data format descriptor (Khronos Data Format 1.3): RGBA, Rec. 709 primaries, straight alpha."""
    samples = b""
    for place, channel in enumerate((0, 1, 2, 15)):
        linear_alpha = 0x10 if srgb and channel == 15 else 0
        samples += struct.pack("<HBB4B2I", 8 * place, 7, channel | linear_alpha, 0, 0, 0, 0, 0, 255)
    block = struct.pack("<IHH4B4B8B", 0, 2, 24 + len(samples), 1, 1, 2 if srgb else 1, 0, *(0,) * 4, 4, *(0,) * 7)
    return struct.pack("<I", 4 + len(block) + len(samples)) + block + samples


def _notes(notes: dict[str, str]) -> bytes:
    out = b""
    for key in sorted(notes):
        entry = key.encode() + b"\0" + notes[key].encode() + b"\0"
        out += struct.pack("<I", len(entry)) + entry + b"\0" * (-len(entry) % 4)
    return out


def _read_notes(data: bytes) -> dict[str, str]:
    notes, at = {}, 0
    while at + 4 <= len(data):
        (length,) = struct.unpack_from("<I", data, at)
        key, _, value = data[at + 4 : at + 4 + length].partition(b"\0")
        notes[key.decode()] = value.rstrip(b"\0").decode()
        at += 4 + length + (-length % 4)
    return notes
