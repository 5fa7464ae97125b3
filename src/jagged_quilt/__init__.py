"""Jagged Quilt: blend the texture maps of many materials over a surface, check them, and see every step.

What is here is listed once, in `__init__.pyi`, and loaded when it is asked for. More stands in windows: `jq.images` (image
files), `jq.convert` (one kind of map into another), `jq.audit` (what is wrong with maps), `jq.shapes` (made meshes), `jq.daubs`
(painted strokes), `jq.adopt` (weights of other programs), `jq.export` (files for engines) and `jq.show` (pictures).
"""

from jagged_quilt.foundation.notebook import draw_by
from jagged_quilt.foundation.window import window


def _html_of(value: object) -> str:
    from jagged_quilt.results.notebook import html_of

    return html_of(value)


draw_by(_html_of)
__getattr__, __dir__, __all__ = window(__name__, __file__)
