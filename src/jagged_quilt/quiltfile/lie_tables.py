"""What a quilt file may say of how a layer lies on the surface, and the projection that it makes."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from jagged_quilt.blend.projection import Box, Cylindrical, Planar, Projection, Spherical, Triplanar, Uv, Warp
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.quiltfile.mask_tables import Pair, Table

Place = Annotated[list[float], Field(min_length=3, max_length=3)]
WrapName = Literal["repeat", "clamp", "mirror"]

_KINDS: dict[str, type] = {
    "planar": Planar, "triplanar": Triplanar, "box": Box, "spherical": Spherical, "cylindrical": Cylindrical, "uv": Uv
}  # fmt: skip
_SHARED = ("offset", "rotation", "mirror", "scale", "wrap", "filter", "anisotropy", "detail", "warp")
_OWN = {
    "planar": ("axis", "space"),
    "triplanar": ("sharpness", "space", "above", "above_fade", "eye", "beyond", "beyond_fade"),
    "box": ("space",),
    "spherical": ("centre", "radius", "axis", "space"),
    "cylindrical": ("centre", "radius", "axis", "space"),
    "uv": ("metres",),
}


class WarpOfLie(Table):
    """Metres by which places move at most, metres from one bend to the next, a seed."""

    by: float
    size: float
    seed: int = 0


class LieKeys(Table):
    """How a layer lies: its projection, and what moves, turns and reads it."""

    projection: Literal["planar", "triplanar", "box", "spherical", "cylindrical", "uv"] = "planar"
    sharpness: float = 4.0
    axis: Literal["x", "y", "z"] | Place = "y"
    space: Literal["world", "object"] = "world"
    above: float = 0.0
    above_fade: float = 10.0
    eye: Place | None = None
    beyond: float = 0.0
    beyond_fade: float = 5.0
    centre: Place = Field(default_factory=lambda: [0.0, 0.0, 0.0])
    radius: float = 1.0
    metres: float = 1.0
    offset: Pair = Field(default_factory=lambda: [0.0, 0.0])
    rotation: float = 0.0
    mirror: Literal["", "u", "v", "uv"] = ""
    scale: float | Pair = 1.0
    wrap: WrapName | Annotated[list[WrapName], Field(min_length=2, max_length=2)] = "repeat"
    filter: Literal["nearest", "bilinear", "trilinear", "anisotropic"] | None = None
    anisotropy: int = 16
    detail: Literal["exact", "cheap"] = "exact"
    warp: WarpOfLie | None = None

    def idle_keys(self) -> set[str]:
        """Return the keys that are written and say nothing of this projection."""
        others = {key for keys in _OWN.values() for key in keys} - set(_OWN[self.projection])
        return self.model_fields_set & others

    def made(self) -> Projection:
        """Return the projection; raise `RangeError` if a key has no effect on it."""
        for key in sorted(self.idle_keys()):
            raise RangeError(f'{key} has no effect with projection = "{self.projection}"; remove it')
        given: dict[str, Any] = {}
        for key in (*_SHARED, *_OWN[self.projection]):
            value = getattr(self, key)
            given[key] = tuple(value) if isinstance(value, list) else value
        if not isinstance(given["scale"], tuple):
            given["scale"] = (given["scale"], given["scale"])
        if self.warp is not None:
            given["warp"] = Warp(self.warp.by, self.warp.size, self.warp.seed)
        projection: Projection = _KINDS[self.projection](**given)
        return projection


def without_idle(layer: dict[str, Any]) -> None:
    """Take out of a layer's table the keys that say nothing of its projection, in place; for changes from outside."""
    own = _OWN.get(layer.get("projection", "planar"), ())
    for key in {each for keys in _OWN.values() for each in keys} - set(own):
        layer.pop(key, None)
