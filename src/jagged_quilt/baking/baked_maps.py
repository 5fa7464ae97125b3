"""Baked maps: the finished maps of a surface, one for each role."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend.settings import NormalSpace
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import read_json, write_json, written_together
from jagged_quilt.foundation.json_types import Facts, Stored
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.image_files import read_image
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.maps.roles import MapRole


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Cover:
    """What became of a layout with gaps.

    Attributes
    ----------
    covered : (H, W) bool
        The texels that a triangle touches.
    overlaps : int
        How many texels have their centre in more than one triangle: the first part, and its first triangle, is baked.
    overlap_parts : tuple of (str, str)
        Pairs of parts that lie on each other.
    without_extent : int
        Triangles without extent in uv, which have no texel.
    padding : int
        Texels that the covered ones were grown by.
    """

    covered: NDArray[np.bool_]
    overlaps: int
    overlap_parts: tuple[tuple[str, str], ...]
    without_extent: int
    padding: int

    def facts(self) -> Facts:
        """Return it as a manifest tells it."""
        return {
            "covered": round(float(self.covered.mean()), 6),
            "overlaps": self.overlaps,
            "overlap_parts": [list(pair) for pair in self.overlap_parts],
            "without_extent": self.without_extent,
            "padding": self.padding,
        }


class BakedMaps(NotebookValue, Mapping[MapRole, Stored]):
    """The maps of a blended surface by role, (H, W) or (H, W, C), row 0 on top, encoded by the convention of each role.

    A role may be named: `maps["normal"]`. Colour is sRGB of 8 bits; normals are unit, green up; height is the blended relief
    of the layers, 16 bits, of which 65535 is `relief` metres.

    Attributes
    ----------
    relief : float
        Metres.
    normals : NormalSpace
        The space of the normals.
    cover : Cover or None
        Of a layout with gaps.
    """

    def __init__(
        self, maps: Mapping[MapRole, Stored], *, relief: float, normals: NormalSpace, cover: Cover | None = None
    ) -> None:
        self._maps = dict(maps)
        self.relief, self.normals, self.cover = relief, normals, cover

    def __getitem__(self, role: MapRole | str) -> Stored:
        if isinstance(role, str):
            keys = {each.key: each for each in self._maps}
            role = keys[known_name("baked map", role, keys)]
        return self._maps[role]

    def __iter__(self) -> Iterator[MapRole]:
        return iter(self._maps)

    def __len__(self) -> int:
        return len(self._maps)

    def __repr__(self) -> str:
        rows, columns = self.texels
        return f"<BakedMaps {columns} x {rows}: {', '.join(role.key for role in self)}; height to {self.relief:g} m>"

    @property
    def texels(self) -> tuple[int, int]:
        """Rows and columns."""
        first = next(iter(self._maps.values()))
        return int(first.shape[0]), int(first.shape[1])

    @property
    def nbytes(self) -> int:
        """Bytes of all maps together."""
        return sum(each.nbytes for each in self._maps.values())

    def save(self, folder: Path | str, *, work: Work = ANYHOW) -> list[Path]:
        """Write one PNG per role and a manifest; return the files."""
        folder = Path(folder)
        names = {role: f"{role.key}.png" for role in self}
        manifest = {
            "texels": list(self.texels),
            "relief_metres": self.relief,
            "normals": str(self.normals),
            "maps": {role.key: name for role, name in names.items()},
            **(self.cover.facts() if self.cover else {}),
        }
        with written_together(folder) as stage:
            work.through(
                list(names),
                lambda role: write_image(stage / names[role], self[role]),
                step="writing maps",
            )
            write_json(stage / "bake.json", manifest)
        return [*(folder / name for name in names.values()), folder / "bake.json"]


def open_baked(folder: Path | str) -> BakedMaps:
    """Return maps that `BakedMaps.save` wrote; the cover of a layout with gaps is not read back.

    Raises
    ------
    FileError
        If the folder holds none, or they are damaged.

    Examples
    --------
    >>> files = jq.bake(ground.canvas(16), layers, arrays).save("maps")
    >>> jq.open_baked("maps")
    <BakedMaps 16 x 16: diffuse, normal, roughness, specular, height, occlusion; height to 0.05 m>
    """
    folder = Path(folder)
    manifest = read_json(folder / "bake.json", "manifest of a bake")
    try:
        named = {MapRole[key.upper()]: str(name) for key, name in manifest["maps"].items()}
        relief, normals = float(manifest["relief_metres"]), NormalSpace.of(manifest["normals"], "space of normals")
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise FileError(f"{folder / 'bake.json'}: this is no manifest of a bake ({error!r}); bake anew") from error
    maps = {role: read_image(folder / name) for role, name in named.items()}
    shaped = {role: each if role.value.channels > 1 else each.reshape(each.shape[:2]) for role, each in maps.items()}
    return BakedMaps(shaped, relief=relief, normals=normals)
