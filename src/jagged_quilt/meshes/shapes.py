"""Made shapes for trying things, with texture coordinates true to metres: one unit of u or v is a metre of surface.

Where a shape closes around itself the seam has two rows of vertices, so that u runs on.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import finite_array, positive, whole_number_in
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.meshes.mesh import Mesh

Pair = tuple[float, float]


def plane(size: Pair = (1.0, 1.0), *, cells: int = 1) -> Mesh:
    """Return a level rectangle about the origin, `size` metres east and south, of cells x cells squares.

    Examples
    --------
    >>> jq.shapes.plane((4.0, 4.0), cells=8)
    <Mesh 128 triangles, 81 vertices, 1 part(s), 4 x 0 x 4 m, uv>
    """
    east, south = (positive("size", side, "m") for side in _lengths(size, 2))
    at = np.linspace(-0.5, 0.5, whole_number_in("cells", cells, 1, 4096) + 1)
    z, x = np.meshgrid(at * south, at * east, indexing="ij")
    position = np.stack([x, np.zeros_like(x), z], axis=2)
    uv = np.stack([x + east / 2, z + south / 2], axis=2)
    normal = np.broadcast_to([0.0, 1.0, 0.0], position.shape)
    return _from_grid(position, uv, normal, name="plane")


def _lengths(size: object, count: int) -> tuple[float, ...]:
    """Lengths as they are; raise `ShapeError` unless there are so many."""
    if not isinstance(size, tuple | list | np.ndarray) or len(size) != count:
        raise ShapeError(f"size must be {count} lengths in metres, as {(2.0,) * count}; got {size!r}")
    return tuple(size)


def box(size: tuple[float, float, float] = (1.0, 1.0, 1.0)) -> Mesh:
    """Return a box about the origin, `size` metres along x, y and z; each side upright, as read from outside.

    Examples
    --------
    >>> jq.shapes.box((2.0, 1.0, 1.0))
    <Mesh 12 triangles, 24 vertices, 1 part(s), 2 x 1 x 1 m, uv>
    """
    half = np.array([positive("size", side, "m") for side in _lengths(size, 3)]) / 2
    sides = []
    for axis, sign in ((axis, sign) for axis in range(3) for sign in (1.0, -1.0)):
        out = np.zeros(3)
        out[axis] = sign
        up = np.array([0.0, 0.0, -sign]) if axis == 1 else np.array([0.0, 1.0, 0.0])
        right = np.cross(up, out)
        wide, high = (float(np.abs(each) @ half) for each in (right, up))
        corners = [out * half + a * right * wide + b * up * high for b in (1, -1) for a in (-1, 1)]
        uv = [[0, 0], [2 * wide, 0], [0, 2 * high], [2 * wide, 2 * high]]
        position = np.array(corners).reshape(2, 2, 3)
        sides.append((position, np.array(uv, float).reshape(2, 2, 2), np.broadcast_to(out, (2, 2, 3))))
    return _from_grids(sides, name="box")


def sphere(radius: float = 1.0, *, around: int = 64, down: int = 32) -> Mesh:
    """Return a sphere about the origin: u runs east in metres of its equator, v from the top down.

    Examples
    --------
    >>> jq.shapes.sphere(radius=2.0)
    <Mesh 3968 triangles, 2143 vertices, 1 part(s), 4 x 4 x 4 m, uv>
    """
    radius = positive("radius", radius, "m")
    lon = np.linspace(-np.pi, np.pi, whole_number_in("around", around, 3, 8192) + 1)
    lat = np.linspace(0, np.pi, whole_number_in("down", down, 2, 8192) + 1)
    v, u = np.meshgrid(lat, lon, indexing="ij")
    wide = np.sin(v)
    wide[[0, -1]] = 0  # both poles are one place
    normal = np.stack([wide * np.sin(u), np.cos(v), wide * np.cos(u)], axis=2)
    normal[:, -1] = normal[:, 0]
    return _from_grid(radius * normal, np.stack([(u + np.pi) * radius, v * radius], axis=2), normal, name="sphere")


def tube(path: object, radius: float = 0.05, *, around: int = 24, tile: float | None = None) -> Mesh:
    """Return a tube along a path, as a rope: u once around, v by length, so that a texel is square.

    Parameters
    ----------
    path : (N, 3)
        Metres; the tube is bent at each place.
    tile : float, optional
        Metres that one repeat covers: u then goes a whole number of them around.

    Examples
    --------
    >>> jq.shapes.tube([(0, 0, 0), (0, 1, 0), (1, 2, 0)], radius=0.1)
    <Mesh 96 triangles, 75 vertices, 1 part(s), 1.17 x 2.07 x 0.2 m, uv>
    """
    radius, positions = positive("radius", radius, "m"), finite_array("path", path, ("N", 3)).astype(np.float64)
    steps = np.diff(positions, axis=0)
    lengths = np.linalg.norm(steps, axis=1)
    if len(positions) < 2 or (lengths < 1e-9).any():
        raise ShapeError("path must have at least two places, and no place twice in a row")
    whole = 2 * np.pi * radius
    if tile is not None:
        whole = positive("tile", tile, "m") * max(1, round(whole / tile))
    ahead = steps / lengths[:, None]
    ahead = np.concatenate([ahead[:1], ahead[:-1] + ahead[1:], ahead[-1:]])
    if (np.linalg.norm(ahead, axis=1) < 1e-6).any():
        raise RangeError("path must not turn back on itself")
    ahead /= np.linalg.norm(ahead, axis=1, keepdims=True)
    side = np.cross(ahead[0], [0.0, 1.0, 0.0] if abs(ahead[0, 1]) < 0.9 else [1.0, 0.0, 0.0])
    sides = []
    for way in ahead:  # carried along without twist
        side = side - way * (side @ way)
        side = side / np.linalg.norm(side)
        sides.append(side)
    turn = np.linspace(0, 2 * np.pi, whole_number_in("around", around, 3, 4096) + 1)
    across = np.array(sides)
    up = np.cross(across, ahead)
    normal = across[:, None] * np.cos(turn)[None, :, None] + up[:, None] * np.sin(turn)[None, :, None]
    along = np.concatenate([[0], np.cumsum(lengths)])
    v, u = np.meshgrid(along, turn / (2 * np.pi) * whole, indexing="ij")
    return _from_grid(positions[:, None] + radius * normal, np.stack([u, v], axis=2), normal, name="tube")


def jar(height: float = 0.6, *, around: int = 96, rings: int = 72, tile: float | None = None) -> Mesh:
    """Return a jar that stands on the origin: a foot, a belly, a neck, a rim and the inside of its mouth.

    u runs around by metres of its widest ring, v down along the profile in metres.

    Parameters
    ----------
    tile : float, optional
        Metres that one repeat covers: u then goes a whole number of them around.

    Examples
    --------
    >>> jq.shapes.jar(height=0.6)
    <Mesh 13824 triangles, 7081 vertices, 1 part(s), 0.374 x 0.6 x 0.374 m, uv>
    """
    height = positive("height", height, "m")
    profile = _profile(whole_number_in("rings", rings, 8, 4096)) * height
    slope = np.gradient(profile, axis=0)
    out = np.column_stack([-slope[:, 1], slope[:, 0]])
    out /= np.linalg.norm(out, axis=1, keepdims=True)
    lon = np.linspace(-np.pi, np.pi, whole_number_in("around", around, 3, 8192) + 1)
    whole = 2 * np.pi * float(profile[:, 0].max())
    if tile is not None:
        whole = positive("tile", tile, "m") * max(1, round(whole / tile))
    down = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(profile, axis=0), axis=1))])
    east = np.stack([np.sin(lon), np.zeros_like(lon), np.cos(lon)], axis=1)
    up = np.array([0.0, 1.0, 0.0])
    position = profile[:, :1, None] * east[None] + profile[:, 1:, None] * up
    normal = out[:, :1, None] * east[None] + out[:, 1:, None] * up
    v, u = np.meshgrid(down, (lon + np.pi) / (2 * np.pi) * whole, indexing="ij")
    return _from_grid(position, np.stack([u, v], axis=2), normal, name="jar")


def _profile(rings: int) -> NDArray[np.float64]:
    """Radius and height of a jar one high, from inside of the mouth over the rim and down to the middle of the foot."""
    from scipy.interpolate import PchipInterpolator

    knots = np.array(
        [
            [0.118, 0.86],
            [0.125, 0.93],
            [0.148, 0.985],
            [0.165, 1.0],
            [0.178, 0.988],
            [0.172, 0.955],
            [0.150, 0.90],
            [0.168, 0.83],
            [0.245, 0.72],
            [0.305, 0.58],
            [0.312, 0.50],
            [0.285, 0.34],
            [0.222, 0.17],
            [0.172, 0.055],
            [0.168, 0.02],
            [0.155, 0.0],
            [0.08, 0.0],
            [1e-4, 0.004],
        ]
    )
    away = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(knots, axis=0), axis=1))])
    at = np.linspace(0, away[-1], rings + 1)
    return np.column_stack([PchipInterpolator(away, knots[:, 0])(at), PchipInterpolator(away, knots[:, 1])(at)])


def _from_grid(position: NDArray[np.float64], uv: NDArray[np.float64], normal: NDArray[np.float64], *, name: str) -> Mesh:
    return _from_grids([(position, uv, normal)], name=name)


def _from_grids(grids: list[tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]], *, name: str) -> Mesh:
    """A mesh of grids whose rows run down and whose columns run to the right as seen from outside."""
    corners, start = [], 0
    for position, _, _ in grids:
        rows, columns = position.shape[:2]
        number = start + np.arange(rows * columns).reshape(rows, columns)
        a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, :-1], number[1:, 1:]
        corners += [np.stack([a, c, b], axis=2).reshape(-1, 3), np.stack([b, c, d], axis=2).reshape(-1, 3)]
        start += rows * columns
    flat = [np.concatenate([grid[column].reshape(-1, grid[column].shape[2]) for grid in grids]) for column in range(3)]
    whole = np.concatenate(corners)
    at = flat[0][whole]
    area = np.linalg.norm(np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]), axis=1)
    longest = np.linalg.norm(at - np.roll(at, 1, axis=1), axis=2).max(axis=1)
    return Mesh.of(flat[0], whole[area > 1e-6 * longest**2], uv=flat[1], normal=flat[2], name=name)  # poles have no area
