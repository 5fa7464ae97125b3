"""What a texture map is for, with all that follows from it."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import Enum
from itertools import pairwise
from pathlib import Path

from jagged_quilt.foundation.choices import Choice


class Transfer(Choice):
    """How stored values stand for what they mean."""

    SRGB = "srgb"
    NONE = "linear"


@dataclass(frozen=True, slots=True, kw_only=True)
class RoleFacts:
    """What is true of every map of a role. A new role is a new line here, and nothing else.

    Attributes
    ----------
    channels : int
        How many channels carry the role.
    neutral : tuple of float
        What stands in for a missing map: linear light, unit normal, or plain number.
    words : tuple of str
        The trade's words for it in file names, lower case, without separators. A single letter counts only as the last word.
        To teach the library another word, add it here.
    note : str
        What is to be known of it, in two words.
    array : str
        The array in which a blend reads it; empty for what is not blended, but turned into others when a swatch is read.
    bits : int
        8 or 16: how it is stored when it is baked.
    always : bool
        Whether it is blended and baked even if no array carries it.
    direction : bool
        Whether it is a unit vector: stored with 0 in the middle, and of its channels the first two tell the third.
    """

    channels: int
    neutral: tuple[float, ...]
    words: tuple[str, ...]
    transfer: Transfer = Transfer.NONE
    note: str = ""
    array: str = ""
    bits: int = 8
    always: bool = False
    direction: bool = False

    @property
    def letters(self) -> str:
        """What its channels are called."""
        return "" if self.channels == 1 else "xyz" if self.direction else "rgb"

    @property
    def packed(self) -> int:
        """How many of its channels an array holds."""
        return 2 if self.direction else self.channels


_COLOUR, _DATA = "diffuse_height", "normal_roughness_occlusion"


class MapRole(Enum):
    """The roles that a material's maps play. `role.value` holds the `RoleFacts`, `role.key` the name in files."""

    DIFFUSE = RoleFacts(
        channels=3,
        transfer=Transfer.SRGB,
        neutral=(0.2, 0.2, 0.2),
        note="sRGB",
        array=_COLOUR,
        always=True,
        words=(
            "diffuse",
            "diff",
            "dif",
            "dff",
            "albedo",
            "alb",
            "basecolor",
            "basecolour",
            "basecol",
            "color",
            "colour",
            "col",
            "d",
        ),
    )
    NORMAL = RoleFacts(
        channels=3,
        neutral=(0.0, 0.0, 1.0),
        note="green up",
        array=_DATA,
        always=True,
        direction=True,
        words=("normal", "normals", "normalmap", "nrm", "nrml", "norm", "nor", "nml", "n"),
    )
    ROUGHNESS = RoleFacts(
        channels=1,
        neutral=(0.7,),
        note="white rough",
        array=_DATA,
        always=True,
        words=("roughness", "rough", "rgh", "roughnessmap", "r"),
    )
    SPECULAR = RoleFacts(
        channels=3,
        transfer=Transfer.SRGB,
        neutral=(0.04, 0.04, 0.04),
        note="sRGB",
        array="specular",
        always=True,
        words=("specular", "spec", "spc", "specularcolor", "s"),
    )
    HEIGHT = RoleFacts(
        channels=1,
        neutral=(0.5,),
        note="white high",
        array=_COLOUR,
        bits=16,
        always=True,
        words=("height", "heightmap", "displacement", "displace", "disp", "dsp", "bump", "bumpmap", "bmp", "hgt", "h"),
    )
    OCCLUSION = RoleFacts(
        channels=1,
        neutral=(1.0,),
        note="white open",
        array=_DATA,
        always=True,
        words=("occlusion", "ambientocclusion", "ambient", "ao", "occ", "aomap"),
    )
    GLOSS = RoleFacts(channels=1, neutral=(0.3,), words=("gloss", "glossiness", "glossmap", "gls", "smoothness", "smooth", "g"))
    SHININESS = RoleFacts(channels=1, neutral=(0.3,), words=("shininess", "shine", "specularlevel", "specularpower"))
    METALLIC = RoleFacts(channels=1, neutral=(0.0,), words=("metallic", "metalness", "metal", "mtl", "met", "m"))
    OPACITY = RoleFacts(channels=1, neutral=(1.0,), words=("opacity", "alpha", "transparency", "cutout", "mask"))

    def __repr__(self) -> str:
        return f"MapRole.{self.name}"

    @property
    def key(self) -> str:
        """The role's name in quilt files, manifests and file names."""
        return self.name.lower()

    @property
    def is_colour(self) -> bool:
        """Whether it is stored sRGB-encoded."""
        return self.value.transfer is Transfer.SRGB


SURFACE_ROLES = tuple(role for role in MapRole if role.value.array)
"""The roles that are blended and baked; what the others tell is turned into these when a swatch is read."""

PACKED = {"gltf": (MapRole.OCCLUSION, MapRole.ROUGHNESS, MapRole.METALLIC)}
"""Several roles in the red, green and blue of one file; glTF 2.0 (ISO/IEC 12113) orders them like this."""

PACKED_WORDS = ("orm", "arm", "rma", "mra", "mrao", "rmo", "ord", "packed")
GREEN_DOWN_WORDS = ("dx", "directx")

_ROLE_OF_WORD = {word: role for role in MapRole for word in role.value.words}
_IDLE_WORD = re.compile(r"\d+k?|\d+x\d+|\d+px|\d+bit|v\d+|png|tiff?|exr|tga|jpe?g|dds|ktx2|bmp|hdr|webp|gl|opengl|dx|directx")


def words_of_file(path: Path) -> list[str]:
    """Return the words of a file name, lower case: parted by all but letters and digits, and by a capital after a small
    letter or digit; `rockNormal_2k.png.dds` gives rock, normal, 2k, png."""
    return [word.lower() for word in re.findall(r"[A-Z]?[a-z0-9]+|[A-Z0-9]+(?![a-z])", path.name.removesuffix(path.suffix))]


def role_of_file(path: Path) -> MapRole | None:
    """Return the role that a file name tells by the trade's words, or None.

    The last word that names a role counts, so that `rough_stone_diffuse_2k.png` is a diffuse map; pairs are tried first
    (`base_color`), and sizes, versions and further suffixes are passed over.
    """
    words = [word for word in words_of_file(path) if not _IDLE_WORD.fullmatch(word)]
    for last in range(len(words), 0, -1):
        for count in (2, 1):
            word = "".join(words[max(0, last - count) : last])
            role = _ROLE_OF_WORD.get(word)
            if role is not None and (len(word) > 1 or (last == len(words) > 1)):
                return role
    return None


def is_green_down(path: Path) -> bool:
    """Whether a file name says that its normals' green points down the image."""
    words = words_of_file(path)
    return any(word in GREEN_DOWN_WORDS for word in [*words, *map("".join, pairwise(words))])


def is_packed(path: Path) -> bool:
    """Whether a file name says that several roles lie in its channels."""
    return role_of_file(path) is None and any(word in PACKED_WORDS for word in words_of_file(path))
