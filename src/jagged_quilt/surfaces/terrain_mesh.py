"""A terrain as a mesh: no farther from its samples than asked, with few triangles where it is flat and none that crack.

Greedy insertion (Garland and Heckbert 1995): a Delaunay triangulation of a few samples gets, round after round, the sample of
each triangle that lies farthest from it, until none lies too far. Borders are simplified by themselves first (Douglas and
Peucker 1973) and not touched again, so that neighbouring terrains with the same border samples meet without a crack.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import finite_array, frozen, positive
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.surfaces.terrain import Terrain

_terrain_mesh_kernels = kernels_of("jagged_quilt.surfaces._terrain_mesh_kernels")

_ROUNDS = 400


def terrain_mesh(
    terrain: Terrain, error: float, *, camera: tuple[float, float, float] | None = None, near: float = 50.0
) -> Mesh:
    """Return a mesh whose surface lies within `error` metres of every sample of a terrain, measured upright.

    uv run over the terrain as in its bakes; normals are the terrain's own.

    Parameters
    ----------
    error : float
        Metres.
    camera : (x, y, z), optional
        Where it stands: beyond `near` metres from it the error may grow with the distance.
    near : float
        Metres.

    Examples
    --------
    >>> jq.export.terrain_mesh(ground, error=0.01)
    <Mesh 424 triangles, 230 vertices, 1 part(s), 32 x 2.49 x 32 m, uv>
    """
    from scipy.spatial import Delaunay

    positive("error", error, "m")
    allowed = _allowed(terrain, error, camera, positive("near", near, "m"))
    heights = terrain.heights.astype(np.float64)
    rows, columns = heights.shape
    z, x = (np.arange(count) * spacing for count, spacing in zip(heights.shape, terrain.spacing[::-1], strict=True))
    chosen = np.zeros(heights.shape, bool)
    for index in ((0, slice(None)), (rows - 1, slice(None)), (slice(None), 0), (slice(None), columns - 1)):
        chosen[index] |= _kept_on_line(heights[index], allowed[index])
    grid, most = frozen(heights, np.float64), frozen(allowed, np.float64)
    for _ in range(_ROUNDS):
        at = np.flatnonzero(chosen)
        flat = Delaunay(np.column_stack([x[at % columns], z[at // columns]]))
        far, where = np.empty(len(flat.simplices)), np.empty(len(flat.simplices), np.int64)
        row_of, column_of = (frozen(each, np.int64) for each in divmod(at, columns))
        _terrain_mesh_kernels.farthest_samples(frozen(flat.simplices, np.int64), row_of, column_of, grid, most, far, where)
        if not far.any():
            break
        chosen.ravel()[where[far > 0]] = True  # the farthest of each triangle
    at = np.flatnonzero(chosen)
    corners = flat.simplices.astype(np.int64)
    position = np.column_stack([x[at % columns], heights.ravel()[at], z[at // columns]])
    a, b, c = (position[corners[:, corner]][:, [0, 2]] for corner in range(3))
    turns = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
    corners[turns > 0] = corners[turns > 0][:, ::-1]  # counter-clockwise from above, where z runs down the page
    points = terrain.points_at(position[:, [0, 2]])
    return Mesh.of(position, corners, normal=points.normal, uv=points.uv, tangent=points.tangent, name="terrain")


def _allowed(terrain: Terrain, error: float, camera: tuple[float, float, float] | None, near: float) -> NDArray[np.float64]:
    """How far the mesh may lie from each sample, in metres."""
    rows, columns = terrain.heights.shape
    if camera is None:
        return np.full((rows, columns), error)
    eye = finite_array("camera", camera, (3,)).astype(np.float64)
    z, x = np.meshgrid(np.arange(rows) * terrain.spacing[1], np.arange(columns) * terrain.spacing[0], indexing="ij")
    away = np.sqrt((x - eye[0]) ** 2 + (terrain.heights - eye[1]) ** 2 + (z - eye[2]) ** 2)
    return error * np.maximum(1.0, away / near)


def _kept_on_line(heights: NDArray[np.float64], allowed: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which samples of a line are kept so that the others lie near enough to it; the ends always."""
    kept = np.zeros(len(heights), bool)
    kept[[0, -1]] = True
    waiting = [(0, len(heights) - 1)]
    while waiting:
        first, last = waiting.pop()
        if last - first < 2:
            continue
        at = np.arange(first + 1, last)
        line = heights[first] + (heights[last] - heights[first]) * (at - first) / (last - first)
        far = np.abs(heights[at] - line) - allowed[at]
        if far.max() > 0:
            worst = int(at[np.argmax(far)])
            kept[worst] = True
            waiting += [(first, worst), (worst, last)]
    return kept
