"""What a mesh file says of a material, and the swatch that can be made of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.choices import Wrap
from jagged_quilt.foundation.errors import FileError, RangeError
from jagged_quilt.foundation.files import write_bytes
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch_source import MapRule, Names, SwatchSource


@dataclass(frozen=True, slots=True, kw_only=True)
class MeshMaterial:
    """A material by its name, with the image files that it names.

    Attributes
    ----------
    rules : tuple of MapRule
        The maps, each with its file, channel and what is to be done with it; files are relative to `folder`.
    scale : (float, float)
        How often its textures repeat over one unit of u and of v.
    offset : (float, float)
        By how much of a repeat they are moved along u and v, after scale and rotation.
    rotation : float
        Degrees that uv are turned, counter-clockwise as seen in an image.
    wrap : (Wrap, Wrap)
        What lies beyond the first repeat, along u and along v.
    vertex_colours : bool
        Whether its base colour is multiplied by the colours of the vertices.
    embedded : dict of file name to bytes
        Images that lie within the mesh file.
    """

    name: str
    folder: Path = field(default_factory=Path)
    rules: tuple[MapRule, ...] = ()
    scale: tuple[float, float] = (1.0, 1.0)
    offset: tuple[float, float] = (0.0, 0.0)
    rotation: float = 0.0
    wrap: tuple[Wrap, Wrap] = (Wrap.REPEAT, Wrap.REPEAT)
    vertex_colours: bool = False
    embedded: Mapping[str, bytes] = field(default_factory=dict, repr=False)

    @property
    def roles(self) -> tuple[MapRole, ...]:
        """The roles for which it names a map."""
        return tuple(rule.role for rule in self.rules if rule.role is not None)

    @property
    def moves(self) -> bool:
        """Whether its textures lie otherwise than by uv as they are."""
        return (self.scale, self.offset, self.rotation) != ((1.0, 1.0), (0.0, 0.0), 0.0)

    @property
    def turns(self) -> bool:
        """Whether they are turned or mirrored."""
        return self.rotation % 360 != 0 or min(self.scale) < 0

    def texture_uv(self, uv: NDArray[np.float32]) -> NDArray[np.float32]:
        """Return where its textures are read for uv, (N, 2): scaled, turned and moved."""
        angle = np.radians(self.rotation)
        turn = np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]])
        return np.asarray((uv * self.scale) @ turn.T + self.offset, np.float32)

    def swatch_source(self, *, tile: float = 1.0, relief: float = 0.05, folder: Path | None = None) -> SwatchSource:
        """Return where a swatch of it comes from, as a quilt file's [[swatch]] would.

        Parameters
        ----------
        tile : float
            Metres that one repeat covers.
        relief : float
            Metres from black to white of its height map.
        folder : Path, optional
            Where images that lie within the mesh file are written; needed where there are such.

        Raises
        ------
        RangeError
            If it names no map.
        FileError
            If a file that it names is not there.
        """
        if not self.rules:
            raise RangeError(f'material "{self.name}" names no map; make a swatch from a folder of maps')
        if self.embedded and folder is None:
            raise RangeError(f'material "{self.name}" has images within the mesh file; name a folder to write them to')
        for name, data in self.embedded.items():
            assert folder is not None
            path = Path(folder) / name
            if not path.is_file() or path.read_bytes() != data:
                write_bytes(path, data)
        where = self.folder if folder is None else Path(folder)
        rules = [
            replace(rule, file=str((self.folder / rule.file).resolve()))
            if folder is not None and rule.file and rule.file not in self.embedded
            else rule
            for rule in self.rules
        ]
        for rule in rules:
            if rule.file and not (where / rule.file).is_file():
                raise FileError(f'{where / rule.file}: material "{self.name}" names this map, and it is not there')
        return SwatchSource(name=self.name, folder=where, tile=tile, relief=relief, rules=rules, names=Names.OFF)
