"""What a quilt file may say of layers: how each lies on the surface, where, and how softly it meets others."""

from __future__ import annotations

from dataclasses import fields
from typing import Literal

from pydantic import Field, create_model

import jagged_quilt.blend.round_projections  # noqa: F401  # so that all kinds of projection are known
from jagged_quilt.blend.distance import Far
from jagged_quilt.blend.flat_projections import Planar, Uv
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.projection import PROJECTIONS, Detail, PerMap, ProjectionBase
from jagged_quilt.blend.tuning import Tuning
from jagged_quilt.blend.warps import Drip, Swirl, Warp
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Facts, Model
from jagged_quilt.masks.image_mask import ImageWrap
from jagged_quilt.quiltfile.mask_tables import AnyStep
from jagged_quilt.quiltfile.tables import Table, keys_of, said, some

OWN = "own"
"""The swatch of a mesh's layer that stands for the material of each part."""
_SHARED = {each.name for each in fields(ProjectionBase)}
_KINDS = dict(sorted(PROJECTIONS.items()))  # however they were loaded: results are told from others by the order of keys too
_OWN = {name: set(keys_of(kind)) - _SHARED for name, kind in _KINDS.items()}
_OF_SOME = set().union(*_OWN.values())
_LAYER = keys_of(Layer)


class FlowTable(Table):
    """A picture by which a texture is bent: its file, metres that black and white move, and how it lies on the ground."""

    image: str
    by: float
    size: tuple[float, float] | None = None
    corner: tuple[float, float] = (0.0, 0.0)
    rotation: float = 0.0
    wrap: ImageWrap = ImageWrap.CLAMP


class _LayerKeys(Table):
    """What all layers say: the swatch or medley, what to call it, where it covers what lies below."""

    swatch: str
    label: str = _LAYER["label"][1]
    softness: float = _LAYER["softness"][1]
    mask: list[AnyStep] = some()
    tuning: Tuning = _LAYER["tuning"][1]
    far: Far | None = None
    per_map: dict[str, PerMap] = Field(default_factory=dict)
    meets: dict[str, float] = Field(default_factory=dict)
    projection: Literal[tuple(_KINDS)] = Planar.key  # type: ignore[valid-type]

    @property
    def name(self) -> str:
        """The label, or the swatch where there is none."""
        return self.label or self.swatch

    @property
    def is_own(self) -> bool:
        """Whether it shows what a mesh's own material says."""
        return self.swatch == OWN

    def lie(self) -> ProjectionBase:
        """Return the projection; raise `RangeError` if a key has no effect on it.

        A mesh's own material lies by uv, and its normals as they are, unless the layer says otherwise.
        """
        if self.is_own and "projection" not in self.model_fields_set:
            plain = {"projection": Uv.key, **({} if "detail" in self.model_fields_set else {"detail": Detail.CHEAP})}
            return self.model_copy(update=plain).lie()
        for key in sorted(self.model_fields_set & (_OF_SOME - _OWN[self.projection])):
            raise RangeError(f'{key} has no effect with projection = "{self.projection}"; remove it')
        kind = PROJECTIONS[self.projection]
        return kind(**said(self, kind))


_keys: Facts = {key: value for kind in reversed(_KINDS.values()) for key, value in keys_of(kind).items()}
_keys["warp"] = (FlowTable | Warp | Drip | Swirl | None, None)
LayerTable: Model = create_model("LayerTable", __base__=_LayerKeys, **_keys)
"""One layer, from the bottom up: its own keys, and those of all projections."""
MeshLayerTable: Model = create_model("MeshLayerTable", __base__=LayerTable, part=(str, ""))
"""One layer of a mesh; of one of its parts where it names one."""


def without_idle(layer: Facts) -> None:
    """Take out of a layer's table the keys that say nothing of its projection, in place; for changes from outside."""
    for key in _OF_SOME - _OWN.get(layer.get("projection", Planar.key), set()):
        layer.pop(key, None)
