"""Polygons to triangles."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.kernels import kernels_of

_kernels = kernels_of("jagged_quilt.meshfiles._kernels")


_LONG = 64  # corners, from which on it is worth asking first whether a polygon crosses itself


def cut_polygons(positions: NDArray[np.float64], counts: NDArray[np.integer]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return triangles of polygons: convex ones as fans, any other by its ears.

    Parameters
    ----------
    places : (C, 3) float64
        Their corners, one polygon after the other.
    counts : (P,) int
        How many corners each has, 3 or more.

    Returns
    -------
    corners : (T, 3)
        Rows of `places`, polygon by polygon, each turning as its polygon does.
    polygon : (T,)
        The polygon of each.
    """
    starts = np.cumsum(counts) - counts
    cuts, owners = [np.empty((0, 3), np.int64)], [np.empty(0, np.int64)]
    for count in np.unique(counts):
        which = np.flatnonzero(counts == count)
        corners = starts[which][:, None] + np.arange(count)
        fan = np.stack([np.zeros(count - 2, int), np.arange(1, count - 1), np.arange(2, count)], axis=1)
        fans = corners[:, fan]
        if count > 3:
            flat = _laid_flat(positions[corners])
            dented = np.flatnonzero(~_is_convex(flat))
            if count == 4:
                fans[dented] = np.take_along_axis(corners[dented], _cut_at_dents(flat[dented]).reshape(-1, 6), 1).reshape(
                    -1, 2, 3
                )
            else:
                for index in dented:
                    fans[index] = corners[index][_cut_by_ears(flat[index], fan)]
        cuts.append(fans.reshape(-1, 3))
        owners.append(np.repeat(which, count - 2))
    cut, owner = np.concatenate(cuts), np.concatenate(owners)
    order = np.argsort(owner, kind="stable")
    return cut[order], owner[order]


def _laid_flat(positions: NDArray[np.float64]) -> NDArray[np.float64]:
    """Polygons (P, n, 3) laid flat along their mean normals (Newell's), (P, n, 2), each turning to the left."""
    after = np.roll(positions, -1, axis=1)
    pairs = ((1, 2), (2, 0), (0, 1))
    normal = np.stack([((positions - after)[..., i] * (positions + after)[..., j]).sum(axis=1) for i, j in pairs], axis=1)
    drop = np.argmax(np.abs(normal), axis=1)
    kept = np.array(pairs)[drop]  # turning to the left where the normal is above 0
    flat: NDArray[np.float64] = np.take_along_axis(positions, kept[:, None, :].repeat(positions.shape[1], axis=1), axis=2)
    flat[..., 0] *= np.where(np.take_along_axis(normal, drop[:, None], 1) < 0, -1, 1)
    return flat


def _cut_at_dents(flat: NDArray[np.float64]) -> NDArray[np.int64]:
    """Triangles of four-cornered polygons, (P, 2, 3) places in each: from the corner where it turns to the right, if there is
    one such."""
    turns = _turns(flat) < 0
    first = np.where(turns.sum(axis=1) == 1, np.argmax(turns, axis=1), 0)
    return (first[:, None, None] + np.array([[0, 1, 2], [0, 2, 3]])) % 4


def _is_convex(flat: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Whether polygons never turn to the right; what has no finite place counts as such, and is left out later."""
    return np.all(_turns(flat) >= 0, axis=1) | ~np.isfinite(flat).all(axis=(1, 2))


def _turns(flat: NDArray[np.float64]) -> NDArray[np.float64]:
    """How much polygons turn to the left at each corner: twice the area of what lies between it and its neighbours."""
    ahead, behind = np.roll(flat, -1, axis=1) - flat, flat - np.roll(flat, 1, axis=1)
    turns: NDArray[np.float64] = behind[..., 0] * ahead[..., 1] - behind[..., 1] * ahead[..., 0]
    return turns


def _cut_by_ears(flat: NDArray[np.float64], fan: NDArray[np.int64]) -> NDArray[np.int64]:
    """Triangles of one polygon, as places in it; what crosses itself so that they do not fill it is cut as a fan."""
    from mapbox_earcut import triangulate_float64

    if len(flat) > _LONG and _crosses_itself(flat):
        return fan  # after much longer, ears would find no cut that fills it
    cut = triangulate_float64(np.ascontiguousarray(flat), np.array([len(flat)], np.uint32)).astype(np.int64).reshape(-1, 3)
    if len(cut) != len(fan):
        return fan
    at = flat[cut]
    e, f = at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]
    turns = e[:, 0] * f[:, 1] - e[:, 1] * f[:, 0]
    return np.where((turns < 0)[:, None], cut[:, ::-1], cut)


def _crosses_itself(flat: NDArray[np.float64]) -> bool:
    ring = np.concatenate([flat, flat[:1]])
    begins, ends = np.minimum(ring[:-1, 0], ring[1:, 0]), np.maximum(ring[:-1, 0], ring[1:, 0])
    return bool(_kernels.crosses_itself(ring, begins, ends, np.argsort(begins)))
