"""Polygons, as loops."""

from __future__ import annotations

from jagged_quilt.foundation.compiler import kernel


@kernel
def crosses_itself(ring, begins, ends, order):
    """Tell whether two sides of a polygon (N + 1, 2), whose last corner is its first, cross at a place within both.

    Sides go from left to right by where they begin (their order, N), so that each is held against those only that begin
    before it ends: Shamos and Hoey's sweep, without its tree.
    """
    count = len(order)
    for i in range(count):
        a = order[i]
        ax, ay, bx, by = ring[a, 0], ring[a, 1], ring[a + 1, 0], ring[a + 1, 1]
        low, high = min(ay, by), max(ay, by)
        for j in range(i + 1, count):
            c = order[j]
            if begins[c] > ends[a]:
                break
            cx, cy, dx, dy = ring[c, 0], ring[c, 1], ring[c + 1, 0], ring[c + 1, 1]
            if min(cy, dy) > high or max(cy, dy) < low:
                continue
            one = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            two = (bx - ax) * (dy - ay) - (by - ay) * (dx - ax)
            three = (dx - cx) * (ay - cy) - (dy - cy) * (ax - cx)
            four = (dx - cx) * (by - cy) - (dy - cy) * (bx - cx)
            if one * two < 0 and three * four < 0:
                return True
    return False
