"""Texture pages: arrays opened for blending, their texels in one piece of memory that all readers share."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.layout import Layout
from jagged_quilt.arrays.mips import level_count
from jagged_quilt.foundation.checks import frozen, known_name
from jagged_quilt.foundation.colour import linear_from_srgb
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.loose import Stored
from jagged_quilt.foundation.shelf import Memory, Shelf
from jagged_quilt.maps.roles import MapRole

_MOST_TEXELS = (1 << 31) - 1


@dataclass(frozen=True, slots=True, eq=False, kw_only=True, repr=False)
class TexelPages:
    """The texels of some swatches as a blend reads them.

    Attributes
    ----------
    names : tuple of str
        The swatches; each is a slice.
    layouts : tuple of Layout
        What stands in each column, all of them RGBA8.
    side : int
        Texels along a slice's side at full size.
    tiles, reliefs : tuple of float
        Metres that one repeat of each swatch covers, and from black to white of its height.
    aspects : tuple of float
        How much longer a repeat of each is along v than along u; none where all are square.
    rare : tuple of frozenset of MapRole
        The `RARE_ROLES` that each swatch has.
    texels : (M, A) uint32
        One column per layout (red in the low byte), level after level from the full size down, slice after slice within a
        level, row after row. Each row ends with its first texel once more, so that a texel and its neighbour to the right
        are one piece of memory. Read-only.
    """

    names: tuple[str, ...]
    layouts: tuple[Layout, ...]
    side: int
    tiles: tuple[float, ...]
    reliefs: tuple[float, ...]
    rare: tuple[frozenset[MapRole], ...] = ()
    aspects: tuple[float, ...] = ()
    texels: NDArray[np.uint32]

    @classmethod
    def empty(
        cls,
        names: Sequence[str],
        layouts: Sequence[Layout],
        side: int,
        tiles: Sequence[float],
        reliefs: Sequence[float],
        folder: Path | str | None = None,
    ) -> TexelPages:
        """Return pages with room for the texels, to be `put`, and then `closed`; in a file of a folder where one is given."""
        count = int(page_starts(side, len(names))[-1])
        if count > _MOST_TEXELS:
            raise RangeError(
                f"{len(names)} slices of {side} x {side} texels are more than one blend can address; pack at {side // 2}"
            )
        return cls(
            names=tuple(names),
            layouts=tuple(layouts),
            side=side,
            tiles=tuple(tiles),
            reliefs=tuple(reliefs),
            texels=(Memory() if folder is None else Shelf(Path(folder))).empty((count, len(layouts)), np.uint32),
        )

    def __repr__(self) -> str:
        arrays = ", ".join(layout.name for layout in self.layouts)
        return f"<TexelPages {len(self.names)} slices of {self.side} x {self.side}: {arrays}, {self.texels.nbytes >> 20} MiB>"

    def put(self, column: int, slice_: int, level: int, texels: Stored) -> None:
        """Fill one level of one slice from (H, W, 4) uint8."""
        rows, columns = texels.shape[:2]
        start = int(page_starts(self.side, len(self.names))[level]) + slice_ * rows * (columns + 1)
        target = self.texels[start : start + rows * (columns + 1), column].reshape(rows, columns + 1)
        target[:, :-1] = np.ascontiguousarray(texels).view(np.uint32)[..., 0]
        target[:, -1] = target[:, 0]

    def closed(self) -> TexelPages:
        """Return the same pages, read-only."""
        return replace(self, texels=frozen(self.texels, np.uint32))

    def digest(self, name: str) -> str:
        """Return a hash of all that is read of a swatch."""
        place, starts = self.place_of(name), page_starts(self.side, len(self.names))
        parts = [repr((self.tiles[place], self.reliefs[place], self.side, [layout.name for layout in self.layouts]))]
        for level, start in enumerate(starts[:-1]):
            own = (self.side >> level) * ((self.side >> level) + 1)
            parts.append(fingerprint(self.texels[start + place * own : start + (place + 1) * own].tobytes()))
        return fingerprint(*parts)

    def means(self, name: str) -> NDArray[np.float64]:
        """Return the mean of every channel of a swatch at full size, (A, 4): 0..1, colour as linear light."""
        own = self.side * (self.side + 1)
        first = self.place_of(name) * own
        return means_of(self.texels[first : first + own], self.side, self.layouts)

    def aspect_of(self, place: int) -> float:
        """Return how much longer a repeat of a slice is along v than along u."""
        return self.aspects[place] if self.aspects else 1.0

    def place_of(self, name: str) -> int:
        """Return the slice of a swatch; raise `NameNotFoundError` if it was not opened."""
        return self.names.index(known_name("swatch in the arrays", name, self.names))


def means_of(texels: NDArray[np.uint32], side: int, layouts: Sequence[Layout]) -> NDArray[np.float64]:
    """Return the mean of every channel of a slice at full size, (side (side + 1), A), each row ending with its first texel."""
    out = np.empty((len(layouts), 4))
    for column, layout in enumerate(layouts):
        rows = np.ascontiguousarray(texels[:, column]).reshape(side, side + 1)[:, :-1]
        for channel in range(4):
            counts = np.bincount((rows >> np.uint32(8 * channel) & np.uint32(255)).ravel(), minlength=256)
            levels = np.arange(256) / 255
            values = linear_from_srgb(levels) if layout.srgb and channel < 3 else levels
            out[column, channel] = counts @ values / rows.size
    return out


def page_starts(side: int, slices: int) -> NDArray[np.int64]:
    """Where each level begins in the texels of pages, and the end."""
    sides = [side >> level for level in range(level_count(side))]
    sizes = [slices * each * (each + 1) for each in sides]
    return np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
