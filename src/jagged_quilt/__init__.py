"""Jagged Quilt: blend the texture maps of many materials over a surface, check them, and see every step."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING

from jagged_quilt.foundation.version import __version__

if TYPE_CHECKING:
    from jagged_quilt.arrays.layout import layout_of as layout_of
    from jagged_quilt.arrays.pack import pack as pack
    from jagged_quilt.arrays.pack import pack_files as pack_files
    from jagged_quilt.arrays.texture_arrays import TextureArrays as TextureArrays
    from jagged_quilt.baking.bake import BakedMaps as BakedMaps
    from jagged_quilt.baking.bake import bake as bake
    from jagged_quilt.baking.uv_bake import MeshBake as MeshBake
    from jagged_quilt.baking.uv_bake import bake_mesh as bake_mesh
    from jagged_quilt.baking.weigh_mesh import weigh_mesh as weigh_mesh
    from jagged_quilt.blend.blender import Blender as Blender
    from jagged_quilt.blend.blender import Texels as Texels
    from jagged_quilt.blend.layer import Layer as Layer
    from jagged_quilt.blend.projection import Box as Box
    from jagged_quilt.blend.projection import Cylindrical as Cylindrical
    from jagged_quilt.blend.projection import Planar as Planar
    from jagged_quilt.blend.projection import Spherical as Spherical
    from jagged_quilt.blend.projection import Triplanar as Triplanar
    from jagged_quilt.blend.projection import Uv as Uv
    from jagged_quilt.blend.projection import Warp as Warp
    from jagged_quilt.blend.samples import samples_saved as samples_saved
    from jagged_quilt.blend.survey import Survey as Survey
    from jagged_quilt.codecs.pixel_formats import PixelFormat as PixelFormat
    from jagged_quilt.foundation.errors import QuiltError as QuiltError
    from jagged_quilt.foundation.errors import QuiltWarning as QuiltWarning
    from jagged_quilt.foundation.noise import NoiseKind as NoiseKind
    from jagged_quilt.foundation.noise import noise_at as noise_at
    from jagged_quilt.foundation.points import Points as Points
    from jagged_quilt.maps.audit import audit_swatch as audit_swatch
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
    from jagged_quilt.maps.conversions import without_stairs as without_stairs
    from jagged_quilt.maps.image_files import limit_images as limit_images
    from jagged_quilt.maps.image_files import read_image as read_image
    from jagged_quilt.maps.image_files import write_image as write_image
    from jagged_quilt.maps.roles import SURFACE_ROLES as SURFACE_ROLES
    from jagged_quilt.maps.roles import MapRole as MapRole
    from jagged_quilt.maps.swatch import Swatch as Swatch
    from jagged_quilt.maps.swatch_source import MapRule as MapRule
    from jagged_quilt.maps.swatch_source import SwatchSource as SwatchSource
    from jagged_quilt.maps.swatch_source import read_swatch as read_swatch
    from jagged_quilt.maps.swatch_source import read_swatches as read_swatches
    from jagged_quilt.maps.texture_map import TextureMap as TextureMap
    from jagged_quilt.masks.field_masks import Curvature as Curvature
    from jagged_quilt.masks.field_masks import Distance as Distance
    from jagged_quilt.masks.field_masks import HiddenSky as HiddenSky
    from jagged_quilt.masks.image_mask import ImageMask as ImageMask
    from jagged_quilt.masks.mask import Constant as Constant
    from jagged_quilt.masks.mask import Mask as Mask
    from jagged_quilt.masks.noise_mask import Noise as Noise
    from jagged_quilt.masks.shape_masks import Facing as Facing
    from jagged_quilt.masks.shape_masks import HeightBand as HeightBand
    from jagged_quilt.masks.shape_masks import Slope as Slope
    from jagged_quilt.masks.shape_masks import VertexColour as VertexColour
    from jagged_quilt.meshes.material import MeshMaterial as MeshMaterial
    from jagged_quilt.meshes.mesh import Mesh as Mesh
    from jagged_quilt.meshes.mesh import Part as Part
    from jagged_quilt.meshes.read import read_mesh as read_mesh
    from jagged_quilt.meshes.shapes import box as box
    from jagged_quilt.meshes.shapes import jar as jar
    from jagged_quilt.meshes.shapes import plane as plane
    from jagged_quilt.meshes.shapes import sphere as sphere
    from jagged_quilt.meshes.shapes import tube as tube
    from jagged_quilt.meshes.unwrap import unwrap as unwrap
    from jagged_quilt.meshes.uv_layout import UvLayout as UvLayout
    from jagged_quilt.meshes.write import write_mesh as write_mesh
    from jagged_quilt.quiltfile.quilt import Quilt as Quilt
    from jagged_quilt.quiltfile.quilt import read_quilt as read_quilt
    from jagged_quilt.show.audit_sheet import lit_ball as lit_ball
    from jagged_quilt.show.compare import draw_compared as draw_compared
    from jagged_quilt.show.debug import draw_debug as draw_debug
    from jagged_quilt.show.lit_view import draw_scene as draw_scene
    from jagged_quilt.show.mesh_sheet import draw_mesh_sheet as draw_mesh_sheet
    from jagged_quilt.show.riser import draw_riser as draw_riser
    from jagged_quilt.show.scene import Dressed as Dressed
    from jagged_quilt.show.scene import Scene as Scene
    from jagged_quilt.surfaces.camera import Camera as Camera
    from jagged_quilt.surfaces.terrain import Terrain as Terrain
    from jagged_quilt.surfaces.terrain_mesh import terrain_mesh as terrain_mesh
    from jagged_quilt.weights.adopt import Adopted as Adopted
    from jagged_quilt.weights.adopt import adopt_colours as adopt_colours
    from jagged_quilt.weights.adopt import adopt_index as adopt_index
    from jagged_quilt.weights.adopt import adopt_masks as adopt_masks
    from jagged_quilt.weights.adopt import adopt_pairs as adopt_pairs
    from jagged_quilt.weights.adopt import adopt_splat as adopt_splat
    from jagged_quilt.weights.daub import Daub as Daub
    from jagged_quilt.weights.daub import Deed as Deed
    from jagged_quilt.weights.daub_file import append_daub as append_daub
    from jagged_quilt.weights.daub_file import read_daubs as read_daubs
    from jagged_quilt.weights.daub_file import write_daubs as write_daubs
    from jagged_quilt.weights.explain import explain as explain
    from jagged_quilt.weights.medley import Heights as Heights
    from jagged_quilt.weights.medley import Medley as Medley
    from jagged_quilt.weights.medley import height_ramp as height_ramp
    from jagged_quilt.weights.splat_sheets import write_masks as write_masks
    from jagged_quilt.weights.splat_sheets import write_pairs as write_pairs
    from jagged_quilt.weights.splat_sheets import write_splat as write_splat
    from jagged_quilt.weights.weigh import daubed as daubed
    from jagged_quilt.weights.weigh import weigh as weigh
    from jagged_quilt.weights.weigh import weigh_points as weigh_points
    from jagged_quilt.weights.weigher import Stacking as Stacking
    from jagged_quilt.weights.weigher import Weigher as Weigher
    from jagged_quilt.weights.weight_map import WeightMap as WeightMap

_HOME = {
    "layout_of": "arrays.layout",
    "pack": "arrays.pack",
    "pack_files": "arrays.pack",
    "TextureArrays": "arrays.texture_arrays",
    "BakedMaps": "baking.bake",
    "bake": "baking.bake",
    "Blender": "blend.blender",
    "Texels": "blend.blender",
    "Layer": "blend.layer",
    "Box": "blend.projection",
    "Cylindrical": "blend.projection",
    "Planar": "blend.projection",
    "Spherical": "blend.projection",
    "Triplanar": "blend.projection",
    "Uv": "blend.projection",
    "Warp": "blend.projection",
    "QuiltError": "foundation.errors",
    "QuiltWarning": "foundation.errors",
    "Points": "foundation.points",
    "audit_swatch": "maps.audit",
    "diffuse_specular_from_metallic": "maps.conversions",
    "flipped_green": "maps.conversions",
    "gloss_from_roughness": "maps.conversions",
    "height_from_alpha": "maps.conversions",
    "height_from_normal": "maps.conversions",
    "metallic_from_diffuse_specular": "maps.conversions",
    "normal_from_height": "maps.conversions",
    "normals_from_two_channels": "maps.conversions",
    "occlusion_from_height": "maps.conversions",
    "roughness_from_gloss": "maps.conversions",
    "roughness_from_shininess": "maps.conversions",
    "without_stairs": "maps.conversions",
    "limit_images": "maps.image_files",
    "read_image": "maps.image_files",
    "write_image": "maps.image_files",
    "lit_ball": "show.audit_sheet",
    "PixelFormat": "codecs.pixel_formats",
    "MapRole": "maps.roles",
    "SURFACE_ROLES": "maps.roles",
    "MapRule": "maps.swatch_source",
    "SwatchSource": "maps.swatch_source",
    "Swatch": "maps.swatch",
    "read_swatch": "maps.swatch_source",
    "read_swatches": "maps.swatch_source",
    "TextureMap": "maps.texture_map",
    "Quilt": "quiltfile.quilt",
    "read_quilt": "quiltfile.quilt",
    "Camera": "surfaces.camera",
    "Terrain": "surfaces.terrain",
    "NoiseKind": "foundation.noise",
    "noise_at": "foundation.noise",
    "Adopted": "weights.adopt",
    "adopt_splat": "weights.adopt",
    "adopt_masks": "weights.adopt",
    "adopt_index": "weights.adopt",
    "adopt_colours": "weights.adopt",
    "adopt_pairs": "weights.adopt",
    "Daub": "weights.daub",
    "Deed": "weights.daub",
    "read_daubs": "weights.daub_file",
    "write_daubs": "weights.daub_file",
    "append_daub": "weights.daub_file",
    "Curvature": "masks.field_masks",
    "HiddenSky": "masks.field_masks",
    "Distance": "masks.field_masks",
    "ImageMask": "masks.image_mask",
    "Medley": "weights.medley",
    "Heights": "weights.medley",
    "height_ramp": "weights.medley",
    "Facing": "masks.shape_masks",
    "VertexColour": "masks.shape_masks",
    "Weigher": "weights.weigher",
    "Stacking": "weights.weigher",
    "daubed": "weights.weigh",
    "explain": "weights.explain",
    "write_splat": "weights.splat_sheets",
    "write_pairs": "weights.splat_sheets",
    "write_masks": "weights.splat_sheets",
    "Constant": "masks.mask",
    "Mask": "masks.mask",
    "Noise": "masks.noise_mask",
    "HeightBand": "masks.shape_masks",
    "Slope": "masks.shape_masks",
    "Mesh": "meshes.mesh",
    "Part": "meshes.mesh",
    "MeshMaterial": "meshes.material",
    "read_mesh": "meshes.read",
    "write_mesh": "meshes.write",
    "unwrap": "meshes.unwrap",
    "plane": "meshes.shapes",
    "box": "meshes.shapes",
    "sphere": "meshes.shapes",
    "tube": "meshes.shapes",
    "jar": "meshes.shapes",
    "MeshBake": "baking.uv_bake",
    "bake_mesh": "baking.uv_bake",
    "UvLayout": "meshes.uv_layout",
    "Survey": "blend.survey",
    "samples_saved": "blend.samples",
    "reoriented": "maps.conversions",
    "weigh_mesh": "baking.weigh_mesh",
    "draw_compared": "show.compare",
    "draw_debug": "show.debug",
    "draw_scene": "show.lit_view",
    "draw_mesh_sheet": "show.mesh_sheet",
    "draw_riser": "show.riser",
    "Dressed": "show.scene",
    "Scene": "show.scene",
    "terrain_mesh": "surfaces.terrain_mesh",
    "weigh": "weights.weigh",
    "weigh_points": "weights.weigh",
    "WeightMap": "weights.weight_map",
}
__all__ = ["__version__", *sorted(_HOME)]


def __getattr__(name: str) -> object:
    if name not in _HOME:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(importlib.import_module(f"{__name__}.{_HOME[name]}"), name)


def __dir__() -> list[str]:
    return __all__
