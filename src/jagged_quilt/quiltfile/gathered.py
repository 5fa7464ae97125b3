"""A quilt file for what was gathered: every decision is a line, with a short comment why."""

from __future__ import annotations

import json
import os
import re
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import tomlkit

from jagged_quilt.audit.gather import GatheredSet, Gathering, Taken
from jagged_quilt.foundation.errors import QuiltError, RangeError
from jagged_quilt.foundation.files import read_bytes, write_bytes, written_whole
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.quiltfile.proposals import GroundShape, Material, Proposal, propose_layers
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.quiltfile.reading import read_quilt
from jagged_quilt.quiltfile.unknown_keys import SCHEMA_FILE, shipped_schema

SCHEMA = SCHEMA_FILE
SCHEMA_LINE = f"#:schema {SCHEMA}"
_COMMENT_AT = 34  # the column where comments begin


@dataclass(frozen=True, slots=True, kw_only=True)
class GroundFile:
    """A heightmap to lay the sets on: its file, metres east and south, metres of black and of white (none of a float file),
    and which of these are guesses."""

    file: Path
    size: tuple[float, float]
    heights: tuple[float, float] | None
    guessed: tuple[str, ...] = ()


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


def write_gathered(
    path: Path,
    found: Gathering,
    *,
    ground: GroundFile | None = None,
    layers: bool = False,
    head: Sequence[str] = (),
) -> tuple[GatheredSet, ...]:
    """Write a quilt file of the sets found, or add them to the one that is there; return them as they are named there.

    What stands in the file stays. It is read back before it takes its name, so that what is written works.

    Parameters
    ----------
    head : sequence of str, optional
        Blocks that a new file begins with; they say the ground too.
    layers : bool
        Whether to propose a layer for each set; with a ground it is always done. The file, or `ground`, must say on what.

    Raises
    ------
    RangeError
        If layers are asked for and there is no ground.
    """
    path = Path(path)
    before = read_bytes(path, "quilt file").decode("utf-8") if path.exists() else ""
    quilt = quilt_at(path)
    names = {source.name for source in quilt.sources} if quilt else set()
    sets = [_renamed(each, names) for each in found.sets]
    title = f"{SCHEMA_LINE}\ntitle = {quoted(path.name.removesuffix('.toml').removesuffix('.quilt'))}"
    begun = before.rstrip("\n") or "\n\n".join(head) or title
    blocks = [allowing(begun, path.parent, [each.folder for each in sets] + ([ground.file.parent] if ground else []))]
    if ground is not None and not head:
        blocks.append(ground_block(ground, path.parent))
    blocks += [_swatch(each, path.parent) for each in sets]
    with written_whole(path) as temporary:
        write = lambda: temporary.write_text("\n\n".join(blocks) + "\n", encoding="utf-8")
        write()
        made = read_quilt(temporary)
        if ground is not None or layers:
            if made.table.surface is None:
                raise RangeError(
                    f"{path}: layers lie on a ground, and there is none; name one with --terrain, --size and --heights"
                )
            blocks += proposed(propose_layers([Material.of_set(each) for each in sets], GroundShape.of(made.terrain)))
            write()
            read_quilt(temporary)
    if not before:
        write_schema(path.parent)
    return tuple(sets)


def quilt_at(path: Path) -> Quilt | None:
    """Return the quilt of a file that is there and has a swatch or a mesh; None of one that is still to get its first."""
    if not path.exists():
        return None
    tables = re.findall(r"^\s*\[\[\s*(swatch|mesh)\s*\]\]", read_bytes(path, "quilt file").decode("utf-8"), re.MULTILINE)
    return read_quilt(path) if tables else None


def allowing(text: str, home: Path, folders: Sequence[Path]) -> str:
    """Return the text of a quilt file that may read some folders; all else stays as it is written."""
    return _allowing(text, _outside(home, folders, text))


def write_schema(folder: Path) -> Path:
    """Write the JSON Schema that the first line of a generated quilt file names."""
    path = folder / SCHEMA
    write_bytes(path, json.dumps(shipped_schema(), indent=1, ensure_ascii=False).encode() + b"\n")
    return path


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
        allow = commented(f"allow = {json.dumps(folders, ensure_ascii=False)}", "outside of this file's folder")
        schema, rest = (
            (SCHEMA_LINE + "\n", text.removeprefix(SCHEMA_LINE + "\n")) if text.startswith(SCHEMA_LINE) else ("", text)
        )
        return f"{schema}{allow}\n{rest}"
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
        f"name = {quoted(one.name)}",
        f"folder = {quoted(_relative(one.folder, home))}",
        commented('names = "off"', "only the files that are named below"),
        commented(f"tile = {_tile(one)}", "metres; no picture tells: measure it"),
    ]
    for each in one.maps:
        lines += _map(each, one.folder)
    lines += [f"# {_relative(each.file, one.folder)} is left out: {each.why}" for each in one.left]
    return "\n".join(lines)


def _tile(one: GatheredSet) -> str:
    along, down = one.tile
    return f"{along:.1f}" if along == down else f"[{along:g}, {down:g}]"


def _map(one: Taken, folder: Path) -> list[str]:
    roles = [quoted(role.key if role else "none") for role in one.roles]
    said = f"role = {roles[0]}" if len(roles) == 1 else f"roles = [{', '.join(roles)}]"
    return ["[[swatch.map]]", said, commented(f"file = {quoted(_relative(one.file, folder))}", one.why)]


def ground_block(ground: GroundFile, home: Path) -> str:
    """Return the table of a ground."""
    east, south = ground.size
    guess = dict.fromkeys(ground.guessed, "; a guess: write what is right")
    lines = [
        "[surface]",
        f"terrain = {quoted(_relative(ground.file, home))}",
        commented(f"size = [{float(east)}, {float(south)}]", f"metres, east and south{guess.get('size', '')}"),
    ]
    if ground.heights is not None:
        low, high = ground.heights
        said = f"heights = [{float(low)}, {float(high)}]"
        lines.append(commented(said, f"metres of black and of white{guess.get('heights', '')}"))
    return "\n".join(lines)


def proposed(layers: tuple[Sequence[Proposal], Sequence[tuple[str, str]]]) -> list[str]:
    """Return proposed layers, and why others have none, as blocks of TOML."""
    return [_layer(each) for each in layers[0]] + [f"# no layer for {quoted(name)}: {why}" for name, why in layers[1]]


def _layer(one: Proposal) -> str:
    lines = ["[[layer]]", commented(f"swatch = {quoted(one.swatch)}", one.why)]
    if one.is_triplanar:
        lines.append(commented('projection = "triplanar"', "from three sides: steep ground would be stretched"))
    for keys, why in one.masks:
        kind, *rest = [f"{key} = {value}" for key, value in keys.items()]
        lines += ["[[layer.mask]]", commented(kind, why), *rest]
    return "\n".join(lines)


def commented(said: str, why: str) -> str:
    """Return a line with a comment at its end."""
    return f"{said + ' ':<{_COMMENT_AT}}# {why}"


def quoted(text: str) -> str:
    """A TOML string: what JSON writes is one, but for what lies beyond plain text."""
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def _relative(path: Path, home: Path) -> str:
    return Path(os.path.relpath(path, home)).as_posix()
