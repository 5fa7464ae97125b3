"""Which image files belong together, and which role each plays, by the words of their names.

A word that tells a role counts only where the names of a set differ: what all files of a set share is the material's name.
`rough_wall_diff` beside `rough_wall_hm` is a wall with two maps, and no roughness map. So files are not read one by one. Every
file offers each way in which its name can be a material and a role, or the bare name of a material; then the materials that
most files agree on are taken, one after the other.
"""

from __future__ import annotations

import re
import unicodedata
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise, permutations, product
from pathlib import Path

from jagged_quilt.foundation.errors import NameNotFoundError
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.maps.roles import MapRole

Roles = tuple[MapRole | None, ...]
"""What a file holds: one role, or one for each of its channels, of which None is not used; nothing if it is of no use."""

_R = MapRole


def _by_initials() -> Iterator[tuple[str, Roles]]:
    """Occlusion, roughness and metal in any order, by their initials; with height in the alpha, too."""
    initials = {_R.OCCLUSION: ("o", "a", "ao"), _R.ROUGHNESS: ("r",), _R.METALLIC: ("m",)}
    for order in permutations(initials):
        for letters in product(*(initials[role] for role in order)):
            yield "".join(letters), order
            yield "".join(letters) + "h", (*order, _R.HEIGHT)


def _with_alpha(role: MapRole, alpha: MapRole) -> Roles:
    return (role, role, role, alpha)


PACKED_WORDS: dict[str, Roles] = {
    **dict(_by_initials()),
    **dict.fromkeys(("occlusionroughnessmetallic", "aoroughmetal"), (_R.OCCLUSION, _R.ROUGHNESS, _R.METALLIC)),
    **dict.fromkeys(("maskmap", "mos"), (_R.METALLIC, _R.OCCLUSION, None, _R.GLOSS)),
    "ord": (_R.OCCLUSION, _R.ROUGHNESS, _R.HEIGHT),
    "orh": (_R.OCCLUSION, _R.ROUGHNESS, _R.HEIGHT),
    **dict.fromkeys(("rghmet", "roughmet", "roughmetal", "roughnessmetallic"), (_R.ROUGHNESS, _R.METALLIC)),
    **dict.fromkeys(("metallicroughness", "metalrough", "metallicrough"), (None, _R.ROUGHNESS, _R.METALLIC)),
    **dict.fromkeys(
        ("metallicsmoothness", "metalsmoothness", "metallicsmooth", "metallicgloss", "metalgloss", "metallicglossiness"),
        (_R.METALLIC, None, None, _R.GLOSS),
    ),
    **dict.fromkeys(
        ("specularsmoothness", "specularglossiness", "speculargloss", "specgloss", "specsmooth", "specularsmooth"),
        _with_alpha(_R.SPECULAR, _R.GLOSS),
    ),
    **dict.fromkeys(
        (
            *("albedotransparency", "albedoalpha", "albedoopacity", "basecoloropacity", "basecoloralpha"),
            *("basecolortransparency", "diffusealpha", "diffuseopacity", "diffusetransparency", "coloralpha", "coloropacity"),
        ),
        _with_alpha(_R.DIFFUSE, _R.OPACITY),
    ),
    **dict.fromkeys(
        ("albedosmoothness", "basecolorsmoothness", "albedogloss", "diffusegloss", "diffusesmoothness"),
        _with_alpha(_R.DIFFUSE, _R.GLOSS),
    ),
    **dict.fromkeys(("albedoroughness", "basecolorroughness", "diffuseroughness"), _with_alpha(_R.DIFFUSE, _R.ROUGHNESS)),
    **dict.fromkeys(
        ("albedoheight", "basecolorheight", "diffuseheight", "colorheight", "albedodisplacement"),
        _with_alpha(_R.DIFFUSE, _R.HEIGHT),
    ),
    **dict.fromkeys(
        ("normalheight", "normaldisplacement", "normaldisp", "normalbump", "nh"), _with_alpha(_R.NORMAL, _R.HEIGHT)
    ),
    **dict.fromkeys(("normalgloss", "normalsmoothness"), _with_alpha(_R.NORMAL, _R.GLOSS)),
    **dict.fromkeys(("normalroughness", "normalrough"), _with_alpha(_R.NORMAL, _R.ROUGHNESS)),
}
"""Words for several roles in the red, green, blue and alpha of one file; a role of three channels stands three times."""

UNUSED_WORDS = ("packed",)
"""Words for what is known and not used: packed maps whose channels are unknown."""

UNCLEAR: Roles = (None,)
"""The roles of a file whose name tells that it is a map, and not which: somebody must be asked."""
UNCLEAR_WORDS = (
    *(
        "luminosity",
        "luminance",
        "masks",
        "palette",
        "lut",
        "ramp",
        "env",
        "environment",
        "envmap",
        "environmentmap",
        "cubemap",
    ),
    *("panorama", "hdri", "add", "additive", "gm", "sm", "mk", "idmap", "matid", "lightmap", "lm", "thickness", "sss"),
    *("subsurface", "cubemap"),
)
"""Words that name maps, of which this library has no role, or several."""

PREVIEW_WORDS = ("preview", "thumb", "thumbnail", "icon", "screenshot", "render", "sphere", "cover", "sample", "logo")
GREEN_DOWN_WORDS = ("dx", "directx", "normaldx", "normdx")
_SKY_FACES = ({"bk", "dn", "ft", "lf", "rt", "up"}, {"px", "nx", "py", "ny", "pz", "nz"})
_MOST_FACES = 5  # a sky may lack the one below
_SKY_SIDES = {"back", "down", "front", "left", "right", "up", "top", "bottom"}

_SIDES = "128|256|512|1024|2048|4096|8192|16384"  # a number that is none of these is a part of a name
_IDLE = re.compile(
    rf"\d{{1,2}}k|{_SIDES}|\d+x\d+|\d+px|\d+bit|v\d+|png|tiff?|exr|tga|jpe?g|dds|ktx2|bmp|hdr|webp|"
    r"gl|opengl|ogl|dx|directx|map|maps|tex|texture|textures|t|seamless|tiled|tileable"
)
_IDLE_FOLDER = re.compile(
    rf"maps?|textures?|tex|images?|source|files|png|tiff?|exr|tga|jpe?g|\d{{1,2}}k|{_SIDES}|\d+px|\d+x\d+"
)
_SIZE_AT_END = re.compile(rf"(?<=[a-z])(?:\d{{1,2}}k|{_SIDES})$")
_LONGEST_WORD = 3  # words that together name a role: base color, ambient occlusion, occlusion roughness metallic
_LONGEST_INITIALS = 4
_SHORTEST_GLUED = 3  # letters of a word that is found though nothing parts it from the material's name

_ROLES_OF_WORD: dict[str, Roles] = {
    **dict.fromkeys(UNUSED_WORDS, ()),
    **dict.fromkeys(UNCLEAR_WORDS, UNCLEAR),
    **PACKED_WORDS,
    **{word: (role,) for role in MapRole for word in role.value.words},
}


def channels_of(roles: Roles) -> dict[MapRole, str]:
    """Return which of the channels r, g, b and a of a file hold each role, for roles that are named channel by channel."""
    out: dict[MapRole, str] = {}
    for role, letter in zip(roles, "rgba", strict=False):
        if role is not None:
            out[role] = out.get(role, "") + letter
    return out


@dataclass(frozen=True, slots=True)
class NamedMap:
    """A file of a set.

    Attributes
    ----------
    roles : tuple of MapRole or None
    word : str
        The word that says so, or empty for a file that bears the set's name alone.
    """

    file: Path
    roles: Roles
    word: str


@dataclass(frozen=True, slots=True)
class NamedSet:
    """Files that belong together.

    Attributes
    ----------
    words : tuple of str
        What their names share, lower case; nothing where only their folder names them.
    folder : Path
    maps : tuple of NamedMap
    """

    __repr__ = short_repr

    words: tuple[str, ...]
    folder: Path
    maps: tuple[NamedMap, ...] = field(default=())

    @property
    def name(self) -> str:
        """A name to call it by: what the files share, else the folder's name."""
        return " ".join(self.words or words_of(self.folder.name)) or self.folder.name

    @property
    def is_single(self) -> bool:
        """Whether no two of its files play different roles."""
        return len({each.roles for each in self.maps}) < 2


@dataclass(frozen=True, slots=True)
class _Reading:
    """One way to read a file's name."""

    words: tuple[str, ...]
    roles: Roles
    word: str
    is_last: bool
    is_glued: bool

    @property
    def worth(self) -> tuple[bool, bool, int]:
        return not self.is_glued, self.is_last, len(self.word)


def words_of(name: str) -> list[str]:
    """Return the words of a name, lower case: parted by all but letters and digits, and by a capital after a small letter or
    digit; a size that is glued on is parted too: `rockNormal_wet2k` gives rock, normal, wet, 2k."""
    out = []
    name = unicodedata.normalize("NFC", name)
    kinds = "".join(map(_kind_of, name))
    for found in re.finditer(r"A?[a0]+|[A0]+(?!a)", kinds):
        word = name[found.start() : found.end()]
        size = _SIZE_AT_END.search(word.lower())
        out += [word.lower()[: size.start()], size[0]] if size else [word.lower()]
    return out


def _kind_of(letter: str) -> str:
    """A for a capital, a for any other letter and for what belongs to one, 0 for a digit, else a blank."""
    if letter.isupper():
        return "A"
    if letter.isalpha() or unicodedata.category(letter).startswith("M"):
        return "a"
    return "0" if letter.isdigit() else " "


def stem_of(path: Path) -> str:
    """A file's name without its suffixes, however many of image formats are stacked."""
    name = path.name.removesuffix(path.suffix)
    while (last := name.rpartition("."))[0] and _IDLE.fullmatch(last[2].lower()):
        name = last[0]
    return name


def is_green_down(path: Path) -> bool:
    """Whether a file name says that its normals' green points down the image."""
    words = words_of(path.name.removesuffix(path.suffix))
    return any(word in GREEN_DOWN_WORDS for word in [*words, *map("".join, pairwise(words))])


def roles_of_file(path: Path) -> Roles | None:
    """Return what a name tells by itself, or None: the last word that names a role counts."""
    readings = [each for each in _readings(words_of(stem_of(path)), _ROLES_OF_WORD) if each.word and not each.is_glued]
    best = max(readings, key=lambda each: each.is_last, default=None)
    return best.roles if best is not None else None


def role_of_file(path: Path) -> MapRole | None:
    """Return the one role that a name tells by itself, or None."""
    roles = roles_of_file(path)
    return roles[0] if roles is not None and len(roles) == 1 else None


def sets_in(files: Sequence[Path], *, words: Mapping[str, Roles] | None = None) -> list[NamedSet]:
    """Group files into sets by what their names share.

    Sub-folders that are named after a role or a size belong to the folder around them.

    Parameters
    ----------
    words : mapping, optional
        More words, or other meanings of known ones; they go before what is known.
    """
    known = {**_ROLES_OF_WORD, **{"".join(words_of(word)): roles for word, roles in (words or {}).items()}}
    by_folder: dict[Path, list[tuple[Path, list[str]]]] = defaultdict(list)
    for path in sorted(files):
        folder, more = _home(path.parent, known)
        own = words_of(stem_of(path))
        by_folder[folder].append((path, own + [word for word in more if word not in own]))
    return [one for folder, named in by_folder.items() for one in _sets(folder, named, known)]


def _home(folder: Path, known: Mapping[str, Roles]) -> tuple[Path, list[str]]:
    """The folder that names a set, and the roles that the folders below it name."""
    more: list[str] = []
    while folder.name and folder.parent.name:
        word = "".join(words_of(folder.name))
        if word in known and len(word) > 1 and known[word]:
            more.append(word)
        elif not _IDLE_FOLDER.fullmatch(word):
            break
        folder = folder.parent
    return folder, more


def _sets(folder: Path, named: list[tuple[Path, list[str]]], known: Mapping[str, Roles]) -> Iterator[NamedSet]:
    readings = {path: list(_readings(words, known)) for path, words in named}
    left = set(readings)
    family: set[str] = set()  # the words that sets of this folder go by: alone, a single letter counts only if it is of these
    while left:
        offers: dict[tuple[str, ...], dict[Path, _Reading]] = defaultdict(dict)
        for path in left:
            for each in readings[path]:
                before = offers[each.words].get(path)
                if before is None or each.worth > before.worth:
                    offers[each.words][path] = each
        agreed = {key: made for key, made in offers.items() if len({each.roles for each in made.values()}) > 1}
        if not agreed:
            break
        key = max(agreed, key=lambda each: _agreement(each, agreed[each]))
        family |= {each.word for each in agreed[key].values()}
        yield _set_of(key, folder, agreed[key])
        left -= set(agreed[key])
    alone: dict[tuple[tuple[str, ...], Roles], dict[Path, _Reading]] = defaultdict(dict)
    for path in left:
        telling = [
            each for each in readings[path] if each.word and not each.is_glued and (len(each.word) > 1 or each.word in family)
        ]
        best = max(telling, key=lambda each: each.worth, default=readings[path][-1])
        alone[best.words, best.roles][path] = best
    for (key, _), made in sorted(alone.items(), key=lambda each: each[0][0]):
        yield _set_of(key, folder, made)


def _agreement(key: tuple[str, ...], made: Mapping[Path, _Reading]) -> tuple[object, ...]:
    """What speaks for a material's name: how many roles it gives, how plainly they are named, how much is shared."""
    roles = {each.roles for each in made.values()}
    plain = sum(each.is_last and not each.is_glued for each in made.values())
    return len(roles), plain / len(made), len(made), len(key), [-ord(c) for c in " ".join(key)]


def _set_of(key: tuple[str, ...], folder: Path, made: Mapping[Path, _Reading]) -> NamedSet:
    return NamedSet(key, folder, tuple(NamedMap(path, made[path].roles, made[path].word) for path in sorted(made)))


def _readings(words: Sequence[str], known: Mapping[str, Roles]) -> Iterator[_Reading]:
    """Every way to read the words of a name: with one role in it, then as the bare name of a material."""
    plain = [word for word in _with_idle_endings(words, known) if word in known or not _IDLE.fullmatch(word)]
    for last in range(len(plain), 0, -1):
        for count in range(min(_LONGEST_WORD, last), 0, -1):
            word = "".join(plain[last - count : last])
            rest = (*plain[: last - count], *plain[last:])
            is_last = last == len(plain) or all(each.isdigit() for each in plain[last:])
            if word in known and (len(word) > 1 or (is_last and rest)):
                yield _Reading(rest, known[word], word, is_last, False)
        ending = _ending(plain[last - 1], known)
        if ending:
            rest = (*plain[: last - 1], plain[last - 1].removesuffix(ending), *plain[last:])
            yield _Reading(rest, known[ending], ending, last == len(plain), True)
    yield _Reading(tuple(plain), (MapRole.DIFFUSE,), "", True, False)


def _with_idle_endings(words: Sequence[str], known: Mapping[str, Roles]) -> list[str]:
    """The words of a name, with a word that tells nothing joined to the one before where both together tell something else."""
    out: list[str] = []
    for word in words:
        both = out[-1] + word if out and _IDLE.fullmatch(word) else ""
        if both in known and known[both] != known.get(out[-1]):
            out[-1] = both
        else:
            out.append(word)
    return out


def _ending(word: str, known: Mapping[str, Roles]) -> str:
    """The longest known word that a longer word ends in; empty if there is none."""
    endings = (word[cut:] for cut in range(2, len(word) - _SHORTEST_GLUED + 1))
    return next((each for each in endings if each in known and _may_be_glued(each, known[each])), "")


def _may_be_glued(word: str, roles: Roles) -> bool:
    """Whether a word counts that nothing parts from a longer one: three initials end too many words."""
    return roles != UNCLEAR and (len(roles) < 2 or len(word) > _LONGEST_INITIALS)


def own_maps(sets: Sequence[NamedSet], name: str) -> tuple[NamedMap, ...]:
    """Return the maps of the one set of a folder that a swatch of some name means.

    It is the set of that name, or the only one of several maps. What else lies there belongs to others, but for single maps
    whose names are a part of the set's, or hold it: `clay_ao` beside `old_clay_normal`.

    Raises `NameNotFoundError` if it might be one of several.
    """
    called = [each for each in sets if list(each.words) == words_of(name)]
    found = (
        called or [each for each in sets if not each.is_single] or [each for each in sets if _holds_colour(each)] or list(sets)
    )
    if not found:
        return ()
    if len(found) > 1:
        names = ", ".join(sorted(f'"{each.name}"' for each in found)[:12]) + (" …" if len(found) > 12 else "")
        raise NameNotFoundError(f"holds the maps of {len(found)} materials: {names}; name the swatch as one of them")
    own = found[0]
    maps, words = list(own.maps), set(own.words)
    for other in sets:
        named = [each for each in other.maps if each.word]
        if other is own or not named or not other.is_single or not (words <= set(other.words) or set(other.words) <= words):
            continue
        if named[0].roles not in {each.roles for each in maps}:
            maps += named
    return tuple(maps)


def _holds_colour(one: NamedSet) -> bool:
    return any(MapRole.DIFFUSE in each.roles for each in one.maps)


def is_preview(path: Path) -> bool:
    """Whether a name says that the file shows a material and is none of its maps."""
    return any(word in PREVIEW_WORDS for word in words_of(stem_of(path)))


def sky_faces(files: Sequence[Path]) -> set[Path]:
    """Return the files that are the six faces of a sky."""
    faces: dict[tuple[Path, tuple[str, ...]], dict[str, Path]] = defaultdict(dict)
    for path in files:
        words = words_of(stem_of(path))
        if words:
            faces[path.parent, tuple(words[:-1])][words[-1]] = path
    found: set[Path] = set()
    for made in faces.values():
        for names in (*_SKY_FACES, _SKY_SIDES):
            there = names & set(made)
            if len(there) >= _MOST_FACES:
                found |= {made[each] for each in there}
    return found
