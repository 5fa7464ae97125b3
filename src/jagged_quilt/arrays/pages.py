"""Texture pages: arrays opened for blending, their texels in one piece of memory that all readers share."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.layout import Layout
from jagged_quilt.arrays.mips import level_count
from jagged_quilt.foundation.checks import frozen, known_name
from jagged_quilt.foundation.colour import linear_from_srgb
from jagged_quilt.foundation.disk_store import DiskStore, Memory
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.maps.roles import MapRole

_MOST_TEXELS = (1 << 31) - 1


@dataclass(frozen=True, slots=True, kw_only=True)
class SwatchFacts:
    """What a blend knows of one swatch beside its texels. All of it goes into the digest of its pages.

    Attributes
    ----------
    name : str
    tile, relief : float
        Metres that one repeat covers along u, and from black to white of its height.
    aspect : float
        How much longer a repeat is along v than along u.
    optional : frozenset of MapRole
        The `OPTIONAL_ROLES` that it has.
    """

    name: str = ""
    tile: float = 1.0
    relief: float = 1.0
    aspect: float = 1.0
    optional: frozenset[MapRole] = frozenset()


@dataclass(frozen=True, slots=True, eq=False, kw_only=True, repr=False)
class TexelPages:
    """The texels of some swatches as a blend reads them.

    Attributes
    ----------
    facts : tuple of SwatchFacts
        The swatches; each is a slice.
    layouts : tuple of Layout
        What stands in each column, all of them RGBA8.
    side : int
        Texels along a slice's side at full size.
    texels : (M, A) uint32
        One column per layout (red in the low byte), level after level from the full size down, slice after slice within a
        level, row after row. Each row ends with its first texel once more, so that a texel and its neighbour to the right
        are one piece of memory. Read-only.
    """

    facts: tuple[SwatchFacts, ...]
    layouts: tuple[Layout, ...]
    side: int
    texels: NDArray[np.uint32]

    @classmethod
    def empty(
        cls,
        facts: Sequence[SwatchFacts],
        layouts: Sequence[Layout],
        side: int,
        folder: Path | str | None = None,
    ) -> TexelPages:
        """Return pages with room for the texels, to be `put`, and then `closed`; in a file of a folder where one is given."""
        count = int(page_starts(side, len(facts))[-1])
        if count > _MOST_TEXELS:
            raise RangeError(
                f"{len(facts)} slices of {side} x {side} texels are more than one blend can address; pack at {side // 2}"
            )
        return cls(
            facts=tuple(facts),
            layouts=tuple(layouts),
            side=side,
            texels=(Memory() if folder is None else DiskStore(Path(folder))).empty((count, len(layouts)), np.uint32),
        )

    def __repr__(self) -> str:
        arrays = ", ".join(layout.name for layout in self.layouts)
        return f"<TexelPages {len(self.names)} slices of {self.side} x {self.side}: {arrays}, {self.texels.nbytes >> 20} MiB>"

    @property
    def names(self) -> tuple[str, ...]:
        """The swatches, in the order of their slices."""
        return tuple(each.name for each in self.facts)

    def put(self, column: int, slice_: int, level: int, texels: Stored) -> None:
        """Fill one level of one slice from (H, W, 4) uint8."""
        rows, columns = texels.shape[:2]
        start = int(page_starts(self.side, len(self.facts))[level]) + slice_ * rows * (columns + 1)
        target = self.texels[start : start + rows * (columns + 1), column].reshape(rows, columns + 1)
        target[:, :-1] = np.ascontiguousarray(texels).view(np.uint32)[..., 0]
        target[:, -1] = target[:, 0]

    def closed(self) -> TexelPages:
        """Return the same pages, read-only."""
        return replace(self, texels=frozen(self.texels, np.uint32))

    def digest(self, name: str) -> str:
        """Return a hash of all that is read of a swatch."""
        index, starts = self.index_of(name), page_starts(self.side, len(self.facts))
        own = {**asdict(self.facts[index]), "optional": sorted(role.key for role in self.facts[index].optional)}
        parts = [repr((own, self.side, [layout.name for layout in self.layouts]))]
        for level, start in enumerate(starts[:-1]):
            count = (self.side >> level) * ((self.side >> level) + 1)
            parts.append(fingerprint(self.texels[start + index * count : start + (index + 1) * count].tobytes()))
        return fingerprint(*parts)

    def means(self, name: str) -> NDArray[np.float64]:
        """Return the mean of every channel of a swatch at full size, (A, 4): 0..1, colour as linear light."""
        own = self.side * (self.side + 1)
        first = self.index_of(name) * own
        return means_of(self.texels[first : first + own], self.side, self.layouts)

    def index_of(self, name: str) -> int:
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
