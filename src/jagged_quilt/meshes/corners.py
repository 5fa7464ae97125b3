"""The corners of triangles as a graph: which belong together at a vertex."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Ids = NDArray[np.int64]


def welded(*attributes: NDArray[np.float32]) -> Ids:
    """Return a number for every vertex that is the same where all its attributes are, to the bit, (V,)."""
    rows = np.ascontiguousarray(np.concatenate([each.reshape(len(each), -1) for each in attributes], axis=1), np.float32)
    rows += np.float32(0)  # -0 is 0
    _, ids = np.unique(rows.view(np.dtype((np.void, rows.itemsize * rows.shape[1]))).ravel(), return_inverse=True)
    return ids.astype(np.int64)


def neighbours(corners: Ids) -> tuple[Ids, Ids, Ids]:
    """Return the pairs of triangles that share an edge.

    Parameters
    ----------
    corners : (T, 3)
        The vertex, by what is welded, of each corner.

    Returns
    -------
    first, second : (E,)
        Triangles.
    ends : (E, 2, 2)
        The corners (0 to 3 T) of both at one end of the edge, and those at the other.
    """
    count = len(corners)
    start, end = corners, np.roll(corners, -1, axis=1)
    low, high = np.minimum(start, end).ravel(), np.maximum(start, end).ravel()
    key = low * (int(corners.max(initial=0)) + 1) + high
    order = np.argsort(key, kind="stable")
    same = key[order][1:] == key[order][:-1]
    one, other = order[:-1][same], order[1:][same]  # edges, numbered as the corner at which they start
    after = lambda edge: edge // 3 * 3 + (edge % 3 + 1) % 3
    flat = start.ravel()
    turned = flat[one] != flat[other]
    at_start = np.stack([one, np.where(turned, after(other), other)], axis=1)
    at_end = np.stack([after(one), np.where(turned, other, after(other))], axis=1)
    whole = (one // 3 != other // 3) & (low[one] != high[one])
    assert count == 0 or at_start.max(initial=0) < 3 * count
    return (one // 3)[whole], (other // 3)[whole], np.stack([at_start, at_end], axis=1)[whole]


def groups(count: int, pairs: Ids) -> Ids:
    """Return the number of the group that each of `count` corners belongs to, given (P, 2) pairs that belong together."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    links = coo_array((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
    return connected_components(links, directed=False)[1].astype(np.int64)


def corner_angles(position: NDArray[np.floating], triangles: NDArray[np.integer]) -> NDArray[np.float64]:
    """Return the angle of every triangle at each of its corners, radians, (T, 3)."""
    at = position.astype(np.float64)[triangles]
    ahead, behind = np.roll(at, -1, axis=1) - at, np.roll(at, 1, axis=1) - at
    cross = np.linalg.norm(np.cross(ahead, behind), axis=2)
    return np.arctan2(cross, np.sum(ahead * behind, axis=2))


def split_vertices(triangles: NDArray[np.int32], group: Ids) -> tuple[NDArray[np.int32], Ids, Ids]:
    """Give every (vertex, group) of corners a vertex of its own.

    Returns
    -------
    triangles : (T, 3) int32
    source : (W,)
        Which vertex each new one was.
    first : (W,)
        A corner at which each stands.
    """
    flat = triangles.ravel().astype(np.int64)
    key = flat * (int(group.max(initial=0)) + 1) + group
    _, first, which = np.unique(key, return_index=True, return_inverse=True)
    return which.reshape(triangles.shape).astype(np.int32), flat[first], first.astype(np.int64)
