"""Text files as programs write them: whatever their encoding and line ends, one form to read."""

from __future__ import annotations

import codecs
import re
from pathlib import Path

from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import read_bytes

_MARKS = ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be"))
_SAMPLE = 512
_SPACES = bytes.maketrans(b"\t\v\f\r", b"    ")
_GOES_ON = re.compile(rb"\\[ ]*\n")


def read_text(path: Path, kind: str) -> bytes:
    """Return a text file as UTF-8 with plain spaces, and lines that end with a line feed.

    A mark in front is left out; 16 bits a letter are known by their mark or by their zeros. Bytes that are no UTF-8 are taken
    as Latin-1.

    Raises
    ------
    FileError
        If it cannot be read, or holds zeros where text has none.
    """
    data = read_bytes(path, kind)
    for mark, encoding in _MARKS:
        if data.startswith(mark):
            data = _transcoded(path, data[len(mark) :], encoding)
            break
    else:
        data = _transcoded(path, data, _encoding_of(data))
    if b"\0" in data:
        line = data[: data.index(b"\0")].count(b"\n") + 1
        raise FileError(f"{path} line {line}: holds zero bytes, so it is no text file; is it another kind of {kind}?")
    if b"\r" in data:
        data = data.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
    return data.translate(_SPACES)


def joined_lines(data: bytes, never: tuple[bytes, ...]) -> bytes:
    """Return text in which lines that end with a backslash go on: it and the line feed become spaces, so that places stay.

    Lines that begin with one of the words `never`, and remarks, do not go on.
    """
    if b"\\" not in data:
        return data
    out, seen, goes_on = bytearray(data), 0, False
    for found in _GOES_ON.finditer(data):
        begin = data.rfind(b"\n", seen, found.start()) + 1 or seen
        piece = data[begin : found.start()]
        if not goes_on or begin != seen:  # a line of its own
            goes_on = not piece.lstrip().startswith((b"#", *never))
        goes_on = goes_on and b" #" not in b" " + piece
        if goes_on:
            out[found.start() : found.end()] = b" " * (found.end() - found.start())
        seen = found.end()
    return bytes(out)


def _encoding_of(data: bytes) -> str:
    head = data[:_SAMPLE]
    pairs = max(1, len(head) // 2)
    if head[1::2].count(0) > pairs * 0.7:
        return "utf-16-le"
    return "utf-16-be" if head[0::2].count(0) > pairs * 0.7 else "utf-8"


def _transcoded(path: Path, data: bytes, encoding: str) -> bytes:
    if encoding == "utf-8":
        if data.isascii():
            return data
        try:
            data.decode()
        except UnicodeDecodeError:
            return data.decode("latin-1").encode()
        return data
    try:
        return data.decode(encoding).encode()
    except UnicodeDecodeError as error:
        raise FileError(
            f"{path}: the file is text of 16 bits a letter, and damaged ({error.reason} at byte {error.start})"
        ) from None
