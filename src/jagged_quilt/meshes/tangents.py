"""Tangents of a mesh, as most engines and bakers make them.

The open standard way (Mikkelsen 2008, "Simulation of Wrinkled Surfaces Revisited"): corners that share place, normal and
uv, and whose triangles are joined by edges and turn the same way in uv, share a tangent; it is the mean of their triangles'
directions of growing u, laid square to the normal, weighted by angle. Mirrored neighbours part. A triangle without extent
in uv adds nothing and takes the tangent of those it is joined to.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.meshes.corners import Ids, groups, neighbours, split_vertices, welded

_AT_ONCE = 1 << 14  # triangles
_ROUNDS = 16  # how far a way of turning spreads over triangles that have none


def mesh_tangents(
    position: NDArray[np.float32], normal: NDArray[np.float32], uv: NDArray[np.float32], triangles: NDArray[np.int32]
) -> tuple[NDArray[np.float32], NDArray[np.int32], Ids]:
    """Return tangents.

    Returns
    -------
    tangent : (W, 4) float32
        Unit; w is the handedness: cross(normal, tangent) * w points up in the image, along falling v.
    triangles : (T, 3) int32
    source : (W,)
        Vertices are split where mirrored sides meet; which one each was.
    """
    at: NDArray[np.float64] = position.astype(np.float64)[triangles]
    uvs: NDArray[np.float64] = uv.astype(np.float64)[triangles] * (1.0, -1.0)
    along, area = _directions(at, uvs)
    first, second, ends = neighbours(welded(position, normal, uv)[triangles])
    turns = _ways_of_turning(np.sign(area), first, second)
    alike = turns[first] == turns[second]
    group = groups(triangles.size, ends[alike].reshape(-1, 2))
    total = np.zeros((int(group.max(initial=-1)) + 1, 3))
    for begin in range(0, len(triangles), _AT_ONCE):
        some = slice(begin, begin + _AT_ONCE)
        out: NDArray[np.float64] = normal[triangles[some]].astype(np.float64)
        flat = _laid(np.broadcast_to(along[some, None, :], out.shape), out)
        weight = np.where(area[some] == 0, 0.0, 1.0)[:, None] * _angles(at[some], out)
        ids = group[3 * begin : 3 * begin + weight.size]
        low = int(ids.min())
        for axis in range(3):
            sums = np.bincount(ids - low, (flat[..., axis] * weight).ravel())
            total[low : low + len(sums), axis] += sums
    split, source, corner = split_vertices(triangles, group)
    own = normal.astype(np.float64)[source]
    tangent: NDArray[np.float64] = _laid(total[group[corner]], own)
    bare = np.linalg.norm(tangent, axis=1) < 0.5
    tangent[bare] = _any_side(own[bare])
    hand = np.where(turns[corner // 3] < 0, -1.0, 1.0)
    return np.column_stack([tangent, hand]).astype(np.float32), split, source


def _directions(at: NDArray[np.float64], uvs: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The unit direction of growing u of each triangle, (T, 3), and its area in uv, signed, 0 where it has none."""
    e, f = at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]
    d, g = uvs[:, 1] - uvs[:, 0], uvs[:, 2] - uvs[:, 0]
    area = d[:, 0] * g[:, 1] - d[:, 1] * g[:, 0]
    along = (e * g[:, 1:] - f * d[:, 1:]) * np.sign(area)[:, None]
    across = f * d[:, :1] - e * g[:, :1]
    length = np.linalg.norm(along, axis=1)
    good = (np.abs(area) > 1e-20) & (length > 1e-20) & (np.linalg.norm(across, axis=1) > 1e-20)
    return np.where(good, 1 / np.where(good, length, 1), 0)[:, None] * along, np.where(good, area, 0)


def _ways_of_turning(turns: NDArray[np.float64], first: Ids, second: Ids) -> NDArray[np.float64]:
    """Let triangles that do not turn in uv take the way of a neighbour."""
    turns = turns.copy()
    for _ in range(_ROUNDS):
        bare = turns == 0
        if not bare.any():
            break
        for one, other in ((first, second), (second, first)):
            take = bare[one] & (turns[other] != 0)
            turns[one[take]] = turns[other[take]]
    return turns


def _laid(vectors: NDArray[np.float64], normal: NDArray[np.float64]) -> NDArray[np.float64]:
    """Vectors laid square to normals and made unit; those without length stay 0."""
    flat = vectors - normal * np.einsum("...d,...d->...", vectors, normal)[..., None]
    length = np.sqrt(np.einsum("...d,...d->...", flat, flat))[..., None]
    return np.where(length > 1e-20, flat / np.maximum(length, 1e-20), 0)


def _angles(at: NDArray[np.float64], normal: NDArray[np.float64]) -> NDArray[np.float64]:
    """The angle of each triangle at each corner, seen along the corner's normal, (T, 3)."""
    ahead, behind = _laid(np.roll(at, -1, axis=1) - at, normal), _laid(np.roll(at, 1, axis=1) - at, normal)
    return np.arccos(np.clip(np.einsum("tcd,tcd->tc", ahead, behind), -1, 1))


def _any_side(normal: NDArray[np.float64]) -> NDArray[np.float64]:
    side = np.where(np.abs(normal[:, :1]) > 0.999, [[0.0, 0, -1]], [[1.0, 0, 0]])
    return _laid(side, normal)
