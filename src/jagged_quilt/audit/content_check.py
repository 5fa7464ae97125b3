"""The second witness: whether a picture can play the role that its name tells."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from jagged_quilt.audit import measures as m
from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.maps.image_files import read_channels
from jagged_quilt.maps.image_limits import LIMITS, LOSSY, ImageLimits
from jagged_quilt.maps.names import Roles
from jagged_quilt.maps.roles import MapRole

SIDE = 256
"""Texels along the longer side of the small copy that is looked at."""

_COLOURED = 24 / 255  # apart by more than this, channels differ by more than lossy coding makes them
_GREY_ENOUGH = 0.01
_LEANING, _OUTWARDS, _INWARDS = (
    0.2,
    0.4,
    0.1,
)  # of normals: how far their mean may lean and must look out; the share that may not
_NEAR_UNIT, _VECTORS = 0.25, 0.75  # how far off unit length is near; the share that must be
_NIGHT, _BLACK = 0.03, 0.02
_METAL_MIDDLE = 0.4  # metals are metal or not: the largest share that may lie between


@dataclass(frozen=True, slots=True, eq=False)
class Thumbnail:
    """A small copy of an image file, and what is known of the whole.

    Attributes
    ----------
    width, height, bits : int
    texels : (h, w, C) float32, 0..1
        Without alpha; every so manieth row and column.
    alpha : (h, w) float32, 0..1, or None
    trouble : str
        Why it cannot be read; empty if it can.
    """

    file: Path
    width: int = 0
    height: int = 0
    bits: int = 0
    alpha: m.Values | None = None
    texels: m.Values = field(default_factory=lambda: np.zeros((0, 0, 0), np.float32))
    trouble: str = ""

    @property
    def is_lossless(self) -> bool:
        """Whether its format keeps every value."""
        return self.file.suffix.lower() not in LOSSY

    @property
    def worth(self) -> tuple[bool, bool, int, int]:
        """Which of twins is taken: what can be read, then lossless, then larger, then deeper."""
        return not self.trouble, self.is_lossless, self.width * self.height, self.bits

    @property
    def has_alpha(self) -> bool:
        """Whether its alpha says anything: it has one, and not the same everywhere."""
        return self.alpha is not None and bool(np.ptp(self.alpha) > _COLOURED)

    @property
    def is_grey(self) -> bool:
        """Whether its channels differ by no more than lossy coding makes them."""
        if self.texels.shape[2] < 3:
            return True
        return bool((np.ptp(self.texels[..., :3], axis=2) > _COLOURED).mean() < _GREY_ENOUGH)

    @property
    def may_be_normals(self) -> bool:
        """Whether it holds vectors that look out of the surface, of whatever length."""
        if self.texels.shape[2] < 3 or self.is_grey:
            return self.texels.shape[2] == 2
        vectors = self._vectors
        if not vectors.size:
            return False
        x, y, z = (float(each) for each in vectors.mean(axis=(0, 1)))
        outwards = float((vectors[..., 2] > 0).mean())
        upright = max(abs(x), abs(y)) < _LEANING or m.is_encoded_normal(vectors)
        return upright and z > _OUTWARDS and outwards > 1 - _INWARDS

    @property
    def _vectors(self) -> m.Values:
        """What it would mean as normals, (1, N, 3); what is black, as between the pieces of a mesh's layout, means nothing."""
        colour = self.texels[..., :3]
        return colour[colour.max(axis=2) > _BLACK][None] * 2 - 1

    @property
    def is_normals(self) -> bool:
        """Whether it surely holds normals: most of those vectors are of unit length."""
        if self.texels.shape[2] < 3 or not self.may_be_normals:
            return False
        length = np.linalg.norm(self._vectors, axis=2)
        return bool((np.abs(length - 1) < _NEAR_UNIT).mean() > _VECTORS)


def thumbnail(file: Path, limits: ImageLimits = LIMITS) -> Thumbnail:
    """Look at an image file. Nothing is raised: what cannot be read says why."""
    try:
        image = read_channels(file, limits)
    except QuiltError as error:
        return Thumbnail(file, trouble=str(error))
    names = [name.lower()[-1:] for name in image.channels]
    kept = [index for index, name in enumerate(names) if name != "a"] or [0]
    height, width, _ = image.texels.shape
    step = max(1, -(-max(height, width) // SIDE))
    small = image.texels[::step, ::step]
    scale = np.float32(np.iinfo(small.dtype).max) if small.dtype.kind == "u" else np.float32(1)
    small = (small / scale).astype(np.float32)
    alpha = small[..., names.index("a")] if "a" in names[1:] else None
    return Thumbnail(file, width, height, image.texels.dtype.itemsize * 8, alpha, small[..., kept[:3]])


def objection(seen: Thumbnail, roles: Roles, word: str = "") -> str:
    """Return why a picture cannot play the role, or the several roles, that a word of its name tells; empty if it can."""
    if len(roles) > 1:
        return _packed_objection(seen, roles)
    role = roles[0] if roles else None
    if role is not None and role.value.direction:
        if seen.may_be_normals:
            return ""
        return "it is grey, as height maps are" if seen.is_grey else "its colours are no normals"
    if role is None:
        return ""
    if seen.is_normals:
        return "it holds normals"
    if role.value.channels == 1 and not seen.is_grey:
        return "it holds colour, so it may be another map, or several in its channels"
    if role is MapRole.GLOSS and word == "g" and float(np.median(seen.texels)) < _NIGHT:
        return "it is black for the most part, as maps of what glows are"
    return ""


def _packed_objection(seen: Thumbnail, roles: Roles) -> str:
    count = seen.texels.shape[2] + (seen.alpha is not None)
    if count < len(roles):
        return f"it has only {count} channel(s)"
    if roles[0] is not None and roles[:3] == (roles[0],) * 3:
        return objection(seen, roles[:1])
    if seen.is_normals:
        return "it holds normals"
    if seen.is_grey and np.ptp(seen.texels) > _COLOURED and roles[1:3] != (None, None):
        return "its channels are alike: one grey map, not several"
    for index, role in enumerate(roles[:3]):
        channel, letter = seen.texels[..., index], "rgb"[index]
        if role is MapRole.METALLIC and ((channel > 0.2) & (channel < 0.8)).mean() > _METAL_MIDDLE:
            return f"{letter} should be metallic, and is neither metal nor not"
        if role is MapRole.OCCLUSION and float(channel.mean()) < 0.3:
            return f"{letter} should be occlusion, and is dark all over"
    return ""
