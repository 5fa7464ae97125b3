"""What the audit finds, and the bench on which one swatch is examined."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

from jagged_quilt.audit import measures as m
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.maps.image_reader import Image
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.maps.texture_map import TextureMap

Level = Literal["fault", "note"]

SMALL = 16
"""Texels; a map of this size or less may well be constant."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One thing that was found.

    Attributes
    ----------
    level : "fault" or "note"
        Whether something is wrong, or only worth knowing.
    kind : str
        A short name, the same for all findings of its sort.
    swatch, role, file : str
        Where; role and file may be empty.
    what : str
        A sentence.
    measured : str
        How sure: the figure that was measured; empty where there is none.
    mend : str
        What to write in the quilt file after the swatch's own keys; empty where nothing there would help.
    """

    level: Level
    kind: str
    swatch: str
    what: str
    role: str = ""
    file: str = ""
    measured: str = ""
    mend: str = ""


@dataclass
class Bench:
    """What lies on the bench while one swatch is examined."""

    source: SwatchSource
    texels: int
    maps: dict[MapRole, TextureMap] = field(default_factory=dict)
    images: dict[Path, Image] = field(default_factory=dict)
    found: list[Finding] = field(default_factory=list)
    seams: dict[MapRole, m.Seam] = field(default_factory=dict)
    parts: dict[MapRole, TextureMap] = field(default_factory=dict)

    def forget_image(self, file: Path) -> None:
        """Let go of a decoded file that holds no more than the one map that was read of it."""
        image = self.images.get(file)
        alone = sum(each.file == file for each in self.source.sources.values()) == 1
        if image is not None and alone and len(image.channels) in (1, 3) and image.texels.shape[2] == self._channels_of(file):
            del self.images[file]

    def _channels_of(self, file: Path) -> int:
        return next(self.maps[role].texels.shape[2] for role, each in self.source.sources.items() if each.file == file)

    def part(self, role: MapRole) -> TextureMap | None:
        """A map, or of a large one a part from which it can be measured."""
        if role in self.maps and role not in self.parts:
            whole = self.maps[role]
            texels = m.bands(whole.texels)
            self.parts[role] = whole if texels is whole.texels else replace(whole, texels=texels)
        return self.parts.get(role)

    def tell(
        self,
        level: Level,
        kind: str,
        what: str,
        role: MapRole | None = None,
        file: Path | None = None,
        measured: str = "",
        mend: str = "",
    ) -> None:
        if file is None and role is not None and role in self.source.sources:
            file = self.source.sources[role].file
        self.found.append(
            Finding(
                level=level,
                kind=kind,
                swatch=self.source.name,
                what=what,
                role=role.key if role else "",
                file=file.name if file else "",
                measured=measured,
                mend=mend,
            )
        )

    def fault(self, kind: str, what: str, role: MapRole | None = None, **more: Unchecked) -> None:
        """Tell of something that is wrong, as `tell` does."""
        self.tell("fault", kind, what, role, **more)

    def note(self, kind: str, what: str, role: MapRole | None = None, **more: Unchecked) -> None:
        """Tell of something worth knowing, as `tell` does."""
        self.tell("note", kind, what, role, **more)

    def together(self) -> tuple[m.Values, m.Values] | None:
        """Normals and height as values of one size, the smaller one's; None where one is not there, or they are not alike."""
        normals, height = self.part(MapRole.NORMAL), self.part(MapRole.HEIGHT)
        if normals is None or height is None:
            return None
        if self.maps[MapRole.NORMAL].shape == self.maps[MapRole.HEIGHT].shape:
            return normals.values, height.values
        normals, height = self.maps[MapRole.NORMAL], self.maps[MapRole.HEIGHT]
        (rows, columns), (more_rows, more_columns) = sorted((normals.shape, height.shape))
        if rows * more_columns != columns * more_rows:
            return None
        small = [m.picked(each.texels, rows, columns) for each in (normals, height)]
        return replace(normals, texels=small[0]).values, replace(height, texels=small[1]).values

    def has(self, role: MapRole, *kinds: str) -> bool:
        """Whether one of some kinds was found on a role."""
        return any(each.role == role.key and each.kind in kinds for each in self.found)


def map_rule(role: MapRole, **keys: object) -> str:
    """What to write to say some keys of the map of a role."""
    lines = [
        f"{key} = {str(value).lower() if isinstance(value, bool) else chr(34) + str(value) + chr(34)}\n"
        for key, value in keys.items()
    ]
    return f'[[swatch.map]]\nrole = "{role.key}"\n' + "".join(lines)


def leave_out(file: str) -> str:
    """What to write to leave a file out."""
    return f'[[swatch.map]]\nfile = "{file}"\nrole = "none"\n'
