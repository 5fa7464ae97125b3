"""A quilt file for what was gathered: every decision is a line, with a short comment why."""

from __future__ import annotations

import json
import os
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import tomlkit

from jagged_quilt.audit.gather import GatheredSet, Gathering, Taken
from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.foundation.files import read_bytes, written_whole
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.quiltfile.reading import read_quilt

_COMMENT_AT = 34  # the column where comments begin


@dataclass(frozen=True, slots=True, kw_only=True)
class GroundFile:
    """A heightmap to lay the sets on: its file, metres east and south, metres of the lowest and the highest sample."""

    file: Path
    size: tuple[float, float]
    heights: tuple[float, float]


def files_known(quilt: Quilt) -> tuple[list[Path], list[str]]:
    """Return the files that the swatches of a quilt file have or leave out, and the swatches whose files are gone."""
    known: list[Path] = []
    gone: list[str] = []
    for source in quilt.sources:
        named = [source.folder / rule.file for rule in source.rules if rule.file]
        known += named
        try:
            known += [each.file for each in source.sources.values()] + list(source.files)
        except QuiltError:
            if not source.folder.is_dir() or not all(path.is_file() for path in named):
                gone.append(source.name)
    return known, gone


def write_gathered(path: Path, found: Gathering, *, ground: GroundFile | None = None) -> tuple[GatheredSet, ...]:
    """Write a quilt file of the sets found, or add them to the one that is there; return them as they are named there.

    What stands in the file stays. It is read back before it takes its name, so that what is written works.
    """
    path = Path(path)
    before = read_bytes(path, "quilt file").decode("utf-8") if path.exists() else ""
    names = {source.name for source in read_quilt(path).sources} if before else set()
    sets = [_renamed(each, names) for each in found.sets]
    title = f"title = {_quoted(path.name.removesuffix('.toml').removesuffix('.quilt'))}"
    outside = _outside(path.parent, [each.folder for each in sets] + ([ground.file.parent] if ground else []), before)
    blocks = [_allowing(before.rstrip("\n") or title, outside)]
    if ground is not None:
        blocks.append(_ground(ground, path.parent))
    blocks += [_swatch(each, path.parent) for each in sets]
    if ground is not None:
        blocks += [_layer(index, each) for index, each in enumerate(sets)]
    with written_whole(path) as temporary:
        temporary.write_text("\n\n".join(blocks) + "\n", encoding="utf-8")
        read_quilt(temporary)
    return tuple(sets)


def _outside(home: Path, folders: Sequence[Path], text: str) -> list[str]:
    """Folders that the quilt file must allow, besides those that its text does: as few as hold all of some folders."""
    allowed = tomllib.loads(text).get("allow", [])
    within, needed = PathGuard(home, tuple(home / each for each in allowed)), list[Path]()
    for folder in sorted({each.resolve() for each in folders}):
        if not within.holds(folder) and not any(folder.is_relative_to(each) for each in needed):
            needed.append(folder)
    return [*allowed, *(_relative(each, home.resolve()) for each in needed)] if needed else []


def _allowing(text: str, folders: list[str]) -> str:
    """The text of a quilt file with the folders that it allows; all else stays as it is written."""
    if not folders:
        return text
    document = tomlkit.parse(text)
    if "allow" not in document:
        return _line(f"allow = {json.dumps(folders, ensure_ascii=False)}", "outside of this file's folder") + "\n" + text
    document["allow"] = folders
    return tomlkit.dumps(document).rstrip("\n")


def _renamed(one: GatheredSet, names: set[str]) -> GatheredSet:
    """Give a set a name that the file does not have yet."""
    name, number = one.name, 1
    while name in names:
        number += 1
        name = f"{one.name} {number}"
    names.add(name)
    return replace(one, name=name)


def _swatch(one: GatheredSet, home: Path) -> str:
    lines = [
        "[[swatch]]",
        f"name = {_quoted(one.name)}",
        f"folder = {_quoted(_relative(one.folder, home))}",
        _line('names = "off"', "only the files that are named below"),
        _line(f"tile = {_tile(one)}", "metres; no picture tells: measure it"),
    ]
    for each in one.maps:
        lines += _map(each, one.folder)
    lines += [f"# {_relative(each.file, one.folder)} is left out: {each.why}" for each in one.left]
    return "\n".join(lines)


def _tile(one: GatheredSet) -> str:
    along, down = one.tile
    return f"{along:.1f}" if along == down else f"[{along:g}, {down:g}]"


def _map(one: Taken, folder: Path) -> list[str]:
    roles = [_quoted(role.key if role else "none") for role in one.roles]
    said = f"role = {roles[0]}" if len(roles) == 1 else f"roles = [{', '.join(roles)}]"
    return ["[[swatch.map]]", said, _line(f"file = {_quoted(_relative(one.file, folder))}", one.why)]


def _ground(ground: GroundFile, home: Path) -> str:
    return "\n".join(
        [
            "[surface]",
            f"terrain = {_quoted(_relative(ground.file, home))}",
            _line(f"size = [{float(ground.size[0])}, {float(ground.size[1])}]", "metres, east and south"),
            _line(f"heights = [{float(ground.heights[0])}, {float(ground.heights[1])}]", "metres of black and of white"),
        ]
    )


def _layer(index: int, one: GatheredSet) -> str:
    lines = ["[[layer]]", f"swatch = {_quoted(one.name)}"]
    if index:
        lines += ["[[layer.mask]]", _line('kind = "noise"', "a patch of it, to begin with"), "size = 20.0", f"seed = {index}"]
        lines += ["threshold = 0.6"]
    return "\n".join(lines)


def _line(said: str, why: str) -> str:
    return f"{said + ' ':<{_COMMENT_AT}}# {why}"


def _quoted(text: str) -> str:
    """A TOML string: what JSON writes is one, but for what lies beyond plain text."""
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def _relative(path: Path, home: Path) -> str:
    return Path(os.path.relpath(path, home)).as_posix()
