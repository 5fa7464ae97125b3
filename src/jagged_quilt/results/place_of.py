"""Why one place of the ground looks as it does, of a quilt and its results."""

from __future__ import annotations

from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.points import Points
from jagged_quilt.results.project import Project
from jagged_quilt.weights.explain import Explanation, explain, texel_at


def explained_at(project: Project, x: float, z: float) -> tuple[Explanation, Points]:
    """Return why the texel of the weight map at a place is as it is, and that texel as one point.

    Raises
    ------
    RangeError
        If the place is outside of the ground.
    """
    terrain, texels = project.quilt.terrain, project.quilt.table.weights.texels
    east, south = terrain.size
    if not (0 <= x <= east and 0 <= z <= south):
        raise RangeError(f"{x:g},{z:g}: outside of the surface, which reaches from 0,0 to {east:g},{south:g} m")
    points, which, grid = texel_at(terrain, (x, z), texels, project.weigher.daubs)
    return explain(project.weigher, points, which, grid), points[which : which + 1]
