"""Texture arrays: every swatch a slice, every layout an array, all of one size."""

from __future__ import annotations

import json
import re
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.layout import BLENDED, ArrayChannel, Layout, fine_layout
from jagged_quilt.arrays.mips import level_count
from jagged_quilt.arrays.pages import SwatchFacts, TexelPages
from jagged_quilt.arrays.slices import PackedSlice, as_bytes, finer, meant
from jagged_quilt.arrays.texel_cache import Opened, TexelCache
from jagged_quilt.codecs.block_codes import decoded_blocks
from jagged_quilt.codecs.ktx2 import FileFrame, Ktx2File, Spool, write_ktx2
from jagged_quilt.codecs.ktx2_head import Ktx2Head
from jagged_quilt.codecs.pixel_formats import PixelFormat
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import NameNotFoundError
from jagged_quilt.foundation.files import make_folder, temporary_prefix, write_json, written_together
from jagged_quilt.foundation.json_types import Facts, Stored
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.maps.roles import BLENDED_ROLES, FINE_ROLES, MapRole

MANIFEST = "arrays.json"
INPUTS = "inputs.json"
_NOTE = "jaggedQuiltSlices"


class Slices(Protocol):
    """The slices of one array, wherever they are."""

    def texels(self, level: int, which: int) -> Stored:
        """Return one slice of one level, decoded, (H, W, C)."""
        ...


@dataclass(frozen=True, eq=False)
class SlicesInMemory:
    """Slices as they were packed."""

    layout: Layout
    side: int
    packed: Sequence[PackedSlice]

    def texels(self, level: int, which: int) -> Stored:
        """Return one slice of one level, decoded, (H, W, C)."""
        stored = self.packed[which].levels[level]
        side = self.side >> level
        return decoded_blocks(stored.tobytes(), self.layout.pixels, side, side) if self.layout.pixels.value.block else stored


@dataclass(frozen=True, kw_only=True)
class SliceFacts:
    """What is known of one swatch in the arrays.

    Attributes
    ----------
    name : str
    tile, relief : float
        Metres that one repeat covers, and from black to white of its height.
    slices : mapping of layout name to int
        Its slice in each array; swatches of the same content share one.
    stamps : mapping of layout name to str
        A hash of what each slice was made from.
    optional : tuple of str
        The keys of the `OPTIONAL_ROLES` that it has; of others only the neutral value stands in the arrays.
    quality : mapping of layout name to what block codes cost there
    derived : mapping of role to words
        Which maps were made from others, and how.
    aspect : float
        How much longer a repeat is along v than along u.
    """

    name: str
    tile: float
    relief: float
    slices: dict[str, int]
    optional: tuple[str, ...] = ()
    stamps: dict[str, str] = field(default_factory=dict)
    quality: dict[str, dict[str, float]] = field(default_factory=dict)
    derived: dict[str, str] = field(default_factory=dict)
    aspect: float = 1.0


@dataclass(frozen=True, eq=False, kw_only=True)
class TextureArrays(NotebookValue):
    """The packed maps of many swatches.

    Attributes
    ----------
    layouts : tuple of Layout
    side : int
        Texels along a slice's side at full size; a power of two.
    facts : tuple of SliceFacts
        One for each swatch, in order.
    stores : tuple of Slices
        One for each layout: in memory, or a KTX2 file that is read slice by slice when asked.
    """

    layouts: tuple[Layout, ...]
    side: int
    facts: tuple[SliceFacts, ...]
    stores: tuple[Slices, ...]

    def __repr__(self) -> str:
        names = ", ".join(self.names[:6]) + (", …" if len(self.names) > 6 else "")
        arrays = ", ".join(layout.name for layout in self.layouts)
        return f"<TextureArrays {len(self.names)} swatches of {self.side} x {self.side} in {arrays}: {names}>"

    @property
    def names(self) -> tuple[str, ...]:
        """The swatches."""
        return tuple(each.name for each in self.facts)

    @property
    def tiles(self) -> tuple[float, ...]:
        """Metres that one repeat of each swatch covers."""
        return tuple(each.tile for each in self.facts)

    @property
    def reliefs(self) -> tuple[float, ...]:
        """Metres from black to white of each swatch's height."""
        return tuple(each.relief for each in self.facts)

    def slice_count(self, layout: str) -> int:
        """How many slices an array has."""
        return 1 + max(each.slices[layout] for each in self.facts)

    def index_of(self, name: str) -> int:
        """Return the index of a swatch in `names`; raise `NameNotFoundError` if it was not packed."""
        return self.names.index(known_name("swatch in the arrays", name, self.names))

    def texels(self, layout: str, name: str, level: int = 0) -> Stored:
        """Return what one array stores of a swatch, decoded, (H, W, C) uint8, uint16 or float16."""
        names = [each.name for each in self.layouts]
        row = names.index(known_name("array", layout, names))
        return self.stores[row].texels(level, self.facts[self.index_of(name)].slices[layout])

    def level(self, layout: str, level: int = 0) -> Stored:
        """Return one level of one array for all swatches, (S, H, W, C), as stored."""
        return np.stack([self.texels(layout, name, level) for name in self.names])

    def values(self, name: str, role: MapRole | str, level: int = 0) -> NDArray[np.float32]:
        """Return what one map of a swatch means after packing, (H, W, C) float32, as `TextureMap.values` does.

        Raises
        ------
        NameNotFoundError
            If no layout carries the role, or the swatch was not packed.
        """
        side, role = self.side >> level, MapRole.of(role)
        out = np.empty((side, side, role.value.channels), np.float32)
        found = set()
        for layout in self.layouts:
            if role in layout.roles:
                stored = self.texels(layout.name, name, level)
                for index, channel in enumerate(layout.channels):
                    if channel.role is role:
                        out[..., channel.component] = meant(channel, stored[..., index], layout, index)
                        found.add(channel.component)
        for channel, texels in self._fine(name, role, level):
            out[..., channel.component] += finer(channel, texels)
        wanted = set(range(role.value.packed))
        if not wanted <= found:
            raise NameNotFoundError(f"no array carries a {role.key} map; pack with a layout that does")
        if role.value.direction:
            if 2 not in found:
                out[..., 2] = np.sqrt(np.maximum(0, 1 - out[..., 0] ** 2 - out[..., 1] ** 2))
            out /= np.maximum(np.linalg.norm(out, axis=2, keepdims=True), 1e-12)
        return out

    def _fine(self, name: str, role: MapRole, level: int) -> Iterator[tuple[ArrayChannel, Stored]]:
        """What stands beside the 8 bits of a role, where anything does."""
        for layout in self.layouts:
            for index, channel in enumerate(layout.channels):
                if channel.fine and channel.role is role:
                    yield channel, self.texels(layout.name, name, level)[..., index]

    @property
    def _fine_roles(self) -> set[MapRole]:
        """Of heights and normals those known in more than 8 bits: beside them, or since they are stored so."""
        deep = (PixelFormat.UNORM16, PixelFormat.HALF)
        stored = {role for each in self.layouts if each.pixels in deep for role in each.roles if role in FINE_ROLES}
        return stored.union(*(each.made_of for each in self.layouts if each.is_fine))

    def carried(self, role: MapRole) -> bool:
        """Whether an array holds a role."""
        return any(role in layout.roles for layout in self.layouts)

    def open(self, names: Sequence[str] | None = None, *, folder: Path | str | None = None) -> TexelPages:
        """Return the texels of some swatches (all where none are named), once for all who read them.

        Whatever the formats of the arrays, a blend reads RGBA8: one column per layout of `BLENDED` that carries anything of
        these swatches. With a `folder` they lie in a file there, which has no name and goes with its last reader, and not in
        memory: the system holds of it what is read.

        Raises
        ------
        NameNotFoundError
            If a swatch was not packed, or the arrays carry nothing that can be blended.
        RangeError
            If the slices are more than one blend can address.
        """
        chosen = self.names if names is None else tuple(dict.fromkeys(names))
        opened = self.opened(chosen)
        pages = TexelPages.empty(opened.facts, opened.layouts, opened.side, folder)
        for column, layout in enumerate(opened.layouts):
            for index, name in enumerate(chosen):
                for level, texels in enumerate(self.levels_of(layout, name)):
                    pages.put(column, index, level, texels)
        return pages.closed()

    def cached(self, mib: float, names: Sequence[str] | None = None) -> TexelCache:
        """Return what a blend reads of some swatches (all where none are named), of which at most so many MiB are held.

        A swatch is read from its KTX2 files when a block of work shows it; that which nobody has shown for longest gives way.
        Raises `QuiltError` as `open` does, or if not even one swatch fits.
        """
        return TexelCache(self, self.names if names is None else tuple(dict.fromkeys(names)), mib)

    def opened(self, names: Sequence[str]) -> Opened:
        """Return how some swatches are opened: the layouts, the side, and what is known of each."""
        indices = [self.index_of(name) for name in names]
        optional = [{MapRole[key.upper()] for key in self.facts[index].optional} for index in indices]
        held = {
            role for role in BLENDED_ROLES if self.carried(role) and (role.value.always or any(role in own for own in optional))
        }
        layouts = tuple(layout for layout in BLENDED if held & set(layout.roles))
        if not layouts:
            raise NameNotFoundError("these arrays carry nothing that can be blended; pack with a layout that does")
        layouts += (fine_layout(fine),) if (fine := self._fine_roles & held) else ()
        known = [self.facts[index] for index in indices]
        facts = tuple(
            SwatchFacts(name=each.name, tile=each.tile, relief=each.relief, aspect=each.aspect, optional=frozenset(own & held))
            for each, own in zip(known, optional, strict=True)
        )
        return Opened(layouts, self.side, facts)

    def levels_of(self, layout: Layout, name: str) -> list[Stored]:
        """Return a swatch as a layout of `BLENDED`, or a fine one, holds it, RGBA8: level after level, (H, W, 4) uint8."""
        same = (each.name for each in self.layouts if (each.channels, each.pixels) == (layout.channels, layout.pixels))
        as_it_is = next(same, None)
        if as_it_is is None:
            return [_of_four(each) for each in self._repacked(layout, name)]
        return [_of_four(self.texels(as_it_is, name, level)) for level in range(level_count(self.side))]

    def _repacked(self, layout: Layout, name: str) -> list[Stored]:
        out = []
        for level in range(level_count(self.side)):
            side = self.side >> level
            values = {
                role: self.values(name, role, level)
                if self.carried(role)
                else np.full((side, side, role.value.channels), role.value.neutral, np.float32)
                for role in layout.made_of
            }
            out.append(as_bytes(layout, values, side))
        return out

    def check(self) -> None:
        """Read every slice that lies in a file against its checksum; raise `FileError` if one is damaged."""
        for store in self.stores:
            if isinstance(store, Ktx2File):
                store.check()

    def save(self, folder: Path | str, *, zstd: bool = True) -> list[Path]:
        """Write one KTX2 file per layout and a manifest; return the files. Loaded ones stay compressed as they are."""
        folder = make_folder(Path(folder))
        with tempfile.TemporaryDirectory(prefix=temporary_prefix(), dir=folder) as work:
            frames = {}
            for layout, store in zip(self.layouts, self.stores, strict=True):
                if isinstance(store, Ktx2File):
                    zstd, levels = store.head.zstd, range(store.head.levels)
                    frames[layout.name] = [[store.frame(level, n) for level in levels] for n in range(store.head.slices)]
                    continue
                assert isinstance(store, SlicesInMemory)
                spool = Spool(Path(work) / layout.name, zstd=zstd)
                frames[layout.name] = [[spool.add(level) for level in each.levels] for each in store.packed]
                spool.close()
            return write_arrays(folder, ArrayContents(self.layouts, self.side, self.facts, frames), zstd=zstd)

    def save_images(self, folder: Path | str) -> list[Path]:
        """Write every slice of every level as an image file, and a manifest; return the files.

        8 and 16 bits become PNG, half floats EXR, blocks what they decode to. Files are named
        `LAYOUT/SLICE_SWATCH_mLEVEL.png`; swatches that share a slice share its files.
        """
        folder = make_folder(Path(folder))
        files: list[Path] = []
        manifest: Facts = {
            "texels": self.side,
            "layouts": [_layout_facts(each) for each in self.layouts],
            "slices": [],
        }
        for facts in self.facts:
            manifest["slices"].append({"swatch": facts.name, "tile": facts.tile, "relief": facts.relief, "slice": facts.slices})
        for layout in self.layouts:
            with written_together(folder / layout.name) as stage:
                for which in range(self.slice_count(layout.name)):
                    owner = next(each for each in self.facts if each.slices[layout.name] == which)
                    for level in range(level_count(self.side)):
                        texels = self.texels(layout.name, owner.name, level)
                        suffix = ".exr" if texels.dtype == np.float16 else ".png"
                        name = f"{which:04d}_{re.sub(r'[^A-Za-z0-9]+', '_', owner.name)}_m{level}{suffix}"
                        shown = texels[..., : len(layout.channels)]
                        write_image(stage / name, shown.astype(np.float32) if shown.dtype == np.float16 else shown)
                        files.append(folder / layout.name / name)
        write_json(folder / "slices.json", manifest)
        return [*files, folder / "slices.json"]


@dataclass(frozen=True)
class ArrayContents:
    """What is written of arrays: frames by layout, (slices, levels) each; `settings` is what else the manifest holds."""

    layouts: Sequence[Layout]
    side: int
    facts: Sequence[SliceFacts]
    frames: dict[str, list[list[FileFrame]]]
    settings: Facts = field(default_factory=dict)


def write_arrays(
    folder: Path,
    contents: ArrayContents,
    *,
    zstd: bool = True,
    seen: Facts | None = None,
    work: Work = ANYHOW,
) -> list[Path]:
    """Write the KTX2 files and the manifest of arrays, all or none.

    Parameters
    ----------
    seen : dict
        What the input files looked like, by `FileDigests.records`.
    """
    layouts, side, facts, frames = contents.layouts, contents.side, contents.facts, contents.frames
    slices = [
        {
            "swatch": each.name,
            "tile": each.tile,
            "aspect": each.aspect,
            "relief": each.relief,
            "slice": each.slices,
            "rare": list(each.optional),
            "derived": each.derived,
            "quality": each.quality,
            "made_from": each.stamps,
        }
        for each in facts
    ]
    manifest = {"texels": side, **contents.settings, "layouts": [_layout_facts(each) for each in layouts], "slices": slices}
    with written_together(folder) as stage:

        def write_one(layout: Layout) -> None:
            head = array_head(layout, side, facts, len(frames[layout.name]), zstd=zstd)
            by_level = [[each[level] for each in frames[layout.name]] for level in range(head.levels)]
            write_ktx2(stage / f"{layout.name}.ktx2", head, by_level)

        work.through(layouts, write_one, step="writing arrays")
        write_json(stage / MANIFEST, manifest)
        if seen is not None:
            write_json(stage / INPUTS, seen)
    return [*(folder / f"{layout.name}.ktx2" for layout in layouts), folder / MANIFEST]


def array_head(layout: Layout, side: int, facts: Sequence[SliceFacts], slices: int, *, zstd: bool) -> Ktx2Head:
    """What the KTX2 file of an array says before its texels."""
    names = [
        {"swatch": each.name, "slice": each.slices[layout.name], "tile": each.tile, "relief": each.relief} for each in facts
    ]
    return Ktx2Head(
        pixels=layout.pixels,
        channels=layout.stored,
        srgb=layout.srgb,
        width=side,
        height=side,
        slices=slices,
        levels=level_count(side),
        zstd=zstd,
        notes={_NOTE: json.dumps(names), "jaggedQuiltChannels": json.dumps([str(each) for each in layout.channels])},
    )


def _of_four(texels: Stored) -> Stored:
    """Texels with four channels, filled up with 255."""
    if texels.shape[2] == 4:
        return texels
    out = np.full((*texels.shape[:2], 4), 255, np.uint8)
    out[..., : texels.shape[2]] = texels
    return out


def _layout_facts(layout: Layout) -> Facts:
    channels = [channel.constant if channel.role is None else str(channel) for channel in layout.channels]
    return {"name": layout.name, "channels": channels, "format": layout.pixels.key, "srgb": layout.srgb}
