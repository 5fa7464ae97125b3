"""How far it is over the ground to where an answer passes one half."""

from __future__ import annotations

import numpy as np

from jagged_quilt.foundation.canvas import Canvas, bands
from jagged_quilt.foundation.disk_store import MEMORY, ArrayStore
from jagged_quilt.foundation.fields import Answer
from jagged_quilt.foundation.grid import Grid
from jagged_quilt.foundation.kernels import kernels_of

_edge_kernels = kernels_of("jagged_quilt.surfaces._edge_kernels")

_ROWS_AT_ONCE = 64


def signed_distance(answer: Answer, canvas: Canvas, room: ArrayStore = MEMORY) -> Grid:
    """Return metres to the edge of what is answered (where it passes one half), below 0 inside, over the ground plane.

    The edge is placed between texels by linear interpolation; each texel then learns of the nearest edge point from its
    neighbours (Danielsson 1980). Where there is no edge at all everything is 1e6 metres away.

    Parameters
    ----------
    answer : callable
        As `Mask.answer`.
    canvas : Canvas
        A plan of the ground, without gaps.
    room : ArrayStore
        Where the distances, and what they are worked out of, lie: it is read and written row after row.
    """
    rows, columns = canvas.texels
    answers = room.empty((rows, columns), np.float32)
    corners = []
    for region in bands(canvas.texels, _ROWS_AT_ONCE * columns):
        points = canvas.block(region).pieces[0].points
        answers[region.top : region.bottom] = answer(points).reshape(-1, columns)
        corners.append(points.world[[0, -1]][:, [0, 2]])
    first, last = corners[0][0], corners[-1][1]
    across = (last[0] - first[0]) / max(1, columns - 1)
    down = (last[1] - first[1]) / max(1, rows - 1)
    nearest = room.empty((rows, columns, 2), np.float32)
    distance = room.empty((rows, columns), np.float32)
    _edge_kernels.edge_points(answers, np.float32(across), np.float32(down), nearest)
    _edge_kernels.spread_nearest(nearest, np.float32(across), np.float32(down))
    _edge_kernels.signed_lengths(answers, nearest, distance)
    return Grid(distance, (float(first[0]), float(first[1])), (across, down))
