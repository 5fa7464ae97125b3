"""How far samples lie from the triangles of a terrain's mesh, as loops over the samples below each."""

from __future__ import annotations

from jagged_quilt.foundation.compiler import kernel


@kernel
def farthest_samples(corners, row_of, column_of, heights, allowed, far, where):
    """Fill for each triangle (T, 3) the sample within it that lies farthest beyond what is allowed, measured upright.

    row_of, column_of : (V,) int64, the sample that each vertex is. heights, allowed : (R, C) float64, metres.
    far : (T,) float64, by how much it lies too far; 0 where none does. where : (T,) int64, its number row by row.
    Samples on the border of the terrain are not asked: they are settled.
    """
    rows, columns = heights.shape
    for t in range(corners.shape[0]):
        a, b, c = corners[t, 0], corners[t, 1], corners[t, 2]
        ra, rb, rc = row_of[a], row_of[b], row_of[c]
        ca, cb, cc = column_of[a], column_of[b], column_of[c]
        area = (cb - ca) * (rc - ra) - (cc - ca) * (rb - ra)
        far[t], where[t] = 0.0, 0
        if area == 0:
            continue
        sign = 1 if area > 0 else -1
        whole = float(area * sign)
        ha, hb, hc = heights[ra, ca], heights[rb, cb], heights[rc, cc]
        for r in range(max(1, min(ra, rb, rc)), min(rows - 2, max(ra, rb, rc)) + 1):
            for k in range(max(1, min(ca, cb, cc)), min(columns - 2, max(ca, cb, cc)) + 1):
                to_a = ((cb - k) * (rc - r) - (cc - k) * (rb - r)) * sign
                to_b = ((cc - k) * (ra - r) - (ca - k) * (rc - r)) * sign
                to_c = ((ca - k) * (rb - r) - (cb - k) * (ra - r)) * sign
                if to_a < 0 or to_b < 0 or to_c < 0:
                    continue
                height = (to_a * ha + to_b * hb + to_c * hc) / whole
                beyond = abs(height - heights[r, k]) - allowed[r, k]
                if beyond > far[t]:
                    far[t], where[t] = beyond, r * columns + k
