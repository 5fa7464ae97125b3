"""What a quilt file may say of masks, and the masks that it makes."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Literal, Protocol

from pydantic import BaseModel, ConfigDict, Field

from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.noise import NoiseKind
from jagged_quilt.masks.field_masks import Curvature, Distance, HiddenSky
from jagged_quilt.masks.image_mask import ImageMask, Wrap
from jagged_quilt.masks.mask import Combine, Combined, Constant, Inverted, Mask
from jagged_quilt.masks.noise_mask import Noise
from jagged_quilt.masks.shape_masks import Facing, HeightBand, Slope, VertexColour

Pair = Annotated[list[float], Field(min_length=2, max_length=2)]
CombineName = Literal["multiply", "add", "subtract", "maximum", "minimum", "difference", "mix"]
KindName = Literal["smooth", "billowed", "ridged", "cellular"]


class Table(BaseModel):
    """A table of a quilt file: every key is known, and of the type it should be."""

    model_config = ConfigDict(extra="forbid", strict=True, allow_inf_nan=False)


class Around(Protocol):
    """What a mask may need of the quilt around it."""

    folder: Path

    def mask_of_layer(self, name: str) -> Mask: ...


class WarpTable(Table):
    """Metres up to which a mask is asked elsewhere, metres from hill to hill of the noise that says where."""

    by: float
    size: float
    octaves: int = 3
    seed: int = 0


class LevelsTable(Table):
    """What becomes 0, what becomes 1, and the bend between."""

    black: float = 0.0
    white: float = 1.0
    gamma: float = 1.0


class MaskStep(Table):
    """What all kinds of mask share: how a step is changed, in this order, and how it goes upon the steps before."""

    combine: CombineName = "multiply"
    amount: float = 0.5
    warp: WarpTable | None = None
    levels: LevelsTable | None = None
    threshold: float | None = None
    range: float = 0.2
    invert: bool = False
    strength: float = 1.0

    def mask(self, around: Around) -> Mask:
        """Return the mask of this step alone; raise `RangeError` if a key is written that has no effect."""
        if "amount" in self.model_fields_set and self.combine != "mix":
            raise RangeError(f'amount: is for combine = "mix", and this step says "{self.combine}"; remove one of them')
        if "range" in self.model_fields_set and self.threshold is None:
            raise RangeError("range: has no effect without a threshold; write one, or remove it")
        mask = self._shaped(self.bare(around))
        if self.invert:
            mask = ~mask
        return mask if self.strength == 1.0 else mask * self.strength

    def bare(self, around: Around) -> Mask:
        """Return the mask before anything that all kinds share."""
        raise NotImplementedError

    def _shaped(self, mask: Mask) -> Mask:
        if self.warp is not None:
            mask = mask.warped(by=self.warp.by, size=self.warp.size, octaves=self.warp.octaves, seed=self.warp.seed)
        if self.levels is not None:
            mask = mask.levels(self.levels.black, self.levels.white, self.levels.gamma)
        return mask if self.threshold is None else mask.cut(self.threshold, self.range)


class HeightStep(MaskStep):
    """Metres from which to which it is fully there, metres over which it fades beyond."""

    kind: Literal["height"]
    band: Pair
    fade: float = 0.0

    def bare(self, around: Around) -> Mask:
        return HeightBand(self.band[0], self.band[1], self.fade)


class SlopeStep(MaskStep):
    """Degrees from which to which it is fully there, degrees over which it fades beyond."""

    kind: Literal["slope"]
    band: Pair
    fade: float = 0.0

    def bare(self, around: Around) -> Mask:
        return Slope(self.band[0], self.band[1], self.fade)


class FacingStep(MaskStep):
    """Degrees from north that the surface faces, to either side, and over which it fades; level ground faces nowhere."""

    kind: Literal["facing"]
    bearing: float
    spread: float = 45.0
    fade: float = 30.0
    level: float = 4.0

    def bare(self, around: Around) -> Mask:
        return Facing(self.bearing, self.spread, self.fade, self.level)


class CurvatureStep(MaskStep):
    """Ridges or hollows of about a scale in metres; where it begins and where it is full, as curvature x scale."""

    kind: Literal["curvature"]
    form: Literal["ridges", "hollows"]
    scale: float
    low: float = 0.05
    high: float = 0.4

    def bare(self, around: Around) -> Mask:
        return Curvature(self.form, self.scale, self.low, self.high)


class OcclusionStep(MaskStep):
    """How much of the sky the terrain hides: metres that are looked at, and the share at which it is full."""

    kind: Literal["occlusion"]
    reach: float
    full: float = 0.5

    def bare(self, around: Around) -> Mask:
        return HiddenSky(self.reach, self.full)


class DistanceStep(MaskStep):
    """Metres from the edge of another layer's mask, or of steps of its own; below 0 inside of it."""

    kind: Literal["distance"]
    layer: str = ""
    of: list[AnyStep] = Field(default_factory=list)
    band: Pair
    fade: float = 0.0
    texels: int = 1024

    def bare(self, around: Around) -> Mask:
        if bool(self.layer) == bool(self.of):
            raise RangeError('say the distance to what: layer = "…" for another layer\'s mask, or of = [ … ] with mask steps')
        other = around.mask_of_layer(self.layer) if self.layer else steps_mask(self.of, around)
        return Distance(other, self.band[0], self.band[1], self.fade, self.texels)


class NoiseStep(MaskStep):
    """Patches: metres from one to the next, kind, octaves, threshold and range of the cut, seed, period in sizes, 2 or 3 D."""

    kind: Literal["noise"]
    form: KindName = "smooth"
    size: float
    octaves: int = 4
    threshold: float | None = 0.5
    seed: int = 0
    period: int = 0
    dimensions: int = 3

    def bare(self, around: Around) -> Mask:
        return self.noise()

    def noise(self) -> Noise:
        """Return the noise alone."""
        threshold = 0.5 if self.threshold is None else self.threshold
        return Noise(size=self.size, octaves=self.octaves, threshold=threshold, range=self.range, seed=self.seed,
                     period=self.period, kind=NoiseKind[self.form.upper()], dimensions=self.dimensions)  # fmt: skip

    def _shaped(self, mask: Mask) -> Mask:  # it is cut already
        return MaskStep._shaped(self.model_copy(update={"threshold": None}), mask)


class ImageStep(MaskStep):
    """An image file and its channel; metres that it covers, where its corner lies, degrees clockwise, and how it goes on."""

    kind: Literal["image"]
    file: str
    channel: str = ""
    size: Pair | None = None
    corner: Pair = Field(default_factory=lambda: [0.0, 0.0])
    rotation: float = 0.0
    wrap: Wrap = "none"

    def bare(self, around: Around) -> Mask:
        return ImageMask.read(around.folder / self.file, channel=self.channel, rotation=self.rotation, wrap=self.wrap,
                              size=None if self.size is None else (self.size[0], self.size[1]),
                              corner=(self.corner[0], self.corner[1]))  # fmt: skip


class ConstantStep(MaskStep):
    """The same everywhere."""

    kind: Literal["constant"]
    value: float

    def bare(self, around: Around) -> Mask:
        return Constant(self.value)


class LayerStep(MaskStep):
    """Another layer's mask."""

    kind: Literal["layer"]
    layer: str

    def bare(self, around: Around) -> Mask:
        return around.mask_of_layer(self.layer)


class ColourStep(MaskStep):
    """A channel of a mesh's vertex colours."""

    kind: Literal["vertex colour"]
    channel: Literal["r", "g", "b", "a"]

    def bare(self, around: Around) -> Mask:
        return VertexColour(self.channel)


AnyStep = Annotated[
    HeightStep | SlopeStep | FacingStep | CurvatureStep | OcclusionStep | DistanceStep | NoiseStep | ImageStep
    | ConstantStep | LayerStep | ColourStep,
    Field(discriminator="kind"),
]  # fmt: skip
KINDS = ("height", "slope", "facing", "curvature", "occlusion", "distance", "noise", "image", "constant", "layer",
         "vertex colour")  # fmt: skip
DistanceStep.model_rebuild()


def steps_mask(steps: list[AnyStep], around: Around, at: Callable[[int], object] | None = None) -> Mask:
    """Put mask steps upon each other in order, beginning with "everywhere".

    `at` gives a context in which the step of a number is built.
    """
    from contextlib import nullcontext

    mask: Mask = Constant(1.0)
    for which, step in enumerate(steps):
        with at(which) if at else nullcontext():  # type: ignore[attr-defined]
            own, combine = step.mask(around), Combine(step.combine)
            if which:
                mask = Combined(combine, mask, own, step.amount)
            elif combine in (Combine.ADD, Combine.MAXIMUM):
                raise RangeError(f'combine: the first step stands on "everywhere", where "{step.combine}" has no effect; '
                                 'use "multiply"')  # fmt: skip
            elif combine is Combine.MIX:
                mask = Combined(combine, mask, own, step.amount)
            else:
                mask = Inverted(own) if combine in (Combine.SUBTRACT, Combine.DIFFERENCE) else own
    return mask
