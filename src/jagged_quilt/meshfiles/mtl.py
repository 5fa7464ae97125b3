"""Wavefront MTL files: materials and the maps that they name."""

from __future__ import annotations

from pathlib import Path, PureWindowsPath

import numpy as np

from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.foundation.files import read_bytes
from jagged_quilt.maps.image_files import read_image
from jagged_quilt.maps.map_source import Green
from jagged_quilt.maps.names import role_of_file
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch_source import MapRule
from jagged_quilt.meshes.material import MeshMaterial

_MAPS = {
    "map_kd": MapRole.DIFFUSE,
    "map_ks": MapRole.SPECULAR,
    "map_pr": MapRole.ROUGHNESS,
    "map_pm": MapRole.METALLIC,
    "map_ns": MapRole.SHININESS,
    "norm": MapRole.NORMAL,
    "map_kn": MapRole.NORMAL,
    "disp": MapRole.HEIGHT,
    "map_disp": MapRole.HEIGHT,
    "map_d": MapRole.OPACITY,
    "map_ao": MapRole.OCCLUSION,
    "map_bump": None,
    "bump": None,
}
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


def read_mtl(folder: Path, library: str) -> tuple[dict[str, MeshMaterial], list[str]]:
    """Return the materials of a library that an OBJ file names, and what was missing, in words."""
    path = find_file(folder, library)
    paths = [path] if path else [found for each in library.split() if (found := find_file(folder, each))]
    if not paths:
        return {}, [f"{library}: this library of materials is not there"]
    materials: dict[str, MeshMaterial] = {}
    notes: list[str] = []
    for each in paths:
        told: dict[str, dict[str, str]] = {}
        name = ""
        for line in read_bytes(each, "library of materials").decode("utf-8", "replace").lstrip("\ufeff").splitlines():
            word, _, rest = line.split("#", 1)[0].strip().replace("\t", " ").partition(" ")
            if word.lower() == "newmtl":
                name = rest.strip()
                told[name] = {}
            elif word and name:
                told[name][word.lower()] = rest.strip()  # what is said again stands in for what was said before
        for name, said in told.items():
            rules, scale, missing = _rules(each.parent, said)
            materials[name] = MeshMaterial(name=name, folder=each.parent, rules=tuple(rules), scale=scale)
            notes += [f'material "{name}" names {file}, which is not there' for file in missing]
    return materials, notes


def find_file(folder: Path, name: str) -> Path | None:
    """Return a file that another file names, however its path is written; None if it is not there.

    Backslashes count as slashes; a path from another machine is looked for by its last name beside the file.
    """
    name = name.strip().strip('"')
    if not name:
        return None
    plain = PureWindowsPath(name)
    for candidate in (folder / name, folder / plain.as_posix(), folder / plain.name):
        if candidate.is_file():
            return candidate
    wanted = plain.name.lower()
    if folder.is_dir():
        return next((p for p in sorted(folder.iterdir()) if p.name.lower() == wanted and p.is_file()), None)
    return None


def _rules(folder: Path, said: dict[str, str]) -> tuple[list[MapRule], tuple[float, float], list[str]]:
    rules: dict[MapRole, MapRule] = {}
    missing, scale = [], (1.0, 1.0)
    for word, rest in said.items():
        if word not in _MAPS:
            continue
        file, options = _file_of(rest)
        found = find_file(folder, file)
        if found is None:
            missing.append(file)
            continue
        role = _MAPS[word] or _role_of_bump(found)
        green: Green | None = "up" if role is MapRole.NORMAL else None
        channel = {"r": "r", "g": "g", "b": "b"}.get(options.get("-imfchan", [""])[0], "")
        rules.setdefault(role, MapRule(role=role, file=_relative(found, folder), green=green, channel=channel))
        if word == "map_kd" and options.get("-s"):
            scale = (float(options["-s"][0]), float((options["-s"] * 2)[1]))
    for role, value in _constants(said).items():
        if role not in rules and not (role is MapRole.ROUGHNESS and MapRole.SHININESS in rules):
            rules[role] = MapRule(role=role, value=value)
    return list(rules.values()), scale, missing


def _constants(said: dict[str, str]) -> dict[MapRole, tuple[float, ...]]:
    """What a material means where it names no map."""
    out: dict[MapRole, tuple[float, ...]] = {}
    try:
        for word, role in (("kd", MapRole.DIFFUSE), ("ks", MapRole.SPECULAR)):
            if word in said:
                numbers = [float(each) for each in said[word].split()]
                out[role] = tuple(min(max(n, 0.0), 1.0) for n in (numbers * 3)[:3])
        if "pr" in said:
            out[MapRole.ROUGHNESS] = (min(max(float(said["pr"]), 0.0), 1.0),)
        elif "ns" in said:
            exponent = max(float(said["ns"]), 0.0)  # of a Blinn-Phong lobe: alpha² = 2 / (exponent + 2), Walter et al. 2007
            out[MapRole.ROUGHNESS] = ((2 / (exponent + 2)) ** 0.25,)
    except (ValueError, QuiltError):  # a spectral curve, or no number: the neutral value stands in
        pass
    return out


def _file_of(rest: str) -> tuple[str, dict[str, list[str]]]:
    """Split what stands after a map's word into its file, which may have spaces, and options with their values."""
    words, options, at = rest.split(" "), dict[str, list[str]](), 0
    while at < len(words) and words[at].lower() in (*_TAKES, *_UP_TO_THREE):
        option, at = words[at].lower(), at + 1
        most = _TAKES.get(option, 3)
        values: list[str] = []
        while at < len(words) - 1 and len(values) < most and (option in _TAKES or _is_number(words[at])):
            values.append(words[at])
            at += 1
        options[option] = values
    return " ".join(words[at:]).strip(), options


def _is_number(word: str) -> bool:
    try:
        float(word)
    except ValueError:
        return False
    return True


def _role_of_bump(path: Path) -> MapRole:
    """A bump map is a height map by the standard, and a normal map in many files: its name tells, or else its colour."""
    role = role_of_file(path)
    if role in (MapRole.NORMAL, MapRole.HEIGHT):
        return role
    try:
        texels = read_image(path)
    except QuiltError:
        return MapRole.HEIGHT
    if texels.shape[2] < 3:
        return MapRole.HEIGHT
    top = float(np.iinfo(texels.dtype).max) if texels.dtype.kind == "u" else 1.0
    red, green, blue = (float(texels[..., c].mean()) / top for c in range(3))
    return MapRole.NORMAL if blue > 0.7 and abs(red - 0.5) < 0.15 and abs(green - 0.5) < 0.15 else MapRole.HEIGHT


def _relative(path: Path, folder: Path) -> str:
    return path.relative_to(folder).as_posix() if path.is_relative_to(folder) else str(path)
