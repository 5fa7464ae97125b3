"""What a set of maps lacks, made from what it has, where that is honest."""

from __future__ import annotations

from collections.abc import Collection, Mapping

import numpy as np

from jagged_quilt.maps import conversions as c
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.texture_map import TextureMap

_R = MapRole
Maps = Mapping[MapRole, TextureMap]


def inputs_of(role: MapRole, present: Collection[MapRole]) -> tuple[MapRole, ...]:
    """Return which of the roles `present` a role is made from: itself, others, or none, when it is neutral."""
    if role in present:
        metal = role is _R.DIFFUSE and _R.METALLIC in present and _R.SPECULAR not in present
        return (role, _R.METALLIC) if metal else (role,)
    if role is _R.SPECULAR and {_R.METALLIC, _R.DIFFUSE} <= set(present):
        return (_R.DIFFUSE, _R.METALLIC)
    if role is _R.METALLIC and {_R.SPECULAR, _R.DIFFUSE} <= set(present):
        return (_R.DIFFUSE, _R.SPECULAR)
    others = {
        _R.ROUGHNESS: (_R.GLOSS, _R.SHININESS),
        _R.GLOSS: (_R.ROUGHNESS, _R.SHININESS),
        _R.NORMAL: (_R.HEIGHT,),
        _R.OCCLUSION: (_R.HEIGHT,),
    }
    return next(((other,) for other in others.get(role, ()) if other in present), ())


def made_from(role: MapRole, inputs: tuple[MapRole, ...]) -> str:
    """A few words on how a role is made from others; empty where it is not."""
    if inputs in ((), (role,)):
        return ""
    if set(inputs) == {_R.DIFFUSE, _R.METALLIC}:
        return "from base colour and metallic"
    if role is _R.METALLIC:
        return "from diffuse and specular"
    if inputs[0] in (_R.GLOSS, _R.ROUGHNESS):
        return f"1 - {inputs[0].key}"
    return f"from {inputs[0].key}" + (", true to scale" if role is _R.NORMAL else "")


def derived_maps(
    maps: Maps, wanted: Collection[MapRole], *, tile: float, relief: float
) -> dict[MapRole, tuple[TextureMap, str]]:
    """Return, of the wanted roles, those that are not simply read: the map and a few words on how it was made.

    Parameters
    ----------
    tile, relief : float
        Metres that one repeat covers, and from black to white of the height map; slopes are true to scale.
    """
    made: dict[MapRole, tuple[TextureMap, str]] = {}
    for role in wanted:
        inputs = inputs_of(role, maps)
        if inputs in ((), (role,)) or any(each not in maps for each in inputs):
            continue
        first, words = maps[inputs[0]], made_from(role, inputs)
        if set(inputs) == {_R.DIFFUSE, _R.METALLIC}:
            base = first.values
            metal = _alike(maps[_R.METALLIC], first)
            pair = c.diffuse_specular_from_metallic(base, metal)
            made[role] = _map(role, pair[0 if role is _R.DIFFUSE else 1], first, words)
        elif role is _R.METALLIC:
            _, metal, lost = c.metallic_from_diffuse_specular(first.values, _alike(maps[_R.SPECULAR], first))
            words += f"; what that loses: {lost.mean():.3f} on average, {lost.max():.3f} at worst"
            made[role] = _map(role, metal, first, words)
        elif inputs[0] is _R.SHININESS:
            rough = c.roughness_from_shininess(first.values)
            made[role] = _map(role, rough if role is _R.ROUGHNESS else 1 - rough, first, words)
        elif inputs[0] in (_R.GLOSS, _R.ROUGHNESS):
            made[role] = _map(role, c.roughness_from_gloss(first.values), first, words)
        else:
            metres, size = first.values * np.float32(relief), (tile, tile)
            if role is _R.NORMAL:
                made[role] = _map(role, c.normal_from_height(metres, tile=size), first, words)
            else:
                made[role] = _map(role, c.occlusion_from_height(metres, tile=size)[..., None], first, words)
    return made


def _map(role: MapRole, values: c.Values, source: TextureMap, words: str) -> tuple[TextureMap, str]:
    return TextureMap.of_values(role, values, source.source), words


def _alike(given: TextureMap, like: TextureMap) -> c.Values:
    """A map's values at the size of another: repeated or picked, as sizes of one set are often multiples."""
    rows = (np.arange(like.shape[0]) * given.shape[0]) // like.shape[0]
    columns = (np.arange(like.shape[1]) * given.shape[1]) // like.shape[1]
    return given.values[rows][:, columns]
