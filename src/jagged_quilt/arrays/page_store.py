"""A store of pages: one Zarr array for each role and mip, one page a chunk, and what vouches for each page.

    GROUP/diffuse/0     (page rows, page columns, side, side, channels), of mip 0
    GROUP/diffuse/1     ...
    GROUP/finished/0/3.4   a group whose attributes tell the pages of shard (3, 4) of mip 0: what each was made from, and a
                           hash of its bytes

A page is believed if the last names it. That is written after the texels, and taken away before they change.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import product

import numpy as np
import xxhash

from jagged_quilt.arrays.page_grid import PageAt, PageGrid
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.json_types import Facts, Stored
from jagged_quilt.foundation.stores import Zarr, plain_errors, zarr_here
from jagged_quilt.maps.roles import MapRole, stored_type

FORM = 1
_COMPRESSION, _NONE = 3, "there are no such pages; bake them with --store"
_WHOLE = {"write_empty_chunks": True}
"""Pages that hold nothing are written too: so a chunk that is missing is missing, and nothing need be compared before."""


class DamagedPageError(FileError):
    """Pages whose bytes are not those that were written."""

    def __init__(self, message: str, pages: Sequence[PageAt] = ()) -> None:
        super().__init__(message)
        self.pages = tuple(pages)

    def __reduce__(self) -> tuple[object, ...]:
        return DamagedPageError, (str(self), self.pages)


@dataclass(frozen=True, slots=True)
class PageRecord:
    """What vouches for a page: what it was made from, by kind, and a hash of its bytes."""

    made_from: dict[str, str]
    digest: str


@dataclass(frozen=True, slots=True, eq=False)
class PageStore:
    """The pages of one surface, anywhere that Zarr writes to.

    Attributes
    ----------
    address : str
        A folder, or an address that fsspec reaches.
    group : str
        The surface within the store: `ground`, or `meshes/NAME`.
    grid : PageGrid
    roles : tuple of MapRole
    """

    address: str
    group: str
    grid: PageGrid
    roles: tuple[MapRole, ...]
    _arrays: dict[tuple[MapRole, int], Zarr] = field(default_factory=dict, repr=False)

    def __repr__(self) -> str:
        rows, columns = self.grid.texels
        return f"<PageStore {self.address} {self.group}: {columns} x {rows} in pages of {self.grid.page}>"

    def __reduce__(self) -> tuple[object, ...]:
        return PageStore, (self.address, self.group, self.grid, self.roles)

    @classmethod
    def create(
        cls, address: str, group: str, grid: PageGrid, roles: Iterable[MapRole], facts: Facts, *, force: bool = False
    ) -> PageStore:
        """Return the store to write pages to: the one that is there if it is cut alike, else a new one.

        Raises
        ------
        FileError
            If what is there is cut otherwise or of another form (unless `force`), or it cannot be written.
        """
        store = cls(str(address), group, grid, tuple(roles))
        wanted = store._attributes()
        with plain_errors(store.address, _NONE):
            root = zarr_here().open_group(store.address, mode="a", path=group)
            before = root.attrs.asdict().get("pages")
            if before is not None and before != wanted and not force:
                odd = next(key for key in wanted if before.get(key) != wanted[key])
                raise FileError(
                    f"{address}: holds pages of other {odd}: {before.get(odd)}, and {wanted[odd]} is asked for; name another "
                    "store, or write it anew with --force"
                )
            if before != wanted or force:
                root = zarr_here().open_group(store.address, mode="w", path=group)
                for role in store.roles:
                    for mip in range(grid.mips):
                        store._make(root, role, mip)
            root.attrs.put({**facts, "pages": wanted})
        return store

    @classmethod
    def open(cls, address: str, group: str) -> PageStore:
        """Return a store to read; raise `FileError` if there is none."""
        with plain_errors(str(address), _NONE):
            attributes = zarr_here().open_group(str(address), mode="r", path=group).attrs.asdict()["pages"]
            grid = PageGrid(
                (attributes["texels"][0], attributes["texels"][1]),
                attributes["page"],
                attributes["border"],
                attributes["shard"],
            )
            return cls(str(address), group, grid, tuple(MapRole[each.upper()] for each in attributes["roles"]))

    def facts(self) -> Facts:
        """Return what is recorded of the surface."""
        with plain_errors(self.address, _NONE):
            return dict(zarr_here().open_group(self.address, mode="r", path=self.group).attrs.asdict())

    def _attributes(self) -> Facts:
        grid = self.grid
        return {
            "form": FORM,
            "roles": [role.key for role in self.roles],
            "texels": list(grid.texels),
            "page": grid.page,
            "border": grid.border,
            "shard": grid.shard,
            "mips": grid.mips,
        }

    def _make(self, root: Zarr, role: MapRole, mip: int) -> None:
        grid, (rows, columns) = self.grid, self.grid.pages(mip)
        zarr = zarr_here()
        shard = min(grid.shard, 1 << (max(rows, columns) - 1).bit_length())
        chunk = (1, 1, grid.side, grid.side, role.value.channels)
        root.create_array(
            f"{role.key}/{mip}",
            shape=(rows, columns, *chunk[2:]),
            chunks=chunk,
            shards=(shard, shard, *chunk[2:]),
            dtype=stored_type(role),
            compressors=[zarr.codecs.ZstdCodec(level=_COMPRESSION, checksum=True)],
            fill_value=0,
            config=_WHOLE,
            dimension_names=("page row", "page column", "row", "column", "channel"),
            attributes={
                "role": role.key,
                "transfer": str(role.value.transfer),
                "mip": mip,
                "texels": list(grid.size(mip)),
                "border": grid.border,
            },
        )

    def array(self, role: MapRole, mip: int) -> Zarr:
        """Return the Zarr array of a role and mip."""
        key = role, mip
        if key not in self._arrays:
            with plain_errors(self.address, _NONE):
                self._arrays[key] = zarr_here().open_array(
                    self.address, mode="r+", path=f"{self.group}/{role.key}/{mip}", config=_WHOLE
                )
        return self._arrays[key]

    def records(self, mip: int, shard: tuple[int, int]) -> dict[PageAt, PageRecord]:
        """Return what vouches for the finished pages of a shard."""
        try:
            attributes = zarr_here().open_group(self.address, mode="r", path=self._place(mip, shard)).attrs.asdict()["pages"]
            return {
                PageAt(mip, *(int(each) for each in key.split(":"))): PageRecord(dict(one["made from"]), str(one["hash"]))
                for key, one in attributes.items()
            }
        except (KeyError, ValueError, TypeError, OSError, AttributeError):  # none yet, or nothing that can be believed
            return {}

    def vouch(self, mip: int, shard: tuple[int, int], records: Mapping[PageAt, PageRecord]) -> None:
        """Write what vouches for the pages of a shard; for no others, from now on."""
        attributes = {
            f"{at.row}:{at.column}": {"made from": one.made_from, "hash": one.digest} for at, one in sorted(records.items())
        }
        with plain_errors(self.address, _NONE):
            group = zarr_here().open_group(self.address, mode="a", path=self._place(mip, shard))
            group.attrs.put({"pages": attributes})

    def _place(self, mip: int, shard: tuple[int, int]) -> str:
        return f"{self.group}/finished/{mip}/{shard[0]}.{shard[1]}"

    def write(self, mip: int, first: tuple[int, int], pages: Mapping[MapRole, Stored]) -> bool:
        """Write pages (rows, columns, side, side, channels) of each role from a first one on, in one piece, of one shard.

        Return whether what the shard held before could not be read, so that its other pages are gone.
        """
        lost = False
        with plain_errors(self.address, _NONE):
            for role, texels in pages.items():
                rows, columns = texels.shape[:2]
                where = slice(first[0], first[0] + rows), slice(first[1], first[1] + columns)
                try:
                    self.array(role, mip)[where] = texels
                except (ValueError, RuntimeError):  # what is there is read first, where not all of the shard is written
                    self._clear(role, mip, first)
                    self.array(role, mip)[where] = texels
                    lost = True
        return lost

    def _clear(self, role: MapRole, mip: int, page: tuple[int, int]) -> None:
        """Remove the shard that holds a page."""
        from zarr.core.sync import sync

        array = self.array(role, mip)
        shard = (page[0] // array.shards[0], page[1] // array.shards[1], 0, 0, 0)
        sync(array.store.delete(f"{array.path}/{array.metadata.encode_chunk_key(shard)}"))

    def read(self, at: PageAt, record: PageRecord | None = None) -> dict[MapRole, Stored]:
        """Return a page, (side, side, channels) of each role; raise `DamagedPageError` if it is not as its record has it."""
        try:
            page = {role: np.asarray(self.array(role, at.mip)[at.row, at.column]) for role in self.roles}
        except QuiltError:
            raise
        except Exception as error:  # of whatever codec or store
            raise DamagedPageError(f"{self.address}: page {at} of {self.group} is damaged ({error})", [at]) from error
        if record is not None and digest_of(page) != record.digest:
            raise DamagedPageError(f"{self.address}: page {at} of {self.group} is not as it was written", [at])
        return page

    def region(self, mip: int, region: Region, digests: Mapping[PageAt, str]) -> dict[MapRole, Stored]:
        """Return any region of a mip that lies within it, (H, W, C) of each role, put together from its pages.

        Raises `DamagedPageError` with the pages that are not as `digests` has them: a chunk that is missing reads as zeros.
        """
        page, border = self.grid.page, self.grid.border
        top, left = region.top // page, region.left // page
        bottom, right = -(-region.bottom // page), -(-region.right // page)
        some: dict[MapRole, Stored | None] = {}
        for role in self.roles:
            try:
                some[role] = np.asarray(self.array(role, mip)[top:bottom, left:right])
            except QuiltError:
                raise
            except Exception:  # of whatever codec or store: some page of these, and which is found out by reading each
                some[role] = None
        damaged = []
        for row, column in product(range(top, bottom), range(left, right)):
            at = PageAt(mip, row, column)
            own = {role: each[row - top, column - left] for role, each in some.items() if each is not None}
            if len(own) < len(self.roles):
                try:
                    own = self.read(at)
                except DamagedPageError:
                    own = {}
            if digest_of(own) != digests.get(at):
                damaged.append(at)
        if damaged:
            raise DamagedPageError(f"{self.address}: page {damaged[0]} of {self.group} is not as it was written", damaged)
        inside, out = slice(border, border + page), {}
        for role, texels in some.items():
            assert texels is not None  # all were read, since none is damaged
            cores = texels[:, :, inside, inside].transpose(0, 2, 1, 3, 4)
            whole = cores.reshape((bottom - top) * page, (right - left) * page, -1)
            down, across = region.top - top * page, region.left - left * page
            out[role] = np.ascontiguousarray(whole[down : down + region.rows, across : across + region.columns])
        return out


def digest_of(page: Mapping[MapRole, Stored]) -> str:
    """Return a hash of a page's bytes."""
    digest = xxhash.xxh3_128()
    for role in sorted(page, key=lambda role: role.key):
        digest.update(np.ascontiguousarray(page[role]).data)
    return digest.hexdigest()
