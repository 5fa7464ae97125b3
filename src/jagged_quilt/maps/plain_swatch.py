"""Swatches out of numbers and colours."""

from __future__ import annotations

from collections.abc import Sequence

from jagged_quilt.foundation.checks import known_name, number_in
from jagged_quilt.foundation.colour import colour_of
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.swatch_source import SwatchSource, constant_map


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
