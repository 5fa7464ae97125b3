"""Polygons to triangles."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray


def cut_polygon(places: NDArray[np.float64]) -> list[tuple[int, int, int]]:
    """Return triangles of a polygon, (n, 3) places in order, as places in it.

    A convex one is cut as a fan; any other by its ears (Meisters 1975), laid flat along its mean normal (Newell's).
    """
    count = len(places)
    if count == 3:
        return [(0, 1, 2)]
    after = np.roll(places, -1, axis=0)
    normal = np.array(
        [np.sum((places[:, i] - after[:, i]) * (places[:, j] + after[:, j])) for i, j in ((1, 2), (2, 0), (0, 1))]
    )
    drop = int(np.argmax(np.abs(normal)))
    flat = np.delete(places, drop, axis=1) * (1 if (normal[drop] > 0) == (drop != 1) else (-1, 1))
    turns = [_turn(flat[i - 1], flat[i], flat[(i + 1) % count]) for i in range(count)]
    if not np.isfinite(places).all() or all(turn >= 0 for turn in turns):
        return [(0, i, i + 1) for i in range(1, count - 1)]
    left, cut = list(range(count)), []
    while len(left) > 3:
        ear = next((i for i in range(len(left)) if _is_ear(flat, left, i)), 0)
        cut.append((left[ear - 1], left[ear], left[(ear + 1) % len(left)]))
        del left[ear]
    return [*cut, (left[0], left[1], left[2])]


def _turn(a: NDArray[np.float64], b: NDArray[np.float64], c: NDArray[np.float64]) -> float:
    return float((b[0] - a[0]) * (c[1] - b[1]) - (b[1] - a[1]) * (c[0] - b[0]))


def _is_ear(flat: NDArray[np.float64], left: Sequence[int], at: int) -> bool:
    a, b, c = flat[left[at - 1]], flat[left[at]], flat[left[(at + 1) % len(left)]]
    if _turn(a, b, c) <= 0:
        return False
    others = [flat[i] for i in left if i not in (left[at - 1], left[at], left[(at + 1) % len(left)])]
    return not any(_turn(a, b, p) >= 0 and _turn(b, c, p) >= 0 and _turn(c, a, p) >= 0 for p in others)
