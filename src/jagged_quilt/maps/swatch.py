"""A swatch: the maps of one material, with its size in the world."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType

from jagged_quilt.foundation.checks import positive
from jagged_quilt.foundation.errors import FileError, ShapeError
from jagged_quilt.maps.image_files import SUFFIXES
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.texture_map import TextureMap

_ROLE_OF_WORD = {word: role for role in MapRole for word in role.value.words}
_SIZE_WORD = re.compile(r"\d+k?|\d+x\d+")


@dataclass(frozen=True, eq=False, kw_only=True)
class Swatch:
    """The maps of one material.

    Attributes
    ----------
    name : str
    tile : float
        Metres that one repeat of the maps covers.
    relief : float
        Metres from black to white of the height map.
    maps : mapping of MapRole to TextureMap
        A diffuse map at least; what is missing is neutral.
    folder : Path or None
        Where it was read from.
    unused : tuple of Path
        Image files of the folder that fit no role.
    """

    name: str
    tile: float
    relief: float
    maps: Mapping[MapRole, TextureMap]
    folder: Path | None = None
    unused: tuple[Path, ...] = ()

    def __post_init__(self) -> None:
        positive(f'swatch "{self.name}": tile', self.tile, "m")
        positive(f'swatch "{self.name}": relief', self.relief, "m")
        if MapRole.DIFFUSE not in self.maps:
            where = f"{self.folder}: " if self.folder else ""
            raise ShapeError(
                f'{where}swatch "{self.name}" has no diffuse map; name a file with one of: '
                f"{', '.join(MapRole.DIFFUSE.value.words)}"
            )
        object.__setattr__(self, "maps", MappingProxyType(dict(self.maps)))

    @property
    def missing(self) -> tuple[MapRole, ...]:
        """The roles for which a neutral value stands in."""
        return tuple(role for role in MapRole if role not in self.maps)


def role_of_file(path: Path) -> MapRole | None:
    """Return the role that a file name tells by the trade's words, or None.

    The last word that names a role counts, so that `rough_stone_diffuse_2k.png` is a diffuse map; words are parted by
    anything but letters and digits, by a capital after a small letter, and pairs are tried too (`base_color`).
    """
    stem = path.name[: path.name.lower().index(path.suffix.lower())] if path.suffix else path.name
    words = [w.lower() for w in re.findall(r"[A-Z]?[a-z0-9]+|[A-Z0-9]+", stem)]
    words = [w for w in words if not _SIZE_WORD.fullmatch(w)]
    for last in range(len(words), 0, -1):
        for count in (2, 1):
            role = _ROLE_OF_WORD.get("".join(words[max(0, last - count) : last]))
            if role is not None:
                return role
    return None


def find_maps(folder: Path) -> tuple[dict[MapRole, Path], tuple[Path, ...]]:
    """Return the image file of each role in a folder, and the image files that fit none.

    Raises
    ------
    FileError
        If there is no such folder, or two files fit one role.
    """
    if not folder.is_dir():
        raise FileError(f"{folder}: there is no such swatch folder")
    found: dict[MapRole, Path] = {}
    unused: list[Path] = []
    for path in sorted(p for p in folder.iterdir() if p.suffix.lower() in SUFFIXES and not p.name.startswith(".")):
        role = role_of_file(path)
        if role is None:
            unused.append(path)
        elif role in found:
            raise FileError(f"{folder}: both {found[role].name} and {path.name} look like the {role.key} map; move one away")
        else:
            found[role] = path
    return found, tuple(unused)


def read_swatch(folder: Path | str, *, tile: float, relief: float = 0.05, name: str | None = None) -> Swatch:
    """Read the maps of one material from a folder; the file names tell the roles.

    Parameters
    ----------
    tile, relief : float
        Metres that one repeat covers; metres from black to white of the height map.
    name : str, optional
        The folder's name, with spaces for underscores, where it is not given.
    """
    folder = Path(folder)
    found, unused = find_maps(folder)
    maps = {role: TextureMap.read(path, role) for role, path in found.items()}
    return Swatch(name=name or folder.name.replace("_", " "), tile=tile, relief=relief, maps=maps, folder=folder, unused=unused)


def read_swatches(folder: Path | str, *, tile: float = 2.0, relief: float = 0.05) -> list[Swatch]:
    """Read every sub-folder as a swatch, in order of name, all of one tile size and relief."""
    folder = Path(folder)
    if not folder.is_dir():
        raise FileError(f"{folder}: there is no such folder of swatches")
    return [read_swatch(p, tile=tile, relief=relief) for p in sorted(folder.iterdir()) if p.is_dir()]
