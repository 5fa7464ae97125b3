"""Image files in and out, as stored, through OpenImageIO; other formats by readers of our own (`ImageReader`).

Values are never converted on the way: 8 bits stay 8 bits, alpha is never multiplied in, and no colour space is guessed.
"""

from __future__ import annotations

import math
import mmap
import os
import re
import struct
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio

from jagged_quilt.foundation.disk_store import ArrayStore, Memory
from jagged_quilt.foundation.errors import ImageError, QuiltError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.missing import missing
from jagged_quilt.foundation.reading import plain_words, reading, reads
from jagged_quilt.maps.finite import check_finite, made_finite
from jagged_quilt.maps.image_limits import LARGEST_SIDE, LIMITS, NO_LIMITS, ImageLimits
from jagged_quilt.maps.image_reader import Image, reader_of

_AS_STORED = {"uint8": oiio.UINT8, "uint16": oiio.UINT16, "half": oiio.FLOAT, "float": oiio.FLOAT}
_NUMBERS = {**_AS_STORED, "int8": oiio.INT8, "int16": oiio.INT16, "int": oiio.INT32, "uint": oiio.UINT32, "double": oiio.DOUBLE}
_NO_DATA_TAG = 42113  # of TIFF: the number that means "nothing here", as text (an OGC standard of elevation files)
_COMPRESSION_TAG = 259
_UNSUPPORTED = {
    34661: "JBIG",
    34712: "JPEG 2000",
    34887: "LERC",
    34925: "LZMA",
    50000: "ZSTD",
    50001: "WebP",
    50002: "JPEG XL",
    52546: "JPEG XL",
}
"""Ways to compress TIFF by their numbers, which the image library does not have."""
_ITEMS_TAG = 42112  # of TIFF: scale and offset of the samples among them, as <Item sample="0" role="scale">0.1</Item>
_ITEM = re.compile(r"<Item\b([^>]*)>([^<]*)</Item>", re.IGNORECASE)


# The library's own limits hold for the whole process: they are as wide as any `ImageLimits` may be, and those are asked first.
oiio.attribute("limits:imagesize_MB", LARGEST_SIDE)
oiio.attribute("limits:resolution", LARGEST_SIDE)


@dataclass(frozen=True, slots=True)
class NumberFacts:
    """What a file of measurements says of its numbers.

    Attributes
    ----------
    nothing : float or None
        The number that stands for "not known here".
    scale, offset : float
        What a stored number means is scale * number + offset.
    """

    nothing: float | None = None
    scale: float = 1.0
    offset: float = 0.0

    @property
    def is_scaled(self) -> bool:
        """Whether stored numbers are not what they mean."""
        return (self.scale, self.offset) != (1.0, 0.0)


@reads("image file", ImageError, watched=True)
def read_image(path: Path | str, limits: ImageLimits = LIMITS) -> Stored:
    """Return the texels of an image file as they are stored; half floats become float32.

    Raises
    ------
    ImageError
        If the file is missing, of no known format, too large, or broken anywhere (a truncated file too).
    RangeError
        If more than half of a float image is NaN or infinite; fewer are replaced, and reported by a `QuiltWarning`.

    Examples
    --------
    >>> texels = jq.images.read_image("height.png")
    >>> texels.shape, texels.dtype
    ((33, 33, 1), dtype('uint16'))
    """
    return read_channels(path, limits).texels


@reads("image file", ImageError, watched=True)
def read_channels(path: Path | str, limits: ImageLimits = LIMITS) -> Image:
    """Return an image as `read_image` does, with the names of its channels."""
    path = Path(path)
    if not path.is_file():
        raise ImageError(missing(path, "image file"))
    if own := reader_of(path):
        image = own.read(path, limits)
    else:
        _check_chunks(path)
        image = _read_with_library(path, limits)
    return replace(image, texels=made_finite(path, image.texels))


def read_channels_into(room: ArrayStore, path: Path | str, limits: ImageLimits = LIMITS) -> Image:
    """Return an image as `read_channels` does, its texels where there is room for them, read in bands of rows."""
    path = Path(path)
    if isinstance(room, Memory):
        return read_channels(path, limits)
    rows, columns = image_size(path, limits)
    texels: Stored | None = None
    names: tuple[str, ...] = ()
    for top, band in image_bands(path, limits, kinds=_AS_STORED):
        if texels is None:
            texels, names = room.empty((rows, columns, band.texels.shape[2]), band.texels.dtype), band.channels
        check_finite(path, band.texels, top)
        texels[top : top + len(band.texels)] = band.texels
    assert texels is not None
    return Image(texels, names)


@reads("image file", ImageError, watched=True)
def read_numbers(path: Path | str, limits: ImageLimits = LIMITS) -> tuple[Image, NumberFacts]:
    """Return an image whose texels may be of any type of number, and what the file says that its numbers mean.

    For measurements; float files may hold NaN. Raises `ImageError` as `read_image` does.
    """
    path = Path(path)
    if reader_of(path) or not path.is_file():
        return read_channels(path, limits), NumberFacts()
    _check_chunks(path)
    return _read_with_library(path, limits, _NUMBERS), number_facts(path)


@reads("image file", ImageError, watched=True)
def number_facts(path: Path) -> NumberFacts:
    """Return what a TIFF file says that its numbers mean; of other files nothing is known."""
    if path.suffix.lower() not in (".tif", ".tiff"):
        return NumberFacts()
    tags = _tiff_tags(path)
    nothing, items = str(tags.get(_NO_DATA_TAG, "")), str(tags.get(_ITEMS_TAG, ""))
    of_first = {role: number for sample, role, number in map(_item, _ITEM.findall(items)) if sample in ("", "0")}
    scale = _number_or_none(of_first.get("scale", ""))
    return NumberFacts(
        nothing=_number_or_none(nothing),
        scale=scale or 1.0,
        offset=_number_or_none(of_first.get("offset", "")) or 0.0,
    )


def _item(found: tuple[str, str]) -> tuple[str, str, str]:
    """The sample, the role and the text of one item of a TIFF's metadata."""
    attributes = dict(re.findall(r"""(\w+)\s*=\s*["']([^"']*)["']""", found[0]))
    role: str = attributes.get("role") or attributes.get("name") or ""
    return attributes.get("sample", ""), role.lower(), found[1]


def _number_or_none(text: str) -> float | None:
    try:
        number = float(text.strip(" \0\r\n\t"))
    except ValueError:
        return None
    return number if math.isfinite(number) else None


@reads("image file", ImageError, watched=True)
def look_at(path: Path, limits: ImageLimits = LIMITS) -> None:
    """Raise what `read_channels` would raise of a file's head; its texels are not decoded."""
    if not path.is_file():
        raise ImageError(missing(path, "image file"))
    if own := reader_of(path):
        own.size(path, limits)
    else:
        _spec_of(path, limits)


@reads("image file", ImageError, watched=True)
def image_size(path: Path, limits: ImageLimits = LIMITS) -> tuple[int, int]:
    """Return the rows and columns of an image file, upright; raise what `read_channels` would raise of its head."""
    if not path.is_file():
        raise ImageError(missing(path, "image file"))
    if own := reader_of(path):
        return own.size(path, limits)
    spec = _spec_of(path, limits)
    turned = spec.get_int_attribute("Orientation", 1) > 4
    return (spec.width, spec.height) if turned else (spec.height, spec.width)


@reads("image file", ImageError, watched=True)
def image_is_deep(path: Path, limits: ImageLimits = LIMITS) -> bool:
    """Return whether an image file has more than 8 bits a channel, by its head; raise what `image_size` would."""
    if not path.is_file():
        raise ImageError(missing(path, "image file"))
    if own := reader_of(path):
        return own.is_deep(path, limits)
    return bool(_spec_of(path, limits).format.size() > 1)


def image_bands(
    path: Path, limits: ImageLimits = LIMITS, *, texels: int = 1 << 22, kinds: Mapping[str, oiio.BASETYPE] = _NUMBERS
) -> Iterator[tuple[int, Image]]:
    """Give an image's rows in bands of about so many texels: the first row of each, and what `read_numbers` returns of it.

    A file whose rows cannot be read one after the other (KTX2, one that is to be turned) comes as one band. Raises
    `ImageError` as `read_channels` does, where the trouble begins.
    """
    with reading(path, "image file", ImageError, watched=True):
        yield from _bands(path, limits, texels, kinds)


def _bands(path: Path, limits: ImageLimits, texels: int, kinds: Mapping[str, oiio.BASETYPE]) -> Iterator[tuple[int, Image]]:
    if reader_of(path) or _spec_of(path, limits).get_int_attribute("Orientation", 1) != 1:
        yield 0, read_numbers(path, limits)[0] if kinds is _NUMBERS else read_channels(path, limits)
        return
    _check_chunks(path)
    source, spec, kind = _opened(path, limits, kinds)
    try:
        high = max(1, spec.tile_height)
        step = max(high, texels // max(1, spec.width) // high * high)
        for top in range(0, spec.height, step):
            bottom, every = min(top + step, spec.height), spec.nchannels
            if spec.tile_height:
                rows = source.read_tiles(0, spec.width, top, bottom, 0, 1, 0, every, kind)
            else:
                rows = source.read_scanlines(top, bottom, 0, 0, every, kind)
            trouble = source.geterror()
            if rows is None or trouble:
                raise _unreadable(path, trouble)
            names = tuple(str(name) for name in spec.channelnames)
            yield top, Image(np.ascontiguousarray(rows).reshape(bottom - top, spec.width, every), names)
    finally:
        source.close()


def _spec_of(path: Path, limits: ImageLimits) -> oiio.ImageSpec:
    source = oiio.ImageInput.open(library_name(path))
    if source is None:
        raise ImageError(f"{path}: not an image that can be read: {reason_of(oiio.geterror())}")
    spec = source.spec()
    source.close()
    limits.check(path, spec.width, spec.height, spec.nchannels * spec.format.size())
    return spec


def _opened(
    path: Path, limits: ImageLimits, kinds: Mapping[str, oiio.BASETYPE]
) -> tuple[oiio.ImageInput, oiio.ImageSpec, oiio.BASETYPE]:
    """An image file open for reading, what it says of itself, and as what it is read."""
    wanted = oiio.ImageSpec()
    wanted.attribute("oiio:UnassociatedAlpha", 1)
    source = oiio.ImageInput.open(library_name(path), wanted)
    if source is None:
        raise ImageError(f"{path}: not an image that can be read: {reason_of(oiio.geterror())}")
    try:
        spec = source.spec()
        kind = kinds.get(str(spec.format))
        if kind is None:
            raise ImageError(f"{path}: holds {spec.format} values; save it as 8 or 16 bit, half or float")
        limits.check(path, spec.width, spec.height, spec.nchannels * spec.format.size())
        if spec.depth > 1:
            raise ImageError(f"{path}: holds a volume of {spec.depth} layers; a map must be one flat image")
    except QuiltError:
        source.close()
        raise
    return source, spec, kind


def _read_with_library(path: Path, limits: ImageLimits, kinds: Mapping[str, oiio.BASETYPE] = _AS_STORED) -> Image:
    source, spec, kind = _opened(path, limits, kinds)
    try:
        names = tuple(str(name) for name in spec.channelnames)
        texels = source.read_image(0, 0, 0, spec.nchannels, kind)
        trouble = source.geterror()
        turn = spec.get_int_attribute("Orientation", 1)
    finally:
        source.close()
    if texels is None or trouble:
        raise _unreadable(path, trouble)
    stored: Stored = np.ascontiguousarray(texels).reshape(spec.height, spec.width, spec.nchannels)
    return Image(np.ascontiguousarray(_upright(stored, turn)), names)


def _check_chunks(path: Path, *, texels: bool = False) -> bool:
    """A PNG's transparency and palette chunks are passed over in silence when damaged: check what is not the texels.

    Returns whether it is a PNG.

    Raises
    ------
    ImageError
        If a chunk other than IDAT (unless `texels`; the library checks those) fails its CRC, or the file ends before IEND.
    """
    with path.open("rb") as file:
        if file.read(8) != b"\x89PNG\r\n\x1a\n":
            return False
        with mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
            at, kind = 8, b""
            while kind != b"IEND":
                if at + 12 > len(data):
                    raise ImageError(f"{path}: the image is broken or cut short: it has no end; get the file again")
                length, kind = struct.unpack_from(">I4s", data, at)
                end = at + 12 + length
                if (texels or kind != b"IDAT") and zlib.crc32(data[at + 4 : end - 4]) != int.from_bytes(
                    data[end - 4 : end], "big"
                ):
                    name = plain_words(repr(kind.decode("ascii", errors="replace")))
                    raise ImageError(
                        f"{path}: the image is broken or cut short: its {name} chunk is damaged; get the file again"
                    )
                at = end
    return True


def _upright(texels: Stored, turn: int) -> Stored:
    """Do what EXIF's orientation tag (1-8) says of how the stored rows and columns lie."""
    if turn in (5, 6, 7, 8):
        texels = texels.transpose(1, 0, 2)
    if turn in (3, 4, 7, 8):
        texels = texels[::-1]
    if turn in (2, 3, 6, 7):
        texels = texels[:, ::-1]
    return texels


def cut_short(path: Path) -> str:
    """Say what is wrong with the end of a file just written: of a disk that fills up the library does not always tell."""
    try:
        if _check_chunks(path, texels=True):
            return ""
        source, spec, kind = _opened(path, NO_LIMITS, _AS_STORED)
    except (QuiltError, OSError, ValueError):
        return "the file was cut short; is the disk full?"
    try:
        source.read_scanlines(spec.height - 1, spec.height, 0, 0, spec.nchannels, kind)
        return source.geterror()
    finally:
        source.close()


def _tiff_tags(path: Path) -> Mapping[int, Any]:
    """The tags of a TIFF file's first image by their numbers; none of a file that is no such."""
    from PIL.TiffImagePlugin import ImageFileDirectory_v2

    try:
        with path.open("rb") as file:
            head = file.read(8)
            head += file.read(8) if head[2:4] in (b"\x2b\x00", b"\x00\x2b") else b""  # of more than 4 GB
            tags = ImageFileDirectory_v2(head)
            file.seek(tags.next)
            tags.load(file)
            return {number: tags[number] for number in (_COMPRESSION_TAG, _NO_DATA_TAG, _ITEMS_TAG) if number in tags}
    except (OSError, ValueError, SyntaxError, KeyError, struct.error, IndexError, TypeError):
        return {}


def _unreadable(path: Path, trouble: str) -> ImageError:
    """The error for an image whose texels could not be read: broken, or compressed in a way that is not supported."""
    how = _tiff_tags(path).get(_COMPRESSION_TAG) if path.suffix.lower() in (".tif", ".tiff") else None
    if how in _UNSUPPORTED:
        return ImageError(
            f"{path}: a TIFF compressed by {_UNSUPPORTED[how]}, which is not supported; write it with Deflate or LZW"
        )
    return ImageError(f"{path}: the image is broken or cut short: {reason_of(trouble)}; get the file again")


def library_name(path: Path) -> str:
    """A path as the library takes it, in UTF-8 whatever the system's locale; raise `ImageError` if it is none."""
    try:
        return os.fsencode(path).decode()
    except UnicodeDecodeError:
        raise ImageError(f"{plain_words(path)}: images need names in UTF-8; rename it") from None


def reason_of(message: str) -> str:
    lines = [line.strip() for line in str(message).splitlines() if line.strip()]
    return plain_words(lines[0]) if lines else "no reason given"
