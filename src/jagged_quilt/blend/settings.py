"""How a blend is baked where nothing else is said, apart from what blends, since quilt files name it."""

from __future__ import annotations

from jagged_quilt.blend.projection import Filter
from jagged_quilt.foundation.choices import Choice


class NormalSpace(Choice):
    """The space of blended normals: the tangent space of the points, or the world."""

    TANGENT = "tangent"
    WORLD = "world"


NORMALS, FILTER = NormalSpace.TANGENT, Filter.TRILINEAR
