"""Charts: where each texel lies on the planes of a chart, in metres, with footprint and gradients; how much each plane counts.

A chart is a way in which textures lie on the surface; layers share one where they differ by no more than tile and sharpness. It
has three planes, X, Y and Z, of which some charts use but one.
"""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.blend._number_kernels import exp2, log2
from jagged_quilt.blend._rows import (
    ACROSS,
    ALONG,
    F0,
    F1,
    FACED_MOST,
    FACING,
    GRADIENT_U,
    GRADIENT_V,
    HALF,
    INDEX,
    LAID_ROWS,
    LEVEL,
    LONG_U,
    LONG_V,
    LONGER,
    MOVED_STEPS,
    NX,
    NY,
    NZ,
    ONLY_Y,
    PLACE_ROWS,
    PLANE_ROWS,
    REST,
    SHARP,
    SHORTER,
    SIDES,
    STEPS,
    TRUE_STEPS,
    TX,
    TY,
    TZ,
    U_REST,
    UV,
    UV_GRADIENT,
    UV_WAYS,
    V_REST,
    WARPED,
    WEIGHT,
    B,
    U,
    V,
    X,
    Y,
    Z,
)
from jagged_quilt.blend._spread_kernels import spread_rows
from jagged_quilt.foundation.compiler import inlined, lanes, left_away

FLAT_CHART, UV_CHART, SPHERE_CHART, TUBE_CHART, DISC_CHART = 0, 1, 2, 3, 4  # the kinds; a new one is laid by `lay_chart`
MARK_APART = np.int32(1 << 30)  # of charts on which maps lie apart
PLANE_CUT = 0.02  # a projection plane with less than this share is left out; the others fade so that no edge shows


@lanes
def move(is_fine, is_warped, frame, moved):
    """Fill the place on which a chart looks, and the steps from it."""
    for axis in range(3):
        for t in range(B):
            moved[axis * B + t] = frame[(X + axis) * B + t]
    if is_fine:
        for axis in range(6):
            for t in range(B):
                moved[(MOVED_STEPS + axis) * B + t] = frame[(TRUE_STEPS + axis) * B + t]
    else:
        for t in range(B):
            nx, ny, nz = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t]
            tx, ty, tz = frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t]
            along, across = frame[ALONG * B + t], frame[ACROSS * B + t]
            moved[MOVED_STEPS * B + t], moved[(MOVED_STEPS + 1) * B + t] = along * tx, along * ty
            moved[(MOVED_STEPS + 2) * B + t], moved[(MOVED_STEPS + 3) * B + t] = along * tz, across * (ny * tz - nz * ty)
            moved[(MOVED_STEPS + 4) * B + t] = across * (nz * tx - nx * tz)
            moved[(MOVED_STEPS + 5) * B + t] = across * (nx * ty - ny * tx)
    if is_warped:
        for t in range(B):
            nx, ny, nz = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t]
            tx, ty, tz = frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t]
            bx, by, bz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
            for step in range(2):
                s0 = moved[(MOVED_STEPS + 3 * step) * B + t]
                s1 = moved[(MOVED_STEPS + 3 * step + 1) * B + t]
                s2 = moved[(MOVED_STEPS + 3 * step + 2) * B + t]
                along, across = s0 * tx + s1 * ty + s2 * tz, s0 * bx + s1 * by + s2 * bz
                for axis in range(3):
                    moved[(MOVED_STEPS + 3 * step + axis) * B + t] += (
                        along * frame[(WARPED + 3 + axis) * B + t] + across * frame[(WARPED + 6 + axis) * B + t]
                    )
            for axis in range(3):
                moved[axis * B + t] += frame[(WARPED + axis) * B + t]


@inlined
def _pattern(chart):
    """How a chart turns metres on the surface to metres of the pattern: the offset, 2 x 2, and whether it keeps the steps."""
    o, t = chart["offset"], chart["turn"]
    return o[0], o[1], t[0, 0], t[0, 1], t[1, 0], t[1, 1], F1 / chart["flat"], chart["fine"]


@inlined
def _store(i, pattern, place, steps, along_u, along_v, laid):
    """Store what lies on a plane, as metres of the pattern; the longer of the steps gives the level."""
    offset_u, offset_v, a, b, d, e, shorter, is_fine = pattern
    (s0, s1, s2, s3), (gu0, gu1, gu2), (gv0, gv1, gv2) = steps, along_u, along_v
    u, v = place[0] - offset_u, place[1] - offset_v
    laid[i + INDEX(U * B)], laid[i + INDEX(V * B)] = a * u + b * v, shorter * (d * u + e * v)
    s0, s1, s2, s3 = a * s0 + b * s1, shorter * (d * s0 + e * s1), a * s2 + b * s3, shorter * (d * s2 + e * s3)
    longer = max(s0 * s0 + s1 * s1, s2 * s2 + s3 * s3, np.float32(1e-20))
    laid[i + INDEX(LEVEL * B)] = HALF * log2(longer)
    if is_fine > 0:
        laid[i + INDEX(STEPS * B)], laid[i + INDEX((STEPS + 1) * B)] = s0, s1
        laid[i + INDEX((STEPS + 2) * B)], laid[i + INDEX((STEPS + 3) * B)] = s2, s3
    laid[i + INDEX(GRADIENT_U * B)] = a * gu0 + b * gv0
    laid[i + INDEX((GRADIENT_U + 1) * B)] = a * gu1 + b * gv1
    laid[i + INDEX((GRADIENT_U + 2) * B)] = a * gu2 + b * gv2
    laid[i + INDEX(GRADIENT_V * B)] = d * gu0 + e * gv0
    laid[i + INDEX((GRADIENT_V + 1) * B)] = d * gu1 + e * gv1
    laid[i + INDEX((GRADIENT_V + 2) * B)] = d * gu2 + e * gv2


@lanes
def lay_plane(c, plane, charts, lying):
    """Fill where each texel lies on a plane of a flat chart, seen from outside: u to the right and v downwards."""
    frame, moved, laid, chart = lying.frame, lying.moved, lying.laid, charts[c]
    across = 2 if plane == 0 else 0  # the axis along which u runs, and that of v, on the planes X, Y and Z
    down = 2 if plane == 1 else 1
    ux, uy, uz = chart["axes"][across, 0], chart["axes"][across, 1], chart["axes"][across, 2]
    vx, vy, vz = chart["axes"][down, 0], chart["axes"][down, 1], chart["axes"][down, 2]
    ox, oy, oz = chart["axes"][plane, 0], chart["axes"][plane, 1], chart["axes"][plane, 2]
    px, py, pz = chart["origin"][0], chart["origin"][1], chart["origin"][2]
    row = INDEX((LAID_ROWS * c + PLANE_ROWS * plane) * B)
    facing, pattern = INDEX((LAID_ROWS * c + FACING + plane) * B), _pattern(chart)
    d = MOVED_STEPS
    for t in range(B):
        n = ox * frame[NX * B + t] + oy * frame[NY * B + t] + oz * frame[NZ * B + t]
        side = F1 if n >= 0 else -F1
        to_u = -side if plane == 0 else (F1 if plane == 1 else side)
        to_v = side if plane == 1 else -F1
        x, y, z = moved[t] - px, moved[B + t] - py, moved[2 * B + t] - pz
        a0, a1, a2 = moved[d * B + t], moved[(d + 1) * B + t], moved[(d + 2) * B + t]
        b0, b1, b2 = moved[(d + 3) * B + t], moved[(d + 4) * B + t], moved[(d + 5) * B + t]
        _store(
            row + INDEX(t),
            pattern,
            (to_u * (ux * x + uy * y + uz * z), to_v * (vx * x + vy * y + vz * z)),
            (
                to_u * (ux * a0 + uy * a1 + uz * a2),
                to_v * (vx * a0 + vy * a1 + vz * a2),
                to_u * (ux * b0 + uy * b1 + uz * b2),
                to_v * (vx * b0 + vy * b1 + vz * b2),
            ),
            (to_u * ux, to_u * uy, to_u * uz),
            (to_v * vx, to_v * vy, to_v * vz),
            laid,
        )
        laid[facing + INDEX(t)] = log2(max(abs(n), np.float32(1e-30)))


@lanes
def lay_by_uv(c, charts, lying):
    """Fill where each texel lies by the surface's own coordinates, on the plane Y."""
    frame, moved, laid, chart = lying.frame, lying.moved, lying.laid, charts[c]
    metres, cheap = chart["radius"], chart["cheap"] > 0
    row, d, g, w, pattern = INDEX((LAID_ROWS * c + PLANE_ROWS) * B), MOVED_STEPS, UV_GRADIENT, UV_WAYS, _pattern(chart)
    for t in range(B):
        gu0, gu1, gu2 = metres * frame[g * B + t], metres * frame[(g + 1) * B + t], metres * frame[(g + 2) * B + t]
        gv0, gv1, gv2 = metres * frame[(g + 3) * B + t], metres * frame[(g + 4) * B + t], metres * frame[(g + 5) * B + t]
        x, y, z = moved[t] - frame[X * B + t], moved[B + t] - frame[Y * B + t], moved[2 * B + t] - frame[Z * B + t]
        u = metres * frame[UV * B + t] + gu0 * x + gu1 * y + gu2 * z
        v = metres * frame[(UV + 1) * B + t] + gv0 * x + gv1 * y + gv2 * z
        a0, a1, a2 = moved[d * B + t], moved[(d + 1) * B + t], moved[(d + 2) * B + t]
        b0, b1, b2 = moved[(d + 3) * B + t], moved[(d + 4) * B + t], moved[(d + 5) * B + t]
        s0, s1 = gu0 * a0 + gu1 * a1 + gu2 * a2, gv0 * a0 + gv1 * a1 + gv2 * a2
        s2, s3 = gu0 * b0 + gu1 * b1 + gu2 * b2, gv0 * b0 + gv1 * b1 + gv2 * b2
        if cheap:
            gu0, gu1, gu2 = frame[w * B + t], frame[(w + 1) * B + t], frame[(w + 2) * B + t]
            gv0, gv1, gv2 = frame[(w + 3) * B + t], frame[(w + 4) * B + t], frame[(w + 5) * B + t]
        _store(row + INDEX(t), pattern, (u, v), (s0, s1, s2, s3), (gu0, gu1, gu2), (gv0, gv1, gv2), laid)


@lanes
def refine_plane(c, plane, is_warped, charts, lying):
    """Fill u and v of a plane anew, in float64, and what float32 leaves away of them: for places far from the origin."""
    frame, laid, chart = lying.frame, lying.laid, charts[c]
    across = 2 if plane == 0 else 0
    down = 2 if plane == 1 else 1
    ux, uy, uz = chart["exact_axes"][across, 0], chart["exact_axes"][across, 1], chart["exact_axes"][across, 2]
    vx, vy, vz = chart["exact_axes"][down, 0], chart["exact_axes"][down, 1], chart["exact_axes"][down, 2]
    ox, oy, oz = chart["axes"][plane, 0], chart["axes"][plane, 1], chart["axes"][plane, 2]
    px, py, pz = chart["exact_origin"][0], chart["exact_origin"][1], chart["exact_origin"][2]
    offset_u, offset_v, turn = chart["exact_offset"][0], chart["exact_offset"][1], chart["exact_turn"]
    a, b, d, e = turn[0, 0], turn[0, 1], turn[1, 0], turn[1, 1]
    row = INDEX((LAID_ROWS * c + PLANE_ROWS * plane) * B)
    by_warp = F1 if is_warped else F0
    for t in range(B):
        n = ox * frame[NX * B + t] + oy * frame[NY * B + t] + oz * frame[NZ * B + t]
        side = 1.0 if n >= 0 else -1.0
        to_u = -side if plane == 0 else (1.0 if plane == 1 else side)
        to_v = side if plane == 1 else -1.0
        near_x = frame[REST * B + t] + by_warp * frame[WARPED * B + t]
        near_y = frame[(REST + 1) * B + t] + by_warp * frame[(WARPED + 1) * B + t]
        near_z = frame[(REST + 2) * B + t] + by_warp * frame[(WARPED + 2) * B + t]
        x = np.float64(frame[X * B + t]) - px + np.float64(near_x)
        y = np.float64(frame[Y * B + t]) - py + np.float64(near_y)
        z = np.float64(frame[Z * B + t]) - pz + np.float64(near_z)
        u = to_u * (ux * x + uy * y + uz * z) - offset_u
        v = to_v * (vx * x + vy * y + vz * z) - offset_v
        u, v = a * u + b * v, (d * u + e * v) / chart["flat"]
        laid[row + INDEX(U * B + t)], laid[row + INDEX(V * B + t)] = np.float32(u), np.float32(v)
        laid[row + INDEX(U_REST * B + t)], laid[row + INDEX(V_REST * B + t)] = left_away(u), left_away(v)


@lanes
def bring_near(c, is_warped, charts, lying):
    """Fill the places on which a chart looks anew, from its own origin: for places far from the world's."""
    frame, moved, chart = lying.frame, lying.moved, charts[c]
    by_warp = F1 if is_warped else F0
    for axis in range(3):
        origin = chart["exact_origin"][axis]
        for t in range(B):
            near = np.float64(frame[(X + axis) * B + t]) - origin + np.float64(frame[(REST + axis) * B + t])
            moved[axis * B + t] = np.float32(near + np.float64(by_warp * frame[(WARPED + axis) * B + t]))


@inlined
def lay_around(c, is_far, charts, lying):
    """Fill where each texel lies around an axis, on the plane Y: on a sphere, on a tube, or on a disc.

    Everything comes from the position by its derivative, so nothing happens where u begins again.
    """
    moved, laid, chart = lying.moved, lying.laid, charts[c]
    axes, is_sphere, is_disc = chart["axes"], chart["kind"] == SPHERE_CHART, chart["kind"] == DISC_CHART
    first, second, third = chart["origin"][0], chart["origin"][1], chart["origin"][2]
    if is_far:
        first, second, third = F0, F0, F0
    radius, around, spiral = chart["radius"], chart["around"], chart["spiral"]
    row, d, pattern = INDEX((LAID_ROWS * c + PLANE_ROWS) * B), MOVED_STEPS, _pattern(chart)
    tiny = np.float32(1e-6) * radius
    for t in range(B):
        x, y, z = moved[t] - first, moved[B + t] - second, moved[2 * B + t] - third
        q0 = axes[0, 0] * x + axes[0, 1] * y + axes[0, 2] * z
        q1 = axes[1, 0] * x + axes[1, 1] * y + axes[1, 2] * z
        q2 = axes[2, 0] * x + axes[2, 1] * y + axes[2, 2] * z
        from_axis = max(np.float32(math.sqrt(q0 * q0 + q2 * q2)), tiny)
        u = around * radius * np.float32(math.atan2(q0, q2))
        c0, c1, c2 = around * radius * q2 / (from_axis * from_axis), F0, -around * radius * q0 / (from_axis * from_axis)
        if is_sphere:
            away = max(np.float32(math.sqrt(q0 * q0 + q1 * q1 + q2 * q2)), tiny)
            v = radius * np.float32(math.atan2(from_axis, q1))
            scale = radius / (away * away)
            e0, e1, e2 = scale * q0 * q1 / from_axis, -scale * from_axis, scale * q2 * q1 / from_axis
        elif is_disc:
            v, e0, e1, e2 = from_axis, q0 / from_axis, F0, q2 / from_axis
            u, c0, c2 = u + spiral * v, c0 + spiral * e0, c2 + spiral * e2
        else:
            v, e0, e1, e2 = -q1, F0, -F1, F0
        gu0 = axes[0, 0] * c0 + axes[1, 0] * c1 + axes[2, 0] * c2
        gu1 = axes[0, 1] * c0 + axes[1, 1] * c1 + axes[2, 1] * c2
        gu2 = axes[0, 2] * c0 + axes[1, 2] * c1 + axes[2, 2] * c2
        gv0 = axes[0, 0] * e0 + axes[1, 0] * e1 + axes[2, 0] * e2
        gv1 = axes[0, 1] * e0 + axes[1, 1] * e1 + axes[2, 1] * e2
        gv2 = axes[0, 2] * e0 + axes[1, 2] * e1 + axes[2, 2] * e2
        a0, a1, a2 = moved[d * B + t], moved[(d + 1) * B + t], moved[(d + 2) * B + t]
        b0, b1, b2 = moved[(d + 3) * B + t], moved[(d + 4) * B + t], moved[(d + 5) * B + t]
        _store(
            row + INDEX(t),
            pattern,
            (u, v),
            (
                gu0 * a0 + gu1 * a1 + gu2 * a2,
                gv0 * a0 + gv1 * a1 + gv2 * a2,
                gu0 * b0 + gu1 * b1 + gu2 * b2,
                gv0 * b0 + gv1 * b1 + gv2 * b2,
            ),
            (gu0, gu1, gu2),
            (gv0, gv1, gv2),
            laid,
        )


@lanes
def bend_gradients(row, frame, laid):
    """Let gradients follow a warp: a step along the surface moves the place by more than itself."""
    for t in range(B):
        nx, ny, nz = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t]
        tx, ty, tz = frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t]
        bx, by, bz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
        w3, w4, w5 = frame[(WARPED + 3) * B + t], frame[(WARPED + 4) * B + t], frame[(WARPED + 5) * B + t]
        w6, w7, w8 = frame[(WARPED + 6) * B + t], frame[(WARPED + 7) * B + t], frame[(WARPED + 8) * B + t]
        for which in range(2):
            first = row + INDEX((GRADIENT_U + 3 * which) * B + t)
            g0, g1, g2 = laid[first], laid[first + INDEX(B)], laid[first + INDEX(2 * B)]
            along, across = g0 * w3 + g1 * w4 + g2 * w5, g0 * w6 + g1 * w7 + g2 * w8
            laid[first] = g0 + along * tx + across * bx
            laid[first + INDEX(B)] = g1 + along * ty + across * by
            laid[first + INDEX(2 * B)] = g2 + along * tz + across * bz


@lanes
def unit_gradients(row, frame, laid):
    """Lay the gradients into the surface and make them unit: slopes are then taken as they are."""
    for t in range(B):
        nx, ny, nz = frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t]
        for which in range(2):
            first = row + INDEX((GRADIENT_U + 3 * which) * B + t)
            g0, g1, g2 = laid[first], laid[first + INDEX(B)], laid[first + INDEX(2 * B)]
            out = g0 * nx + g1 * ny + g2 * nz
            g0, g1, g2 = g0 - out * nx, g1 - out * ny, g2 - out * nz
            scale = F1 / math.sqrt(max(g0 * g0 + g1 * g1 + g2 * g2, np.float32(1e-12)))
            laid[first], laid[first + INDEX(B)], laid[first + INDEX(2 * B)] = g0 * scale, g1 * scale, g2 * scale


@lanes
def both_axes(row, laid):
    """Turn the footprint's steps on a plane into the axes of the ellipse that they span: the longer as a vector, then the
    base-2 logarithms of both lengths."""
    tiny = np.float32(1e-20)
    for t in range(B):
        i = row + INDEX(t)
        s0, s1 = laid[i + INDEX(STEPS * B)], laid[i + INDEX((STEPS + 1) * B)]
        s2, s3 = laid[i + INDEX((STEPS + 2) * B)], laid[i + INDEX((STEPS + 3) * B)]
        uu, vv, uv = s0 * s0 + s2 * s2, s1 * s1 + s3 * s3, s0 * s1 + s2 * s3
        half, apart = HALF * (uu + vv), HALF * (uu - vv)
        root = math.sqrt(apart * apart + uv * uv)
        longer, area = half + root, abs(s0 * s3 - s1 * s2)
        # The eigenvector of the longer axis, from whichever row of the matrix has more to say.
        x, y = (apart + root, uv) if apart >= 0 else (uv, root - apart)
        scale = math.sqrt(longer / max(x * x + y * y, tiny))
        laid[i + INDEX(LONG_U * B)], laid[i + INDEX(LONG_V * B)] = x * scale, y * scale
        log = HALF * log2(max(longer, tiny))
        laid[i + INDEX(LEVEL * B)] = log
        laid[i + INDEX(LONGER * B)] = log
        laid[i + INDEX(SHORTER * B)] = HALF * log2(max(area * area / max(longer, tiny), tiny))


@lanes
def limit_sides(c, charts, lying):
    """Fill how much the side planes count: by slope, and by the distance from a camera."""
    frame, laid, chart = lying.frame, lying.laid, charts[c]
    ax, ay, az = chart["axes"][1, 0], chart["axes"][1, 1], chart["axes"][1, 2]
    low, high = chart["slope_from"], chart["slope_to"]  # cosines: the first is the larger one
    ex, ey, ez, near, far = chart["eye"][0], chart["eye"][1], chart["eye"][2], chart["near"], chart["far"]
    by_slope = F1 / max(low - high, np.float32(1e-6))
    by_distance = F1 / max(far - near, np.float32(1e-6))
    row = INDEX((LAID_ROWS * c + SIDES) * B)
    for t in range(B):
        up = ax * frame[NX * B + t] + ay * frame[NY * B + t]
        up = abs(up + az * frame[NZ * B + t])
        x, y, z = frame[X * B + t] - ex, frame[Y * B + t] - ey, frame[Z * B + t] - ez
        steep = min(max((low - up) * by_slope, F0), F1) if low < F1 else F1
        away = min(max((math.sqrt(x * x + y * y + z * z) - near) * by_distance, F0), F1) if far > 0 else F1
        laid[row + INDEX(t)] = steep * away


@inlined
def lay_chart(c, points, plan, scratch):
    """Fill everything that a chart tells of the block's texels."""
    lying, charts = scratch.lying, plan.charts
    chart = charts[c]
    kind, planes, warp, is_far = chart["kind"], chart["planes"], chart["warp"], points.rest.shape[0] > 0
    if warp >= 0:
        spread_rows(scratch.who, points.warps[warp], WARPED, lying.frame)
    move(chart["fine"] > 0, warp >= 0, lying.frame, lying.moved)
    if kind == UV_CHART:
        lay_by_uv(c, charts, lying)
    elif kind != FLAT_CHART:
        if is_far:
            bring_near(c, warp >= 0, charts, lying)
        lay_around(c, is_far, charts, lying)
    for plane in range(3):
        if not planes >> plane & 1:
            continue
        if kind == FLAT_CHART:
            lay_plane(c, plane, charts, lying)
            if is_far:
                refine_plane(c, plane, warp >= 0, charts, lying)
        row = INDEX((LAID_ROWS * c + PLANE_ROWS * plane) * B)
        if chart["fine"] > 0:
            both_axes(row, lying.laid)
        if warp >= 0:
            bend_gradients(row, lying.frame, lying.laid)
        if chart["cheap"] > 0:
            unit_gradients(row, lying.frame, lying.laid)
    limit_sides(c, charts, lying)
    if chart["sharing"] >= 0:
        for t in range(B):
            lying.alike[INDEX(t)], lying.alike[INDEX(B + t)] = chart["sharpness"], chart["sharing"]
        share_planes(LAID_ROWS * B * c, 3 * B * c, np.int64(0), lying.laid, lying.alike, lying.shares)


@lanes
def take_chart(chart, to, laid, taken):
    """Copy the rows of a chart; `taken` is the same array as `laid`, elsewhere."""
    own, out = INDEX(LAID_ROWS * B * chart), INDEX(to)
    for i in range(LAID_ROWS * B):
        taken[out + INDEX(i)] = laid[own + INDEX(i)]


@lanes
def take_lanes(chart, to, charts_at, place, laid, taken):
    """Copy the rows of a chart in the lanes that lie on it."""
    own, out, at = INDEX(LAID_ROWS * B * chart), INDEX(to), INDEX(place)
    for row in range(LAID_ROWS):
        i, o = own + INDEX(row * B), out + INDEX(row * B)
        for t in range(B):
            other, kept = laid[i + INDEX(t)], taken[o + INDEX(t)]
            taken[o + INDEX(t)] = other if charts_at[at + INDEX(t)] == chart else kept


@inlined
def copy_charts(first, mark, to, charts_at, place, lying):
    """Bring the rows of several charts together: those of `first`, then of each that is marked in its own lanes.

    place : where the charts of the lanes begin in `charts_at`.
    """
    take_chart(first, to, lying.laid, lying.laid)
    for chart in range(lying.is_laid.shape[0] - 1):
        if chart != first and lying.is_laid[INDEX(chart)] & mark:
            take_lanes(np.int32(chart), to, charts_at, place, lying.laid, lying.laid)


@lanes
def share_planes(start, out, sharp, laid, said, shares):
    """Fill how much each plane counts: |n| to the power of sharpness, small ones cut, summing to 1; or all of one plane.

    start : where the rows of a chart begin in `laid`.
    out : where the three rows to fill begin in `shares`.
    sharp : where two rows begin in `said`: sharpness, and what is done with the planes.
    """
    facing, own, into = INDEX(start + FACING * B), INDEX(sharp), INDEX(out)
    for t in range(B):
        i = INDEX(t)
        sharpness, sharing = said[own + i], said[own + INDEX(B) + i]
        towards_x, towards_y = laid[facing + i], laid[facing + INDEX(B) + i]
        towards_z, sides = laid[facing + INDEX(2 * B) + i], laid[facing + INDEX(3 * B) + i]
        x = exp2(max(sharpness * towards_x, np.float32(-100.0)))
        y = exp2(max(sharpness * towards_y, np.float32(-100.0)))
        z = exp2(max(sharpness * towards_z, np.float32(-100.0)))
        cut = np.float32(PLANE_CUT) * (x + y + z)
        x, y, z = max(x - cut, F0), max(y - cut, F0), max(z - cut, F0)
        scale = sides / (x + y + z)
        x, z = x * scale, z * scale
        y = y * scale + (F1 - sides)
        faced_y = towards_y >= max(towards_x, towards_z)
        faced_x = towards_x >= towards_z
        most_x, most_y = (F0 if faced_y else (F1 if faced_x else F0)), (F1 if faced_y else F0)
        is_box, is_one = sharing == np.float32(FACED_MOST), sharing > 0
        one_y = F1 if sharing == np.float32(ONLY_Y) else F0
        x = (most_x if is_box else F0) if is_one else x
        y = (most_y if is_box else one_y) if is_one else y
        z = (F1 - most_x - most_y if is_box else F1 - one_y) if is_one else z
        shares[into + i], shares[into + INDEX(B) + i], shares[into + INDEX(2 * B) + i] = x, y, z


@lanes
def count_planes(k, start, shares, rows, counts):
    """Fill how much each plane counts for a place: nothing in a lane in which it does not show."""
    weight, out, own = INDEX((PLACE_ROWS * k + WEIGHT) * B), INDEX(3 * B * k), INDEX(start)
    for t in range(B):
        i = INDEX(t)
        shown = F1 if rows[weight + i] > 0 else F0
        counts[out + i] = shown * shares[own + i]
        counts[out + INDEX(B) + i] = shown * shares[own + INDEX(B) + i]
        counts[out + INDEX(2 * B) + i] = shown * shares[own + INDEX(2 * B) + i]


@lanes
def find_apart(at, place, group, layers, apart, found):
    """Fill on which chart each lane has the roles of a group, or -1; return the last of them."""
    last = np.int32(-1)
    for t in range(B):
        chart = apart[INDEX(group), INDEX(layers[INDEX(place) + INDEX(t)])]
        found[INDEX(at) + INDEX(t)] = chart
        last = max(last, chart)
    return last


@inlined
def mark_of(k):
    """A bit for each place: which charts it lies on."""
    return np.int32(np.int32(1) << np.int32(k))


@inlined
def lay_places(most, points, plan, scratch):
    """Lay the block on every chart that its places need; fill where the rows of each place begin, and its planes' shares."""
    places, lying, charts = scratch.places, scratch.lying, plan.charts
    for c in range(charts.shape[0]):
        lying.is_laid[INDEX(c)] = 0
    lying.is_laid[INDEX(charts.shape[0])] = points.rest.shape[0] > 0
    for k in range(most):
        several, chart = places.charts_at[INDEX(B * k)] >= 0, -1 - places.charts_at[INDEX(B * k)]
        for t in range(B if several else 1):
            own = INDEX(places.charts_at[INDEX(B * k + t)] if several else chart)
            lying.is_laid[own] = np.int32(lying.is_laid[own] | mark_of(k))
        for group in range(plan.apart.shape[0]):
            at = (plan.apart.shape[0] * k + group) * B
            lies = find_apart(at, B * k, group, places.layers, plan.apart, places.apart_at) >= 0
            for t in range(B if lies else 0):
                own = places.apart_at[INDEX(at + t)]
                if own >= 0:
                    lying.is_laid[INDEX(own)] = np.int32(lying.is_laid[INDEX(own)] | MARK_APART)
    for c in range(charts.shape[0]):
        if lying.is_laid[INDEX(c)]:
            lay_chart(c, points, plan, scratch)
    for k in range(most):
        several, chart = places.charts_at[INDEX(B * k)] >= 0, -1 - places.charts_at[INDEX(B * k)]
        if several:
            places.laid_at[INDEX(k)] = LAID_ROWS * B * (charts.shape[0] + k)
            first, place = places.charts_at[INDEX(B * k)], B * k
            copy_charts(first, mark_of(k), places.laid_at[INDEX(k)], places.charts_at, place, lying)
        else:
            places.laid_at[INDEX(k)] = LAID_ROWS * B * chart
        shares_at = 3 * B * chart
        if several or charts[chart]["sharing"] < 0:
            shares_at = 3 * B * (charts.shape[0] + k)
            sharp = (PLACE_ROWS * k + SHARP) * B
            share_planes(places.laid_at[INDEX(k)], shares_at, sharp, lying.laid, places.look.rows, lying.shares)
        count_planes(k, shares_at, lying.shares, places.look.rows, places.look.counts)
