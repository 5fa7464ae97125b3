"""Conversions of one kind of map into another, on arrays.

Examples
--------
>>> import numpy as np
>>> import jagged_quilt as jq
>>> jq.convert.linear_from_srgb(np.array([0.0, 0.5, 1.0], np.float32)).round(3)
array([0.   , 0.214, 1.   ], dtype=float32)
"""

from jagged_quilt.foundation.colour import linear_from_srgb as linear_from_srgb
from jagged_quilt.foundation.colour import srgb_from_linear as srgb_from_linear
from jagged_quilt.maps.conversions import diffuse_specular_from_metallic as diffuse_specular_from_metallic
from jagged_quilt.maps.conversions import flipped_green as flipped_green
from jagged_quilt.maps.conversions import gloss_from_roughness as gloss_from_roughness
from jagged_quilt.maps.conversions import height_from_alpha as height_from_alpha
from jagged_quilt.maps.conversions import height_from_normal as height_from_normal
from jagged_quilt.maps.conversions import metallic_from_diffuse_specular as metallic_from_diffuse_specular
from jagged_quilt.maps.conversions import normal_from_height as normal_from_height
from jagged_quilt.maps.conversions import normals_from_two_channels as normals_from_two_channels
from jagged_quilt.maps.conversions import occlusion_from_height as occlusion_from_height
from jagged_quilt.maps.conversions import reoriented as reoriented
from jagged_quilt.maps.conversions import roughness_from_gloss as roughness_from_gloss
from jagged_quilt.maps.conversions import roughness_from_shininess as roughness_from_shininess
from jagged_quilt.maps.stairs import without_stairs as without_stairs

__all__ = [
    "diffuse_specular_from_metallic",
    "flipped_green",
    "gloss_from_roughness",
    "height_from_alpha",
    "height_from_normal",
    "linear_from_srgb",
    "metallic_from_diffuse_specular",
    "normal_from_height",
    "normals_from_two_channels",
    "occlusion_from_height",
    "reoriented",
    "roughness_from_gloss",
    "roughness_from_shininess",
    "srgb_from_linear",
    "without_stairs",
]
