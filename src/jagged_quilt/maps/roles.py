"""What a texture map is for, with all that follows from it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum


class Transfer(Enum):
    """How stored values stand for what they mean."""

    SRGB = "sRGB"
    NONE = "none"


@dataclass(frozen=True, slots=True)
class RoleFacts:
    """What is true of every map of a role.

    Attributes
    ----------
    channels : int
        How many channels carry the role.
    neutral : tuple of float
        What stands in for a missing map: linear light, unit normal, or plain number.
    words : tuple of str
        The trade's words for it in file names, lower case, without separators.
    """

    channels: int
    transfer: Transfer
    neutral: tuple[float, ...]
    words: tuple[str, ...]


class MapRole(Enum):
    """The roles that a material's maps play. `role.value` holds the `RoleFacts`, `role.key` the name in files."""

    DIFFUSE = RoleFacts(
        3, Transfer.SRGB, (0.2, 0.2, 0.2),
        ("diffuse", "diff", "dif", "albedo", "alb", "basecolor", "basecolour", "color", "colour", "col"),
    )  # fmt: skip
    NORMAL = RoleFacts(3, Transfer.NONE, (0.0, 0.0, 1.0), ("normal", "normals", "nrm", "norm", "nor", "nml"))
    ROUGHNESS = RoleFacts(1, Transfer.NONE, (0.7,), ("roughness", "rough", "rgh"))
    SPECULAR = RoleFacts(3, Transfer.SRGB, (0.04, 0.04, 0.04), ("specular", "spec", "spc"))
    HEIGHT = RoleFacts(1, Transfer.NONE, (0.5,), ("height", "heightmap", "displacement", "disp", "bump", "hgt"))
    OCCLUSION = RoleFacts(1, Transfer.NONE, (1.0,), ("occlusion", "ambientocclusion", "ao", "occ"))

    @property
    def key(self) -> str:
        """The role's name in quilt files, manifests and file names."""
        return self.name.lower()
