"""The numbers of a quilt file that a page turns: where each stands, what it means, and how far it goes."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from dataclasses import asdict, dataclass
from functools import cache

from jagged_quilt.foundation.json_types import Facts, Unchecked
from jagged_quilt.quiltfile.json_schema import quilt_schema
from jagged_quilt.quiltfile.quilt import Quilt

_ALWAYS = {"softness", "rotation", "scale", "sharpness", "tuning", "strength", "fade", "exposure", "haze", "view_angle"}
_SHARES = {"softness", "strength", "threshold", "range", "amount", "hollows", "level", "hides", "specular", "occlusion"}
_DEGREES = {"rotation", "hue", "view_angle", "bearing", "above", "above_fade", "spiral", "turn"}
_FROM_TO = {
    "sharpness": (1.0, 16.0),
    "exposure": (-4.0, 4.0),
    "roughness": (-1.0, 1.0),
    "normal": (0.0, 4.0),
    "relief": (0.0, 4.0),
    "brightness": (0.0, 2.0),
    "saturation": (0.0, 2.0),
    "rotation": (-180.0, 180.0),
    "hue": (-180.0, 180.0),
    "view_angle": (10.0, 90.0),
}
_LEFT_OUT = {"camera", "target", "seed", "cut_out", "anisotropy", "eye", "centre", "metres", "tiles", "octaves"}


@dataclass(frozen=True, slots=True)
class Knob:
    """One number.

    Attributes
    ----------
    key : str
        Its key path, as a change of the quilt file takes it.
    group : str
        The layer, film or light that it belongs to.
    title : str
        Within that.
    value : float
    low, high : float
        Where a slider ends; a typed number may go beyond.
    unit, help : str
        What it is counted in, and what the schema says of it.
    whole : bool
        Whether only whole numbers are taken.
    said : bool
        Whether the file says it, or it is a default.
    """

    key: str
    group: str
    title: str
    value: float
    low: float
    high: float
    unit: str
    help: str
    whole: bool
    said: bool


def knobs_of(quilt: Quilt) -> list[Facts]:
    """Return the knobs of a quilt, group by group: layers from the top down, films, lights, the sky and the view."""
    every, said = quilt.table.model_dump(mode="json"), quilt.table.model_dump(mode="json", exclude_unset=True)
    groups: list[tuple[str, str, Unchecked, Unchecked]] = []
    for number in reversed(range(len(quilt.layers))):
        layer, own = quilt.layers[number], said["layer"][number]
        holds = {
            name for name in every["layer"][number] if name in own or hasattr(layer, name) or hasattr(layer.projection, name)
        }
        groups.append((f"layer {layer.name}", f"layer[{number}]", _only(every["layer"][number], holds), own))
    for number, film in enumerate(every.get("film") or ()):
        groups.append((f"film {film['name'] or number}", f"film[{number}]", film, said["film"][number]))
    for number, light in enumerate(every.get("light") or ()):
        groups.append((f"{light['kind']} {number}", f"light[{number}]", light, said["light"][number]))
    for name in ("sky", "view"):
        groups.append((name, name, every.get(name) or {}, said.get(name) or {}))
    return [asdict(knob) for group, key, own, own_said in groups for knob in _numbers(group, key, "", own, own_said, quilt)]


def _only(table: Unchecked, names: Collection[str]) -> Unchecked:
    return {name: value for name, value in table.items() if name in names}


def _numbers(group: str, key: str, title: str, own: Unchecked, said: Unchecked, quilt: Quilt) -> Iterator[Knob]:
    """The numbers of a table, those that it says and those that people turn always."""
    if isinstance(own, dict):
        for name, value in own.items():
            is_said = isinstance(said, dict) and name in said
            if name in _LEFT_OUT or not (is_said or name in _ALWAYS or key.endswith(".tuning")):
                continue
            inner = said.get(name) if is_said else None
            yield from _numbers(group, f"{key}.{name}", f"{title} {name}".strip(), value, inner, quilt)
    elif isinstance(own, list):
        for number, value in enumerate(own):
            kind = value.get("kind", "") if isinstance(value, dict) else ""
            if kind or isinstance(value, dict):
                words = f"{title} {number + 1} {kind}".strip()
                inner = said[number] if isinstance(said, list) and number < len(said) else None
                yield from _numbers(group, f"{key}[{number}]", words, value, inner, quilt)
            elif isinstance(value, (int, float)) and not isinstance(value, bool):
                end = "rgb"[number] if len(own) == 3 else ("from", "to")[number] if title.endswith("band") else str(number + 1)
                yield _knob(group, f"{key}[{number}]", f"{title} {end}", value, said is not None, quilt)
    elif isinstance(own, (int, float)) and not isinstance(own, bool):
        yield _knob(group, key, title, own, said is not None, quilt)


def _knob(group: str, key: str, title: str, value: float, is_said: bool, quilt: Quilt) -> Knob:
    name = re.findall(r"\.(\w+)", key)[-1]
    low, high, unit = _range_of(name, title, key, quilt)
    if value >= high and name not in _SHARES:  # what has no end of its own goes on as far again
        high = max(high, 2 * float(value))
    low = min(low, 2 * float(value)) if value < low else low
    high = max(high, float(value))
    return Knob(key, group, title, float(value), low, high, unit, _help_of(name), isinstance(value, int), is_said)


def _range_of(name: str, title: str, key: str, quilt: Quilt) -> tuple[float, float, str]:
    """Where a slider ends, by what the number means."""
    if name in _FROM_TO:
        return *_FROM_TO[name], "°" if name in _DEGREES else ""
    if name == "sun":
        return (0.0, 360.0, "°") if key.endswith("[0]") else (0.0, 90.0, "°")
    if " slope " in f" {title} " or name in _DEGREES:
        return 0.0, 360.0 if name == "bearing" else 90.0, "°"
    if name in ("band", "fade") and " height " in f" {title} ":
        low, high = (float(each) for each in quilt.terrain.height_range) if quilt.table.surface else (0.0, 100.0)
        return (low, high, "m") if name == "band" else (0.0, (high - low) / 4, "m")
    if name in _SHARES or name == "tint" or name == "colour":
        return 0.0, 1.0, ""
    return 0.0, 1.0, ""


@cache
def _helps() -> dict[str, str]:
    """What the schema says of keys, by their names."""
    out: dict[str, str] = {}
    for table in quilt_schema()["$defs"].values():
        for name, said in table.get("properties", {}).items():
            if said.get("description"):
                out.setdefault(name, said["description"])
    return out


def _help_of(name: str) -> str:
    return _helps().get(name, "")
