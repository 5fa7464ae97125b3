"""Swatches out of folders, and out of numbers and colours."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from jagged_quilt.foundation.checks import known_name, number_in
from jagged_quilt.foundation.colour import colour_of
from jagged_quilt.foundation.errors import FileError, QuiltError, RangeError
from jagged_quilt.foundation.missing import missing
from jagged_quilt.maps.image_limits import LIMITS, ImageLimits
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.swatch_source import Fit, MapRule, Seams, SwatchSource, constant_map


def plain_value(role: MapRole, given: float | Sequence[float] | str) -> tuple[float, ...]:
    """Return what a map means everywhere, from a number, one for each channel, or "#rrggbb" (sRGB) of a colour.

    Raises `RangeError` if that is no value of such a map.
    """
    if isinstance(given, str):
        if not role.is_colour:
            raise RangeError(f"{role.key}: {given!r} is a colour; this map holds {role.value.channels} number(s)")
        return colour_of(given)
    values = tuple(float(each) for each in given) if isinstance(given, Sequence) else (float(given),) * role.value.channels
    low = -1.0 if role.value.direction else 0.0
    for value in values:
        number_in(role.key, value, low, 1)
    return values


def plain_swatch(
    name: str, *, tile: float = 1.0, relief: float = SwatchSource.relief, **values: float | Sequence[float] | str
) -> Swatch:
    """Return a swatch whose maps mean the same everywhere, so that masks can paint colours.

    Parameters
    ----------
    values
        By role: numbers, one for each channel or for all, or "#rrggbb" of a colour; a diffuse at least.

    Raises
    ------
    QuiltError
        If there is no such role, a value is none, or the diffuse is missing.

    Examples
    --------
    >>> jq.plain_swatch("wet clay", tile=2.0, diffuse=(0.2, 0.12, 0.08), roughness=0.3)
    Swatch(name='wet clay', tile=2, relief=0.05, maps={diffuse, roughness})
    """
    known = {role.key: role for role in MapRole}
    roles = {known[known_name("role", key, known)]: value for key, value in values.items()}
    maps = {role: constant_map(role, plain_value(role, value)) for role, value in roles.items()}
    return Swatch(name=name, tile=tile, relief=relief, maps=maps)


def read_swatch(
    folder: Path | str,
    *,
    tile: float,
    relief: float = SwatchSource.relief,
    name: str | None = None,
    rules: Sequence[MapRule] = (),
    seams: Seams | str = SwatchSource.seams,
    fit: Fit | str = SwatchSource.fit,
    limits: ImageLimits = LIMITS,
) -> Swatch:
    """Read the maps of one material from a folder; the file names tell the roles.

    Parameters
    ----------
    tile, relief : float
        Metres that one repeat covers; metres from black to white of the height map.
    name : str, optional
        The folder's name, with spaces for underscores, where it is not given.
    rules, seams, fit, limits
        See `SwatchSource`.

    Examples
    --------
    >>> jq.read_swatch("swatches/clay", tile=3.0, relief=0.08)
    Swatch(name='clay', tile=3, relief=0.08, maps={diffuse, height, normal, occlusion},
           folder='swatches/clay', derived={normal, occlusion})
    """
    folder = Path(folder)
    name = name or folder.name.replace("_", " ")
    source = SwatchSource(
        name=name, folder=folder, tile=tile, relief=relief, rules=rules, seams=Seams.of(seams), fit=Fit.of(fit), limits=limits
    )
    try:
        return source.read()
    except QuiltError as error:
        raise type(error)(_RULE.sub(_in_python, str(error))) from error


_RULE = re.compile(r'\[\[swatch\.map\]\] role = ("[^"]*"), file = ("[^"]*")')


def _in_python(found: re.Match[str]) -> str:
    """What a quilt file would say of a map, as an argument of `read_swatch`."""
    return f"rules=[jq.MapRule(role={found[1]}, file={found[2]})]"


def read_swatches(folder: Path | str, *, tile: float = 2.0, relief: float = SwatchSource.relief) -> list[Swatch]:
    """Read every sub-folder as a swatch, in order of name, all of one tile size and relief.

    Examples
    --------
    >>> [each.name for each in jq.read_swatches("swatches", tile=3.0)]
    ['clay', 'salt']
    """
    folder = Path(folder)
    if not folder.is_dir():
        raise FileError(missing(Path(folder), "folder of swatches"))
    return [read_swatch(p, tile=tile, relief=relief) for p in sorted(folder.iterdir()) if p.is_dir()]
