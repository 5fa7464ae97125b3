"""What a quilt file may say of lights and of the sky."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field, create_model

from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Facts, Model
from jagged_quilt.light.lamps import LIGHTS, Light, PointLight, SpotLight, Sun
from jagged_quilt.light.sky import Sky
from jagged_quilt.quiltfile.tables import keys_of, said, table_of

_Kind: Facts = {name: (Literal[name], ...) for name in LIGHTS}
_SunTable: Model = create_model("SunTable", __base__=table_of(Sun), kind=_Kind["sun"])
_PointTable: Model = create_model("PointTable", __base__=table_of(PointLight), kind=_Kind["point"])
_SpotTable: Model = create_model("SpotTable", __base__=table_of(SpotLight), kind=_Kind["spot"])
LightTable: Model = Annotated[_SunTable | _PointTable | _SpotTable, Field(discriminator="kind")]
_OfImages: Facts = {"image": (str, ""), "bearing": (float, 0.0), "exposure": (float, 0.0), "find_sun": (bool, False)}
SkyTable: Model = table_of(Sky, **_OfImages, clear=(float | None, None))
_GRADIENT = frozenset(keys_of(Sky))


def check_sky(table: BaseModel) -> None:
    """Raise `RangeError` if a [sky] table says things that do not go together."""
    said_of, image, clear = table.model_fields_set, table.image, table.clear  # type: ignore[attr-defined]
    if image and clear is not None:
        raise RangeError("a sky is an image or clear, not both; remove one of them")
    kind = "an image" if image else "a clear sky" if clear is not None else "a gradient"
    lost = sorted(said_of & (_OfImages.keys() if kind == "a gradient" else _GRADIENT))
    lost += sorted(said_of & _OfImages.keys()) if kind == "a clear sky" else []
    if lost:
        raise RangeError(f"{', '.join(lost)}: has no effect on {kind}; remove it")


def light_of(table: BaseModel) -> Light:
    """Return the light that a [[light]] table says."""
    kind: type[Light] = LIGHTS[table.kind]  # type: ignore[attr-defined]
    return kind(**said(table, kind))
