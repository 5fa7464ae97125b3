"""Where the maps of a swatch come from: a folder, what its file names tell, and what is said outright."""

from __future__ import annotations

import contextlib
import math
import warnings
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from pathlib import Path
from typing import get_args

import numpy as np

from jagged_quilt.foundation.checks import known_name, positive
from jagged_quilt.foundation.choices import Choice
from jagged_quilt.foundation.errors import FileError, NameNotFoundError, QuiltError, QuiltWarning, RangeError
from jagged_quilt.foundation.files import FileDigests, fingerprint
from jagged_quilt.foundation.missing import missing
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.maps.by_example import Grow, grown
from jagged_quilt.maps.conversions import height_from_normal, slopes_from_normals
from jagged_quilt.maps.derive import inputs_of, made_from
from jagged_quilt.maps.image_files import image_is_deep, image_size
from jagged_quilt.maps.image_limits import LIMITS, LOSSY, ImageLimits
from jagged_quilt.maps.image_reader import Image, image_suffixes
from jagged_quilt.maps.map_source import Green, MapSource
from jagged_quilt.maps.names import NamedMap, Roles, own_maps, sets_in
from jagged_quilt.maps.roles import BLENDED_ROLES, FINE_ROLES, MapRole, Transfer
from jagged_quilt.maps.swatch import Swatch, mirrored, repeated
from jagged_quilt.maps.texture_map import TextureMap


class Seams(Choice):
    """Whether maps that do not repeat are laid out mirrored, two by two."""

    KEEP = "keep"
    MIRROR = "mirror"


class Fit(Choice):
    """What becomes of maps that are not square."""

    STRETCH = "stretch"
    REPEAT = "repeat"


class Names(Choice):
    """Whether the names of files tell the roles of those that no rule names."""

    ON = "on"
    OFF = "off"


@dataclass(frozen=True, slots=True, kw_only=True)
class MapRule:
    """What a user says outright of one map of a swatch; see `MapSource` for what the fields mean.

    Attributes
    ----------
    role : MapRole or None
        None leaves the file out.
    file : str
        Relative to the swatch's folder; empty for the file whose name tells the role.
    made_from : MapRole or None
        For a height map: `NORMAL` makes it from the normals.
    value : number or tuple of float
        What the map means everywhere, in place of a file; empty where there is a file.
    whole_file : bool
        Whether the file plays no other role by its name, though only a channel of it is read.
    """

    __repr__ = short_repr

    role: MapRole | None
    file: str = ""
    channel: str = ""
    green: Green | None = None
    transfer: Transfer | None = None
    invert: bool = False
    upside_down: bool = False
    smooth: bool = False
    times: float | tuple[float, ...] = 1.0
    made_from: MapRole | None = None
    value: tuple[float, ...] = ()
    whole_file: bool = False

    def __post_init__(self) -> None:
        if self.green is not None:
            known_name("green", str(self.green), get_args(Green))
        for name, kind in (("role", MapRole), ("made_from", MapRole), ("transfer", Transfer)):
            given = getattr(self, name)
            if given is not None:
                object.__setattr__(self, name, kind.of(given))
        if isinstance(self.value, (int, float)):
            object.__setattr__(self, "value", (float(self.value),))
        if self.value and (self.role is None or len(self.value) != self.role.value.channels):
            count = self.role.value.channels if self.role else 0
            raise RangeError(f"value needs {count} number(s) for this role; got {len(self.value)}")

    def onto(self, source: MapSource) -> MapSource:
        """Return a source with all that this rule says said of it; what it leaves open stays."""
        said = {name: getattr(self, name) for name in _KEYS if getattr(self, name) != _NOTHING_SAID[name]}
        return replace(source, **said)


_LEVEL = 0.005  # a slope that nobody sees
_KEYS = ("channel", "green", "transfer", "invert", "upside_down", "smooth", "times")
_NOTHING_SAID = {each.name: each.default for each in fields(MapRule) if each.name in _KEYS}


@dataclass(frozen=True, eq=False, kw_only=True)
class SwatchSource:
    """A folder of maps that is not read yet: which file plays which role is known, the texels are not.

    Attributes
    ----------
    rules : sequence of MapRule
        What is said outright; the names of files tell the rest.
    seams : "keep" or "mirror"
        Whether maps that do not repeat are laid out mirrored, two by two; the tile then covers twice as many metres.
    fit : "stretch" or "repeat"
        What becomes of maps that are not square: stretched to one, or repeated along the shorter side.
    names : "on" or "off"
        Whether files that no rule names play the role that their names tell.
    words : mapping of str to tuple of MapRole
        Words of names, and the roles that they tell, beside those that are known.
    limits : ImageLimits
        The largest image that is decoded.
    aspect : float
        How much longer a repeat is along v than along u; see `Swatch`.
    grow : Grow or None
        How it is grown by example to a tile that is larger and repeats nowhere within.
    """

    __repr__ = short_repr

    name: str
    folder: Path
    tile: float
    relief: float = 0.05
    rules: Sequence[MapRule] = ()
    seams: Seams = Seams.KEEP
    fit: Fit = Fit.STRETCH
    names: Names = Names.ON
    words: Mapping[str, Roles] = field(default_factory=dict)
    limits: ImageLimits = LIMITS
    aspect: float = 1.0
    grow: Grow | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "folder", Path(self.folder))
        positive("tile", self.tile, "m")
        positive("aspect of the tile", self.aspect)
        if self.aspect != 1 and Fit.of(self.fit, "way to fit") is Fit.REPEAT:
            raise RangeError('maps that are repeated to a square have a square tile; write one number, or fit = "stretch"')
        positive("relief", self.relief, "m")
        object.__setattr__(self, "seams", Seams.of(self.seams, "way with seams"))
        object.__setattr__(self, "fit", Fit.of(self.fit, "way to fit"))
        object.__setattr__(self, "names", Names.of(self.names, "way to read names"))

    @cached_property
    def files(self) -> tuple[Path, ...]:
        """The image files in the folder; raise `FileError` if there is no such folder."""
        if not self.folder.is_dir():
            raise FileError(missing(self.folder, "swatch folder"))
        if self.names is Names.OFF:
            return ()
        return tuple(
            sorted(p for p in self.folder.iterdir() if p.suffix.lower() in image_suffixes() and not p.name.startswith("."))
        )

    @cached_property
    def sources(self) -> dict[MapRole, MapSource]:
        """Where the map of each role comes from.

        Raises
        ------
        FileError
            If a rule names a file that is not there, or two files fit one role.
        """
        return self._resolved[0]

    @cached_property
    def unused(self) -> tuple[Path, ...]:
        """Image files of the folder that fit no role and that no rule names."""
        return self._resolved[1]

    @cached_property
    def _resolved(self) -> tuple[dict[MapRole, MapSource], tuple[Path, ...]]:
        found: dict[MapRole, MapSource] = {}
        spoken_for: set[Path] = set()
        for rule in self.rules:
            if not rule.file:
                continue
            path = self.folder / rule.file
            if not path.is_file():
                raise FileError(f"{path}: there is no such image file; in the folder: {self._names(self.files)}")
            if not rule.channel or rule.whole_file:
                spoken_for.add(path)
            if rule.role is None:
                continue
            if rule.role in found:
                raise FileError(f"{self.folder}: the {rule.role.key} map is declared twice")
            found[rule.role] = rule.onto(MapSource(role=rule.role, file=path, limits=self.limits))
        declared = set(found) | set(self.constants)
        named = {self.folder / rule.file for rule in self.rules if rule.file}
        by_file = {each.file: each for each in self._own_maps()}
        plain = {each.roles for each in by_file.values() if each.word}
        unused: list[Path] = []
        for path in self.files:
            own = by_file.get(path)
            by_name_alone = own is not None and not own.word and own.roles in plain
            role = own.roles[0] if own is not None and len(own.roles) == 1 and not by_name_alone else None
            if path in spoken_for:
                continue
            if role is None or role in declared:
                unused += [] if path in named or role in self.constants else [path]
            elif role in found and path.stem.lower() == found[role].file.stem.lower():
                better, worse = self._of_twins(found[role].file, path)
                found[role] = MapSource(role=role, file=better, limits=self.limits)
                unused.append(worse)
            elif role in found:
                raise FileError(
                    f"{self.folder}: both {found[role].file.name} and {path.name} look like the {role.key} map; move one away, "
                    f'or say which: [[swatch.map]] role = "{role.key}", file = "{path.name}"'
                )
            else:
                found[role] = MapSource(role=role, file=path, limits=self.limits)
        for rule in self.rules:
            if rule.file or rule.role is None or rule.made_from or rule.value:
                continue
            if rule.role not in found:
                raise FileError(
                    f'{self.folder}: no file looks like the {rule.role.key} map; name it with file = "…"; in the '
                    f"folder: {self._names(self.files)}"
                )
            found[rule.role] = rule.onto(found[rule.role])
        return found, tuple(unused)

    def _of_twins(self, one: Path, other: Path) -> tuple[Path, Path]:
        """Of two files with one name the better one: without loss, then larger; with a warning that the other is left out."""
        worth = lambda path: (path.suffix.lower() not in LOSSY, math.prod(image_size(path, self.limits)))
        better, worse = sorted((one, other), key=worth, reverse=True)
        warnings.warn(f"{worse}: left out; {better.name} is its twin", QuiltWarning, stacklevel=2)
        return better, worse

    def _own_maps(self) -> tuple[NamedMap, ...]:
        try:
            return own_maps(sets_in(self.files, words=self.words), self.name)
        except NameNotFoundError as error:
            raise FileError(f'{self.folder}: {error}, or write names = "off" and say which files it takes') from None

    @property
    def constants(self) -> dict[MapRole, tuple[float, ...]]:
        """The maps that are said to mean the same everywhere."""
        return {rule.role: rule.value for rule in self.rules if rule.value and rule.role is not None}

    @property
    def roles(self) -> frozenset[MapRole]:
        """The roles of its maps, as they are read; of rare ones not those that are said to be neutral."""
        said = {role for role, value in self.constants.items() if role.value.always or value != role.value.neutral}
        return frozenset(self.sources) | frozenset(said)

    @property
    def largest_side(self) -> int:
        """Texels along the longer side of its largest map; 1 where it has none but constants."""
        return max((max(image_size(each.file, self.limits)) for each in self.sources.values()), default=1)

    @property
    def fine_roles(self) -> frozenset[MapRole]:
        """Which of its height and its normals have more than 8 bits, by the heads of their files."""
        deep = set()
        for role in FINE_ROLES:
            read = [self.sources[each] for each in self.inputs(role) if each in self.sources]
            with contextlib.suppress(QuiltError):  # what reads it says why it cannot be read
                if any(each.smooth or image_is_deep(each.file, each.limits) for each in read):
                    deep.add(role)
        return frozenset(deep)

    @property
    def _height_from_normal(self) -> bool:
        return any(rule.role is MapRole.HEIGHT and rule.made_from is MapRole.NORMAL for rule in self.rules)

    @property
    def size(self) -> float:
        """Metres that one repeat covers, with mirrored copies, and grown."""
        return self.tile * (2 if self.seams is Seams.MIRROR else 1) * (self.grow.times if self.grow else 1)

    def inputs(self, role: MapRole) -> tuple[MapRole, ...]:
        """Return the roles of the files that a role is made from."""
        if role is MapRole.HEIGHT and self._height_from_normal:
            return self.inputs(MapRole.NORMAL)
        if role is MapRole.OPACITY and role not in self.sources and role not in self.constants:
            return (MapRole.DIFFUSE,) if MapRole.DIFFUSE in self.sources else ()
        present = (
            set(self.sources)
            | set(self.constants)
            | ({MapRole.HEIGHT} if self._height_from_normal and MapRole.NORMAL in self.sources else set())
        )
        found = inputs_of(role, present)
        return tuple(each for one in found for each in (self.inputs(one) if one is not role else (one,)))

    def words_on(self, role: MapRole) -> str:
        """A few words on what a surface role is made from; empty where it is read, or neutral."""
        if role is MapRole.HEIGHT and self._height_from_normal:
            return "from normals"
        inputs = self.inputs(role)
        return made_from(role, inputs) if inputs != (role,) else ""

    def check(self, maps: Mapping[MapRole, TextureMap]) -> None:
        """Raise what `read` would raise, given the maps that it reads, without making what is not there."""
        known = {**maps, **{role: constant_map(role, value) for role, value in self.constants.items()}}
        whole = Swatch(name=self.name, tile=self.tile, relief=self.relief, maps=known, folder=self.folder)
        if self.fit is Fit.REPEAT:
            repeated(whole)
        if self._height_from_normal:
            if MapRole.NORMAL not in known:
                raise FileError(f"{self.folder}: there is no normal map to make the height map from")
            self._integrated(known[MapRole.NORMAL])

    def stamp(self, roles: Collection[MapRole], digests: FileDigests | None = None) -> str:
        """Return a hash of all that the maps of some roles are made from: bytes of files, and how they are read."""
        digests = digests or FileDigests()
        parts: list[str] = [self.seams, self.fit, *([repr(self.grow)] if self.grow else [])]
        for role in sorted(roles, key=lambda each: each.key):
            inputs = self.inputs(role)
            parts += [
                role.key,
                *(self.sources[each].stamp(digests) if each in self.sources else str(self.constants[each]) for each in inputs),
            ]
            if inputs != (role,):
                parts.append(f"{self.tile} {self.relief}" + (f" {self.aspect}" if self.aspect != 1 else ""))
        return fingerprint(*parts)

    def read(self, roles: Collection[MapRole] | None = None) -> Swatch:
        """Read the maps that some roles need, and make what can be made; all that is blended where none are named.

        Who asks for opacity by name gets the alpha of the diffuse file where no other map of it is there.

        Raises
        ------
        QuiltError
            If a file cannot be read or cannot play its role, or there is no diffuse map.
        """
        takes_alpha = roles is not None and MapRole.OPACITY in roles
        roles = BLENDED_ROLES if roles is None else roles
        seen: dict[Path, Image] = {}
        wanted = {each for role in (*roles, MapRole.DIFFUSE) for each in self.inputs(role)}
        maps = {role: source.read(seen) for role, source in self.sources.items() if role in wanted}
        for role in wanted & set(self.constants):
            maps[role] = constant_map(role, self.constants[role])
        derived = {}
        if takes_alpha and MapRole.OPACITY not in maps and MapRole.DIFFUSE in self.sources:
            source = self.sources[MapRole.DIFFUSE]
            if "a" in (name.lower() for name in seen[source.file].channels):
                maps[MapRole.OPACITY] = MapSource(role=MapRole.OPACITY, file=source.file, channel="a", limits=self.limits).read(
                    seen
                )
                derived[MapRole.OPACITY] = "alpha of the diffuse file"
        if self._height_from_normal and MapRole.HEIGHT in roles:
            if MapRole.NORMAL not in maps:
                raise FileError(f"{self.folder}: there is no normal map to make the height map from")
            maps[MapRole.HEIGHT], derived[MapRole.HEIGHT] = self._integrated(maps[MapRole.NORMAL])
        read = Swatch(
            name=self.name,
            tile=self.tile,
            relief=self.relief,
            maps=maps,
            folder=self.folder,
            unused=self.unused,
            derived=derived,
            aspect=self.aspect,
        )
        whole = (repeated(read) if self.fit is Fit.REPEAT else read).with_roles(roles)
        whole = mirrored(whole) if self.seams is Seams.MIRROR else whole
        return grown(whole, self.grow) if self.grow else whole

    def _integrated(self, normals: TextureMap) -> tuple[TextureMap, str]:
        metres = height_from_normal(normals.values, tile=(self.tile, self.tile * self.aspect))
        middle = (metres.max() + metres.min()) / 2
        needed = float(np.ptp(metres))
        if needed > self.relief * 1.001:
            raise RangeError(
                f'swatch "{self.name}": the height map that its normals tell spans {needed:.3g} m, more than its '
                f"relief of {self.relief:g} m; write relief = {needed:.2g}"
            )
        values = np.clip((metres - middle) / self.relief + 0.5, 0, 1)
        words = f"from normals; spans {needed:.3g} m"
        lean = [float(each.mean()) for each in slopes_from_normals(normals.values)]
        if max(map(abs, lean)) > _LEVEL:
            words += f"; leant by {100 * lean[0]:.1f} % along u and {100 * lean[1]:.1f} % along v on average, taken out"
        return TextureMap.of_values(MapRole.HEIGHT, values[..., None], normals.source), words

    @staticmethod
    def _names(files: Sequence[Path]) -> str:
        return ", ".join(path.name for path in files) or "none"


def constant_map(role: MapRole, value: tuple[float, ...]) -> TextureMap:
    """Return a map of one texel."""
    return TextureMap.of_values(role, np.array(value, np.float32)[None, None])
