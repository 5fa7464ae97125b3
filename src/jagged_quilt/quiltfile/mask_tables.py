"""What a quilt file may say of masks, and the masks that it makes."""

from __future__ import annotations

import difflib
import json
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from functools import cache
from pathlib import Path
from typing import Annotated, ClassVar, Literal, Protocol

from pydantic import PlainValidator, SerializeAsAny, ValidationError, create_model
from pydantic_core import InitErrorDetails

from jagged_quilt.blend.detail_mask import DetailBand
from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Model, Unchecked
from jagged_quilt.maps.image_limits import ImageLimits
from jagged_quilt.masks import field_masks, image_mask, noise_mask, shape_masks  # noqa: F401 (they make their kinds known)
from jagged_quilt.masks.field_masks import Distance
from jagged_quilt.masks.image_mask import ImageMask
from jagged_quilt.masks.mask import MASK_KINDS, Combine, Combined, Constant, Inverted, Levels, Mask, Shared, Warped
from jagged_quilt.masks.noise_mask import Noise
from jagged_quilt.quiltfile.tables import Table, keys_of, said, some, table_of


class Around(Protocol):
    """What a mask may need of the quilt around it."""

    folder: Path
    limits: ImageLimits

    def mask_of_layer(self, name: str) -> Mask: ...

    def shown_of_layer(self, name: str) -> Mask: ...

    def channel_named(self, name: str) -> Mask: ...

    def layers_below(self) -> Sequence[Layer]: ...


_Levels: Model = table_of(Levels, leave_out=("mask",))
_Warp: Model = table_of(Warped, leave_out=("mask",))
_AMOUNT: float = keys_of(Combined)["amount"][1]
_RANGE: float = keys_of(Noise)["range"][1]


class MaskStep(Table):
    """What all kinds of mask share: how a step is changed, in this order, and how it goes upon the steps before."""

    combine: Combine = Combine.MULTIPLY
    amount: float = _AMOUNT
    warp: _Warp | None = None
    levels: _Levels | None = None
    threshold: float | None = None
    range: float = _RANGE
    invert: bool = False
    strength: float = 1.0

    made: ClassVar[type[Mask] | None] = None

    def mask(self, around: Around) -> Mask:
        """Return the mask of this step alone; raise `RangeError` if a key is written that has no effect."""
        if "amount" in self.model_fields_set and self.combine is not Combine.MIX:
            raise RangeError(f'amount: is for combine = "mix", and this step says "{self.combine}"; remove one of them')
        if "range" in self.model_fields_set and self.threshold is None:
            raise RangeError("range: has no effect without a threshold; write one, or remove it")
        mask = self._shaped(self.bare(around))
        if self.invert:
            mask = ~mask
        return mask if self.strength == 1.0 else mask * self.strength

    def bare(self, around: Around) -> Mask:
        """Return the mask before anything that all kinds share."""
        assert self.made is not None
        return self.made(**said(self, self.made))

    def _shaped(self, mask: Mask) -> Mask:
        if self.warp is not None:
            mask = mask.warped(**said(self.warp, Warped, leave_out=("mask",)))
        if self.levels is not None:
            mask = mask.levels(**said(self.levels, Levels, leave_out=("mask",)))
        is_cut = self.threshold is None or (self.made is not None and "threshold" in keys_of(self.made))
        return mask if is_cut else mask.cut(self.threshold or 0.0, self.range)


_MEANT = {
    word: kind
    for kind, words in {
        "slope": "steepness; angle; incline; gradient; tilt",
        "height": "altitude; elevation; band; z; y",
        "occlusion": "ao; ambient occlusion; crevices",
        "curvature": "cavity; convexity; concavity; edges",
        "noise": "perlin; fbm; clouds; random; voronoi",
        "image": "texture; bitmap; mask; picture; splat",
        "facing": "direction; aspect; orientation; normal",
        "distance": "proximity; near; shore",
        "vertex colour": "vertex color; color; colour; paint",
    }.items()
    for word in words.split("; ")
}
"""What people call kinds of masks elsewhere."""


def _read_step(table: Unchecked) -> MaskStep:
    """Read one step by the table of its kind; what is wrong stands below that kind in the path of the fault."""
    kind = table.get("kind") if isinstance(table, dict) else None
    if kind is None:
        raise ValueError(f'a mask needs its kind; write kind = "…" with one of: {", ".join(mask_kinds())}')
    known = mask_kinds()
    if kind not in known:
        meant = _MEANT.get(str(kind).lower().replace("_", " "))
        near = [meant] if meant else difflib.get_close_matches(str(kind), known, n=1, cutoff=0.6)
        hint = f'did you mean "{near[0]}"?' if near else f"there are: {', '.join(known)}"
        raise ValueError(f"unknown kind {kind!r}; {hint}")
    try:
        return step_of(kind).model_validate_json(json.dumps(table))  # as JSON, lists are tuples and names choices
    except ValidationError as error:
        faults = [
            InitErrorDetails(type=each["type"], loc=(kind, *each["loc"]), input=each["input"], ctx=each.get("ctx", {}))
            for each in error.errors()
        ]
        raise ValidationError.from_exception_data(kind, faults) from None


AnyStep = Annotated[SerializeAsAny[MaskStep], PlainValidator(_read_step)]
"""A step of any kind of mask that there is when it is read."""


class LayerStep(MaskStep):
    """Another layer's mask."""

    kind: Literal["layer"]
    layer: str

    def bare(self, around: Around) -> Mask:
        return Shared(around.mask_of_layer(self.layer), self.layer)


class ShownStep(MaskStep):
    """How much of a layer below shows, before this one is put upon it."""

    kind: Literal["shown"]
    layer: str

    def bare(self, around: Around) -> Mask:
        return around.shown_of_layer(self.layer)


class ChannelStep(MaskStep):
    """How much there is of a channel."""

    kind: Literal["channel"]
    channel: str

    def bare(self, around: Around) -> Mask:
        return around.channel_named(self.channel)


class _DistanceStep(MaskStep):
    """From the edge of another layer's mask, or of steps of its own."""

    layer: str = ""
    of: list[AnyStep] = some()

    def bare(self, around: Around) -> Mask:
        if bool(self.layer) == bool(self.of):
            raise RangeError('say the distance to what: layer = "…" for another layer\'s mask, or of = [ … ] with mask steps')
        other = around.mask_of_layer(self.layer) if self.layer else steps_mask(self.of, around)
        return Distance(other, **said(self, Distance, leave_out=("to",)))


class _DetailStep(MaskStep):
    """The texture detail of the layers below."""

    def bare(self, around: Around) -> Mask:
        return DetailBand(**said(self, DetailBand), below=tuple(around.layers_below()))


class ImageFileStep(MaskStep):
    """An image file and its channel."""

    file: str
    channel: str = ""

    def bare(self, around: Around) -> Mask:
        return ImageMask.read(
            around.folder / self.file, channel=self.channel, limits=around.limits, **said(self, ImageMask, leave_out=_OF_FILES)
        )


_OF_FILES = ("values", "source")
_BASES: dict[type[Mask], tuple[type[MaskStep], tuple[str, ...]]] = {
    Distance: (_DistanceStep, ("to",)),
    ImageMask: (ImageFileStep, _OF_FILES),
    DetailBand: (_DetailStep, ()),
}
"""Masks that are made from more than their own fields: the step that makes them, and the fields that are not said."""


_OTHERS: dict[str, type[MaskStep]] = {"layer": LayerStep, "shown": ShownStep, "channel": ChannelStep}


def mask_kinds() -> list[str]:
    """What files call the kinds of mask that there are now: those of the library, and of modules that were loaded since."""
    return [*MASK_KINDS, *_OTHERS]


def step_of(name: str) -> type[MaskStep]:
    """Return the table of a kind of mask, by what files call it."""
    return _OTHERS[name] if name in _OTHERS else _step_of(MASK_KINDS[name])  # type: ignore[arg-type]  # classes hash


@cache
def _step_of(kind: type[Mask]) -> type[MaskStep]:
    base, leave_out = _BASES.get(kind, (MaskStep, ()))
    own = keys_of(kind, leave_out=leave_out)
    made = create_model(f"{kind.__name__}Step", __base__=base, kind=(Literal[kind.key], ...), **own)  # type: ignore[call-overload]
    made.made = kind
    step: type[MaskStep] = made
    return step


def steps_mask(steps: list[Model], around: Around, at: Callable[[int], AbstractContextManager[None]] | None = None) -> Mask:
    """Put mask steps upon each other in order, beginning with "everywhere".

    `at` gives a context in which the step of a number is built.
    """
    mask: Mask = Constant(1.0)
    for which, step in enumerate(steps):
        with at(which) if at else nullcontext():
            own, combine = step.mask(around), step.combine
            if which:
                mask = Combined(combine, mask, own, step.amount)
            elif combine in (Combine.ADD, Combine.MAXIMUM):
                raise RangeError(
                    f'combine: the first step stands on "everywhere", where "{step.combine}" has no effect; use "multiply"'
                )
            elif combine is Combine.MIX:
                mask = Combined(combine, mask, own, step.amount)
            else:
                mask = Inverted(own) if combine in (Combine.SUBTRACT, Combine.DIFFERENCE) else own
    return mask
