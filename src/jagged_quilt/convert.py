"""Conversions of one kind of map into another, on arrays."""

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
