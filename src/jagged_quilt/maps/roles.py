"""What a texture map is for, with all that follows from it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from itertools import accumulate

import numpy as np

from jagged_quilt.foundation.checks import known_name
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
    shaded : bool
        Whether it stands among the columns of a texel that shading reads.
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
    shaded: bool = True

    @property
    def letters(self) -> str:
        """What its channels are called."""
        return "" if self.channels == 1 else "xyz" if self.direction else "rgb"

    @property
    def packed(self) -> int:
        """How many of its channels an array holds."""
        return 2 if self.direction else self.channels


def _words(text: str) -> tuple[str, ...]:
    return tuple(text.split())


_COLOUR, _DATA = "diffuse_height", "normal_roughness_occlusion"
_GLOW, _COAT = "emission_coat", "coat_normal_roughness"


class MapRole(Enum):
    """The roles that a material's maps play. `role.value` holds the `RoleFacts`, `role.key` the name in files."""

    DIFFUSE = RoleFacts(
        channels=3,
        transfer=Transfer.SRGB,
        neutral=(0.2, 0.2, 0.2),
        note="sRGB",
        array=_COLOUR,
        always=True,
        words=_words(
            "diffuse diff dif dff albedo alb basecolor basecolour basecol basemap base color colour col skin cc bc cm rgb d c"
        ),
    )
    NORMAL = RoleFacts(
        channels=3,
        neutral=(0.0, 0.0, 1.0),
        note="green up",
        array=_DATA,
        always=True,
        direction=True,
        words=_words("normal normals normalmap nrm nrml norm nor nml nm nmap ddn normalgl normaldx normgl normdx local n"),
    )
    ROUGHNESS = RoleFacts(
        channels=1,
        neutral=(0.7,),
        note="white rough",
        array=_DATA,
        always=True,
        words=_words("roughness rough rgh roughnessmap r"),
    )
    SPECULAR = RoleFacts(
        channels=3,
        transfer=Transfer.SRGB,
        neutral=(0.04, 0.04, 0.04),
        note="sRGB",
        array="specular",
        always=True,
        words=_words("specular spec spc specularcolor specularmap sc refl reflection reflectivity s"),
    )
    HEIGHT = RoleFacts(
        channels=1,
        neutral=(0.5,),
        note="white high",
        array=_COLOUR,
        bits=16,
        always=True,
        words=_words("height heightmap displacement displace disp dsp displ bump bumpmap bmp hgt hm parallax z h"),
    )
    OCCLUSION = RoleFacts(
        channels=1,
        neutral=(1.0,),
        note="white open",
        array=_DATA,
        always=True,
        words=_words("occlusion ambientocclusion ambientocc ambient ao occ aomap cavity"),
    )
    GLOSS = RoleFacts(channels=1, neutral=(0.3,), words=_words("gloss glossiness glossmap gls smoothness smooth g"))
    SHININESS = RoleFacts(channels=1, neutral=(0.3,), words=_words("shininess shine specularlevel specularpower"))
    METALLIC = RoleFacts(channels=1, neutral=(0.0,), words=_words("metallic metalness metal metallicmap mtl met m"))
    EMISSION = RoleFacts(
        channels=3,
        transfer=Transfer.SRGB,
        neutral=(0.0, 0.0, 0.0),
        note="sRGB",
        array=_GLOW,
        words=_words(
            "emission emissive emissivity emit emis emissioncolor emissivecolor glow selfillum selfillumination illum "
            "illumination i"
        ),
    )
    COAT = RoleFacts(
        channels=1,
        neutral=(0.0,),
        note="white coated",
        array=_GLOW,
        words=_words("coat clearcoat coatmask clearcoatmask coatweight coatamount clearcoatamount"),
    )
    COAT_NORMAL = RoleFacts(
        channels=3,
        neutral=(0.0, 0.0, 1.0),
        note="green up",
        array=_COAT,
        direction=True,
        words=_words("coatnormal coatnormals clearcoatnormal clearcoatnormals coatnrm clearcoatnrm coatnor clearcoatnor"),
    )
    COAT_ROUGHNESS = RoleFacts(
        channels=1,
        neutral=(0.0,),
        note="white rough",
        array=_COAT,
        words=_words("coatroughness clearcoatroughness coatrough clearcoatrough coatrgh clearcoatrgh"),
    )
    OPACITY = RoleFacts(
        channels=1,
        neutral=(1.0,),
        note="black cut out",
        array="opacity",
        shaded=False,
        words=_words("opacity alpha transparency cutout mask msk"),
    )

    def __repr__(self) -> str:
        return f"MapRole.{self.name}"

    @classmethod
    def of(cls, said: MapRole | str, what: str = "role") -> MapRole:
        """Return a role as it is, or by its name, or by one of the trade's words for it of three letters or more.

        Raises `NameNotFoundError` with the nearest name if there is none.
        """
        if isinstance(said, cls):
            return said
        names = {role.key: role for role in cls}
        word = str(said).lower()
        by_word = {each: role for role in cls for each in role.value.words if len(each) > 2}
        if word not in names and word in by_word:
            return by_word[word]
        return names[known_name(what, str(said), names)]

    @property
    def key(self) -> str:
        """The role's name in quilt files, manifests and file names."""
        return self.name.lower()

    @property
    def is_colour(self) -> bool:
        """Whether it is stored sRGB-encoded."""
        return self.value.transfer is Transfer.SRGB


SURFACE_ROLES = tuple(role for role in MapRole if role.value.always)
"""The roles that are blended and baked of every surface; what the others tell is turned into these when a swatch is read."""

OPTIONAL_ROLES = tuple(role for role in MapRole if role.value.array and not role.value.always)
"""The roles that most materials lack: packed, blended and baked where a swatch has them; elsewhere they cost nothing."""

BLENDED_ROLES = SURFACE_ROLES + OPTIONAL_ROLES

SHADED_ROLES = tuple(role for role in BLENDED_ROLES if role.value.shaded)
"""Those that shading reads; height is one of them only so that texels need not be copied."""


def columns_of(roles: Sequence[MapRole]) -> tuple[dict[MapRole, int], int]:
    """Return the first column of each role where their channels stand side by side, and how many columns that takes."""
    starts = list(accumulate((role.value.channels for role in roles), initial=0))
    return dict(zip(roles, starts, strict=False)), starts[-1]


COLUMN_OF, ALL_COLUMNS = columns_of(BLENDED_ROLES)
"""The first column of a blended texel that each role takes."""
SURFACE_COLUMNS = columns_of(SURFACE_ROLES)[1]

CUT_OUT = 0.5
"""The opacity below which nothing is there, where nothing else is said."""

PACKED = {
    "gltf": (MapRole.OCCLUSION, MapRole.ROUGHNESS, MapRole.METALLIC),
    "gltf coat": (MapRole.COAT, MapRole.COAT_ROUGHNESS),
}
"""Several roles in the red, green and blue of one file; glTF 2.0 (ISO/IEC 12113) orders them like this, and so does its
extension KHR_materials_clearcoat."""


def stored_type(role: MapRole, bits: int = 8) -> type[np.uint8] | type[np.uint16]:
    """Return the type in which finished texels of a role are stored, of at least so many bits."""
    return np.uint16 if max(bits, role.value.bits) == 16 else np.uint8


def role_among(roles: Sequence[MapRole], said: MapRole | str) -> MapRole:
    """Return one of some roles by its key; raise `NameNotFoundError` with the nearest if it is none of them."""
    key = said.key if isinstance(said, MapRole) else said
    return MapRole[known_name("role", key, [role.key for role in roles]).upper()]


FINE_ROLES = (MapRole.HEIGHT, MapRole.NORMAL)
"""The roles of which more than 8 bits are kept: of these, steps are seen."""
