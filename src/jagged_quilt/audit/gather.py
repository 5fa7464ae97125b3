"""Gathering: the sets of maps that lie in folders nobody prepared, each with the files that it takes, and why."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from jagged_quilt.audit.content_check import Thumbnail, objection, thumbnail
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.missing import missing
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.image_limits import LIMITS, ImageLimits
from jagged_quilt.maps.image_reader import image_suffixes
from jagged_quilt.maps.names import (
    UNCLEAR,
    NamedMap,
    NamedSet,
    Roles,
    channels_of,
    is_green_down,
    is_preview,
    sets_in,
    sky_faces,
    stem_of,
    words_of,
)
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.swatch_source import MapRule, Names, SwatchSource

TILE = 2.0
"""Metres that a tile is taken to cover: no picture tells."""

UNREAD = (
    ".psd",
    ".xcf",
    ".kra",
    ".svg",
    ".crn",
    ".pvr",
    ".ktx",
    ".jp2",
    ".jxl",
    ".heic",
    ".avif",
    ".iff",
    ".pcx",
    ".pic",
    ".ai",
)
"""Formats of pictures that are not read."""

_SMALLEST = 32  # texels: smaller pictures that belong to nothing are no materials
_NEARLY_SQUARE = 0.02
_VOWELS = "aeiouy"


@dataclass(frozen=True, slots=True, kw_only=True)
class Taken:
    """A file that a set takes.

    Attributes
    ----------
    roles : tuple of MapRole or None
        One role, or that of each channel.
    why : str
        A few words on how that is known.
    """

    file: Path
    roles: Roles
    why: str

    def rules(self, folder: Path) -> list[MapRule]:
        """Say it as rules of a swatch whose folder is `folder`."""
        file = Path(os.path.relpath(self.file, folder)).as_posix()
        if len(self.roles) == 1:
            return [MapRule(role=self.roles[0], file=file)]
        each = channels_of(self.roles).items()
        return [MapRule(role=role, file=file, channel=letters, whole_file=True) for role, letters in each]


@dataclass(frozen=True, slots=True, kw_only=True)
class Left:
    """A file that no set takes.

    Attributes
    ----------
    why : str
    ask : bool
        Whether somebody who knows the files should decide.
    """

    file: Path
    why: str
    ask: bool = False


@dataclass(frozen=True, slots=True, kw_only=True, repr=False)
class GatheredSet:
    """A set of maps that makes a swatch.

    Attributes
    ----------
    name : str
    folder : Path
    maps : tuple of Taken
    left : tuple of Left
        Files that belong to it by their names and are not taken.
    aspect : float
        How much higher than wide its colour map is.
    """

    name: str
    folder: Path
    maps: tuple[Taken, ...]
    left: tuple[Left, ...] = ()
    aspect: float = 1.0

    __repr__ = short_repr

    @property
    def tile(self) -> tuple[float, float]:
        """Metres that a tile is taken to cover along u and v, so that its texels are square: `TILE` along the longer side."""
        longer = max(1.0, self.aspect)
        return round(TILE / longer, 4), round(TILE * self.aspect / longer, 4)

    def source(self, *, tile: float | None = None, limits: ImageLimits = LIMITS) -> SwatchSource:
        """Return it as a swatch's source, which takes these files and no others; `tile` is metres along u."""
        rules = [rule for each in self.maps for rule in each.rules(self.folder)]
        return SwatchSource(
            name=self.name,
            folder=self.folder,
            tile=self.tile[0] if tile is None else tile,
            aspect=self.aspect,
            rules=rules,
            names=Names.OFF,
            limits=limits,
        )


@dataclass(frozen=True, slots=True, kw_only=True, repr=False)
class Gathering(NotebookValue):
    """What lies in some folders.

    Attributes
    ----------
    sets : tuple of GatheredSet
        In order of name, each with a name of its own.
    left : tuple of Left
        Image files that belong to no set, or to one that lacks a colour map.
    unread : tuple of Path
        Pictures in formats that are not read.
    """

    sets: tuple[GatheredSet, ...]
    left: tuple[Left, ...]
    unread: tuple[Path, ...]

    def __repr__(self) -> str:
        return f"<Gathering {len(self.sets)} sets; {len(self.left)} files belong to none>"

    def swatches(self, *, tile: float | None = None) -> list[Swatch]:
        """Return the sets that were found, read; `tile` is the metres that a repeat covers, where names do not say.

        Raises `QuiltError` where a file cannot be read.
        """
        return [each.source(tile=tile).read() for each in self.sets]


def gather(
    *folders: Path | str,
    words: Mapping[str, Roles] | None = None,
    known: Sequence[Path] = (),
    limits: ImageLimits = LIMITS,
    work: Work = ANYHOW,
) -> Gathering:
    """Look through folders, and all below them, for sets of maps.

    Names tell which files belong together and what each is; the pictures are asked whether they agree. What they do not agree
    on is not taken, and reported.

    Parameters
    ----------
    words : mapping of str to tuple of MapRole, optional
        Words of names, and what they tell, beside those that are known.
    known : sequence of Path, optional
        Files that belong to somebody already; a set that has one of them is passed over.

    Raises
    ------
    FileError
        If there is no such folder.

    Examples
    --------
    >>> jq.gather("swatches")
    <Gathering 2 sets; 0 files belong to none>
    >>> [each.name for each in jq.gather("swatches").swatches()]
    ['clay', 'salt']
    """
    files, unread = _files_in([Path(folder) for folder in folders])
    taken = {path.resolve() for path in known}
    sky = sky_faces(files)
    views = {path for path in files if is_preview(path)} - sky
    named = sets_in([path for path in files if path not in sky | views], words=words)
    named = _variants_with_what_they_share(named)
    theirs = [one for one in named if any(each.file.resolve() in taken for each in one.maps)]
    named = [one for one in named if not any(each.file.resolve() in taken for each in one.maps)]
    wanted = list({each.file: None for one in named for each in one.maps})
    seen: dict[Path, Thumbnail] = {}

    def look(path: Path) -> None:
        seen[path] = thumbnail(path, limits)

    work.through(wanted, look, step="looking at pictures")
    left = [Left(file=path, why="a face of a sky") for path in sorted(sky)]
    left += [Left(file=path, why="shows a material by its name, and is none of its maps") for path in sorted(views)]
    left += [
        Left(file=each.file, why=f'belongs by its name to "{one.name}", which stands in the file already')
        for one in theirs
        for each in one.maps
        if each.file.resolve() not in taken
    ]
    sets: list[GatheredSet] = []
    bare = [each for one in named if one.is_single for each in one.maps if not each.word]
    for one in named:
        alone = one.maps[0] if len(one.maps) == 1 and not one.maps[0].word else None
        if alone is not None and (why := _no_material(seen[alone.file]) or _near_a_set(one, named)):
            left.append(Left(file=alone.file, why=why, ask=not seen[alone.file].trouble))
            continue
        made = _chosen(one, seen)
        if any(MapRole.DIFFUSE in each.roles for each in made.maps):
            sets.append(made)
        else:
            left += _without_colour(one, made, bare, seen)
    return Gathering(sets=_with_own_names(sets), left=tuple(sorted(left, key=lambda each: each.file)), unread=tuple(unread))


def _files_in(folders: Sequence[Path]) -> tuple[list[Path], list[Path]]:
    files: set[Path] = set()
    unread: set[Path] = set()
    for folder in folders:
        if not folder.is_dir():
            raise FileError(missing(Path(folder), "folder to gather from"))
        for where, inner, names in os.walk(folder):
            inner[:] = sorted(name for name in inner if not name.startswith("."))
            for path in (Path(where, name) for name in names if not name.startswith(".")):
                if path.suffix.lower() in image_suffixes():
                    files.add(path)
                elif path.suffix.lower() in UNREAD:
                    unread.add(path)
    return sorted(files), sorted(unread)


def _chosen(one: NamedSet, seen: Mapping[Path, Thumbnail]) -> GatheredSet:
    """Decide which of a set's files plays which role."""
    by_roles: dict[Roles, list[NamedMap]] = defaultdict(list)
    for each in one.maps:
        by_roles[each.roles].append(each)
    taken: list[Taken] = []
    left: list[Left] = []
    played: set[MapRole | None] = set()
    for roles, twins in sorted(by_roles.items(), key=lambda each: (len(each[0]), _order(each[0]))):
        twins.sort(key=lambda each: (bool(each.word), seen[each.file].worth), reverse=True)
        first, *others = twins
        roles = _held_by(seen[first.file], roles)
        against = seen[first.file].trouble or objection(seen[first.file], roles, first.word)
        why = f'"{first.word}" in its name' if first.word else "bears the name of the set alone"
        if not roles:
            left += [Left(file=each.file, why=f'"{each.word}" in its name: not a map that is used') for each in twins]
            continue
        if roles == UNCLEAR:
            why = f'"{first.word}" in its name says that it is a map, and not which: say what it is under [names]'
            left += [Left(file=each.file, why=why, ask=True) for each in twins]
            continue
        if against:
            ask = not seen[first.file].trouble
            left.append(Left(file=first.file, why=f"{why} says {_words(roles)}, but {against}" if ask else against, ask=ask))
        elif len(roles) > 1 and played & {role for role in roles if role}:
            again = ", ".join(role.key for role in roles if role in played and role)
            left.append(Left(file=first.file, why=f"{why} says {_words(roles)}, but {again} is there by itself", ask=True))
        else:
            played |= set(roles)
            why += "; green down" if roles in ((MapRole.NORMAL,), (MapRole.COAT_NORMAL,)) and is_green_down(first.file) else ""
            why += "" if _names(first.file, one.words) else "; its variants share it"
            why += _better(seen[first.file], [seen[each.file] for each in others])
            taken.append(Taken(file=first.file, roles=roles, why=why))
        left += [Left(file=each.file, why=f"a twin of {first.file.name}") for each in others]
    colour = next((seen[each.file] for each in taken if MapRole.DIFFUSE in each.roles), None)
    aspect = 1.0 if colour is None or not colour.width else colour.height / colour.width
    aspect = aspect if abs(aspect - 1) > _NEARLY_SQUARE else 1.0
    return GatheredSet(name=one.name, folder=one.folder, maps=tuple(taken), left=tuple(left), aspect=aspect)


def _held_by(seen: Thumbnail, roles: Roles) -> Roles:
    """The roles that a file can hold: without an alpha that says something, not the one that its name tells of that."""
    if len(roles) < 4 or seen.trouble or seen.has_alpha:
        return roles
    return roles[:1] if roles[:3] == (roles[0],) * 3 or roles[1:3] == (None, None) else roles[:3]


def _names(path: Path, words: Sequence[str]) -> bool:
    """Whether a file's name holds all words of a set, or only its folders do."""
    stem = "".join(words_of(stem_of(path)))
    return all(word in stem for word in words) or not any(word[:-1] in stem for word in words)


def _no_material(seen: Thumbnail) -> str:
    """Why a picture that stands alone, its name telling nothing, is not taken for the colour of a material."""
    if seen.trouble:
        return seen.trouble
    if min(seen.width, seen.height) < _SMALLEST:
        return f"fits no set, and is too small for a material, {seen.width} x {seen.height}"
    if seen.is_normals:
        return "fits no set, and holds normals"
    if seen.file.suffix.lower() in (".hdr", ".exr") and seen.width == 2 * seen.height:
        return "fits no set, and is twice as wide as high and of high range, as pictures of surroundings are"
    return "fits no set, and is grey: it may be any map" if seen.is_grey else ""


def _near_a_set(one: NamedSet, named: Sequence[NamedSet]) -> str:
    """Why a picture that stands alone may be a map of a set near it, and is not taken for a material of its own."""
    for other in (each for each in named if each.folder == one.folder and each is not one):
        more = one.words[len(other.words) :]
        begins = one.words[: len(other.words)] == other.words and not all(word.isdigit() for word in more)
        if not other.is_single and not other.words:
            return (
                f'lies among the maps of "{other.name}", and its name says nothing that is known; say what it is under [names]'
            )
        if begins and other.words and (not other.is_single or not any(set(word) & set(_VOWELS) for word in more)):
            return (
                f'has the name of "{other.name}" and "{" ".join(more)}", which is not known; if it is a map, say which under '
                "[names]"
            )
    return ""


def _order(roles: Roles) -> list[int]:
    roles_in_order = list(MapRole)
    return [roles_in_order.index(role) if role else -1 for role in roles]


def _words(roles: Roles) -> str:
    return ", ".join(dict.fromkeys(role.key if role else "nothing" for role in roles))


def _better(first: Thumbnail, others: Sequence[Thumbnail]) -> str:
    """Why one of several twins was taken."""
    readable = [each for each in others if not each.trouble]
    if not others:
        return ""
    if not readable:
        return f"; {others[0].file.name} cannot be read"
    other = max(readable, key=lambda each: each.worth)
    if first.is_lossless != other.is_lossless:
        how = "lossless"
    elif first.width * first.height != other.width * other.height:
        how = f"larger, {first.width} x {first.height},"
    else:
        how = f"deeper, {first.bits} bit," if first.bits != other.bits else "first"
    return f"; the {how} of {len(others) + 1} twins"


def _variants_with_what_they_share(named: Sequence[NamedSet]) -> list[NamedSet]:
    """Give the maps of a set without colour to its variants: `door1_nm` to `door1a` and `door1b`, which have none such."""
    own = [one for one in named if any(MapRole.DIFFUSE in each.roles for each in one.maps)]
    out = list(own)
    for one in named:
        if any(MapRole.DIFFUSE in each.roles for each in one.maps):
            continue
        variants = [other for other in own if one.words and other.folder == one.folder and _is_variant(other.words, one.words)]
        if not variants:
            out.append(one)
        for other in variants:
            index = next(k for k, each in enumerate(out) if (each.words, each.folder) == (other.words, other.folder))
            there = {each.roles for each in out[index].maps}
            more = tuple(each for each in one.maps if each.roles not in there)
            out[index] = replace(out[index], maps=(*out[index].maps, *more))
    return out


def _is_variant(words: Sequence[str], of: Sequence[str]) -> bool:
    """Whether a name is another with one letter more behind a number."""
    last = of[-1]
    return (
        bool(words)
        and list(words[:-1]) == list(of[:-1])
        and words[-1][:-1] == last
        and last[-1].isdigit()
        and words[-1][-1].isalpha()
    )


def _without_colour(one: NamedSet, made: GatheredSet, bare: Sequence[NamedMap], seen: Mapping[Path, Thumbnail]) -> list[Left]:
    """What is left of a set that has no colour map, with the files that might be it."""
    left_by_file = {each.file: each for each in made.left}
    near = [each.file.name for each in bare if each.file.parent == one.folder and _begins_with(each.file, one.words)]
    might = f"; is it that of {', '.join(near[:4])}?" if near else ""
    return [
        left_by_file.get(each.file)
        or Left(file=each.file, why=f"{_words(each.roles)} of a set that has no colour map{might}", ask=True)
        for each in one.maps
    ]


def _begins_with(path: Path, words: Sequence[str]) -> bool:
    return bool(words) and "".join(words_of(path.stem)).startswith("".join(words)[:-1] or words[0])


def _with_own_names(sets: Sequence[GatheredSet]) -> tuple[GatheredSet, ...]:
    """Give sets of one name the names of their folders too, and numbers where that is not enough."""
    count: dict[str, int] = defaultdict(int)
    for each in sets:
        count[each.name] += 1
    used: set[str] = set()
    out = []
    for each in sorted(sets, key=lambda each: (each.name, each.folder)):
        name = each.name if count[each.name] == 1 else f"{' '.join(words_of(each.folder.name))} {each.name}"
        free = next(n for k in range(len(sets) + 2) if (n := name if k == 0 else f"{name} {k + 1}") not in used)
        used.add(free)
        out.append(replace(each, name=free))
    return tuple(out)
