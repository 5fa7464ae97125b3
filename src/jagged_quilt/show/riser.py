"""The same cliff twice: a labelled grid laid on from above, and laid on from three sides."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend.blend import Blend
from jagged_quilt.blend.flat_projections import Planar, Triplanar
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.projection import ProjectionBase
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.light.lamps import Sun
from jagged_quilt.show.board import FAINT, Board
from jagged_quilt.show.labelled_grid import SQUARES, grid_arrays
from jagged_quilt.show.lit_view import draw_scenes
from jagged_quilt.show.scene import Scene
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.weights.point_weights import PointWeights

STEEP = 45.0  # degrees


def stretch_of(points: Points, projection: ProjectionBase) -> NDArray[np.float32]:
    """Return how much longer than wide a texel lies at each point, (N,), on the plane that counts most."""
    one = PointWeights.all_of("grid", len(points))
    return Blend(grid_arrays(tile=4.0, side=4), [Layer("grid", projection)]).survey(points, one).stretch


def draw_riser(terrain: Terrain, *, sharpness: float = 4.0, work: Work = ANYHOW) -> Board:
    """Draw the steepest broad cliff of a terrain, planar left and triplanar right, under one light.

    Examples
    --------
    >>> jq.show.draw_riser(ground)
    <Board 1280 x 800: The steepest place, planar and triplanar>
    """
    points = terrain.points(terrain.layout(512))
    slope = np.degrees(np.arccos(np.clip(points.normal[:, 1], -1, 1)))
    steep = points[slope > STEEP] if (slope > STEEP).any() else points[slope >= np.percentile(slope, 99)]
    camera, facing = _in_front_of_riser(terrain, points, slope)
    sun = Sun(facing + 38, 42)
    square = _square(0.06 * min(terrain.size) / 15)
    grid = grid_arrays(tile=square * SQUARES)
    is_steep = bool((slope > STEEP).any())
    share = f"{100 * (slope > STEEP).mean():.1f} % of the ground is steeper than {STEEP:g}°"
    none = f"nothing is steeper than {STEEP:g}°: this is the steepest there is, {slope.max():.0f}°"
    title = "The same cliff, planar and triplanar" if is_steep else "The steepest place, planar and triplanar"
    board = Board(title, f"labelled grid, one square = {square:g} m; {share if is_steep else none}")
    sides: tuple[tuple[str, ProjectionBase, NDArray[np.float32]], ...] = (
        ("planar, laid on from above", Planar(), stretch_of(steep, Planar())),
        (f"triplanar, sharpness {sharpness:g}", Triplanar(sharpness), stretch_of(steep, Triplanar(sharpness))),
    )
    scenes = [Scene(grid, lights=[sun]).add(terrain, [Layer("grid", projection)]) for _, projection, _ in sides]
    pictures = draw_scenes(scenes, camera, width=615, height=676, work=work)
    for position, ((title, _, stretch), picture) in enumerate(zip(sides, pictures, strict=True)):
        x = 20 + position * 625
        board.pin(picture, x, 56)
        median, high = np.percentile(stretch, [50, 99])
        board.write(x, 752, title, size=15, bold=True)
        board.write(x, 776, f"stretch where it is steep: median {median:.2f}, 99th percentile {high:.2f}", size=12, ink=FAINT)
    return board


def _square(metres: float) -> float:
    """The nearest length below that is 1, 2 or 5 times a power of ten."""
    power = 10.0 ** math.floor(math.log10(metres))
    return max(step * power for step in (1, 2, 5) if step * power <= metres * (1 + 1e-9))


def _in_front_of_riser(terrain: Terrain, points: Points, slope: NDArray[np.float32]) -> tuple[Camera, float]:
    """A camera before the steepest cliff that faces an axis more or less, and the bearing of the cliff's face in degrees."""
    reach = 0.06 * min(terrain.size)
    inside = np.ones(len(points), bool)
    for axis, size in ((0, terrain.size[0]), (2, terrain.size[1])):
        inside &= (points.position[:, axis] > 1.6 * reach) & (points.position[:, axis] < size - 1.6 * reach)
    east, south = np.abs(points.normal[:, 0]), np.abs(points.normal[:, 2])
    askew = np.degrees(np.arctan2(np.minimum(east, south), np.maximum(east, south)))
    score = np.where(inside, slope - np.abs(askew - 12), -1)  # a little askew, as cliffs are
    position = points.position[int(np.argmax(score))].astype(np.float64)
    out = points.normal[int(np.argmax(score))].astype(np.float64)
    out[1] = 0
    out /= np.linalg.norm(out) or 1.0
    eye = position + out * reach
    ground = float(terrain.points_at([[eye[0], eye[2]]]).position[0, 1])
    eye[1] = max(ground + 0.2 * reach, position[1] + 0.12 * reach)
    bearing = float(np.degrees(np.arctan2(out[0], -out[2])))
    camera = Camera(position=(eye[0], eye[1], eye[2]), target=(position[0], position[1], position[2]), view_angle=46.0)
    return camera, bearing
