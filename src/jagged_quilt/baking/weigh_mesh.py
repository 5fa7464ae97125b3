"""A weight map in the texture layout of a mesh."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np

from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.checks import whole_number_in
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.surface import MeshSurface
from jagged_quilt.meshes.uv_layout import Padding, UvLayout, put_rows
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import MOST_KEPT, WeightMap, index_type

_ROWS_AT_ONCE = 32


def weigh_mesh(
    mesh: Mesh, layers: Sequence[Layer], *, texels: int | tuple[int, int] = 1024, keep: int = 4, bits: Literal[8, 16] = 8,
    threads: int | None = None, progress: Progress = silent,
) -> WeightMap:  # fmt: skip
    """Return how much of each layer shows at every texel of a mesh's layout, grown outwards over all of the image.

    For weights at vertices ask `weigh_points(mesh.points(), layers)`.

    Parameters
    ----------
    layers : sequence of Layer
        From the bottom up.
    texels : int or (int, int)
        Along each side, or rows and columns.
    keep, bits : int
        As for `weigh`.

    Raises
    ------
    QuiltError
        If the uv cannot be baked into, or a mask cannot be measured on a mesh.
    """
    layout, weigher = UvLayout(mesh, texels), Weigher(layers, MeshSurface(mesh))
    height, width = layout.texels
    keep = min(whole_number_in("keep", keep, 1, MOST_KEPT), len(weigher.shown))
    index = np.zeros((height * width, keep), index_type(len(weigher.shown)))
    weight = np.zeros((height * width, keep), np.float32)
    weight[:, 0] = 1
    covered = np.zeros((height, width), bool)
    losses: list[tuple[float, float, int]] = []

    def weigh_rows(first: int) -> None:
        piece = layout.piece(first, min(first + _ROWS_AT_ONCE, height))
        if not len(piece.texels):
            return
        (own, share), lost = weigher.kept(layout.points(piece, gradients=False, steps=False), keep)
        put_rows(piece.texels, own, index)
        put_rows(piece.texels, share, weight)
        covered.reshape(-1)[piece.texels] = True
        losses.append((float(lost.sum(dtype=np.float64)), float(lost.max()), len(lost)))

    work_through(range(0, height, _ROWS_AT_ONCE), weigh_rows, threads=threads, step="weighing the mesh", progress=progress)
    around = Padding(covered)
    for values in (index, weight):
        around.grow(values, height + width)
    count = sum(number for _, _, number in losses)
    return WeightMap.of(
        weigher.shown, index.reshape(height, width, keep), weight.reshape(height, width, keep), bits=bits,
        lost_mean=sum(sorted(total for total, _, _ in losses)) / count, lost_worst=max(worst for _, worst, _ in losses),
    )  # fmt: skip
