"""Packing: swatches into texture arrays of one size, with mips; in memory, or slice by slice into files."""

from __future__ import annotations

import contextlib
import math
import tempfile
import warnings
import zlib
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import numpy as np

from jagged_quilt.arrays.layout import BLENDED, Layout, layout_named, layouts_for
from jagged_quilt.arrays.mips import MipFilter, checked_side, level_count
from jagged_quilt.arrays.open_arrays import open_arrays
from jagged_quilt.arrays.slices import WIDENED, PackedSlice, packed_slices
from jagged_quilt.arrays.texture_arrays import (
    INPUTS,
    MANIFEST,
    ArrayContents,
    SliceFacts,
    SlicesInMemory,
    TextureArrays,
    array_head,
    write_arrays,
)
from jagged_quilt.codecs.ktx2 import FileFrame, Ktx2File, Spool
from jagged_quilt.foundation.errors import FileError, QuiltWarning, RangeError, ShapeError
from jagged_quilt.foundation.files import FileDigests, fingerprint, make_folder, read_json, temporary_prefix, write_json
from jagged_quilt.foundation.version import __version__
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.roles import OPTIONAL_ROLES, MapRole
from jagged_quilt.maps.swatch import SIDE, Swatch

MOST_SLICES = 2048


class Packable(Protocol):
    """A swatch, or where one is to be read from: `Swatch` and `SwatchSource` are."""

    @property
    def name(self) -> str: ...
    @property
    def size(self) -> float: ...
    @property
    def relief(self) -> float: ...
    @property
    def aspect(self) -> float: ...
    @property
    def roles(self) -> frozenset[MapRole]:
        """The roles of its maps, as they are read."""
        ...

    def stamp(self, roles: Collection[MapRole], digests: FileDigests | None = None) -> str:
        """Return a hash of all that the maps of some roles are made from."""
        ...

    def read(self, roles: Collection[MapRole] = ...) -> Swatch:
        """Return the swatch with the maps of some roles."""
        ...


_ASKED = ("name", "size", "relief", "aspect", "roles", "stamp", "read")

_Keep = Callable[[str, str, PackedSlice], None]
"""Takes a slice that was packed: its layout, what it is made from, and itself."""


@dataclass(frozen=True, slots=True)
class PackedAnew:
    """What packing into files had to do: how many slices were made, how many were kept, and the files."""

    made: int
    kept: int
    files: tuple[Path, ...]


def pack(
    swatches: Iterable[Packable],
    *,
    side: int = SIDE,
    layouts: Sequence[str | Layout] | None = None,
    mips: MipFilter | str = MipFilter.BOX,
    work: Work = ANYHOW,
) -> TextureArrays:
    """Pack the maps of swatches into texture arrays with full mip chains, in memory.

    Every map is brought to `side` x `side` (a tent filter that wraps, in linear light for colour, on vectors for
    normals) and halved down. What a swatch lacks is filled with the role's neutral value.

    Parameters
    ----------
    swatches : Swatch or SwatchSource
    side : int
        Texels along the side of every slice; a power of two up to 8192.
    layouts : sequence of str or Layout
        Which arrays to make: names of presets (`LAYOUTS`) or layouts of one's own (`layout_of`). Where none are given, those
        that a blend reads of what the swatches have.
    mips : "box" or "lanczos"
        The mean of 2 x 2 texels, or a windowed sinc, which is sharper.

    Raises
    ------
    RangeError
        If `side` is not a power of two, or there are more than 2,048 swatches.
    ShapeError
        If there is no swatch, or two of one name.

    Examples
    --------
    >>> from jagged_quilt import plain_swatch
    >>> pack([plain_swatch("clay", diffuse=0.2), plain_swatch("salt", diffuse=0.9)], side=1)
    <TextureArrays 2 swatches of 1 x 1 in diffuse_height, normal_roughness_occlusion, specular: clay, salt>
    """
    job = _Job.of(swatches, side, layouts, mips)
    packed: dict[tuple[str, str], PackedSlice] = {}
    stamped = job.stamped(work.quiet, FileDigests(), {})
    job.run(stamped, {}, lambda layout, stamp, one: packed.__setitem__((layout, stamp), one), work)
    facts, owners = _shared(job, stamped, {key: _content(one) for key, one in packed.items()})
    stores = tuple(
        SlicesInMemory(layout, job.side, [packed[layout.name, stamp] for stamp in owners[layout.name]])
        for layout in job.layouts
    )
    return TextureArrays(layouts=job.layouts, side=job.side, facts=facts, stores=stores)


def pack_files(
    swatches: Iterable[Packable],
    folder: Path | str,
    *,
    side: int = SIDE,
    layouts: Sequence[str | Layout] | None = None,
    mips: MipFilter | str = MipFilter.BOX,
    zstd: bool = True,
    force: bool = False,
    work: Work = ANYHOW,
) -> PackedAnew:
    """Pack swatches into one KTX2 file per layout and a manifest, a slice at a time: memory does not grow with their number.

    Slices whose inputs and settings are as they were in the files that lie in `folder` are copied from there.

    Parameters
    ----------
    folder : Path
        Files are replaced all together, at the end.
    zstd : bool
        Whether levels are compressed.
    force : bool
        Whether to make every slice, even if it is there.
    others
        See `pack`.

    Examples
    --------
    >>> packed = jq.pack_files(jq.read_swatches("swatches"), "packed", side=32)
    >>> packed.made, packed.kept
    (5, 0)
    """
    job = _Job.of(swatches, side, layouts, mips)
    folder = make_folder(Path(folder))
    earlier = _Earlier(folder, job, zstd, force)
    stamped = job.stamped(work.quiet, earlier.digests, earlier.facts)
    first_facts, first_owners = _shared(job, stamped, {key: key for key in stamped.keys_used})
    frames: dict[tuple[str, str], list[FileFrame]] = {}
    with tempfile.TemporaryDirectory(prefix=temporary_prefix(), dir=folder) as scratch:
        spools = {}
        for layout in job.layouts:
            head = array_head(layout, job.side, first_facts, len(first_owners[layout.name]), zstd=zstd)
            spools[layout.name] = Spool(Path(scratch) / layout.name, zstd=zstd, head=head)
        indices = {(name, made_from): n for name, owners in first_owners.items() for n, made_from in enumerate(owners)}

        def keep(layout: str, made_from: str, one: PackedSlice) -> None:
            which = indices[layout, made_from]
            frames[layout, made_from] = [spools[layout].add(texels, level, which) for level, texels in enumerate(one.levels)]

        try:
            job.run(stamped, earlier.frames, keep, work)
        finally:
            for spool in spools.values():
                spool.close()
        kept = {key: earlier.frames[key] for key in stamped.keys_used if key not in frames}
        whole = {**kept, **frames}
        contents = {key: tuple((frame.length, frame.crc) for frame in each) for key, each in whole.items()}
        facts, owners = _shared(job, stamped, contents)
        settings = {"mips": str(job.mips)}
        if not frames and earlier.is_all_of(job.layouts, facts, settings):
            write_json(folder / INPUTS, earlier.digests.records())
            return PackedAnew(0, len(kept), tuple(folder / f"{layout.name}.ktx2" for layout in job.layouts))
        lying = {layout.name: [whole[layout.name, each] for each in owners[layout.name]] for layout in job.layouts}
        files = write_arrays(
            folder,
            ArrayContents(job.layouts, job.side, facts, lying, settings),
            zstd=zstd,
            seen=earlier.digests.records(),
            work=work,
        )
    return PackedAnew(len(frames), len(kept), tuple(files))


class _Earlier:
    """What lies in a folder already.

    Attributes
    ----------
    digests : FileDigests
        Of the input files, as they looked then.
    frames : dict of (layout name, stamp) to the frames of that slice
    facts : dict of name to SliceFacts
    """

    def __init__(self, folder: Path, job: _Job, zstd: bool, force: bool) -> None:
        self.digests = FileDigests()
        self.frames: dict[tuple[str, str], list[FileFrame]] = {}
        self.facts: dict[str, SliceFacts] = {}
        self._arrays: TextureArrays | None = None
        if force or not (folder / MANIFEST).is_file():
            return
        try:
            self._manifest = read_json(folder / MANIFEST, "list of arrays")
            self._arrays = open_arrays(folder)
        except FileError:
            return
        with contextlib.suppress(FileError):
            self.digests = FileDigests(read_json(folder / INPUTS, "list of inputs"))
        self.facts = {each.name: each for each in self._arrays.facts}
        for layout, store in zip(self._arrays.layouts, self._arrays.stores, strict=True):
            alike = isinstance(store, Ktx2File) and store.head.zstd == zstd and self._arrays.side == job.side
            if not isinstance(store, Ktx2File) or not alike or layout not in job.layouts:
                continue
            for each in self._arrays.facts:
                own = [store.frame(level, each.slices[layout.name]) for level in range(level_count(job.side))]
                self.frames[layout.name, each.stamps[layout.name]] = own

    def is_all_of(self, layouts: tuple[Layout, ...], facts: tuple[SliceFacts, ...], settings: dict[str, str]) -> bool:
        """Whether the folder holds just what is to be written."""
        if self._arrays is None or (self._arrays.layouts, self._arrays.facts) != (layouts, facts):
            return False
        return all(self._manifest.get(key) == value for key, value in settings.items())


@dataclass
class _Stamped:
    """What a run tells of each swatch: hashes of what its slices are made from, what they cost, what was derived."""

    stamps: list[dict[str, str]]
    quality: dict[tuple[str, str], dict[str, float]]
    derived: list[dict[str, str]]

    @property
    def keys_used(self) -> set[tuple[str, str]]:
        return {(layout, stamp) for each in self.stamps for layout, stamp in each.items()}


@dataclass(frozen=True)
class _Job:
    given: list[Packable]
    side: int
    layouts: tuple[Layout, ...]
    mips: MipFilter

    @classmethod
    def of(cls, swatches: Iterable[Packable], side: int, layouts: Sequence[str | Layout] | None, mips: MipFilter | str) -> _Job:
        if isinstance(swatches, str | Path):
            raise ShapeError(f"packing takes swatches; of a folder with one folder each: jq.read_swatches({str(swatches)!r})")
        if not isinstance(swatches, Iterable):
            raise ShapeError(
                f"packing takes a list of swatches: [{getattr(swatches, 'name', '…')}]; got {type(swatches).__name__}"
            )
        given = list(swatches)
        for each in given:
            lacks = [name for name in _ASKED if not hasattr(each, name)]
            if lacks:
                raise ShapeError(
                    f"packing takes swatches (jq.Swatch, jq.SwatchSource, or what has all that they have); got "
                    f"{type(each).__name__}, which has no {', '.join(lacks)}"
                )
        side = checked_side(side)
        if layouts is None:
            fine = frozenset[MapRole]().union(*(getattr(swatch, "fine_roles", ()) for swatch in given))
            layouts = layouts_for({role for swatch in given for role in swatch.roles}, fine=fine)
        chosen = tuple(each if isinstance(each, Layout) else layout_named(each) for each in layouts)
        filter = MipFilter.of(mips, "mip filter")
        names = [swatch.name for swatch in given]
        kinds = [layout.name for layout in chosen]
        if not given or not chosen:
            raise ShapeError("packing needs at least one swatch and one layout")
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None or len(set(kinds)) < len(kinds):
            raise ShapeError(f'two swatches are called "{twice}"' if twice else f"a layout is named twice: {kinds}")
        if len(given) > MOST_SLICES:
            raise RangeError(f"an array holds up to {MOST_SLICES} slices; got {len(given)} swatches: pack them into several")
        return cls(given, side, chosen, filter)

    def stamped(self, work: Work, digests: FileDigests, old: dict[str, SliceFacts]) -> _Stamped:
        """Hash what every slice is made from; what is known of a slice that is as it was is taken over."""
        stamped = _Stamped([{} for _ in self.given], {}, [{} for _ in self.given])

        def stamp_one(index: int) -> None:
            swatch = self.given[index]
            stamped.stamps[index] = {layout.name: self._stamp(swatch, layout, digests) for layout in self.layouts}

        work.through(range(len(self.given)), stamp_one)
        for swatch, stamps, derived in zip(self.given, stamped.stamps, stamped.derived, strict=True):
            before = old.get(swatch.name)
            if before is not None:
                derived.update(before.derived)
                for layout, stamp in stamps.items():
                    if before.stamps.get(layout) == stamp:
                        stamped.quality[layout, stamp] = before.quality.get(layout, {})
        return stamped

    def run(
        self, stamped: _Stamped, there: Collection[tuple[str, str]], keep: Callable[[str, str, PackedSlice], None], work: Work
    ) -> None:
        """Pack every slice that is not `there` and hand it to `keep(layout, stamp, slice)`, each content once."""
        claimed = set(there)
        tasks = []
        for index, stamps in enumerate(stamped.stamps):
            mine = [layout for layout in self.layouts if (layout.name, stamps[layout.name]) not in claimed]
            claimed.update((layout.name, stamps[layout.name]) for layout in mine)
            tasks.append((index, mine))

        def pack_one(task: tuple[int, list[Layout]]) -> None:
            index, mine = task
            roles = {role for layout in mine for role in _roles_read(layout, self.given[index])}
            read = self.given[index].read(roles)
            _warn_of_sizes(read)
            known = {key: words for key, words in stamped.derived[index].items() if key not in {role.key for role in roles}}
            stamped.derived[index] = known | {role.key: words for role, words in read.derived.items()}
            for layout, one in zip(mine, packed_slices(read, mine, self.side, mips=self.mips), strict=True):
                stamp = stamped.stamps[index][layout.name]
                keep(layout.name, stamp, one)
                stamped.quality[layout.name, stamp] = one.quality

        work.through([task for task in tasks if task[1]], pack_one, step="packing swatches")

    def _stamp(self, swatch: Packable, layout: Layout, digests: FileDigests | None) -> str:
        how = (__version__, [str(each) for each in layout.channels], layout.pixels.key, self.side, str(self.mips))
        return fingerprint(repr(how), swatch.stamp(_roles_read(layout, swatch), digests))


def _roles_read(layout: Layout, swatch: Packable) -> tuple[MapRole, ...]:
    """The roles that a layout's slice is made from: cut-outs change what lies beside them, and an alpha that nobody mentions
    is left out unless an array of one's own asks for it."""
    own = [*layout.made_of, *(each for role in layout.made_of for each in WIDENED.get(role, ()))]
    if MapRole.OPACITY in swatch.roles:
        own.append(MapRole.OPACITY)
    elif layout in BLENDED or layout.is_fine:
        own = [role for role in own if role is not MapRole.OPACITY]
    return tuple(dict.fromkeys(own))


def _content(one: PackedSlice) -> tuple[object, ...]:
    return tuple(
        (level.nbytes, zlib.crc32(np.ascontiguousarray(level).reshape(-1).view(np.uint8).data)) for level in one.levels
    )


def _shared(
    job: _Job, stamped: _Stamped, contents: Mapping[tuple[str, str], tuple[object, ...]]
) -> tuple[tuple[SliceFacts, ...], dict[str, list[str]]]:
    """Number the slices of each array, the same content once; return the facts, and the stamp that owns each slice."""
    owners: dict[str, list[str]] = {}
    slices: list[dict[str, int]] = [{} for _ in job.given]
    for layout in job.layouts:
        seen: dict[tuple[object, ...], int] = {}
        owners[layout.name] = []
        for index, stamps in enumerate(stamped.stamps):
            content = contents[layout.name, stamps[layout.name]]
            if content not in seen:
                seen[content] = len(seen)
                owners[layout.name].append(stamps[layout.name])
            slices[index][layout.name] = seen[content]
    facts = tuple(
        SliceFacts(
            name=swatch.name,
            tile=float(swatch.size),
            aspect=float(swatch.aspect),
            relief=float(swatch.relief),
            optional=tuple(role.key for role in OPTIONAL_ROLES if role in swatch.roles or role.key in stamped.derived[index]),
            slices=slices[index],
            stamps=stamped.stamps[index],
            derived=stamped.derived[index],
            quality={
                name: stamped.quality.get((name, stamp), {})
                for name, stamp in stamped.stamps[index].items()
                if stamped.quality.get((name, stamp))
            },
        )
        for index, swatch in enumerate(job.given)
    )
    return facts, owners


def _warn_of_sizes(swatch: Swatch) -> None:
    """A map whose shape is not its tile's will be stretched, which no one should find out by looking."""
    for role, each in swatch.maps.items():
        rows, columns = each.shape
        if rows != columns and not math.isclose(rows / columns, swatch.aspect, rel_tol=0.02):
            tile = f"[{swatch.tile:g}, {swatch.tile * rows / columns:g}]"
            warnings.warn(
                f'swatch "{swatch.name}": its {role.key} map, {columns} x {rows}, is stretched; write tile = {tile}',
                QuiltWarning,
                stacklevel=3,
            )
