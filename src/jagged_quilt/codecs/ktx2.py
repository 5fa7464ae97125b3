"""KTX2 files (Khronos, KTX File Format Specification 2.0): 2D arrays with mips, compressed with zstd or not at all.

Every slice of every level is one zstd frame, so that a slice can be read, or kept, without touching the others; zstd joins
frames by itself when a level is read whole. The key/value data holds length and CRC-32 of every frame, and a CRC-32 of all
that is not texels, so that damage anywhere is found.
"""

from __future__ import annotations

import json
import os
import struct
import threading
import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import zstandard

from jagged_quilt.codecs.block_codes import decoded_blocks
from jagged_quilt.codecs.ktx2_head import Ktx2Head, descriptor_of, notes_as_bytes, notes_of
from jagged_quilt.codecs.pixel_formats import format_of_number
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import written_whole
from jagged_quilt.foundation.json_types import Stored

_IDENTIFIER = b"\xabKTX 20\xbb\r\n\x1a\n"
_HEADER = struct.Struct("<9I4I2Q")
_LEVEL = struct.Struct("<3Q")
_PLAIN, _ZSTD = 0, 2
_BASIS_LZ = 1
_CHECKS = "jaggedQuiltChecks"
_NOTHING = "00000000"
_LARGEST = 64 << 30
_ZSTD_LEVEL = 3
_COPIED_AT_ONCE = 4 << 20


@dataclass(frozen=True, slots=True)
class FileFrame:
    """One slice of one level as it lies in a file: where, how many bytes, and their CRC-32."""

    path: Path
    offset: int
    length: int
    crc: int


class Spool:
    """A file of frames in the order in which they arrive, from any thread.

    Parameters
    ----------
    zstd : bool
        Whether frames are compressed.
    head : Ktx2Head, optional
        Of the KTX2 file that they are for. Without zstd every frame then goes where it will lie in that file, so that
        `write_ktx2` need not copy it.
    """

    def __init__(self, path: Path, *, zstd: bool, head: Ktx2Head | None = None) -> None:
        self._path, self._zstd, self._end, self._lock = path, zstd, 0, threading.Lock()
        self._file = path.open("wb", buffering=0)
        self._packers = threading.local()
        self._head = None if zstd else head
        if self._head is not None:
            empty = [
                [FileFrame(path, 0, self._head.slice_bytes(level), 0)] * self._head.slices for level in range(self._head.levels)
            ]
            self._starts = _front(self._head, empty)[1]

    def add(self, texels: Stored, level: int = 0, which: int = 0) -> FileFrame:
        """Compress texels, if that is asked, and write them; level and slice tell their place, if there is one."""
        data: bytes | memoryview = np.ascontiguousarray(texels).reshape(-1).view(np.uint8).data
        if self._zstd:
            packer = getattr(self._packers, "packer", None)
            if packer is None:
                packer = self._packers.packer = zstandard.ZstdCompressor(level=_ZSTD_LEVEL, write_checksum=True)
            data = packer.compress(data)
        crc = zlib.crc32(data)
        with self._lock:
            offset = self._end if self._head is None else self._starts[level] + which * len(data)
            self._end = max(self._end, offset + len(data))
            try:
                self._file.seek(offset)
                done = 0
                while done < len(data):
                    done += self._file.write(memoryview(data)[done:])
            except OSError as error:
                folder = self._path.parent.parent  # that for which this one is a temporary one
                raise FileError(f"{folder / self._path.name}: cannot write this array: {error.strerror or error}") from error
        return FileFrame(self._path, offset, len(data), crc)

    def close(self) -> None:
        """Close the file; the frames in it stay."""
        self._file.close()


def write_ktx2(path: Path, head: Ktx2Head, frames: Sequence[Sequence[FileFrame]]) -> None:
    """Write a KTX2 file, whole or not at all.

    Parameters
    ----------
    frames : (levels, slices) of Frame
        From the full size down; they may lie in several files, and are copied as they are. A file in which all of them lie
        in their places already is taken over.
    """
    front, starts = _front(head, frames)
    first = frames[0][0]
    wanted = [
        start + sum(frame.length for frame in level[:n])
        for start, level in zip(starts, frames, strict=True)
        for n in (0, len(level) - 1)
    ]
    offsets = [level[n].offset for level in frames for n in (0, len(level) - 1)]
    whole = all(len(list(_runs(level))) == 1 and level[0].path == first.path for level in frames)
    with written_whole(path) as temporary:
        if whole and wanted == offsets:
            with first.path.open("r+b", buffering=0) as target:
                target.write(front)
            temporary.unlink()  # to replace a file makes some file systems write all of the new one to disk first
            first.path.replace(temporary)
            return
        with temporary.open("wb", buffering=0) as target:
            target.write(front)
            for level in reversed(range(head.levels)):
                target.write(bytes(starts[level] - target.tell()))
                for start, length, source in _runs(frames[level]):
                    _copy(source, start, length, target)


def _front(head: Ktx2Head, frames: Sequence[Sequence[FileFrame]]) -> tuple[bytes, list[int]]:
    """All of a file that stands before its texels, and where each level begins."""
    scheme = _ZSTD if head.zstd else _PLAIN
    descriptor = descriptor_of(head)
    checks = {"frames": ["".join(f"{f.length:08x}{f.crc:08x}" for f in level) for level in frames], "head": _NOTHING}
    notes = notes_as_bytes({"KTXorientation": "rd", "KTXwriter": "Jagged Quilt", **head.notes, _CHECKS: json.dumps(checks)})
    descriptor_at = len(_IDENTIFIER) + _HEADER.size + head.levels * _LEVEL.size
    notes_at = descriptor_at + len(descriptor)
    align = 1 if head.zstd else int(np.lcm(4, head.unit_bytes))
    offset = notes_at + len(notes)
    index, starts = [b""] * head.levels, [0] * head.levels
    for level in reversed(range(head.levels)):  # the smallest level comes first in the file
        length = sum(frame.length for frame in frames[level])
        starts[level] = offset + -offset % align
        index[level] = _LEVEL.pack(starts[level], length, head.slice_bytes(level) * head.slices)
        offset = starts[level] + length
    numbers = head.pixels.value.srgb if head.srgb else head.pixels.value.plain
    size = 1 if head.pixels.value.block else np.dtype(head.pixels.value.kind).itemsize
    header = _HEADER.pack(
        numbers[head.channels],
        size,
        head.width,
        head.height,
        0,
        head.slices,
        1,
        head.levels,
        scheme,
        descriptor_at,
        len(descriptor),
        notes_at,
        len(notes),
        0,
        0,
    )
    front = b"".join([_IDENTIFIER, header, *index, descriptor, notes])
    return front.replace(_head_entry(_NOTHING), _head_entry(f"{zlib.crc32(front):08x}")), starts


class Ktx2File:
    """A KTX2 file open for reading, slice by slice. It may come from another writer.

    Raises
    ------
    FileError
        If it is missing, of another kind, cut short, or damaged.
    """

    def __init__(self, path: Path | str) -> None:
        self.path = Path(path)
        try:
            self._length = self.path.stat().st_size
            with self.path.open("rb") as file:
                self.head, self._spans, self._frames = _parse(self.path, file.read, self._length)
        except FileNotFoundError:
            raise FileError(f"{self.path}: there is no such KTX2 file") from None
        except (struct.error, ValueError, KeyError, TypeError, OverflowError, MemoryError) as error:
            raise self._broken(error) from error
        except OSError as error:
            raise FileError(f"{self.path}: the KTX2 file cannot be read: {error.strerror or error}") from error

    @property
    def ours(self) -> bool:
        """Whether we wrote it, with a checksum of every frame."""
        return self._frames is not None

    def frame(self, level: int, which: int) -> FileFrame:
        """Where one slice of one level lies; only in a file of ours."""
        if self._frames is None:
            raise FileError(f"{self.path}: this file does not tell where its slices lie")
        return self._frames[level][which]

    def texels(self, level: int, which: int) -> Stored:
        """Return one slice of one level, decoded, (H, W, C) uint8, uint16 or float16."""
        try:
            data = self._slice(level, which)
        except (ValueError, zstandard.ZstdError) as error:
            raise self._broken(error) from error
        except OSError as error:
            raise FileError(f"{self.path}: the KTX2 file cannot be read: {error.strerror or error}") from error
        rows, columns = self.head.size(level)
        if self.head.pixels.value.block:
            return decoded_blocks(data, self.head.pixels, rows, columns)
        return np.frombuffer(data, self.head.pixels.value.kind).reshape(rows, columns, self.head.channels)

    def check(self) -> None:
        """Read all of a file of ours against its checksums; raise `FileError` if anything is damaged."""
        try:
            for level, frames in enumerate(self._frames or []):
                for which, frame in enumerate(frames):
                    self._checked(level, which, frame)
        except ValueError as error:
            raise FileError(f"{self.path}: broken: {error}; make it again") from error

    def _checked(self, level: int, which: int, frame: FileFrame) -> bytes:
        data = self._read(frame.offset, frame.length)
        if len(data) != frame.length or zlib.crc32(data) != frame.crc:
            raise ValueError(f"level {level} of slice {which} is damaged")
        return data

    def _slice(self, level: int, which: int) -> bytes:
        whole = self.head.slice_bytes(level)
        if self._frames is not None:
            data = self._checked(level, which, self._frames[level][which])
            raw = _unpacked(data, whole) if self.head.zstd else data
        elif self.head.zstd:
            raw = _unpacked(self._read(*self._spans[level]), whole * self.head.slices)[which * whole : (which + 1) * whole]
        else:
            raw = self._read(self._spans[level][0] + which * whole, whole)
        if len(raw) != whole:
            raise ValueError(f"level {level} holds {len(raw)} bytes a slice and not {whole}")
        return raw

    def _read(self, offset: int, length: int) -> bytes:
        with self.path.open("rb") as file:
            file.seek(offset)
            return file.read(length)

    def _broken(self, error: object) -> FileError:
        if isinstance(error, _UnsupportedError):
            return FileError(f"{self.path}: a KTX2 file that is not supported: {error}")
        return FileError(f"{self.path}: broken, or not a KTX2 file that can be read: {error}; make it again")


def write_unpacked(file: Ktx2File, path: Path) -> None:
    """Write a file anew without compression, whole or not at all."""
    head = replace(file.head, zstd=False)
    with written_whole(path) as work:
        spool = Spool(work, zstd=False)
        try:
            frames = [
                [spool.add(np.frombuffer(file._slice(level, which), np.uint8)) for which in range(head.slices)]
                for level in range(head.levels)
            ]
        finally:
            spool.close()
        whole = work.with_name(f"{work.name}.ktx2")
        write_ktx2(whole, head, frames)
        whole.replace(work)


class _UnsupportedError(ValueError):
    """A sound file of a kind that is not read."""


def _parse(path: Path, read: Any, length: int) -> tuple[Ktx2Head, list[tuple[int, int]], list[list[FileFrame]] | None]:
    start = len(_IDENTIFIER) + _HEADER.size
    front = read(start)
    if not front.startswith(_IDENTIFIER):
        raise ValueError("it does not begin as a KTX2 file does")
    (
        number,
        size,
        width,
        height,
        depth,
        slices,
        faces,
        levels,
        scheme,
        descriptor_at,
        descriptor_length,
        notes_at,
        notes_length,
        _,
        _,
    ) = _HEADER.unpack_from(front, len(_IDENTIFIER))
    if scheme == _BASIS_LZ or number == 0:
        raise _UnsupportedError(
            "it holds a Basis Universal texture, which is made for a GPU to transcode; get the images it was made from, or "
            "transcode it to a format with a number (BC7, or RGBA of 8 bits)"
        )
    if depth or faces != 1:
        raise _UnsupportedError("only 2D textures and arrays of them are read, no volumes and no cubes")
    if scheme not in (_PLAIN, _ZSTD):
        raise _UnsupportedError(f"its levels are compressed by scheme {scheme}; write it without, or with zstd")
    try:
        pixels, channels, srgb = format_of_number(number)
    except ValueError as error:
        raise _UnsupportedError(str(error)) from error
    if not (
        1 <= width <= 65536 and 1 <= height <= 65536 and slices <= 65536 and 1 <= levels <= max(width, height).bit_length()
    ):
        raise ValueError(f"unlikely size {width} x {height} x {slices} with {levels} levels")
    if size not in (1, np.dtype(pixels.value.kind).itemsize):
        raise ValueError(f"its values have {size} bytes, which its format has not")
    front += read(levels * _LEVEL.size)
    ends = (descriptor_at + descriptor_length, notes_at + notes_length)
    if descriptor_at != len(front) or max(ends) > min(length, len(front) + (64 << 20)):
        raise ValueError("its descriptor does not lie where it should")
    head = Ktx2Head(
        pixels=pixels,
        channels=channels,
        srgb=srgb,
        width=width,
        height=height,
        slices=max(1, slices),
        levels=levels,
        zstd=scheme == _ZSTD,
    )
    spans = []
    for level in range(levels):
        offset, span, whole = _LEVEL.unpack_from(front, start + level * _LEVEL.size)
        if whole != head.slice_bytes(level) * head.slices or whole > _LARGEST or offset + span > length:
            raise ValueError(f"level {level} does not have the size that the header tells")
        spans.append((offset, span))
    front += read(max(ends) - len(front))
    notes = notes_of(front[notes_at : notes_at + notes_length])
    frames = _checked_frames(path, front, notes.pop(_CHECKS, None), head, spans)
    return Ktx2Head(**{**head.__dict__, "notes": notes}), spans, frames


def _checked_frames(
    path: Path, front: bytes, checks: str | None, head: Ktx2Head, spans: list[tuple[int, int]]
) -> list[list[FileFrame]] | None:
    if checks is None:
        if b"Jagged Quilt" in front:
            raise ValueError("its checksums are gone")
        return None
    recorded = json.loads(checks)
    if int(recorded["head"], 16) != zlib.crc32(front.replace(_head_entry(recorded["head"]), _head_entry(_NOTHING))):
        raise ValueError("its header is damaged")
    frames: list[list[FileFrame]] = []
    for (offset, span), text in zip(spans, recorded["frames"], strict=True):
        rows = np.frombuffer(bytes.fromhex(text), ">u4").reshape(head.slices, 2).astype(np.int64)
        offsets = offset + np.concatenate([[0], np.cumsum(rows[:, 0])])
        if offsets[-1] != offset + span:
            raise ValueError("its checksums do not fit its levels")
        frames.append(
            [FileFrame(path, int(at), int(length), int(crc)) for at, (length, crc) in zip(offsets, rows, strict=False)]
        )
    return frames


def _unpacked(data: bytes, whole: int) -> bytes:
    """Join the zstd frames of a level or slice, never giving more than it should have."""
    reader = zstandard.ZstdDecompressor().stream_reader(data, read_across_frames=True)
    return reader.read(whole) + reader.read(1)


def _runs(frames: Sequence[FileFrame]) -> Iterator[tuple[int, int, Path]]:
    """Join frames that lie behind each other in one file: (offset, length, file)."""
    start, end, path = 0, 0, Path()
    for frame in frames:
        if frame.path != path or frame.offset != end:
            if end > start:
                yield start, end - start, path
            start, path = frame.offset, frame.path
        end = frame.offset + frame.length
    if end > start:
        yield start, end - start, path


def _copy(source: Path, offset: int, length: int, target: BinaryIO) -> None:
    with source.open("rb", buffering=0) as file:
        file.seek(offset)
        while length > 0:
            if hasattr(os, "copy_file_range"):
                done = os.copy_file_range(file.fileno(), target.fileno(), length)
            else:
                done = target.write(file.read(min(length, _COPIED_AT_ONCE)))
            if done == 0:
                raise FileError(f"{source}: ended too soon; make it again")
            length -= done


def _head_entry(value: str) -> bytes:
    return f'"head": "{value}"'.encode()
