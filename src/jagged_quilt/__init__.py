"""Jagged Quilt: blend the texture maps of many materials over a surface, check them, and see every step.

Maps      read_swatch read_swatches plain_swatch gather SwatchSource MapRule TextureMap grown
Arrays    pack pack_files open_arrays TextureArrays
Surfaces  read_terrain Terrain read_mesh Mesh Camera
Masks     Slope HeightBand Facing Noise Curvature Wear AmbientOcclusion Distance ImageMask VertexColour MaskOf Constant
Layers    Layer Planar Triplanar Box Uv Spherical Cylindrical Polar Shuffle Tuning Far Film Medley DetailBand
Weights   weigh weigh_into WeightMap Weigher open_weights explain
Baking    bake bake_pages BakedMaps open_baked
Pictures  Scene Sun PointLight SpotLight Sky SkyImage clear_sky read_sky compare
Files     read_quilt Quilt run Look Page
Windows   images (image files), convert (one kind of map into another), audit (what is wrong with maps), shapes (made
          meshes), daubs (painted strokes), adopt (weights of other programs), export (files for engines), show
          (pictures), errors; help(jq.export) says what is in one

Examples in docstrings begin with these:

>>> import numpy as np
>>> import jagged_quilt as jq
>>> y, x = np.mgrid[0:33, 0:33] / 32
>>> ground = jq.Terrain((2 * np.sin(2 * x + y) + 0.5 * y).astype(np.float32), size=(32.0, 32.0))
>>> clay = jq.plain_swatch("clay", diffuse=(0.5, 0.3, 0.2))
>>> salt = jq.plain_swatch("salt", diffuse=(0.9, 0.9, 0.85))
>>> arrays = jq.pack([clay, salt], side=16)
>>> layers = [jq.Layer("clay"), jq.Layer("salt", mask=jq.HeightBand(0.2, 1.0))]
"""

from jagged_quilt.foundation.notebook import draw_by
from jagged_quilt.foundation.window import window


def _html_of(value: object) -> str:
    from jagged_quilt.results.notebook import html_of

    return html_of(value)


draw_by(_html_of)
__getattr__, __dir__, __all__ = window(__name__, __file__)
