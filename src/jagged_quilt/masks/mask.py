"""What a mask is, and how masks combine.

A mask answers 0..1 at every point. Masks are values: `HeightBand(2, 6) * ~Slope(30, 90)` is a mask too.
"""

from __future__ import annotations

import uuid
from contextvars import ContextVar
from dataclasses import dataclass, field, fields, is_dataclass, replace
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import number_in, positive, whole_number_in, wrong_kind
from jagged_quilt.foundation.choices import Choice
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.fields import Fields, HasFields, Shiftable, fields_of
from jagged_quilt.foundation.modules import is_ours, source_stamp
from jagged_quilt.foundation.noise import noise_at
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.masks.bands import smooth_step

Answers = NDArray[np.float32]
"""(N,) float32, 0..1: how much of something is at each point."""


class Combine(Choice):
    """Ways to put one mask upon another; each works on answers and gives answers."""

    MULTIPLY = "multiply"
    ADD = "add"
    SUBTRACT = "subtract"
    MAXIMUM = "maximum"
    MINIMUM = "minimum"
    DIFFERENCE = "difference"
    MIX = "mix"

    def __call__(self, below: Answers, above: Answers, amount: float = 0.5) -> Answers:
        """Return what `above` makes of `below`, both (N,) float32; `amount` is how much of `above` a mix takes."""
        match self:
            case Combine.MULTIPLY:
                return below * above
            case Combine.ADD:
                return np.minimum(below + above, np.float32(1))
            case Combine.SUBTRACT:
                return np.maximum(below - above, np.float32(0))
            case Combine.MAXIMUM:
                return np.maximum(below, above)
            case Combine.MINIMUM:
                return np.minimum(below, above)
            case Combine.DIFFERENCE:
                return np.abs(below - above)
            case Combine.MIX:
                return np.clip(below + np.float32(amount) * (above - below), 0, 1, dtype=np.float32)


@dataclass(frozen=True, slots=True)
class Reading:
    """What a mask has to say of one point.

    Attributes
    ----------
    summary : str
        The mask: "height 2 to 6 m, fade 1.5".
    measured : str
        What it goes by, there: "3.42 m high".
    answer : float
    parts : tuple of Reading
        What the masks within say.
    how : str
        How the second of two parts goes upon the first; empty where the mask is no such combination.
    """

    summary: str
    measured: str
    answer: float
    parts: tuple[Reading, ...] = ()
    how: str = ""


MASK_KINDS: dict[str, type[Mask]] = {}
"""The kinds of mask that quilt files know, by what they call them."""


def stamps_of(value: object) -> list[str]:
    """Return what stands for all masks, projections and other values of a user's own kinds within layers, films or the like.

    Of one of which nothing can be known it is something else each time.
    """
    if isinstance(value, (tuple, list)):
        return [stamp for each in value for stamp in stamps_of(each)]
    if not is_dataclass(value) or isinstance(value, type):
        return []
    inner = [stamp for each in fields(value) for stamp in stamps_of(getattr(value, each.name, None))]
    if is_ours(type(value)):
        return inner
    own = value.stamp if isinstance(value, Mask) else source_stamp(type(value))
    return [*inner, str(uuid.uuid4()) if own is None else own]


class Mask(NotebookValue):
    """The base of all masks. A kind of mask is a frozen dataclass that defines `answer`.

    What quilt files call it is `key`, and the mask is then known to them; `file_keys` says which of their keys hold fields of
    other names, one or a pair. Fields left out of its repr are not theirs to say.
    """

    __slots__ = ()
    key: ClassVar[str] = ""
    file_keys: ClassVar[dict[str, tuple[str, ...]]] = {}

    def __init_subclass__(cls, **options: object) -> None:
        super().__init_subclass__(**options)
        if "__repr__" not in cls.__dict__:
            cls.__repr__ = short_repr  # type: ignore[method-assign]  # before the dataclass writes one of its own
        if cls.key:
            MASK_KINDS[cls.key] = cls

    def answer(self, points: Points) -> Answers:
        """Return (N,) float32, 0..1. The points are not changed."""
        raise NotImplementedError

    def on(self, surface: Fields | HasFields) -> Self:
        """Return this mask with all that it must know of a whole surface (curvature, distances) worked out.

        `weigh` does this. Do it yourself to ask a mask at points of your own: with a terrain, a canvas, or their fields.
        """
        own: Any = self
        known = {f.name: value.on(surface) for f in fields(own) if isinstance(value := getattr(self, f.name), Mask)}
        return replace(own, **known) if known else self

    @property
    def stamp(self) -> str | None:
        """What its answers depend on beside its fields, as text: results that it went into are kept only while it stays.

        Of a kind of your own it is the source of the module that defines it. Override it where the answers also depend on a
        file or on other modules. None, as where there is no source to read, means that nothing can be known: such results are
        made again each time.
        """
        return "" if is_ours(type(self)) else source_stamp(type(self))

    def measured(self, points: Points) -> str:
        """Return in words what the mask goes by at the first point."""
        return ""

    @property
    def summary(self) -> str:
        """The mask in a few words."""
        own: Any = self
        return f"{type(self).__name__.lower()} " + ", ".join(f"{f.name} {getattr(self, f.name)}" for f in fields(own))

    def reading(self, points: Points) -> Reading:
        """Return what the mask and the masks within it say at the first point."""
        own: Any = self
        inner = [value for f in fields(own) if isinstance(value := getattr(self, f.name), Mask)]
        parts = tuple(mask.reading(self._points_within(points[:1])) for mask in inner)
        return Reading(
            self.summary,
            self.measured(points[:1]),
            float(self.answer(points[:1])[0]),
            parts,
            self.how if isinstance(self, Combined) else "",
        )

    def _points_within(self, points: Points) -> Points:
        """Where the masks within are asked."""
        return points

    def cut(self, threshold: float, range: float = 0.0) -> Mask:
        """Return this mask gone from 0 to 1 around a threshold: over `range`, 0 for a hard cut."""
        return Cut(self, threshold, range)

    def levels(self, black: float = 0.0, white: float = 1.0, gamma: float = 1.0) -> Mask:
        """Return this mask stretched so that `black` becomes 0 and `white` 1, then to the power of 1 / gamma."""
        return Levels(self, black, white, gamma)

    def warped(self, *, by: float, size: float, octaves: int = 3, seed: int = 0) -> Mask:
        """Return this mask as it is up to `by` metres away, so that its edges do not look drawn with a ruler."""
        return Warped(self, by=by, size=size, octaves=octaves, seed=seed)

    def mixed(self, other: Mask | float, amount: float = 0.5) -> Mask:
        """Return this mask and, to the amount of 0..1, another."""
        return Combined(Combine.MIX, self, as_mask(other), amount)

    def __mul__(self, other: Mask | float) -> Mask:
        return Combined(Combine.MULTIPLY, self, as_mask(other))

    def __add__(self, other: Mask | float) -> Mask:
        return Combined(Combine.ADD, self, as_mask(other))

    def __sub__(self, other: Mask | float) -> Mask:
        return Combined(Combine.SUBTRACT, self, as_mask(other))

    def __or__(self, other: Mask | float) -> Mask:
        return Combined(Combine.MAXIMUM, self, as_mask(other))

    def __and__(self, other: Mask | float) -> Mask:
        return Combined(Combine.MINIMUM, self, as_mask(other))

    def __xor__(self, other: Mask | float) -> Mask:
        return Combined(Combine.DIFFERENCE, self, as_mask(other))

    def __rsub__(self, other: float) -> Mask:
        return Combined(Combine.SUBTRACT, as_mask(other), self)

    __rmul__ = __mul__
    __radd__ = __add__
    __ror__ = __or__
    __rand__ = __and__
    __rxor__ = __xor__

    def __invert__(self) -> Mask:
        return Inverted(self)

    def __bool__(self) -> bool:
        raise ShapeError(
            "a mask is neither true nor false, since it answers at points: combine masks with & (minimum), | (maximum) and "
            "~ (invert) in place of and, or and not; for a condition write `mask is not None`"
        )


@dataclass(frozen=True, slots=True)
class Constant(Mask):
    """The same everywhere, 0..1."""

    value: float
    key: ClassVar[str] = "constant"

    def __post_init__(self) -> None:
        number_in("a constant mask", self.value, 0, 1)

    @property
    def summary(self) -> str:
        return f"{self.value:g} everywhere"

    def answer(self, points: Points) -> Answers:
        return np.full(len(points), self.value, np.float32)


@dataclass(frozen=True, slots=True)
class Combined(Mask):
    """One mask upon another; `amount` is for a mix."""

    combine: Combine
    below: Mask
    above: Mask
    amount: float = 0.5

    def __post_init__(self) -> None:
        number_in("amount", self.amount, 0, 1)

    def __repr__(self) -> str:
        return f"({self.below!r} {self.how} {self.above!r})"

    @property
    def summary(self) -> str:
        return f"{self.how} ({self.below.summary}; {self.above.summary})"

    @property
    def how(self) -> str:
        """How the second one goes upon the first, in words."""
        return self.combine.value + (f" {self.amount:g}" if self.combine is Combine.MIX else "")

    def answer(self, points: Points) -> Answers:
        return self.combine(self.below.answer(points), self.above.answer(points), self.amount)


@dataclass(frozen=True, slots=True)
class Shared(Mask):
    """A mask that stands elsewhere too, given by its name."""

    mask: Mask
    name: str

    @property
    def summary(self) -> str:
        return f'mask of "{self.name}"'

    def reading(self, points: Points) -> Reading:
        """Return what it answers, and nothing of the masks within: they are listed where they stand."""
        return Reading(self.summary, "", float(self.answer(points[:1])[0]))

    def answer(self, points: Points) -> Answers:
        """Return what it answers: within the answer of another it is asked once, however often it stands there."""
        asked = _ASKED.get()
        if asked is None:
            token = _ASKED.set({})
            try:
                return self.mask.answer(points)
            finally:
                _ASKED.reset(token)
        key = id(self.mask), id(points)
        if key not in asked:
            asked[key] = points, self.mask.answer(points)
        return asked[key][1]


_ASKED: ContextVar[dict[tuple[int, int], tuple[Points, Answers]] | None] = ContextVar("asked", default=None)
"""What shared masks answered at which points, while an outer one is asked."""


@dataclass(frozen=True, slots=True)
class Inverted(Mask):
    """1 minus a mask."""

    mask: Mask

    @property
    def summary(self) -> str:
        return f"{self.mask.summary}, inverted"

    def answer(self, points: Points) -> Answers:
        return np.float32(1) - self.mask.answer(points)


@dataclass(frozen=True, slots=True)
class Cut(Mask):
    """A mask gone from 0 to 1 around a threshold: smoothly from threshold - range / 2 to threshold + range / 2."""

    mask: Mask
    threshold: float
    range: float = 0.0

    def __post_init__(self) -> None:
        number_in("threshold", self.threshold, 0, 1)
        number_in("range", self.range, 0, 2)

    @property
    def summary(self) -> str:
        return f"{self.mask.summary}, cut at {self.threshold:g}, range {self.range:g}"

    def answer(self, points: Points) -> Answers:
        return smooth_step(self.mask.answer(points), self.threshold - self.range / 2, self.threshold + self.range / 2)


@dataclass(frozen=True, slots=True)
class Levels(Mask):
    """A mask stretched so that `black` becomes 0 and `white` 1 (black above white turns it over), then bent by gamma."""

    mask: Mask
    black: float = 0.0
    white: float = 1.0
    gamma: float = 1.0

    def __post_init__(self) -> None:
        number_in("levels: black", self.black, 0, 1)
        number_in("levels: white", self.white, 0, 1)
        if self.black == self.white:
            raise RangeError(f"levels: black and white must differ; got {self.black:g} twice; for a hard cut use a threshold")
        number_in("levels: gamma", positive("levels: gamma", self.gamma), 0.01, 100)

    @property
    def summary(self) -> str:
        return f"{self.mask.summary}, levels {self.black:g} to {self.white:g}, gamma {self.gamma:g}"

    def answer(self, points: Points) -> Answers:
        scale = np.float32(1 / (self.white - self.black))
        stretched = np.clip((self.mask.answer(points) - np.float32(self.black)) * scale, 0, 1, dtype=np.float32)
        return stretched if self.gamma == 1 else stretched ** np.float32(1 / self.gamma)


@dataclass(frozen=True, slots=True)
class Warped(Mask):
    """A mask asked up to `by` metres away, in a direction and as far as a noise says, of `size` metres.

    Over a surface that it knows (see `on`) it is asked at the place of the surface that lies there, so that slopes and
    uv are those of that place; else the position alone moves.
    """

    mask: Mask
    by: float = field(kw_only=True)
    size: float = field(kw_only=True)
    octaves: int = field(default=3, kw_only=True)
    seed: int = field(default=0, kw_only=True)
    surface: Shiftable | None = field(default=None, kw_only=True, repr=False, compare=False)

    def __post_init__(self) -> None:
        number_in("warp by", self.by, 0, unit="m")
        positive("warp size", self.size, "m")
        whole_number_in("warp octaves", self.octaves, 1, 12)
        whole_number_in("warp seed", self.seed, 0, (1 << 31) - 1000)

    @property
    def summary(self) -> str:
        return f"{self.mask.summary}, warped by {self.by:g} m, size {self.size:g} m"

    def on(self, surface: Fields | HasFields) -> Warped:
        return replace(self, mask=self.mask.on(surface), surface=fields_of(surface).surface)

    def answer(self, points: Points) -> Answers:
        return self.mask.answer(self._points_within(points))

    def _points_within(self, points: Points) -> Points:
        ways = [
            noise_at(points.position, size=self.size, octaves=self.octaves, seed=self.seed + 101 * axis, rest=points.rest)
            for axis in range(3)
        ]
        by = (np.stack(ways, axis=1) - np.float32(0.5)) * np.float32(2 * self.by)
        if self.surface is not None:
            return self.surface.shifted(points, by)
        return points.moved(by)


def as_mask(value: Mask | float, what: str = "what a mask combines with") -> Mask:
    """Return a mask as it is and a number as a constant mask; raise `ShapeError` for anything else."""
    if isinstance(value, Mask):
        return value
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        return Constant(float(value))
    if callable(value) and not isinstance(value, type):
        raise ShapeError(f"{what} must be a mask or a number from 0 to 1; got a function: jq.MaskOf(function) makes one of it")
    raise wrong_kind(what, value, "a mask, or a number from 0 to 1")
