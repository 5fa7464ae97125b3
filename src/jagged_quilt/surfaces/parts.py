"""The parts of a surface, each with layers of its own."""

from __future__ import annotations

import math

from jagged_quilt.foundation.canvas import CanvasPart
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.ground_surface import GroundSurface


def parts_of(surface: GroundSurface | Mesh) -> tuple[CanvasPart, ...]:
    """Return the parts of a surface: name, space, and the metres that one unit of its uv stands for; the ground is one."""
    if isinstance(surface, Mesh):
        return tuple(CanvasPart(part.name, part.frame, surface.metres_of(part)) for part in surface.parts)
    return (CanvasPart(metres=math.sqrt(surface.area)),)
