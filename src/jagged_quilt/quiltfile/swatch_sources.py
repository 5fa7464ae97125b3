"""Where the swatches of a quilt file come from."""

from __future__ import annotations

from collections.abc import Callable, Collection
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

from jagged_quilt.foundation.checks import positive
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.files import FileDigests
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.maps.names import channels_of
from jagged_quilt.maps.plain_swatch import plain_value
from jagged_quilt.maps.roles import PACKED, MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.swatch_source import MapRule, SwatchSource
from jagged_quilt.quiltfile.key_paths import Path as KeyPath
from jagged_quilt.quiltfile.locator import Locator
from jagged_quilt.quiltfile.schema import MapTable, SwatchTable
from jagged_quilt.quiltfile.tables import said


@dataclass(frozen=True, eq=False, kw_only=True, repr=False)
class PlacedSource(SwatchSource):
    """A swatch's source that names its place in the quilt file in all that it refuses."""

    within: PathGuard = field(repr=False)
    at: Callable[[], AbstractContextManager[None]] = field(repr=False)

    @cached_property
    def files(self) -> tuple[Path, ...]:
        """The image files in the folder; raise `FileError` if one is a link to what the quilt file may not read."""
        return tuple(self.within.check(path) if path.is_symlink() else path for path in super().files)

    def read(self, roles: Collection[MapRole] | None = None) -> Swatch:
        """Read as `SwatchSource.read` does."""
        with self.at():
            return super().read(roles)

    def stamp(self, roles: Collection[MapRole], digests: FileDigests | None = None) -> str:
        """Hash as `SwatchSource.stamp` does."""
        with self.at():
            return super().stamp(roles, digests)


def source_of(where: Locator, within: PathGuard, index: int, swatch: SwatchTable) -> PlacedSource:
    """Return where the swatch of a table comes from; nothing of it is read."""
    rules = [rule for which, each in enumerate(swatch.map) for rule in _rules(where, ("swatch", index, "map", which), each)]
    with where.at("swatch", index, "plain"):
        rules += [MapRule(role=_ROLES[key], value=plain_value(_ROLES[key], value)) for key, value in swatch.plain.items()]
    with where.at("swatch", index):
        own = said(swatch, SwatchSource, leave_out=("folder", "rules", "words", "limits", "aspect"))
        if isinstance(swatch.tile, tuple):
            along, down = (positive("tile", each, "m") for each in swatch.tile)
            own |= {"tile": along, "aspect": down / along}
        if not swatch.folder and not swatch.plain:
            raise RangeError('needs its maps: folder = "…", or plain = { diffuse = "#rrggbb", roughness = 0.5 }')
        if not swatch.folder:
            own |= {"names": "off"}
        return PlacedSource(
            **own,
            folder=where.path.parent / swatch.folder,
            rules=rules,
            words=where.table.words(),
            limits=where.table.images,
            within=within,
            at=lambda: where.at("swatch", index, "folder"),
        )


def _rules(where: Locator, here: KeyPath, table: MapTable) -> list[MapRule]:
    """Turn one [[swatch.map]] into rules: one, or one for each channel of a packed file."""
    with where.at(*here):
        if [bool(table.role), bool(table.roles), bool(table.packed)].count(True) != 1:
            raise RangeError(
                'say what the map is: role = "…", or for a file of several maps roles = ["…", "…"] or packed = "gltf"'
            )
        return [_one_rule(table)] if table.role else _packed_rules(table)


_ROLES = {role.key: role for role in MapRole}
_SAID_OTHERWISE = ("role", "made_from", "value", "whole_file")


def _one_rule(table: MapTable) -> MapRule:
    role = _ROLES.get(table.role or "")
    if role is None and not table.file:
        raise RangeError('role = "none" leaves a file out; name it with file = "…"')
    if table.green and (role is None or not role.value.direction):
        raise RangeError("green is said of normal maps")
    if table.made_from and (role is not MapRole.HEIGHT or table.file):
        raise RangeError('made_from = "normal" is for role = "height", and without a file')
    if table.value is not None and table.file:
        raise RangeError("a map is a file or a value, not both")
    value = table.value if isinstance(table.value, list) else [] if table.value is None else [table.value]
    own = said(table, MapRule, leave_out=_SAID_OTHERWISE)
    return MapRule(**own, role=role, value=tuple(value), made_from=_ROLES[table.made_from] if table.made_from else None)


def _packed_rules(table: MapTable) -> list[MapRule]:
    if not table.file or table.channel or table.made_from or table.green or table.value is not None:
        raise RangeError("a file of several maps needs its file, and takes no channel, green, value or made_from")
    roles = [_ROLES.get(each) for each in table.roles] if table.roles else list(PACKED[table.packed or "gltf"])
    return [
        MapRule(
            role=role,
            file=table.file,
            channel=channel,
            invert=table.invert,
            upside_down=table.upside_down,
            transfer=table.transfer,
            times=table.times,
            whole_file=True,
        )
        for role, channel in channels_of(tuple(roles)).items()
    ]
