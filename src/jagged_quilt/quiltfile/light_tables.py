"""What a quilt file may say of lights and of the sky."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field, create_model

from jagged_quilt.foundation.loose import Facts, Model
from jagged_quilt.light.lamps import Light, PointLight, SpotLight, Sun
from jagged_quilt.light.sky import Sky
from jagged_quilt.quiltfile.tables import said, table_of

LIGHTS: dict[str, type[Light]] = {"sun": Sun, "point": PointLight, "spot": SpotLight}
_Kind: Facts = {name: (Literal[name], ...) for name in LIGHTS}
_SunTable: Model = create_model("SunTable", __base__=table_of(Sun), kind=_Kind["sun"])
_PointTable: Model = create_model("PointTable", __base__=table_of(PointLight), kind=_Kind["point"])
_SpotTable: Model = create_model("SpotTable", __base__=table_of(SpotLight), kind=_Kind["spot"])
LightTable: Model = Annotated[_SunTable | _PointTable | _SpotTable, Field(discriminator="kind")]
SkyTable: Model = table_of(Sky)


def light_of(table: BaseModel) -> Light:
    """Return the light that a [[light]] table says."""
    kind: type[Light] = LIGHTS[table.kind]  # type: ignore[attr-defined]
    return kind(**said(table, kind))
