"""Jagged Quilt: blend the texture maps of many materials over a surface, check them, and see every step.

What is here is listed once, in `__init__.pyi`, and loaded when it is asked for. More stands in windows: `jq.images` (image
files), `jq.convert` (one kind of map into another), `jq.audit` (what is wrong with maps), `jq.shapes` (made meshes), `jq.daubs`
(painted strokes), `jq.adopt` (weights of other programs), `jq.export` (files for engines), `jq.show` (pictures), `jq.errors`.

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
