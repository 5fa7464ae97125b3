"""How the texture of a layer lies on a surface."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend import _rows as k
from jagged_quilt.blend._chart_kernels import DISC_CHART, FLAT_CHART, SPHERE_CHART, TUBE_CHART, UV_CHART
from jagged_quilt.blend._seat_kernels import ANY, FLIPS, QUARTER, SEED, SHIFTS
from jagged_quilt.blend.warps import Drip, Flow, Swirl, Warp
from jagged_quilt.foundation.brief import brief
from jagged_quilt.foundation.checks import known_name, number_in, positive, whole_number_in
from jagged_quilt.foundation.choices import Choice, Wrap
from jagged_quilt.foundation.errors import RangeError, ShapeError

AXES = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}


class Filter(Choice):
    """How texels are read: at full size, or with mips chosen by the footprint, one sample or several along it."""

    NEAREST = "nearest", k.NEAREST
    BILINEAR = "bilinear", k.BILINEAR
    TRILINEAR = "trilinear", k.TRILINEAR
    ANISOTROPIC = "anisotropic", k.ANISOTROPIC


class Turnover(Choice):
    """Which ways a pattern is turned over."""

    NONE = ""
    U = "u"
    V = "v"
    UV = "uv"


class Space(Choice):
    """Whether a pattern stays in the world or goes with the object."""

    WORLD = "world"
    OBJECT = "object"


class Detail(Choice):
    """Whether slopes lie as long as the texture does, or are taken as they are."""

    EXACT = "exact"
    CHEAP = "cheap"


Place = tuple[float, float, float]
Pair = tuple[float, float]


class Turn(Choice):
    """How patches of a shuffled texture are turned: not at all, by quarters, or any way."""

    NONE = "none", 0
    QUARTER = "quarter", QUARTER
    ANY = "any", ANY


@dataclass(frozen=True, slots=True, kw_only=True)
class Shuffle:
    """Breaks the repeat of a texture: it lies in patches, each shifted, turned and mirrored at random, all maps together.

    Patches stand on a grid of equilateral triangles and fade into each other. Where they mix, the difference from the mean is
    spread again, so that mean and variance stay as they are (Heitz and Neyret 2018).

    Attributes
    ----------
    size : float
        Metres from patch to patch.
    border : float
        0.02 to 1: how wide they fade; 1 mixes everywhere, as noise by example does.
    turn : "none", "quarter" or "any"
    mirror, shift : bool
    seed : int
        0 to 2^20.
    """

    __repr__ = brief

    size: float
    border: float = 0.2
    turn: Turn = Turn.ANY
    mirror: bool = True
    shift: bool = True
    seed: int = 0

    def __post_init__(self) -> None:
        positive("shuffle size", self.size, "m")
        number_in("shuffle border", self.border, 0.02, 1)
        whole_number_in("shuffle seed", self.seed, 0, 1 << 20)
        object.__setattr__(self, "turn", Turn.of(self.turn, "way to turn patches"))

    @property
    def ways(self) -> int:
        """All of it but the size and the border, as the kernel knows it."""
        return self.turn.code + FLIPS * bool(self.mirror) + SHIFTS * bool(self.shift) + SEED * self.seed


@dataclass(frozen=True, slots=True, kw_only=True)
class Apart:
    """How one map of a layer lies otherwise than the rest, on top of how those lie.

    Attributes
    ----------
    scale : float or (float, float)
        How much larger.
    offset : (float, float)
        Metres of the pattern along u and v.
    rotation : float
        Degrees counter-clockwise, seen from outside.
    """

    __repr__ = brief

    scale: float | Pair = 1.0
    offset: Pair = (0.0, 0.0)
    rotation: float = 0.0

    def __post_init__(self) -> None:
        given = (self.scale, self.scale) if isinstance(self.scale, (int, float)) else self.scale
        for name, pair in (("scale", given), ("offset", self.offset)):
            if not isinstance(pair, (tuple, list)) or len(pair) != 2:
                raise ShapeError(f"{name} must be two numbers, along u and along v; got {pair!r}")
            object.__setattr__(self, name, tuple(float(each) for each in pair))
        for value in self.offset:
            number_in("offset", value, unit="m")
        for value in given:
            positive("scale", value)
        number_in("rotation", self.rotation, -360, 360, "degrees")

    @property
    def turned(self) -> NDArray[np.float64]:
        """The 2 x 2 matrix that takes metres of the layer's pattern to those of the map's."""
        angle = np.radians(self.rotation)
        turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        return np.diag(1 / np.array(self.scale, np.float64)) @ turn


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
    scale : float or (float, float)
        How much larger than its tile size it lies, along u and along v. Its relief stays as high as it is.
    wrap : str or (str, str)
        "repeat", "clamp" or "mirror": what lies beyond the first tile, along u and along v.
    filter : str or None
        "nearest" and "bilinear" read the full size; "trilinear" chooses mips by the footprint; "anisotropic" takes up to
        `anisotropy` samples along the longer side of the footprint. None is what the blend as a whole says.
    anisotropy : int
        1 - 16.
    warp : Warp, Drip, Swirl, Flow or None
        How places are moved first.
    shuffle : Shuffle or None
        Breaks the repeat.
    detail : "exact" or "cheap"
        Whether the slopes of the normal map lie as long as the texture does (a texture stretched to twice its length is half
        as steep), or are taken as they are along the unit directions of u and v.
    """

    offset: Pair = (0.0, 0.0)
    rotation: float = 0.0
    mirror: Turnover = Turnover.NONE
    scale: float | Pair = (1.0, 1.0)
    wrap: Wrap | tuple[Wrap, Wrap] = Wrap.REPEAT
    filter: Filter | None = None
    anisotropy: int = 16
    warp: Warp | Drip | Swirl | Flow | None = None
    shuffle: Shuffle | None = None
    detail: Detail = Detail.EXACT

    called: ClassVar[str]
    """Its name in quilt files."""
    chart: ClassVar[int] = FLAT_CHART
    """Which kind of chart it lies on, as the kernel knows it."""

    def __init_subclass__(cls) -> None:
        cls.__repr__ = brief  # type: ignore[method-assign]  # before the dataclass writes one of its own

    def __post_init__(self) -> None:
        if isinstance(self.scale, (int, float)):
            object.__setattr__(self, "scale", (float(self.scale), float(self.scale)))
        for name in ("offset", "scale"):
            pair = getattr(self, name)
            if not isinstance(pair, (tuple, list)) or len(pair) != 2:
                raise ShapeError(f"{name} must be two numbers, along u and along v; got {pair!r}")
            object.__setattr__(self, name, tuple(pair))
        for value in self.offset:
            number_in("offset", value, unit="m")
        for value in self.scales:
            positive("scale", value)
        number_in("rotation", self.rotation, -360, 360, "degrees")
        set_ = object.__setattr__
        set_(self, "mirror", Turnover.of(self.mirror, "way to mirror"))
        given = (self.wrap, self.wrap) if isinstance(self.wrap, str) else self.wrap
        wraps = Wrap.of(given[0], "wrap mode"), Wrap.of(given[1], "wrap mode")
        set_(self, "wrap", wraps[0] if isinstance(self.wrap, str) else wraps)
        if self.filter is not None:
            set_(self, "filter", Filter.of(self.filter))
        whole_number_in("anisotropy", self.anisotropy, 1, 16)
        set_(self, "detail", Detail.of(self.detail, "kind of detail"))
        if self.shuffle is not None and self.wraps != (Wrap.REPEAT, Wrap.REPEAT):
            raise RangeError('patches of a shuffled texture come from anywhere in it; it must repeat: wrap = "repeat"')

    @property
    def wraps(self) -> tuple[Wrap, Wrap]:
        """The wrap modes along u and along v."""
        return (self.wrap, self.wrap) if isinstance(self.wrap, Wrap) else self.wrap

    @property
    def planes(self) -> int:
        """What it does with the planes of its chart, as the kernel knows it."""
        return k.ONLY_Y

    @property
    def planes_used(self) -> int:
        """A bit for each plane that it uses: X 1, Y 2, Z 4."""
        return {k.ONLY_Y: 2, k.ONLY_Z: 4}.get(self.planes, 7)

    @property
    def scales(self) -> Pair:
        """The scale along u and along v."""
        return self.scale if isinstance(self.scale, tuple) else (self.scale, self.scale)

    @property
    def turned(self) -> NDArray[np.float64]:
        """The 2 x 2 matrix that takes metres on the surface to metres of the pattern."""
        angle = np.radians(self.rotation)
        turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        over = np.diag([-1.0 if "u" in self.mirror else 1.0, -1.0 if "v" in self.mirror else 1.0])
        return np.diag([1 / self.scales[0], 1 / self.scales[1]]) @ over @ turn


@dataclass(frozen=True, slots=True, kw_only=True)
class Uv(Lie):
    """Laid on by the surface's own texture coordinates.

    Attributes
    ----------
    metres : float or None
        What one unit of u and v stands for. None is as measured on the surface (the root of area over area in uv), so that
        tiles are as large as on other projections; the tile size of the swatch gives one repeat for each unit.
    """

    metres: float | None = None
    called: ClassVar[str] = "uv"
    chart: ClassVar[int] = UV_CHART

    def __post_init__(self) -> None:
        Lie.__post_init__(self)
        if self.metres is not None:
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
    space: Space = Space.WORLD
    called: ClassVar[str] = "planar"

    @property
    def planes(self) -> int:
        return k.ONLY_Y if abs(unit_axis(self.axis)[1]) >= 0.7071 else k.ONLY_Z

    def __post_init__(self) -> None:
        Lie.__post_init__(self)
        unit_axis(self.axis)
        object.__setattr__(self, "space", Space.of(self.space))


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
    space: Space = Space.WORLD
    above: float = 0.0
    above_fade: float = 10.0
    eye: Place | None = None
    beyond: float = 0.0
    beyond_fade: float = 5.0
    called: ClassVar[str] = "triplanar"

    @property
    def planes(self) -> int:
        return k.SHARED

    def __post_init__(self) -> None:
        Lie.__post_init__(self)
        number_in("sharpness", self.sharpness, 1, 64)
        object.__setattr__(self, "space", Space.of(self.space))
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

    space: Space = Space.WORLD
    called: ClassVar[str] = "box"

    @property
    def planes(self) -> int:
        return k.FACED_MOST

    def __post_init__(self) -> None:
        Lie.__post_init__(self)
        object.__setattr__(self, "space", Space.of(self.space))


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
    space: Space = Space.WORLD

    def __post_init__(self) -> None:
        Lie.__post_init__(self)
        _place("centre", self.centre)
        positive("radius", self.radius, "m")
        unit_axis(self.axis)
        object.__setattr__(self, "space", Space.of(self.space))
        if self.shuffle is not None:
            raise RangeError("patches of a shuffled texture would not meet where u wraps; use triplanar, a box or uv")
        if self.rotation % 180:
            raise RangeError(
                f"rotation must be 0 or 180 degrees here, or the pattern would not meet where u wraps; got "
                f"{self.rotation:g}; turn the axis, or use a box"
            )

    def repeats(self, tile: float) -> int:
        """How many tiles go around."""
        count = max(1, round(2 * np.pi * self.radius / (tile * self.scales[0])))
        return count + count % 2 if self.wraps[0] is Wrap.MIRROR else count


@dataclass(frozen=True, slots=True, kw_only=True)
class Spherical(Round):
    """Laid on around a centre: u runs east around the axis, v from the top down, both in metres on a sphere of `radius`."""

    called: ClassVar[str] = "spherical"
    chart: ClassVar[int] = SPHERE_CHART


@dataclass(frozen=True, slots=True, kw_only=True)
class Cylindrical(Round):
    """Laid on around an axis: u runs east around it, in metres on a cylinder of `radius`; v runs down along it."""

    called: ClassVar[str] = "cylindrical"
    chart: ClassVar[int] = TUBE_CHART


@dataclass(frozen=True, slots=True, kw_only=True)
class Polar(Round):
    """Laid on around a point of the ground: u runs around it, in metres at `radius`; v runs outwards, in metres.

    Attributes
    ----------
    spiral : float
        Degrees by which the pattern turns with every metre outwards.
    """

    spiral: float = 0.0
    called: ClassVar[str] = "polar"
    chart: ClassVar[int] = DISC_CHART

    def __post_init__(self) -> None:
        Round.__post_init__(self)
        number_in("spiral", self.spiral, -1e4, 1e4, "degrees/m")


Projection = Uv | Planar | Triplanar | Box | Spherical | Cylindrical | Polar
PROJECTIONS: dict[str, type[Projection]] = {
    each.called: each for each in (Planar, Triplanar, Box, Spherical, Cylindrical, Polar, Uv)
}
"""Every kind of projection by its name in quilt files."""


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
