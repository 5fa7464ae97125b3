"""What each standard calls the input of a surface that a map feeds: glTF 2.0, UsdPreviewSurface, MaterialX standard_surface."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum, auto


class Read(Enum):
    """How a standard reads the texels of a map."""

    COLOUR = auto()
    NUMBER = auto()
    VECTOR = auto()


@dataclass(frozen=True, slots=True, kw_only=True)
class SurfaceInput:
    """The input that a map feeds, by standard; empty where a standard has none.

    Attributes
    ----------
    read : Read
    gltf : str
        Where a material holds the texture, keys joined by dots; extensions are those of glTF's register.
    usd : str
        Of a preview surface, in its specular workflow.
    materialx : str
        Of a standard surface.
    """

    read: Read
    gltf: str = ""
    usd: str = ""
    materialx: str = ""


_BASE, _COAT = "pbrMetallicRoughness", "extensions.KHR_materials_clearcoat"
INPUTS = {
    "diffuse": SurfaceInput(read=Read.COLOUR, gltf=f"{_BASE}.baseColorTexture", usd="diffuseColor"),
    "base_color": SurfaceInput(read=Read.COLOUR, gltf=f"{_BASE}.baseColorTexture", materialx="base_color"),
    "specular": SurfaceInput(
        read=Read.COLOUR, gltf="extensions.KHR_materials_specular.specularColorTexture", usd="specularColor"
    ),
    "metallic": SurfaceInput(read=Read.NUMBER, materialx="metalness"),
    "roughness": SurfaceInput(read=Read.NUMBER, usd="roughness", materialx="specular_roughness"),
    "occlusion": SurfaceInput(read=Read.NUMBER, usd="occlusion"),
    "occlusion_roughness_metallic": SurfaceInput(read=Read.COLOUR, gltf=f"{_BASE}.metallicRoughnessTexture"),
    "emission": SurfaceInput(read=Read.COLOUR, gltf="emissiveTexture", usd="emissiveColor", materialx="emission_color"),
    "coat": SurfaceInput(read=Read.NUMBER, gltf=f"{_COAT}.clearcoatTexture", usd="clearcoat", materialx="coat"),
    "coat_roughness": SurfaceInput(
        read=Read.NUMBER,
        gltf=f"{_COAT}.clearcoatRoughnessTexture",
        usd="clearcoatRoughness",
        materialx="coat_roughness",
    ),
    "opacity": SurfaceInput(read=Read.NUMBER, usd="opacity", materialx="opacity"),
    "normal": SurfaceInput(read=Read.VECTOR, gltf="normalTexture", usd="normal", materialx="normal"),
    "coat_normal": SurfaceInput(read=Read.VECTOR, gltf=f"{_COAT}.clearcoatNormalTexture", materialx="coat_normal"),
}
"""By the name of a map as `EngineMaps` has it."""
