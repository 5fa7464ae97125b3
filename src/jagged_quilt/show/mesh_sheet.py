"""A sheet for each mesh: lit, in a labelled grid, how its textures stretch, and its triangles."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.light.lamps import Sun
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.show.board import FAINT, GROUND, Board, Picture
from jagged_quilt.show.debug import Scale, gridded, look, mean_of_rays, painted
from jagged_quilt.show.lit_view import draw_scenes
from jagged_quilt.show.scene import Scene
from jagged_quilt.show.stage import Layers, Weights
from jagged_quilt.surfaces.camera import BEARING, Camera

_MARGIN = 12  # pixels around a layout
_PAPER = (46, 49, 55)
_LEVEL, _UPRIGHT = (610, 330), (300, 690)  # a picture: two by two, or four beside each other


def draw_mesh_sheet(
    name: str,
    mesh: Mesh,
    layers: Layers,
    arrays: TextureArrays,
    *,
    weights: Weights | None = None,
    work: Work = ANYHOW,
) -> Board:
    """Draw one mesh four times from one place.

    Examples
    --------
    >>> jq.show.draw_mesh_sheet("jar", jq.shapes.jar(), layers[:1], arrays)
    <Board 1280 x 800: Mesh: jar>
    """
    low, high = mesh.bounds
    size = " x ".join(f"{side:.2f}" for side in high - low)
    board = Board(f"Mesh: {name}", f"{len(mesh.triangles):,} triangles, {size} m, {len(mesh.parts)} part(s)")
    stands = high[1] - low[1] > 1.1 * np.hypot(high[0] - low[0], high[2] - low[2]) * 0.8
    wide, tall = _UPRIGHT if stands else _LEVEL
    camera, sun = Camera.fitting(mesh.position.astype(np.float64), wide / tall), Sun(BEARING + 180 - 50, 38)
    scene = Scene(arrays, lights=[sun], filter="anisotropic").add(mesh, layers, weights=weights)
    lit, grid = draw_scenes(
        [scene, gridded(scene)],
        camera,
        width=wide,
        height=tall,
        without=[(), (MapRole.NORMAL,)],
        work=work,
    )
    seen = look(scene, camera, ("stretch", "wireframe"), (wide, tall), work)
    stretch = seen["stretch"][..., 0]
    median, most = np.percentile(stretch[np.isfinite(stretch)], [50, 99])
    brightest = max(2.0, math.ceil(most))

    def both_sets() -> Picture:
        assert mesh.uv is not None
        assert mesh.layout is not None
        one, other = ((wide, tall // 2 - 8), (wide, tall - tall // 2 - 8)) if stands else ((wide // 2 - 8, tall),) * 2
        first, second = (_layout_picture(uv, mesh, *size) for uv, size in ((mesh.uv, one), (mesh.layout, other)))
        gap = np.full((16, wide, 3) if stands else (tall, wide - 2 * one[0], 3), GROUND, np.uint8)
        return np.concatenate([first, gap, second], axis=0 if stands else 1)

    last = ("triangles", mean_of_rays(seen["wireframe"], wide, tall))
    if mesh.layout is not None and mesh.uv is not None:
        last = ("its own uv; the layout", both_sets())
    views = [
        ("lit", lit),
        ("a labelled grid", grid),
        (f"stretch, dark 1 to bright {brightest:g}", painted(stretch, Scale(1.0, brightest, True, "x"), wide, tall)),
        last,
    ]
    for index, (title, picture) in enumerate(views):
        across = 4 if stands else 2
        x, y = 20 + index % across * (wide + (13 if stands else 20)), 60 + index // across * (tall + 36)
        board.pin(picture, x, y + 16)
        board.write(x, y + 4, title, size=13, bold=True)
        if index == 2:
            below = y + 16 + tall + 12 if stands else y + 4
            figures = f"median {median:.2f}, 99th percentile {most:.2f}"
            board.write(x + wide, below, figures, size=12, ink=FAINT, side="right")
    return board


def _layout_picture(uv: NDArray[np.float32], mesh: Mesh, wide: int, tall: int) -> Picture:
    """Draw the edges of triangles as they lie in uv, and the square from 0 to 1, as large as fits."""
    low = np.minimum(uv.min(axis=0), 0).astype(np.float64)
    span = float((np.maximum(uv.max(axis=0), 1) - low).max())
    scale = (min(wide, tall) - 2 * _MARGIN) / span
    out = np.full((tall, wide, 3), _PAPER, np.uint8)
    square = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float64)
    edges = np.concatenate([mesh.triangles[:, pair] for pair in ([0, 1], [1, 2], [2, 0])])
    for ends, ink, thick in (
        (uv.astype(np.float64)[np.unique(np.sort(edges, axis=1), axis=0)], (170, 182, 200), 1),
        (square[[[0, 1], [1, 2], [2, 3], [3, 0]]], (255, 140, 60), 3),
    ):
        at = (ends - low) * scale + _MARGIN
        steps = np.maximum(1, np.ceil(np.abs(at[:, 1] - at[:, 0]).max(axis=1))).astype(int)
        which = np.repeat(np.arange(len(at)), steps + 1)
        share = (np.arange(len(which)) - np.repeat(np.cumsum(steps + 1) - steps - 1, steps + 1)) / steps[which]
        pixel = np.rint(at[which, 0] + share[:, None] * (at[which, 1] - at[which, 0])).astype(int)
        inside = (pixel >= 0).all(axis=1) & (pixel[:, 0] + thick <= wide) & (pixel[:, 1] + thick <= tall)
        for down in range(thick):
            for across in range(thick):
                out[pixel[inside, 1] + down, pixel[inside, 0] + across] = ink
    return out
