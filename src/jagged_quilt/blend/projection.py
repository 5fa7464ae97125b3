"""How the texture of a layer lies on a surface."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend import _rows as k
from jagged_quilt.blend.shuffle import Shuffle
from jagged_quilt.blend.warps import Drip, Flow, Swirl, Warp
from jagged_quilt.foundation.checks import known_name, number_in, positive, whole_number_in
from jagged_quilt.foundation.choices import Choice, Wrap
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.short_repr import short_repr

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


Position = tuple[float, float, float]
Pair = tuple[float, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class PerMap:
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

    __repr__ = short_repr

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


PROJECTIONS: dict[str, type[ProjectionBase]] = {}
"""Every kind of projection by its name in quilt files; a new one is here as soon as it is defined."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ProjectionBase:
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

    key: ClassVar[str]
    """Its name in quilt files."""
    kind: ClassVar[int] = k.FLAT
    """Which kind of mapping it is, as the kernel knows it."""
    uses_uv: ClassVar[bool] = False
    """Whether it goes by the surface's own coordinates."""
    closes_around: ClassVar[bool] = False
    """Whether u begins again on the surface, so that nothing but whole tiles fits."""

    def __init_subclass__(cls) -> None:
        cls.__repr__ = short_repr  # type: ignore[method-assign]  # before the dataclass writes one of its own
        if "key" in vars(cls):
            PROJECTIONS[cls.key] = cls

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
        """What it does with the planes of its mapping, as the kernel knows it."""
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

    @property
    def plane_sharpness(self) -> float:
        """How sharply it parts its planes; 1 where it has but one."""
        return 1.0

    @property
    def is_limited(self) -> bool:
        """Whether there are points at which some of its planes are left out to save samples."""
        return False

    @property
    def without_limits(self) -> Self:
        """The same projection with all of its planes everywhere."""
        return self

    @property
    def unit_is_measured(self) -> bool:
        """Whether the metres of one unit of uv are to be measured on the surface."""
        return False

    def with_unit(self, metres: float) -> Self:
        """Return the same projection with one unit of uv said, where it is measured otherwise."""
        return self

    def unit(self, measured: float) -> float:
        """Return the metres of one unit of uv, where so many are measured."""
        return measured

    @property
    def local_axes(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The axes of its mapping, one a row, and its origin, in the space that it names."""
        return np.eye(3), np.zeros(3)

    def axes_in(self, frame: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return the axes and the origin in the world, for an object whose frame (4, 4) takes it there."""
        axes, origin = self.local_axes
        if getattr(self, "space", Space.WORLD) is Space.OBJECT:
            return axes @ frame[:3, :3].T, frame[:3, :3] @ origin + frame[:3, 3]
        return axes, origin

    def fill_mapping(self, row: NDArray[np.void], *, tile: float, unit: float) -> None:
        """Fill what only this kind of projection says in a row of MAPPING.

        tile : metres of the swatch's tile.
        unit : metres of one unit of uv, as measured on the surface.
        """


def checked_position(name: str, position: Position) -> None:
    """Raise `ShapeError` or `RangeError` if a value is not x, y and z in metres."""
    if not isinstance(position, (tuple, list)) or len(position) != 3:
        raise ShapeError(f"{name} must be x, y and z in metres; got {position!r}")
    for value in position:
        number_in(name, value, unit="m")


def unit_axis(axis: str | Position) -> NDArray[np.float64]:
    """Return an axis, by name or as a vector, as a unit vector; raise `QuiltError` if it is none."""
    if isinstance(axis, str):
        return np.array(AXES[known_name("axis", axis, AXES)])
    checked_position("axis", axis)
    length = float(np.linalg.norm(axis))
    if length < 1e-9:
        raise RangeError(f"axis must have a length; got {axis!r}")
    return np.asarray(axis, np.float64) / length
