"""Texture arrays: every swatch a slice, every layout an array, all of one size."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.ktx2 import Ktx2, read_ktx2, write_ktx2
from jagged_quilt.arrays.layout import Layout, layout_named
from jagged_quilt.arrays.mips import level_count
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.colour import linear_from_srgb
from jagged_quilt.foundation.errors import FileError, NameNotFoundError, ShapeError
from jagged_quilt.foundation.files import read_json, write_json, written_together
from jagged_quilt.maps.roles import MapRole

_NOTE = "jaggedQuiltSlices"


@dataclass(frozen=True, eq=False, kw_only=True)
class TextureArrays:
    """The packed maps of many swatches.

    Attributes
    ----------
    layouts : tuple of Layout
    names : tuple of str
        The swatch of each slice.
    tiles, reliefs : tuple of float
        Metres, of each slice.
    side : int
        Texels along a slice's side at full size; a power of two.
    texels : (T, A) uint32
        One column per layout: RGBA8 (red in the low byte), level after level from the full size down, slice after slice
        within a level. The arrays' texels of one place lie side by side, as the blend reads them.
    """

    layouts: tuple[Layout, ...]
    names: tuple[str, ...]
    tiles: tuple[float, ...]
    reliefs: tuple[float, ...]
    side: int
    texels: NDArray[np.uint32]

    def __post_init__(self) -> None:
        wanted = (int(self.level_starts[-1]), len(self.layouts))
        if self.texels.shape != wanted or self.texels.dtype != np.uint32:
            raise ShapeError(f"texels must be {wanted} uint32; got {self.texels.dtype} {self.texels.shape}")
        self.texels.flags.writeable = False

    @property
    def level_starts(self) -> NDArray[np.int64]:
        """Where each level begins in a row of `texels`, and the end."""
        sizes = [len(self.names) * (self.side >> level) ** 2 for level in range(level_count(self.side))]
        return np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)

    def slice_of(self, name: str) -> int:
        """Return the slice of a swatch; raise `NameNotFoundError` if it was not packed."""
        return self.names.index(known_name("swatch in the arrays", name, self.names))

    def level(self, layout: str, level: int = 0) -> NDArray[np.uint8]:
        """Return the texels of one level of one array, (S, H, W, 4) uint8, as stored."""
        names = [each.name for each in self.layouts]
        row = names.index(known_name("array", layout, names))
        starts = self.level_starts
        side = self.side >> level
        flat = np.ascontiguousarray(self.texels[starts[level] : starts[level + 1], row])
        return flat.view(np.uint8).reshape(len(self.names), side, side, 4)

    def values(self, name: str, role: MapRole, level: int = 0) -> NDArray[np.float32]:
        """Return what one map of a swatch means after packing, (H, W, C) float32, as `TextureMap.values` does.

        Raises
        ------
        NameNotFoundError
            If no layout carries the role, or the swatch was not packed.
        """
        side = self.side >> level
        out = np.empty((side, side, role.value.channels), np.float32)
        found = set()
        for layout in self.layouts:
            for channel, content in enumerate(layout.channels):
                if content is not None and content[0] is role:
                    stored = self.level(layout.name, level)[self.slice_of(name), :, :, channel].astype(np.float32) / 255
                    encoded = layout.colour and channel < 3
                    out[..., content[1]] = linear_from_srgb(stored) if encoded else stored
                    found.add(content[1])
        if not found:
            raise NameNotFoundError(f"no array carries a {role.key} map; pack with a layout that does")
        if role is MapRole.NORMAL:
            out[..., :2] = out[..., :2] * 2 - 1
            out[..., 2] = np.sqrt(np.maximum(0, 1 - out[..., 0] ** 2 - out[..., 1] ** 2))
            out /= np.linalg.norm(out, axis=2, keepdims=True)
        return out

    def save(self, folder: Path | str, stamp: str = "") -> list[Path]:
        """Write one KTX2 file per layout and a manifest; return the files."""
        folder = Path(folder)
        slices = [
            {"swatch": name, "tile": tile, "relief": relief}
            for name, tile, relief in zip(self.names, self.tiles, self.reliefs, strict=True)
        ]
        manifest = {
            "stamp": stamp,
            "texels": self.side,
            "layouts": [each.name for each in self.layouts],
            "slices": slices,
        }
        with written_together(folder) as stage:
            for layout in self.layouts:
                levels = [self.level(layout.name, level) for level in range(level_count(self.side))]
                write_ktx2(stage / f"{layout.name}.ktx2", Ktx2(levels, layout.colour, {_NOTE: json.dumps(slices)}))
            write_json(stage / "arrays.json", manifest)
        return [*(folder / f"{layout.name}.ktx2" for layout in self.layouts), folder / "arrays.json"]

    @classmethod
    def load(cls, folder: Path | str) -> TextureArrays:
        """Read what `save` wrote, to the byte; raise `FileError` if something is missing or damaged."""
        folder = Path(folder)
        manifest = read_json(folder / "arrays.json", "list of arrays")
        try:
            layouts = tuple(layout_named(name) for name in manifest["layouts"])
            slices: list[dict[str, Any]] = manifest["slices"]
            side = int(manifest["texels"])
            rows = []
            for layout in layouts:
                texture = read_ktx2(folder / f"{layout.name}.ktx2")
                rows.append(np.concatenate([level.reshape(-1).view(np.uint32) for level in texture.levels]))
            return cls(
                layouts=layouts,
                names=tuple(each["swatch"] for each in slices),
                tiles=tuple(float(each["tile"]) for each in slices),
                reliefs=tuple(float(each["relief"]) for each in slices),
                side=side,
                texels=np.stack(rows, axis=1),
            )
        except (KeyError, TypeError, ValueError, NameNotFoundError) as error:
            if isinstance(error, FileError):
                raise
            raise FileError(f"{folder}: these arrays do not fit together ({error}); pack again") from error
