"""Wavefront OBJ files: triangles and polygons, several objects and materials.

A file is read as a whole, by what its lines say and not line by line: all lines of a kind give one table of numbers.
"""

from __future__ import annotations

import re
import warnings
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.meshes.material import MeshMaterial
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.part import Part
from jagged_quilt.meshfiles.mtl import read_mtl
from jagged_quilt.meshfiles.names import distinct_names
from jagged_quilt.meshfiles.polygons import cut_polygons
from jagged_quilt.meshfiles.text import joined_lines, read_text

_V, _VT, _VN, _F, _OTHER = 1, 2, 3, 4, 5
_WORDS = {_V: "vertex", _VT: "vt", _VN: "vn"}
_NAMED = (b"mtllib", b"usemtl", b"o ", b"g ")
_SPACE, _LINE_FEED, _HASH, _SLASH = 32, 10, 35, 47
_ODD_ENDS = re.compile(r"[fF]$")
_AT_ONCE = 1 << 20  # bytes of faces
_LIBRARIES = 100  # of materials
_DECIMAL_COMMA = re.compile(r"^[-+]?\d*,\d+(?:[eE][-+]?\d+)?$")

Bytes = NDArray[np.uint8]
Whole = NDArray[np.int64]


@dataclass
class _Lines:
    """A file by its lines and words.

    Attributes
    ----------
    text : (B,) uint8
        Without remarks, and without the words that begin lines of numbers.
    ends : (L,)
        Where each line ends; one that goes on with a backslash is one line.
    breaks : (M,)
        Where the file's own lines end.
    kind : (L,)
    words : (L,)
        How many stand in each after the first.
    others : lines that hold no numbers, each with its first word and the rest
    odd : how many numbers were read though they are written in an odd form, by that form
    """

    path: Path
    within: PathGuard
    text: Bytes
    ends: Whole
    breaks: Whole
    kind: NDArray[np.uint8]
    words: Whole
    others: list[tuple[int, str, str]]
    odd: Counter[str] = field(default_factory=Counter)

    def of(self, kind: int) -> Whole:
        """The lines of a kind."""
        return np.flatnonzero(self.kind == kind)

    def block(self, kind: int) -> bytes:
        """All lines of a kind."""
        lengths = np.diff(self.ends, prepend=-1)
        return self.text[np.repeat(self.kind == kind, lengths)].tobytes()

    def line(self, number: int) -> str:
        """A line as the file has it but for its first word."""
        begin = int(self.ends[number - 1]) + 1 if number else 0
        return self.text[begin : int(self.ends[number])].tobytes().decode("utf-8", "replace").strip()

    def refuse(self, number: int, why: str) -> FileError:
        """Return an error that names a line as the file counts it, and says what it holds."""
        word = {_V: "v", _VT: "vt", _VN: "vn", _F: "f"}[int(self.kind[number])]
        begin = int(self.ends[number - 1]) + 1 if number else 0
        counted = int(np.searchsorted(self.breaks, begin)) + 1
        return FileError(f"{self.path} line {counted}: {why}; got {f'{word} {self.line(number)}'[:80]!r}")


def read_obj(path: Path, within: PathGuard, **options: Any) -> Mesh:
    """Read a mesh; `options` are those of `Mesh.of`. A part for each object (or group) and material.

    Raises `FileError` with the line of what cannot be.
    """
    lines = _lines_of(path, within)
    values, at = _numbers(lines, _V, 3)
    corners, counts, face_lines = _faces(lines)
    if not len(counts):
        raise FileError(f"{path}: the mesh has no faces")
    return _mesh(lines, (values, at), (corners, counts, face_lines), options)


def _lines_of(path: Path, within: PathGuard) -> _Lines:
    data = read_text(path, "mesh") + b"\n"
    joined = joined_lines(data, _NAMED)
    text = np.frombuffer(joined, np.uint8).copy()
    ends = np.flatnonzero(text == _LINE_FEED)
    breaks = ends if joined is data else np.flatnonzero(np.frombuffer(data, np.uint8) == _LINE_FEED)
    _blank_remarks(text, ends)
    is_space = text <= _SPACE
    starts = np.flatnonzero(_begins(is_space))
    before = np.searchsorted(starts, ends)  # words up to the end of each line
    words = np.diff(before, prepend=0)
    lines = np.flatnonzero(words)
    first = starts[(before - words)[lines]]
    second, ends_at_once = text[first + 1], is_space[first + 1]
    ends_then = is_space[np.minimum(first + 2, len(text) - 1)]
    kind = np.full(len(first), _OTHER, np.uint8)
    kind[(text[first] == ord("v")) & ends_at_once] = _V
    kind[(text[first] == ord("f")) & ends_at_once] = _F
    for letter, which in (("t", _VT), ("n", _VN)):
        kind[(text[first] == ord("v")) & (second == ord(letter)) & ends_then] = which
    others = []
    for index in np.flatnonzero(kind == _OTHER):
        number = int(lines[index])
        word, _, rest = text[int(first[index]) : int(ends[number])].tobytes().decode("utf-8", "replace").partition(" ")
        others.append((number, word, rest.strip()))
    text[first[kind != _OTHER]] = _SPACE
    text[first[(kind == _VT) | (kind == _VN)] + 1] = _SPACE
    whole = np.zeros(len(ends), np.uint8)
    whole[lines] = kind
    return _Lines(path, within, text, ends, breaks, whole, np.maximum(words - 1, 0), others)


def _blank_remarks(text: Bytes, ends: Whole) -> None:
    """Put spaces in place of remarks; a # within a word belongs to it."""
    marks = np.flatnonzero(text == _HASH)
    begin = marks[(marks == 0) | (text[marks - 1] <= _SPACE)]
    for start, end in zip(begin.tolist(), ends[np.searchsorted(ends, begin)].tolist(), strict=True):
        text[start:end] = _SPACE


def _begins(is_gap: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which bytes begin a word."""
    begins = ~is_gap
    begins[1:] &= is_gap[:-1]
    return begins


def _numbers(lines: _Lines, kind: int, least: int) -> tuple[NDArray[np.float64], Whole]:
    """All numbers of the lines of a kind, one after the other, and where those of each line begin."""
    which = lines.of(kind)
    counts = lines.words[which]
    short = np.flatnonzero(counts < least)
    if len(short):
        raise lines.refuse(int(which[short[0]]), f"{least} numbers are needed")
    block = lines.block(kind)
    values = _read_fast(block, np.float64)
    if values is None or len(values) != counts.sum():
        values = np.array([_odd_number(lines, word, index, which, counts) for index, word in enumerate(block.split())])
    return values, np.cumsum(counts) - counts


def _read_fast(block: bytes, kind: type[np.float64] | type[np.int64]) -> NDArray[Any] | None:
    """The numbers of a text, or None if something there is no plain number."""
    with warnings.catch_warnings():
        warnings.simplefilter("error", DeprecationWarning)
        try:
            return np.fromstring(block, kind, sep=" ")
        except (DeprecationWarning, ValueError):
            return None


def _odd_number(lines: _Lines, word: bytes, index: int, which: Whole, counts: Whole) -> float:
    """A number in whatever form it is written, or an error that names its line."""
    said = word.decode("utf-8", "replace")
    plain = said
    if _DECIMAL_COMMA.match(said):
        lines.odd["with a decimal comma"] += 1
        plain = said.replace(",", ".")
    elif "#" in said:  # as one runtime library writes what is not finite: 1.#QNAN, -1.#INF, -1.#IND
        plain = "inf" if "INF" in said.upper() else "nan"
    elif re.match(r"^[-+]?[\d.]+[dD][-+]?\d+$", said):
        lines.odd["with d in place of e"] += 1
        plain = re.sub("[dD]", "e", said)
    elif _ODD_ENDS.search(said):
        lines.odd["that end with f"] += 1
        plain = said[:-1]
    try:
        if "_" in plain:
            raise ValueError
        return float(plain)
    except ValueError:
        number = int(which[np.searchsorted(np.cumsum(counts), index, side="right")])
        raise lines.refuse(number, f"{said!r} is no number") from None


def _faces(lines: _Lines) -> tuple[Whole, Whole, Whole]:
    """The corners of all faces (C, 3): place, uv and normal by number or -1; how many each face has; and their lines."""
    which = lines.of(_F)
    counts, block = lines.words[which], lines.block(_F)
    corners, named, begin = [np.empty((0, 3), np.int64)], [np.empty((0, 3), bool)], 0
    while begin < len(block):
        end = block.find(b"\n", min(begin + _AT_ONCE, len(block) - 1)) + 1
        found = _corners(block[begin:end])
        if found is None:
            raise _bad_corner(lines, which)
        corners.append(found[0])
        named.append(found[1])
        begin = end
    whole = np.concatenate(corners)
    _resolve(lines, whole, np.repeat(which, counts), np.concatenate(named))
    return whole, counts, which


def _corners(block: bytes) -> tuple[Whole, NDArray[np.bool_]] | None:
    """The three numbers of each corner of some lines, and which of them are there; None if something is no corner."""
    text = np.frombuffer(block, np.uint8)
    is_slash = text == _SLASH
    is_start, is_number = _begins(text <= _SPACE), _begins((text <= _SPACE) | is_slash)
    numbers = _read_fast(block.replace(b"/", b" "), np.int64)
    begins, starts = np.flatnonzero(is_number), np.flatnonzero(is_start)
    if numbers is None or len(numbers) != len(begins):
        return None
    corner = np.cumsum(is_start, dtype=np.int32)[begins] - 1
    slashes = np.cumsum(is_slash, dtype=np.int32)
    index = slashes[begins] - (slashes[starts] - is_slash[starts])[corner]
    if int(index.max(initial=0)) > 2:
        return None
    out, named = np.zeros((len(starts), 3), np.int64), np.zeros((len(starts), 3), bool)
    out[corner, index], named[corner, index] = numbers, True
    return out, named


def _resolve(lines: _Lines, corners: Whole, line_of: Whole, named: NDArray[np.bool_]) -> None:
    """Turn numbers as files count them (from 1, or back from the line) to rows, in place; -1 where nothing is named."""
    for index, kind in enumerate((_V, _VT, _VN)):
        is_own = lines.kind == kind
        total, numbers = int(is_own.sum()), corners[:, index]
        if index == 0 and not named[:, 0].all():
            raise lines.refuse(int(line_of[np.argmin(named[:, 0])]), "a corner needs a vertex")
        back = numbers < 0
        row = numbers - 1
        if back.any():
            row = np.where(back, np.cumsum(is_own)[line_of] + numbers, row)
        bad = named[:, index] & ((row < 0) | (row >= total))
        if bad.any():
            at = int(np.argmax(bad))
            raise lines.refuse(
                int(line_of[at]),
                f"a corner names {_WORDS[kind]} {int(numbers[at])}; the file has {total} ({_WORDS[kind]} 1 is the first)",
            )
        corners[:, index] = np.where(named[:, index], row, -1)


def _bad_corner(lines: _Lines, which: Whole) -> FileError:
    for number in which:
        for word in lines.line(int(number)).split():
            if not re.fullmatch(r"[-+]?\d+(/[-+]?\d*){0,2}", word):
                return lines.refuse(int(number), f"{word!r} is no corner; write 1, 1/1, 1//1 or 1/1/1")
    return FileError(f"{lines.path}: its faces cannot be read")


def _mesh(
    lines: _Lines, vertices: tuple[NDArray[np.float64], Whole], faces: tuple[Whole, Whole, Whole], options: Facts
) -> Mesh:
    path, notes = lines.path, list[str]()
    (values, at), (corners, counts, face_lines) = vertices, faces
    positions = values[at[:, None] + np.arange(3)]
    tall = counts >= 3
    if not tall.all():
        notes.append(f"{(~tall).sum():,} of {len(counts):,} faces have fewer than three corners; left out")
        corners, counts, face_lines = corners[np.repeat(tall, counts)], counts[tall], face_lines[tall]
        if not len(counts):
            raise FileError(f"{path}: the mesh has no faces: none of them has three corners")
    has = {}
    for name, index in (("uv", 1), ("normal", 2)):
        of_face = np.logical_and.reduceat(corners[:, index] >= 0, np.cumsum(counts) - counts)
        has[name] = bool(of_face.any())
        corners[np.repeat(~of_face, counts), index] = -1
        if name == "uv" and has[name] and not of_face.all():
            notes.append(f"{(~of_face).sum():,} of {len(of_face):,} faces have no uv")
    cut, face = cut_polygons(positions[corners[:, 0]], counts)
    parts, order = _parts(lines, face_lines[face])
    unique, which = _unique(corners)
    uv = normal = colour = None
    if has["uv"]:
        numbers, start = _numbers(lines, _VT, 1)
        second = np.where(lines.words[lines.of(_VT)] > 1, numbers[np.minimum(start + 1, len(numbers) - 1)], 0.0)
        pairs = np.column_stack([numbers[start], 1 - second])
        uv = np.where(unique[:, 1:2] < 0, 0.0, pairs[unique[:, 1]])
    if has["normal"]:
        numbers, start = _numbers(lines, _VN, 3)
        normal = np.where(unique[:, 2:] < 0, np.nan, numbers[start[:, None] + np.arange(3)][unique[:, 2]])
    coloured = lines.words[lines.of(_V)] >= 6
    if coloured.any():
        rows = np.where(coloured[:, None], values[np.minimum(at[:, None] + np.arange(3, 6), len(values) - 1)], 1.0)
        colour = rows[unique[:, 0]]
    materials, library_notes = _materials(lines, parts)
    notes += [f"{count:,} numbers {form} read" for form, count in lines.odd.items()] + library_notes
    mesh = Mesh.of(
        positions[unique[:, 0]],
        which[cut][order],
        uv=uv,
        normal=normal,
        colour=colour,
        parts=parts,
        materials=materials,
        name=str(path),
        **options,
    )
    return mesh.noted(notes, str(path))


def _unique(corners: Whole) -> tuple[Whole, Whole]:
    """The different rows of corners, and which of those each is."""
    key = corners[:, 0]
    for column in (1, 2):
        span = int(corners[:, column].max(initial=0)) + 2
        if int(key.max(initial=0)) > (1 << 62) // span:
            key = np.unique(key, return_inverse=True)[1]
        key = key * span + corners[:, column] + 1
    _, first, which = np.unique(key, return_index=True, return_inverse=True)
    return corners[first], which


def _parts(lines: _Lines, triangle_lines: Whole) -> tuple[list[Part], Whole]:
    """The parts, and the triangles in their order: by object (or group) and material, as they first come."""
    states, starts, now = [("", "")], [-1], ("", "")
    for number, word, rest in lines.others:
        changed = (rest, now[1]) if word in ("o", "g") else (now[0], rest) if word == "usemtl" else now
        if changed != now:
            states.append(changed)
            starts.append(number)
            now = changed
    state = np.searchsorted(np.array(starts), triangle_lines, side="right") - 1
    met = state[np.sort(np.unique(state, return_index=True)[1])]
    keys = list(dict.fromkeys(states[int(each)] for each in met))
    key_of = {key: index for index, key in enumerate(keys)}
    part = np.array([key_of.get(each, -1) for each in states])[state]
    order = np.argsort(part, kind="stable")
    ends = np.searchsorted(part[order], np.arange(len(keys) + 1))
    objects = Counter(name for name, _ in keys)
    names = [
        (name or lines.path.stem) + (f" / {material or 'no material'}" if objects[name] > 1 else "") for name, material in keys
    ]
    parts = [
        Part(name=name, material=material, first=int(first), last=int(last))
        for name, (_, material), first, last in zip(distinct_names(names), keys, ends, ends[1:], strict=False)
    ]
    return parts, order


def _materials(lines: _Lines, parts: list[Part]) -> tuple[dict[str, MeshMaterial], list[str]]:
    """The materials of the libraries that a file names, and what is odd about them or was passed over, in words."""
    passed_over = Counter(word for _, word, _ in lines.others if word not in ("o", "g", "usemtl", "mtllib", "s", "vp"))
    notes = [f'{count:,} "{word[:20]}" statements passed over' for word, count in passed_over.items()]
    materials: dict[str, MeshMaterial] = {}
    libraries = list(dict.fromkeys(rest for _, word, rest in lines.others if word == "mtllib"))
    if len(libraries) > _LIBRARIES:
        raise FileError(f"{lines.path}: names {len(libraries):,} libraries of materials; at most {_LIBRARIES} are read")
    for library in libraries:
        found, missing = read_mtl(library, lines.within)
        materials |= found
        notes += missing
    wanted = dict.fromkeys(part.material for part in parts if part.material)
    return materials, notes + [f'material "{name}" is defined in no library' for name in wanted if name not in materials]
