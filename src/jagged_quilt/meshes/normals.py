"""Normals of a mesh that has none: smooth over edges up to an angle, broken over sharper ones."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.meshes.corners import Ids, corner_angles, groups, neighbours, split_vertices, welded


def smooth_normals(
    position: NDArray[np.float32], triangles: NDArray[np.int32], smooth: float
) -> tuple[NDArray[np.float32], NDArray[np.int32], Ids]:
    """Return normals, weighted by angle (Thuermer and Wuethrich 1998).

    Parameters
    ----------
    smooth : float
        Degrees: two triangles that share an edge share their normals there if they turn by no more than this.

    Returns
    -------
    normal : (W, 3) float32
    triangles : (T, 3) int32
    source : (W,)
        Vertices are split where normals part; which one each was.
    """
    at = position.astype(np.float64)[triangles]
    out = np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])
    out /= np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-300)
    first, second, ends = neighbours(welded(position)[triangles])
    soft = np.einsum("ed,ed->e", out[first], out[second]) >= np.cos(np.radians(smooth)) - 1e-12
    group = groups(triangles.size, ends[soft].reshape(-1, 2))
    weight = (out[:, None, :] * corner_angles(position, triangles)[:, :, None]).reshape(-1, 3)
    total: NDArray[np.float64] = np.stack([np.bincount(group, weight[:, axis]) for axis in range(3)], axis=1)
    flat = np.linalg.norm(total, axis=1) < 1e-9
    total[group[np.flatnonzero(flat[group])]] = np.repeat(out, 3, axis=0)[flat[group]]  # folded onto itself: any side
    total /= np.linalg.norm(total, axis=1, keepdims=True)
    split, source, corner = split_vertices(triangles, group)
    return total[group[corner]].astype(np.float32), split, source
