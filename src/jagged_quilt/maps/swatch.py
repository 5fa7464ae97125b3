"""A swatch: the maps of one material, with its size in the world."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from jagged_quilt.foundation.checks import positive
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.maps.derive import derived_maps, inputs_of
from jagged_quilt.maps.roles import BLENDED_ROLES, FINE_ROLES, SURFACE_ROLES, MapRole
from jagged_quilt.maps.texture_map import TextureMap

SIDE = 512  # texels along the side of a slice that a swatch is packed into, where nothing else is said


class RoleMaps(Mapping[MapRole, TextureMap]):
    """Maps by their roles, or by the names of these: `maps["diffuse"]`."""

    __slots__ = ("_maps",)

    def __init__(self, maps: Mapping[MapRole, TextureMap]) -> None:
        self._maps = {MapRole.of(role): each for role, each in maps.items()}

    def __getitem__(self, role: MapRole | str) -> TextureMap:
        return self._maps[MapRole.of(role)]

    def __contains__(self, role: object) -> bool:
        return role in self._maps or (isinstance(role, str) and any(each.key == role for each in self._maps))

    def __iter__(self) -> Iterator[MapRole]:
        return iter(self._maps)

    def __len__(self) -> int:
        return len(self._maps)

    def __repr__(self) -> str:
        return f"{{{', '.join(sorted(each.key for each in self._maps))}}}"


@dataclass(frozen=True, eq=False, kw_only=True)
class Swatch(NotebookValue):
    """The maps of one material.

    Attributes
    ----------
    name : str
    tile : float
        Metres that one repeat of the maps covers, along u.
    aspect : float
        How much longer that is along v: 0.5 where maps of 4 x 2 metres are stretched to a square.
    relief : float
        Metres from black to white of the height map.
    maps : mapping of MapRole to TextureMap
        A diffuse map at least; what is missing is neutral.
    folder : Path or None
        Where it was read from.
    unused : tuple of Path
        Image files of the folder that fit no role.
    derived : mapping of MapRole to str
        Which of the maps were made from others, and how.
    """

    __repr__ = short_repr

    name: str
    tile: float
    relief: float
    maps: Mapping[MapRole, TextureMap]
    folder: Path | None = None
    unused: tuple[Path, ...] = ()
    derived: Mapping[MapRole, str] = field(default_factory=dict)
    aspect: float = 1.0

    def __post_init__(self) -> None:
        positive(f'swatch "{self.name}": aspect', self.aspect)
        positive(f'swatch "{self.name}": tile', self.tile, "m")
        positive(f'swatch "{self.name}": relief', self.relief, "m")
        object.__setattr__(self, "maps", RoleMaps(self.maps))
        if MapRole.DIFFUSE not in self.maps:
            where = f"{self.folder}: " if self.folder else ""
            raise ShapeError(
                f'{where}swatch "{self.name}" has no diffuse map; name a file with one of: '
                f"{', '.join(MapRole.DIFFUSE.value.words)}"
            )

    @property
    def fine_roles(self) -> frozenset[MapRole]:
        """Which of its height and its normals have more than 8 bits; what is made of a map has as many as that."""
        own = {role: each.texels for role, each in self.maps.items() if role in FINE_ROLES and role not in self.derived}
        deep = {role for role, texels in own.items() if texels.dtype != np.uint8 and texels.shape[:2] != (1, 1)}
        return frozenset(deep | {role for role in FINE_ROLES if deep and role in self.derived})

    def __getstate__(self) -> dict[str, object]:
        return {**self.__dict__, "maps": dict(self.maps)}

    def __setstate__(self, state: dict[str, object]) -> None:
        self.__dict__.update(state)
        self.__post_init__()

    @property
    def missing(self) -> tuple[MapRole, ...]:
        """The surface roles for which a neutral value stands in."""
        return tuple(role for role in SURFACE_ROLES if role not in self.maps)

    @property
    def roles(self) -> frozenset[MapRole]:
        """The roles of its maps."""
        return frozenset(self.maps)

    @property
    def size(self) -> float:
        """Metres that one repeat covers, as `SwatchSource.size`."""
        return self.tile

    def stamp(self, roles: Collection[MapRole], digests: object = None) -> str:
        """Return a hash of all that the maps of some roles are made from."""
        parts: list[bytes | str] = [f"{self.tile} {self.relief}"]
        for role in sorted({each for one in roles for each in (one, *inputs_of(one, self.maps))}, key=lambda each: each.key):
            given = self.maps.get(role)
            if given is not None:
                how = (role.key, given.texels.shape, str(given.texels.dtype), str(given.transfer))
                parts += [repr(how), np.ascontiguousarray(given.texels).tobytes()]
        return fingerprint(*parts)

    def with_map(self, role: MapRole | str, texels: TextureMap | Stored) -> Swatch:
        """Return this swatch with one map more, or another in its place.

        Parameters
        ----------
        role : MapRole or its name
        texels : TextureMap, or array (H, W) or (H, W, C)
            Whole numbers are texels as a file stores them; floats are what they mean: linear light, unit normals, or numbers
            0..1.

        Raises
        ------
        QuiltError
            If there is no such role, or the array cannot play it.
        """
        role = MapRole.of(role)
        if not isinstance(texels, TextureMap):
            given = np.asarray(texels)
            shaped = given[..., None] if given.ndim == 2 else given
            is_stored = given.dtype.kind == "u"
            texels = TextureMap(role=role, texels=given) if is_stored else TextureMap.of_values(role, shaped)
        return replace(self, maps={**self.maps, role: texels})

    def read(self, roles: Collection[MapRole] | None = None) -> Swatch:
        """Return this swatch with what can be made for some roles made; for all that is blended where none are named."""
        return self.with_roles(BLENDED_ROLES if roles is None else roles)

    def with_roles(self, wanted: Collection[MapRole]) -> Swatch:
        """Return this swatch with what can be made for the wanted roles made, by `derived_maps`."""
        made = derived_maps(self.maps, wanted, tile=self.tile, relief=self.relief)
        maps = {**self.maps, **{role: each for role, (each, _) in made.items()}}
        return replace(self, maps=maps, derived={**self.derived, **{role: words for role, (_, words) in made.items()}})


def mirrored(swatch: Swatch) -> Swatch:
    """Return a swatch of twice the tile: each map laid out two by two, mirrored, so that every border meets its like."""
    maps = {}
    for role, each in swatch.maps.items():
        flip = (-1.0, 1.0) if role.value.direction else (1.0, 1.0)
        texels = each.values if role.value.direction else np.asarray(each.texels)
        across = np.concatenate([texels, _turned(texels[:, ::-1], flip)], axis=1)
        whole = np.concatenate([across, _turned(across[::-1], flip[::-1])])
        maps[role] = TextureMap.of_values(role, whole, each.source) if role.value.direction else replace(each, texels=whole)
    return replace(swatch, tile=2 * swatch.tile, maps=maps)


def repeated(swatch: Swatch) -> Swatch:
    """Return a swatch whose maps are square: the shorter side of each repeats.

    Raises
    ------
    ShapeError
        If a map's longer side is not a whole multiple of its shorter one.
    """
    maps = {}
    for role, each in swatch.maps.items():
        rows, columns = each.shape
        if max(rows, columns) % min(rows, columns):
            raise ShapeError(f'{each.where}: {columns} x {rows} cannot be repeated to a square; write fit = "stretch"')
        times = (max(1, columns // rows), max(1, rows // columns), 1)
        maps[role] = replace(each, texels=np.tile(each.texels, times)) if times != (1, 1, 1) else each
    return replace(swatch, maps=maps)


def _turned(vectors: Stored, flip: tuple[float, float]) -> Stored:
    return vectors if flip == (1.0, 1.0) else vectors * np.array([*flip, 1], np.float32)
