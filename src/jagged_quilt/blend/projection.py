"""How the texture of a layer lies on a surface."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import known_name, number_in, positive, whole_number_in
from jagged_quilt.foundation.errors import RangeError, ShapeError

Filter = Literal["nearest", "bilinear", "trilinear", "anisotropic"]
FILTERS: tuple[Filter, ...] = ("nearest", "bilinear", "trilinear", "anisotropic")
WRAPS = ("repeat", "clamp", "mirror")
MIRRORS = ("", "u", "v", "uv")
SPACES = ("world", "object")
DETAILS = ("exact", "cheap")
AXES = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}

Place = tuple[float, float, float]
Pair = tuple[float, float]


@dataclass(frozen=True, slots=True)
class Warp:
    """Noise by which places are moved before a texture is laid on them.

    Attributes
    ----------
    by : float
        Metres that a place moves at most along each axis.
    size : float
        Metres from one bend to the next.
    seed : int
    """

    by: float
    size: float
    seed: int = 0

    def __post_init__(self) -> None:
        positive("warp by", self.by, "m")
        positive("warp size", self.size, "m")


@dataclass(frozen=True, slots=True, kw_only=True)
class Lie:
    """What all projections share: how the pattern is moved and turned, and how it is read.

    Attributes
    ----------
    offset : (float, float)
        Metres that the pattern is moved along u and along v.
    rotation : float
        Degrees that the pattern is turned counter-clockwise, seen from outside.
    mirror : "", "u", "v" or "uv"
        Which ways it is turned over.
    scale : (float, float)
        How much larger than its tile size it lies, along u and along v. Its relief stays as high as it is.
    wrap : str or (str, str)
        "repeat", "clamp" or "mirror": what lies beyond the first tile, along u and along v.
    filter : str or None
        "nearest" and "bilinear" read the full size; "trilinear" chooses mips by the footprint; "anisotropic" takes up to
        `anisotropy` samples along the longer side of the footprint. None is what the blend as a whole says.
    anisotropy : int
        1 - 16.
    warp : Warp or None
    detail : "exact" or "cheap"
        Whether the slopes of the normal map lie as long as the texture does (a texture stretched to twice its length is half
        as steep), or are taken as they are along the unit directions of u and v.
    """

    offset: Pair = (0.0, 0.0)
    rotation: float = 0.0
    mirror: str = ""
    scale: Pair = (1.0, 1.0)
    wrap: str | tuple[str, str] = "repeat"
    filter: Filter | None = None
    anisotropy: int = 16
    warp: Warp | None = None
    detail: str = "exact"

    def __post_init__(self) -> None:
        for name in ("offset", "scale"):
            pair = getattr(self, name)
            if not isinstance(pair, (tuple, list)) or len(pair) != 2:
                raise ShapeError(f"{name} must be two numbers, along u and along v; got {pair!r}")
        for value in self.offset:
            number_in("offset", value, unit="m")
        for value in self.scale:
            positive("scale", value)
        number_in("rotation", self.rotation, -360, 360, "degrees")
        known_name("way to mirror", self.mirror, MIRRORS)
        for each in self.wraps:
            known_name("wrap mode", each, WRAPS)
        if self.filter is not None:
            known_name("filter", self.filter, FILTERS)
        whole_number_in("anisotropy", self.anisotropy, 1, 16)
        known_name("kind of detail", self.detail, DETAILS)

    @property
    def wraps(self) -> tuple[str, str]:
        """The wrap modes along u and along v."""
        return (self.wrap, self.wrap) if isinstance(self.wrap, str) else self.wrap

    @property
    def turned(self) -> NDArray[np.float64]:
        """The 2 x 2 matrix that takes metres on the surface to metres of the pattern."""
        angle = np.radians(self.rotation)
        turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        over = np.diag([-1.0 if "u" in self.mirror else 1.0, -1.0 if "v" in self.mirror else 1.0])
        return np.diag([1 / self.scale[0], 1 / self.scale[1]]) @ over @ turn


@dataclass(frozen=True, slots=True, kw_only=True)
class Uv(Lie):
    """Laid on by the surface's own texture coordinates.

    Attributes
    ----------
    metres : float
        What one unit of u and v stands for. 1 is right for coordinates in metres; the tile size of the swatch gives one
        repeat for each unit.
    """

    metres: float = 1.0

    def __post_init__(self) -> None:
        Lie.__post_init__(self)
        positive("metres", self.metres, "m")


@dataclass(frozen=True, slots=True)
class Planar(Lie):
    """Laid on along one axis: from above u runs east and v south; from a side, u to the right and v down, as seen from
    outside.

    Attributes
    ----------
    axis : "x", "y", "z" or (x, y, z)
        The line along which it is laid on; from both of its ends.
    space : "world" or "object"
        Whether the pattern stays in the world or goes with the object as it is moved and turned.
    """

    axis: str | Place = "y"
    space: str = "world"

    def __post_init__(self) -> None:
        Lie.__post_init__(self)
        unit_axis(self.axis)
        known_name("space", self.space, SPACES)


@dataclass(frozen=True, slots=True)
class Triplanar(Lie):
    """Laid on from three axes, each side as one would read it from outside.

    Attributes
    ----------
    sharpness : float
        1 - 64: how fast one axis hands over to the next.
    space : "world" or "object"
    above : float
        Degrees of slope up to which it is laid on from above alone, to save samples; 0 is nowhere.
    above_fade : float
        Degrees over which the sides come in.
    eye : (x, y, z) or None
        A camera about which it is laid on from above alone, up to `beyond` metres; the sides come in over `beyond_fade`.
    beyond, beyond_fade : float
        Metres.
    """

    sharpness: float = 4.0
    space: str = "world"
    above: float = 0.0
    above_fade: float = 10.0
    eye: Place | None = None
    beyond: float = 0.0
    beyond_fade: float = 5.0

    def __post_init__(self) -> None:
        Lie.__post_init__(self)
        number_in("sharpness", self.sharpness, 1, 64)
        known_name("space", self.space, SPACES)
        number_in("above", self.above, 0, 90, "degrees")
        positive("above_fade", self.above_fade, "degrees")
        number_in("beyond", self.beyond, 0, unit="m")
        positive("beyond_fade", self.beyond_fade, "m")
        if self.eye is not None:
            _place("eye", self.eye)
        elif self.beyond:
            raise RangeError("beyond is a distance from a camera; say where it stands with eye = (x, y, z)")

    @property
    def is_limited(self) -> bool:
        """Whether there are places where it is laid on from above alone."""
        return self.above > 0 or self.beyond > 0


@dataclass(frozen=True, slots=True)
class Box(Lie):
    """Laid on from whichever of three axes a place faces most, with a hard change between them."""

    space: str = "world"

    def __post_init__(self) -> None:
        Lie.__post_init__(self)
        known_name("space", self.space, SPACES)


@dataclass(frozen=True, slots=True, kw_only=True)
class Round(Lie):
    """What is laid on around an axis. The tile is made a little longer or shorter along u, so that a whole number of them
    goes around and none is cut.

    Attributes
    ----------
    centre : (x, y, z)
        Metres.
    radius : float
        Metres: where the tile size is true.
    axis : "x", "y", "z" or (x, y, z)
        From bottom to top.
    space : "world" or "object"
    """

    centre: Place = (0.0, 0.0, 0.0)
    radius: float = 1.0
    axis: str | Place = "y"
    space: str = "world"

    def __post_init__(self) -> None:
        Lie.__post_init__(self)
        _place("centre", self.centre)
        positive("radius", self.radius, "m")
        unit_axis(self.axis)
        known_name("space", self.space, SPACES)
        if self.rotation % 180:
            raise RangeError(f"rotation must be 0 or 180 degrees here, or the pattern would not meet where u wraps; got "
                             f"{self.rotation:g}; turn the axis, or use a box")  # fmt: skip

    def repeats(self, tile: float) -> int:
        """How many tiles go around."""
        count = max(1, round(2 * np.pi * self.radius / (tile * self.scale[0])))
        return count + count % 2 if self.wraps[0] == "mirror" else count


@dataclass(frozen=True, slots=True, kw_only=True)
class Spherical(Round):
    """Laid on around a centre: u runs east around the axis, v from the top down, both in metres on a sphere of `radius`."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Cylindrical(Round):
    """Laid on around an axis: u runs east around it, in metres on a cylinder of `radius`; v runs down along it."""


Projection = Uv | Planar | Triplanar | Box | Spherical | Cylindrical


def _place(name: str, place: Place) -> None:
    if not isinstance(place, (tuple, list)) or len(place) != 3:
        raise ShapeError(f"{name} must be x, y and z in metres; got {place!r}")
    for value in place:
        number_in(name, value, unit="m")


def unit_axis(axis: str | Place) -> NDArray[np.float64]:
    """Return an axis, by name or as a vector, as a unit vector; raise `QuiltError` if it is none."""
    if isinstance(axis, str):
        return np.array(AXES[known_name("axis", axis, AXES)])
    _place("axis", axis)
    length = float(np.linalg.norm(axis))
    if length < 1e-9:
        raise RangeError(f"axis must have a length; got {axis!r}")
    return np.asarray(axis, np.float64) / length
