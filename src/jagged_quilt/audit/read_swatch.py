"""Swatches out of folders, with a warning for each thing that is wrong with their maps."""

from __future__ import annotations

import re
import tomllib
import warnings
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from jagged_quilt.audit.audit import audit_swatch
from jagged_quilt.audit.finding import Finding
from jagged_quilt.foundation.errors import FileError, QuiltError, QuiltWarning
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.foundation.missing import missing
from jagged_quilt.maps.image_limits import LIMITS, ImageLimits
from jagged_quilt.maps.names import channels_of
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.swatch_source import Fit, MapRule, Seams, SwatchSource


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

    What `jquilt check` would call a fault (green the wrong way round, a data map that was sRGB-encoded, ...) is a
    `QuiltWarning` with the figure that was measured and the rule that mends it; the maps come as they are. Looking takes some
    0.3 s a swatch; `SwatchSource.read` reads without it.

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
    given = SwatchSource(
        name=name or _name_of(folder),
        folder=Path(folder),
        tile=tile,
        relief=relief,
        rules=rules,
        seams=Seams.of(seams),
        fit=Fit.of(fit),
        limits=limits,
    )
    return _read(given)


def _name_of(folder: Path | str) -> str:
    return Path(folder).name.replace("_", " ")


def _read(source: SwatchSource) -> Swatch:
    """Read a swatch and warn, in the name of who called the caller of this."""
    try:
        swatch = source.read()
    except QuiltError as error:
        raise type(error)(_RULE.sub(lambda found: _as_argument({"role": found[1], "file": found[2]}), str(error))) from error
    for fault in audit_swatch(source).faults:
        warnings.warn(_words_of(fault), QuiltWarning, stacklevel=3)
    return swatch


_RULE = re.compile(r'\[\[swatch\.map\]\] role = "([^"]*)", file = "([^"]*)"')


def _words_of(fault: Finding) -> str:
    """Say a fault in one line, with what mends it as an argument of `read_swatch`."""
    file = "" if fault.file in fault.what else fault.file
    where = ": ".join(part for part in (f'swatch "{fault.swatch}"', file, fault.role) if part)
    measured = f" ({fault.measured})" if fault.measured else ""
    said = tomllib.loads(fault.mend)
    rules = said.pop("swatch", {}).get("map", [])
    arguments = [*([_as_argument(*rules)] if rules else []), *(f"{key}={_python(key, value)}" for key, value in said.items())]
    mend = f"; to mend it: {', '.join(arguments)}" if arguments else ""
    return f"{where}: {fault.what}{measured}{mend}"


def _as_argument(*rules: Mapping[str, Unchecked]) -> str:
    """What a quilt file would say of some maps, as an argument of `read_swatch`."""
    each_map = (each for rule in rules for each in (_unpacked(rule) if "roles" in rule else [rule]))
    said = (", ".join(f"{key}={_python(key, value)}" for key, value in each.items()) for each in each_map)
    return f"rules=[{', '.join(f'jq.MapRule({each})' for each in said)}]"


def _unpacked(rule: Mapping[str, Unchecked]) -> Iterator[Mapping[str, object]]:
    """What is said of a file of several maps, said of each of them."""
    roles = tuple(None if role == "none" else MapRole.of(role) for role in rule["roles"])
    for role, channel in channels_of(roles).items():
        yield {"role": role.key, "file": rule["file"], "channel": channel, "whole_file": True}


def _python(key: str, value: object) -> str:
    """A value of the quilt file as Python writes it; role = "none" leaves a file out."""
    if (key, value) == ("role", "none"):
        return "None"
    return f'"{value}"' if isinstance(value, str) else repr(value)


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
    swatches = []
    for each in sorted(folder.iterdir()):
        if each.is_dir():
            swatches.append(_read(SwatchSource(name=_name_of(each), folder=each, tile=tile, relief=relief)))
    return swatches
