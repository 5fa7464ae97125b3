"""A layer: a swatch, how it is laid on the surface, and where."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from jagged_quilt.blend.distance import Far
from jagged_quilt.blend.flat_projections import Planar
from jagged_quilt.blend.projection import PerMap, ProjectionBase
from jagged_quilt.blend.tuning import AS_IT_IS, Tuning
from jagged_quilt.foundation.checks import instance_of, known_name, number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.maps.roles import BLENDED_ROLES
from jagged_quilt.masks.mask import Mask, as_mask
from jagged_quilt.weights.medley import Medley

_FROM_ABOVE = Planar()


@dataclass(frozen=True, slots=True)
class Layer(NotebookValue):
    """One layer of a blend.

    Attributes
    ----------
    swatch : str
        The name of a swatch in the arrays; with a medley, only what to call the layer.
    projection : Projection
        Planar, Triplanar, Box, Spherical, Cylindrical or Uv.
    softness : float
        Where layers meet, 0 cuts hard at the taller one and 1 leaves the weights as they came.
    mask : Mask or None
        Where it covers what lies below; None is everywhere.
    label : str
        What to call it in weight maps where two layers use one swatch.
    medley : Medley or None
        Swatches that take turns in place of the one.
    tuning : Tuning
        How its maps are changed as they are read.
    far : Far or None
        How it lies far from the eye, where there is one: in views, and in bakes that name one.
    per_map : mapping of str to PerMap
        Maps that lie otherwise than the rest, by the names of their roles ("normal", "roughness", …).
    meets : mapping of str to float
        The softness where it meets a layer of that name, in place of both layers' own.

    Examples
    --------
    >>> from jagged_quilt import Slope, Triplanar
    >>> Layer("salt", Triplanar(sharpness=8), mask=~Slope(30, 90))
    Layer(swatch='salt', projection=Triplanar(sharpness=8), mask=Inverted(mask=Slope(low=30, high=90)))
    """

    __repr__ = short_repr

    swatch: str
    projection: ProjectionBase = _FROM_ABOVE
    softness: float = 0.3
    mask: Mask | None = None
    label: str = ""
    medley: Medley | None = None
    tuning: Tuning = AS_IT_IS
    far: Far | None = None
    per_map: Mapping[str, PerMap] | tuple[tuple[str, PerMap], ...] = ()
    meets: Mapping[str, float] | tuple[tuple[str, float], ...] = ()
    base_name: str = field(default="", init=False, repr=False, compare=False)
    """Its name, of a layer for one swatch of a medley."""

    def __post_init__(self) -> None:
        instance_of("the swatch of a layer", self.swatch, str, 'the name of a swatch: jq.Layer("clay")')
        said = f'layer "{self.name}": '
        instance_of(f"{said}the projection", self.projection, ProjectionBase, "a projection: jq.Triplanar(), jq.Planar(), …")
        if self.mask is not None:
            object.__setattr__(self, "mask", as_mask(self.mask, f"{said}the mask"))
        number_in(f"{said}softness", self.softness, 0, 1)
        per_map = tuple(self.per_map.items() if isinstance(self.per_map, Mapping) else self.per_map)
        for role, _ in per_map:
            known_name("role that can be laid by itself", role, [each.key for each in BLENDED_ROLES])
            if self.projection.closes_around:
                raise RangeError(f'layer "{self.name}": a map cannot be laid by itself around an axis, where u wraps')
        object.__setattr__(self, "per_map", per_map)
        pairs = tuple(self.meets.items() if isinstance(self.meets, Mapping) else self.meets)
        for name, softness in pairs:
            number_in(f'layer "{self.name}": softness where it meets "{name}"', softness, 0, 1)
        object.__setattr__(self, "meets", pairs)

    @property
    def name(self) -> str:
        """The label, or the swatch where there is none."""
        return self.label or self.swatch

    @property
    def knobs(self) -> str:
        """What is said of its look beside its projection, in words; empty where nothing is."""
        own = [
            *([f"tuned by {self.tuning!r}".replace("Tuning", "")] if self.tuning != AS_IT_IS else []),
            *([f"shuffled {self.projection.shuffle!r}".replace("Shuffle", "")] if self.projection.shuffle else []),
            *([f"warped by {self.projection.warp!r}"] if self.projection.warp else []),
            *([f"far away {self.far!r}".replace("Far", "")] if self.far else []),
            *(f"{role} per map {lie!r}".replace("PerMap", "") for role, lie in dict(self.per_map).items()),
            *(f"softness {softness:g} where it meets {name}" for name, softness in dict(self.meets).items()),
        ]
        return "; ".join(own)

    @property
    def swatches(self) -> tuple[str, ...]:
        """The swatches that it shows: its own, or those of its medley."""
        return (self.swatch,) if self.medley is None else self.medley.swatches


def far_of(layer: Layer) -> Layer:
    """Return what stands for a layer, of one swatch, far from the eye."""
    assert layer.far is not None
    lie = layer.projection
    scales = lie.scales[0] * layer.far.scale, lie.scales[1] * layer.far.scale
    out = replace(layer, swatch=layer.far.swatch or layer.swatch, projection=replace(lie, scale=scales), far=None)
    object.__setattr__(out, "base_name", layer.base_name)
    return out


def every_swatch(layers: Sequence[Layer]) -> list[str]:
    """Return the swatches that layers show, near and far."""
    out = [swatch for layer in layers for swatch in layer.swatches]
    return list(dict.fromkeys([*out, *(layer.far.swatch for layer in layers if layer.far is not None and layer.far.swatch)]))


def one_each(layers: Sequence[Layer]) -> list[Layer]:
    """Return a layer for each swatch that shows, in the order of a weight map's names."""
    out = [replace(layer, swatch=swatch, medley=None) for layer in layers for swatch in layer.swatches]
    for made, name in zip(out, (layer.name for layer in layers for _ in layer.swatches), strict=True):
        object.__setattr__(made, "base_name", name)
    return out
