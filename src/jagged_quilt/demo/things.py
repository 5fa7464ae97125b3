"""What stands in the saltworks: a glazed jar, and a planked sluice gate."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.demo.relief import patches, step
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.part import Part
from jagged_quilt.meshes.shapes import box, jar

JAR_HEIGHT = 2.4  # metres
_GAP = 0.03  # metres between the sides of boxes in their layout

Triple = tuple[float, float, float]


def glazed_jar() -> Mesh:
    """Return a jar as tall as a man can reach, its uv over one image; red vertex colour is where glaze ran down."""
    shape = jar(JAR_HEIGHT, around=128, rings=110)
    assert shape.uv is not None
    low, high = shape.uv.min(axis=0), shape.uv.max(axis=0)
    uv = 0.02 + 0.96 * (shape.uv - low) / (high - low)
    around = shape.uv[:, 0] / (high[0] - low[0])
    drips = patches(around, np.zeros_like(around), cells=14, octaves=2, seed=91)
    reach = 0.62 - 0.26 * drips  # of the height: how far down it ran
    glaze = step(shape.position[:, 1] / JAR_HEIGHT - reach, -0.006, 0.006)
    colour = np.column_stack([glaze, np.zeros_like(glaze), np.zeros_like(glaze), np.ones_like(glaze)])
    return Mesh.of(shape.position, shape.triangles, normal=shape.normal, uv=uv, colour=colour, name="jar")


def sluice_gate() -> Mesh:
    """Return two posts, two beams and a leaf of boards, a part each, their uv side by side in one image."""
    frame: list[tuple[Triple, Triple]] = [
        ((0.30, 3.0, 0.30), (-1.55, 1.2, 0.0)),
        ((0.30, 3.0, 0.30), (1.55, 1.2, 0.0)),
        ((4.0, 0.26, 0.36), (0.0, 2.62, 0.0)),
        ((2.8, 0.16, 0.22), (0.0, 1.62, -0.02)),
    ]
    boards: list[tuple[Triple, Triple]] = [
        ((0.31, 1.9 + 0.07 * (n % 3), 0.09), (-1.2 + 0.343 * n, 0.62 + 0.05 * (n % 2), 0.02 * (n % 2))) for n in range(8)
    ]
    boxes = [*frame, *boards]
    sides = np.array([(wide, high) for size, _ in boxes for wide, high in _sides(size)])
    corner, whole = _shelves(sides)
    position, uv, normal, triangles = [], [], [], []
    for number, (size, at) in enumerate(boxes):
        shape = box(size)
        assert shape.uv is not None
        face = np.repeat(np.arange(6), 4)
        position.append(shape.position + np.array(at))
        normal.append(shape.normal)
        uv.append((shape.uv + corner[6 * number + face]) / whole)
        triangles.append(shape.triangles + 24 * number)
    cuts = 12 * np.cumsum([0, 2, 2, len(boards)])
    parts = [
        Part(name=name, first=int(first), last=int(last))
        for name, first, last in zip(("posts", "beams", "leaf"), cuts, cuts[1:], strict=False)
    ]
    return Mesh.of(
        np.concatenate(position),
        np.concatenate(triangles),
        normal=np.concatenate(normal),
        uv=np.concatenate(uv),
        parts=parts,
        name="sluice gate",
    )


def _sides(size: Triple) -> list[tuple[float, float]]:
    """Width and height of the six sides of a box, in the order in which `box` makes them."""
    x, y, z = size
    return [(z, y), (z, y), (x, z), (x, z), (x, y), (x, y)]


def _shelves(sides: NDArray[np.float64]) -> tuple[NDArray[np.float64], float]:
    """Lay rectangles out in rows, the tallest first; return the corner of each, and the side of the square that holds all."""
    order = np.argsort(-sides[:, 1], kind="stable")
    whole = 1.25 * float(np.sqrt(np.sum((sides + _GAP).prod(axis=1))))
    corner = np.zeros_like(sides)
    x = y = _GAP
    high = 0.0
    for which in order:
        if x + sides[which, 0] + _GAP > whole:
            x, y, high = _GAP, y + high + _GAP, 0.0
        corner[which] = x, y
        x += sides[which, 0] + _GAP
        high = max(high, float(sides[which, 1]))
    return corner, max(whole, y + high + _GAP)
