"""Wavefront MTL files: materials and the maps that they name."""

from __future__ import annotations

import math
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import TypeAlias

import numpy as np

from jagged_quilt.foundation.choices import Wrap
from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.maps.image_files import read_image
from jagged_quilt.maps.names import role_of_file
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch_source import MapRule
from jagged_quilt.maps.texture_map import grey_of
from jagged_quilt.meshes.material import MeshMaterial
from jagged_quilt.meshfiles.limits import check_count
from jagged_quilt.meshfiles.names import find_file
from jagged_quilt.meshfiles.text import read_text

_R = MapRole
_MAPS = {
    "map_kd": _R.DIFFUSE,
    "map_ks": _R.SPECULAR,
    "map_ke": _R.EMISSION,
    "map_pr": _R.ROUGHNESS,
    "map_pm": _R.METALLIC,
    "map_ns": _R.SHININESS,
    "norm": None,
    "map_kn": None,
    "disp": _R.HEIGHT,
    "map_disp": _R.HEIGHT,
    "map_d": _R.OPACITY,
    "map_tr": _R.OPACITY,
    "map_ao": _R.OCCLUSION,
    "map_bump": None,
    "bump": None,
    "map_pc": _R.COAT,
    "map_pcr": _R.COAT_ROUGHNESS,
}
"""The statements that name maps; None where the picture tells what it is."""
_TAKES = {
    "-blendu": 1,
    "-blendv": 1,
    "-cc": 1,
    "-clamp": 1,
    "-texres": 1,
    "-imfchan": 1,
    "-type": 1,
    "-bm": 1,
    "-boost": 1,
    "-mm": 2,
}
_UP_TO_THREE = ("-o", "-s", "-t")
_CHANNELS = {"r": "r", "g": "g", "b": "b", "m": "a"}
_FACTORS = {"map_kd": "kd", "map_ks": "ks", "map_ke": "ke", "map_d": "d"}
"""What multiplies a map, by the standard."""
_Placed: TypeAlias = tuple[tuple[float, float], tuple[float, float], Wrap]
_UNIT = 0.15  # a normal is about so near to unit length
_MOST = 0.8  # of the texels of a map of normals are so


@dataclass
class _Statements:
    """What a library says of one material: the last statement of each word, and which were there before it."""

    said: dict[str, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)

    def say(self, word: str, rest: str) -> None:
        if word in self.said and word in _MAPS and self.said[word] != rest:
            self.notes.append(f"says {word} twice, {self.said[word]} and {rest}; the last is taken")
        self.said[word] = rest


def read_mtl(library: str, within: PathGuard) -> tuple[dict[str, MeshMaterial], list[str]]:
    """Return the materials of a library that an OBJ file names, and what is odd or missing, in words."""
    try:
        paths = _libraries(library, within)
    except FileError as error:
        return {}, [f"names a library of materials, {error}"]
    materials: dict[str, MeshMaterial] = {}
    notes: list[str] = []
    for each in paths:
        statements: dict[str, _Statements] = {}
        name = None
        for line in read_text(each, "library of materials").decode("utf-8", "replace").split("\n"):
            word, _, rest = _without_remark(line).strip().partition(" ")
            if word.lower() == "newmtl":
                name = rest.strip()
                if name in statements:
                    notes.append(f'material "{name}" is defined twice; the last is taken')
                statements[name] = _Statements()
            elif word and name is not None:
                statements[name].say(word.lower(), rest.strip())
        check_count(each, "materials", len(statements), each.stat().st_size)
        highlights, own = 0, PathGuard(each.parent, (within.home, *within.allowed))
        for name, one in statements.items():
            materials[name] = _material(name, own, one)
            notes += [f'material "{name}" {note}' for note in one.notes]
            highlights += _is_highlight(one.said)
        if highlights:
            notes.append(
                f"{highlights} of {len(statements)} materials say Ks and name no map of it: the colour of a highlight, and no "
                f"reflectance; {_R.SPECULAR.value.neutral[0]} stands in"
            )
    return materials, notes


def _libraries(library: str, within: PathGuard) -> list[Path]:
    """The files of a statement: one, whose name may hold spaces, or several. Raise `FileError` if none can be read."""
    try:
        return [find_file(library, within)]
    except FileError:
        paths = []
        for each in dict.fromkeys(library.split()):
            with suppress(FileError):
                paths.append(find_file(each, within))
        if not paths:
            raise
        return paths


def _without_remark(line: str) -> str:
    """A line up to a # that begins a word."""
    return line if "#" not in line else (" " + line).split(" #", 1)[0]


def _material(name: str, within: PathGuard, statements: _Statements) -> MeshMaterial:
    """A material of what is said, with its maps found; what is odd goes to its notes."""
    rules: dict[MapRole, MapRule] = {}
    placed: dict[str, _Placed] = {}
    for word in (each for each in _MAPS if each in statements.said):
        file, options = _file_of(statements.said[word])
        try:
            found = find_file(file, within)
        except FileError as error:
            statements.notes.append(f"names {error}")
            continue
        role = _MAPS[word] or _role_of_bump(found, word, statements.notes)
        channel = _CHANNELS.get(options.get("-imfchan", [""])[0].lower(), "")
        _note_unread(word, role, options, statements.notes)
        rule = MapRule(
            role=role,
            file=_relative(found, within.home),
            channel=channel * 3 if channel and role.value.channels == 3 else channel,
            invert=word == "map_tr",
            times=_times(word, role, options, statements),
            whole_file=bool(channel),
        )
        if role in rules and rules[role].file != rule.file:
            statements.notes.append(f"names two maps of {role.key}, {rules[role].file} and {rule.file}; the first is taken")
        rules.setdefault(role, rule)
        placed[word] = _placed(options)
    for role, value in _constants(statements.said).items():
        if role not in rules and not (role is _R.ROUGHNESS and _R.SHININESS in rules):
            rules[role] = MapRule(role=role, value=value)
    scale, offset, wrap = placed.get("map_kd", next(iter(placed.values()), _placed({})))
    if len(set(placed.values())) > 1:
        statements.notes.append("lays its maps differently; all are laid as its colour map is")
    return MeshMaterial(
        name=name, folder=within.home, rules=tuple(rules.values()), scale=scale, offset=offset, wrap=(wrap, wrap)
    )


def _placed(options: Mapping[str, list[str]]) -> _Placed:
    """Scale and offset of a map, with v growing downwards (the standard's grows upwards), and what lies beyond it."""
    pair = lambda words, default: [*map(float, words), *[default] * 2][:2] if words else [default] * 2
    (su, sv), (ou, ov) = pair(options.get("-s"), 1.0), pair(options.get("-o"), 0.0)
    clamps = _word(options, "-clamp") == "on"
    return (su, sv), (ou, 1 - sv - ov) if clamps else (ou % 1, (1 - sv - ov) % 1), Wrap.CLAMP if clamps else Wrap.REPEAT


def _word(options: Mapping[str, list[str]], option: str) -> str:
    return (options.get(option) or [""])[0].lower()


def _number(options: Mapping[str, list[str]], option: str, which: int, default: float) -> float:
    numbers = _plain_numbers(" ".join(options.get(option, [])))
    return numbers[which] if len(numbers) > which else default


def _times(word: str, role: MapRole, options: Mapping[str, list[str]], statements: _Statements) -> float | tuple[float, ...]:
    """What a map is multiplied by: its own gain, the strength of a bump, and the number or colour that is said beside it."""
    gain = _number(options, "-mm", 1, 1.0) * (_number(options, "-bm", 0, 1.0) if role is _R.NORMAL else 1.0)
    if gain < 0:
        statements.notes.append(f"multiplies {word} by {gain:g}; a factor below 0 is ignored")
        gain = 1.0
    beside = [min(each, 1.0) for each in _plain_numbers(statements.said.get(_FACTORS.get(word, ""), ""))]
    if not beside or set(beside) == {1.0}:
        return gain
    said = f"{_FACTORS[word].capitalize()} {' '.join(f'{n:g}' for n in beside)} beside {word}"
    if max(beside) <= 0:
        statements.notes.append(f"says {said}, which would be black; the map is taken as it is")
        return gain
    statements.notes.append(f"says {said}; the map is multiplied by it, as the standard says")
    factors = tuple(gain * each for each in beside[: role.value.channels])
    return factors if len(factors) == role.value.channels > 1 else factors[0]


def _note_unread(word: str, role: MapRole, options: Mapping[str, list[str]], notes: list[str]) -> None:
    """Note the options of a map that change how it looks and are not supported."""
    base, strength = _number(options, "-mm", 0, 0.0), _number(options, "-bm", 0, 1.0)
    unread = [f"-mm {base:g} (a base that is added)"] if base else []
    unread += ["-cc on (colour correction)"] if _word(options, "-cc") == "on" else []
    unread += ["-imfchan z (depth)"] if _word(options, "-imfchan") == "z" else []
    unread += ["-t (turbulence)"] if any(_plain_numbers(" ".join(options.get("-t", [])))) else []
    if role is _R.HEIGHT and strength != 1:
        unread.append(f"-bm {strength:g} (a bump strength without a unit; set the relief in metres)")
    notes += [f"sets {each} for {word}, which is not supported and is ignored" for each in unread]


def _is_highlight(said: Mapping[str, str]) -> bool:
    return "ks" in said and "map_ks" not in said and any(value > 0 for value in _plain_numbers(said["ks"]))


def _constants(said: Mapping[str, str]) -> dict[MapRole, tuple[float, ...]]:
    """What a material means where it names no map. A spectral curve or no number leaves the neutral value."""
    out: dict[MapRole, tuple[float, ...]] = {}
    for word, role in (("kd", _R.DIFFUSE), ("ke", _R.EMISSION)):
        numbers = [min(max(n, 0.0), 1.0) for n in _plain_numbers(said.get(word, ""))]
        if numbers and (role is _R.DIFFUSE or max(numbers) > 0):
            out[role] = tuple((numbers * 3)[:3])
    single = {word: numbers[0] for word in said if (numbers := _plain_numbers(said[word]))}
    for word, role in (
        ("pr", _R.ROUGHNESS),
        ("pm", _R.METALLIC),
        ("pc", _R.COAT),
        ("pcr", _R.COAT_ROUGHNESS),
        ("d", _R.OPACITY),
    ):
        if word in single:
            out[role] = (min(max(single[word], 0.0), 1.0),)
    if "pr" not in single and "ns" in single:
        exponent = max(single["ns"], 0.0)  # of a Blinn-Phong lobe: alpha² = 2 / (exponent + 2), Walter et al. 2007
        out[_R.ROUGHNESS] = ((2 / (exponent + 2)) ** 0.25,)
    if "d" not in single and "tr" in single:
        out[_R.OPACITY] = (1 - min(max(single["tr"], 0.0), 1.0),)
    none = {_R.OPACITY: 1.0, _R.METALLIC: 0.0, _R.COAT: 0.0}
    return {role: value for role, value in out.items() if value != (none.get(role),)}


def _plain_numbers(text: str) -> list[float]:
    try:
        numbers = [float(each) for each in text.replace(",", ".").split()]
    except ValueError:
        return []
    return numbers if all(math.isfinite(each) for each in numbers) else []


def _file_of(rest: str) -> tuple[str, dict[str, list[str]]]:
    """Split what stands after a map's word into its file, which may have spaces, and options with their values."""
    words, options, at = rest.split(" "), dict[str, list[str]](), 0
    while at < len(words) and (not words[at] or words[at].lower() in (*_TAKES, *_UP_TO_THREE)):
        option, at = words[at].lower(), at + 1
        most = _TAKES.get(option, 3) if option else 0
        values: list[str] = []
        while at < len(words) - 1 and len(values) < most and (option in _TAKES or bool(_plain_numbers(words[at]))):
            values.append(words[at])
            at += 1
        if option:
            options[option] = values
    return " ".join(words[at:]).strip(), options


def _role_of_bump(path: Path, word: str, notes: list[str]) -> MapRole:
    """Return whether a map is of normals or of heights: the picture tells, or its name where that can be either.

    By the standard `bump` is of heights; many files name normals there.
    """
    by_word = _R.NORMAL if word in ("norm", "map_kn") else _R.HEIGHT
    named = role_of_file(path)
    role = _seen(path.resolve(), path.stat().st_mtime_ns) or (named if named in (_R.NORMAL, _R.HEIGHT) else by_word)
    if role is not by_word and by_word is _R.NORMAL:
        notes.append(f"names {path.name} as {word}, and it is grey: taken as heights")
    return role


@lru_cache(maxsize=64)
def _seen(path: Path, _changed: int) -> MapRole | None:
    """What a picture is by its texels: grey ones are heights, unit vectors that point out are normals, others neither."""
    try:
        texels = read_image(path)
    except QuiltError:
        return None
    if texels.shape[2] < 3 or grey_of(texels[..., :3]) is not None:
        return _R.HEIGHT
    step = max(1, int(math.sqrt(texels.shape[0] * texels.shape[1])) // 256)
    some = texels[::step, ::step, :3].astype(np.float64)
    some = 2 * some / np.iinfo(texels.dtype).max - 1 if texels.dtype.kind == "u" else some if some.min() < 0 else 2 * some - 1
    is_unit = np.abs(np.linalg.norm(some, axis=2) - 1) < _UNIT
    return _R.NORMAL if (is_unit & (some[..., 2] > -_UNIT)).mean() > _MOST else None


def _relative(path: Path, folder: Path) -> str:
    return path.relative_to(folder).as_posix() if path.is_relative_to(folder) else str(path)
