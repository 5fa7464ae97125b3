"""Mappings: where each texel is on the planes of a mapping, in metres, with footprint and gradients.

A mapping is a way in which textures are put on the surface; layers share one where they differ by no more than tile and
sharpness. It has three planes, X, Y and Z, of which some mappings use but one.
"""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.blend._lane_kernels import cross, dot, lane, log2, plane_row, put3, row_of, scaled, vec3
from jagged_quilt.blend._plane_kernels import map_slots, mark_users, share_planes
from jagged_quilt.blend._rows import (
    BY_UV,
    DISC,
    F0,
    F1,
    FLAT,
    HALF,
    INDEX,
    SPHERE,
    B,
    Frame,
    Lookup,
    Mapped,
    Plane,
    Sharing,
)
from jagged_quilt.blend._spread_kernels import spread_rows
from jagged_quilt.foundation.compiler import inlined, lanes, left_away


@lanes
def look_up(has_true_steps, is_warped, frame, lookup):
    """Fill the position at which a mapping looks, and the steps from it."""
    for axis in range(3):
        for t in range(B):
            lookup[lane(Lookup.POSITION + axis, t)] = frame[lane(Frame.POSITION + axis, t)]
    if has_true_steps:
        for axis in range(6):
            for t in range(B):
                lookup[lane(Lookup.STEP_ALONG + axis, t)] = frame[lane(Frame.TRUE_STEPS + axis, t)]
    else:
        for t in range(B):
            normal, tangent = vec3(frame, Frame.NORMAL, t), vec3(frame, Frame.TANGENT, t)
            along, across = frame[lane(Frame.FOOTPRINT, t)], frame[lane(Frame.FOOTPRINT + 1, t)]
            put3(lookup, Lookup.STEP_ALONG, t, scaled(tangent, along))
            put3(lookup, Lookup.STEP_ACROSS, t, scaled(cross(normal, tangent), across))
    if is_warped:
        for t in range(B):
            tangent = vec3(frame, Frame.TANGENT, t)
            bitangent = cross(vec3(frame, Frame.NORMAL, t), tangent)
            for which in range(2):
                step = vec3(lookup, Lookup.STEP_ALONG + 3 * which, t)
                along, across = dot(step, tangent), dot(step, bitangent)
                for axis in range(3):
                    lookup[lane(Lookup.STEP_ALONG + 3 * which + axis, t)] += (
                        along * frame[lane(Frame.WARP_ALONG + axis, t)] + across * frame[lane(Frame.WARP_ACROSS + axis, t)]
                    )
            for axis in range(3):
                lookup[lane(Lookup.POSITION + axis, t)] += frame[lane(Frame.WARP + axis, t)]


@inlined
def _pattern(mapping):
    """How metres on the surface become metres of the pattern: the offset, 2 x 2, and whether the steps are kept."""
    o, m = mapping["offset"], mapping["turn"]
    return o[0], o[1], m[0, 0], m[0, 1], m[1, 0], m[1, 1], F1 / mapping["aspect"], mapping["true_steps"]


@inlined
def _store(start, t, pattern, uv, steps, along_u, along_v, mapped):
    """Store what is on a plane, as metres of the pattern; the longer of the steps gives the level."""
    offset_u, offset_v, a, b, d, e, shorter, has_true_steps = pattern
    (s0, s1, s2, s3), (gu0, gu1, gu2), (gv0, gv1, gv2) = steps, along_u, along_v
    u, v = uv[0] - offset_u, uv[1] - offset_v
    mapped[lane(start + Plane.U, t)], mapped[lane(start + Plane.V, t)] = a * u + b * v, shorter * (d * u + e * v)
    s0, s1, s2, s3 = a * s0 + b * s1, shorter * (d * s0 + e * s1), a * s2 + b * s3, shorter * (d * s2 + e * s3)
    longer = max(s0 * s0 + s1 * s1, s2 * s2 + s3 * s3, np.float32(1e-20))
    mapped[lane(start + Plane.LEVEL, t)] = HALF * log2(longer)
    if has_true_steps > 0:
        put3(mapped, start + Plane.STEPS, t, (s0, s1, s2))
        mapped[lane(start + Plane.STEPS + 3, t)] = s3
    put3(mapped, start + Plane.GRADIENT_U, t, (a * gu0 + b * gv0, a * gu1 + b * gv1, a * gu2 + b * gv2))
    put3(mapped, start + Plane.GRADIENT_V, t, (d * gu0 + e * gv0, d * gu1 + e * gv1, d * gu2 + e * gv2))


@inlined
def _sides_of(plane, is_front):
    """Which way u and v run on a plane, seen from outside: u to the right and v downwards."""
    side = F1 if is_front else -F1
    return -side if plane == 0 else (F1 if plane == 1 else side), side if plane == 1 else -F1


@lanes
def map_flat(c, plane, mappings, rows):
    """Fill where each texel is on a plane of a flat mapping."""
    frame, lookup, mapped, mapping = rows.frame, rows.lookup, rows.mapped, mappings[c]
    axes, origin = mapping["axes"], mapping["origin"]
    u_axis = row_of(axes, 2 if plane == 0 else 0)
    v_axis = row_of(axes, 2 if plane == 1 else 1)
    outwards = row_of(axes, plane)
    px, py, pz = origin[0], origin[1], origin[2]
    start, facing = plane_row(Mapped.END * c, plane, 0), Mapped.END * c + Mapped.FACING + plane
    pattern = _pattern(mapping)
    for t in range(B):
        n = dot(outwards, vec3(frame, Frame.NORMAL, t))
        to_u, to_v = _sides_of(plane, n >= 0)
        x, y, z = vec3(lookup, Lookup.POSITION, t)
        from_origin = x - px, y - py, z - pz
        along, across = vec3(lookup, Lookup.STEP_ALONG, t), vec3(lookup, Lookup.STEP_ACROSS, t)
        _store(
            start,
            t,
            pattern,
            (to_u * dot(u_axis, from_origin), to_v * dot(v_axis, from_origin)),
            (to_u * dot(u_axis, along), to_v * dot(v_axis, along), to_u * dot(u_axis, across), to_v * dot(v_axis, across)),
            scaled(u_axis, to_u),
            scaled(v_axis, to_v),
            mapped,
        )
        mapped[lane(facing, t)] = log2(max(abs(n), np.float32(1e-30)))


@lanes
def map_by_uv(c, mappings, rows):
    """Fill where each texel is by the surface's own coordinates, on the plane Y."""
    frame, lookup, mapped, mapping = rows.frame, rows.lookup, rows.mapped, mappings[c]
    unit, is_cheap = mapping["unit"], mapping["cheap"] > 0
    start, pattern = plane_row(Mapped.END * c, 1, 0), _pattern(mapping)
    for t in range(B):
        along_u = scaled(vec3(frame, Frame.UV_GRADIENT, t), unit)
        along_v = scaled(vec3(frame, Frame.UV_GRADIENT + 3, t), unit)
        (x, y, z), (px, py, pz) = vec3(lookup, Lookup.POSITION, t), vec3(frame, Frame.POSITION, t)
        moved = x - px, y - py, z - pz
        u = unit * frame[lane(Frame.UV, t)] + along_u[0] * moved[0] + along_u[1] * moved[1] + along_u[2] * moved[2]
        v = unit * frame[lane(Frame.UV + 1, t)] + along_v[0] * moved[0] + along_v[1] * moved[1] + along_v[2] * moved[2]
        along, across = vec3(lookup, Lookup.STEP_ALONG, t), vec3(lookup, Lookup.STEP_ACROSS, t)
        steps = dot(along_u, along), dot(along_v, along), dot(along_u, across), dot(along_v, across)
        if is_cheap:
            along_u, along_v = vec3(frame, Frame.UV_DIRECTION, t), vec3(frame, Frame.UV_DIRECTION + 3, t)
        _store(start, t, pattern, (u, v), steps, along_u, along_v, mapped)


@lanes
def refine_plane(c, plane, is_warped, mappings, rows):
    """Fill u and v of a plane anew, in float64, and their residuals: for points far from the origin."""
    frame, mapped, mapping = rows.frame, rows.mapped, mappings[c]
    u_axis = row_of(mapping["exact_axes"], 2 if plane == 0 else 0)
    v_axis = row_of(mapping["exact_axes"], 2 if plane == 1 else 1)
    outwards = row_of(mapping["axes"], plane)
    px, py, pz = mapping["exact_origin"][0], mapping["exact_origin"][1], mapping["exact_origin"][2]
    offset_u, offset_v, turn = mapping["exact_offset"][0], mapping["exact_offset"][1], mapping["exact_turn"]
    a, b, d, e = turn[0, 0], turn[0, 1], turn[1, 0], turn[1, 1]
    start = plane_row(Mapped.END * c, plane, 0)
    by_warp = F1 if is_warped else F0
    for t in range(B):
        to_u, to_v = _sides_of(plane, dot(outwards, vec3(frame, Frame.NORMAL, t)) >= 0)
        (rx, ry, rz), (wx, wy, wz) = vec3(frame, Frame.RESIDUAL, t), vec3(frame, Frame.WARP, t)
        near_x, near_y, near_z = rx + by_warp * wx, ry + by_warp * wy, rz + by_warp * wz
        x, y, z = vec3(frame, Frame.POSITION, t)
        from_origin = (
            np.float64(x) - px + np.float64(near_x),
            np.float64(y) - py + np.float64(near_y),
            np.float64(z) - pz + np.float64(near_z),
        )
        u = np.float64(to_u) * dot(u_axis, from_origin) - offset_u
        v = np.float64(to_v) * dot(v_axis, from_origin) - offset_v
        u, v = a * u + b * v, (d * u + e * v) / mapping["aspect"]
        mapped[lane(start + Plane.U, t)], mapped[lane(start + Plane.V, t)] = np.float32(u), np.float32(v)
        mapped[lane(start + Plane.U_RESIDUAL, t)], mapped[lane(start + Plane.V_RESIDUAL, t)] = left_away(u), left_away(v)


@lanes
def bring_near(c, is_warped, mappings, rows):
    """Fill the positions at which a mapping looks anew, from its own origin: for points far from the world's."""
    frame, lookup, mapping = rows.frame, rows.lookup, mappings[c]
    by_warp = F1 if is_warped else F0
    for axis in range(3):
        origin = mapping["exact_origin"][axis]
        for t in range(B):
            position, residual = frame[lane(Frame.POSITION + axis, t)], frame[lane(Frame.RESIDUAL + axis, t)]
            near = np.float64(position) - origin + np.float64(residual)
            lookup[lane(Lookup.POSITION + axis, t)] = np.float32(near + np.float64(by_warp * frame[lane(Frame.WARP + axis, t)]))


@inlined
def _across(axes, a, b, c):
    """A gradient in the world, of one along the axes of a mapping."""
    return (
        axes[0, 0] * a + axes[1, 0] * b + axes[2, 0] * c,
        axes[0, 1] * a + axes[1, 1] * b + axes[2, 1] * c,
        axes[0, 2] * a + axes[1, 2] * b + axes[2, 2] * c,
    )


@inlined
def map_around(c, is_far, mappings, rows):
    """Fill where each texel is around an axis, on the plane Y: on a sphere, on a tube, or on a disc.

    Everything comes from the position by its derivative, so nothing happens where u begins again.
    """
    lookup, mapped, mapping = rows.lookup, rows.mapped, mappings[c]
    axes, is_sphere, is_disc = mapping["axes"], mapping["kind"] == SPHERE, mapping["kind"] == DISC
    first, second, third = mapping["origin"][0], mapping["origin"][1], mapping["origin"][2]
    if is_far:
        first, second, third = F0, F0, F0
    radius, around, spiral = mapping["radius"], mapping["around"], mapping["spiral"]
    start, pattern = plane_row(Mapped.END * c, 1, 0), _pattern(mapping)
    tiny = np.float32(1e-6) * radius
    for t in range(B):
        x, y, z = vec3(lookup, Lookup.POSITION, t)
        offset = x - first, y - second, z - third
        q0, q1, q2 = dot(row_of(axes, 0), offset), dot(row_of(axes, 1), offset), dot(row_of(axes, 2), offset)
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
        along_u, along_v = _across(axes, c0, c1, c2), _across(axes, e0, e1, e2)
        along, across = vec3(lookup, Lookup.STEP_ALONG, t), vec3(lookup, Lookup.STEP_ACROSS, t)
        steps = dot(along_u, along), dot(along_v, along), dot(along_u, across), dot(along_v, across)
        _store(start, t, pattern, (u, v), steps, along_u, along_v, mapped)


@lanes
def bend_gradients(start, frame, mapped):
    """Let gradients follow a warp: a step along the surface moves the position by more than itself."""
    for t in range(B):
        tangent = vec3(frame, Frame.TANGENT, t)
        bitangent = cross(vec3(frame, Frame.NORMAL, t), tangent)
        warp_along, warp_across = vec3(frame, Frame.WARP_ALONG, t), vec3(frame, Frame.WARP_ACROSS, t)
        for which in range(2):
            row = start + Plane.GRADIENT_U + 3 * which
            g = vec3(mapped, row, t)
            along, across = dot(g, warp_along), dot(g, warp_across)
            bent = (
                g[0] + along * tangent[0] + across * bitangent[0],
                g[1] + along * tangent[1] + across * bitangent[1],
                g[2] + along * tangent[2] + across * bitangent[2],
            )
            put3(mapped, row, t, bent)


@lanes
def unit_gradients(start, frame, mapped):
    """Bring the gradients into the surface and make them unit: slopes are then taken as they are."""
    for t in range(B):
        nx, ny, nz = vec3(frame, Frame.NORMAL, t)
        for which in range(2):
            row = start + Plane.GRADIENT_U + 3 * which
            g0, g1, g2 = vec3(mapped, row, t)
            out = g0 * nx + g1 * ny + g2 * nz
            g0, g1, g2 = g0 - out * nx, g1 - out * ny, g2 - out * nz
            scale = F1 / math.sqrt(max(g0 * g0 + g1 * g1 + g2 * g2, np.float32(1e-12)))
            put3(mapped, row, t, (g0 * scale, g1 * scale, g2 * scale))


@lanes
def both_axes(start, mapped):
    """Turn the footprint's steps on a plane into the axes of the ellipse that they span: the longer as a vector, then the
    base-2 logarithms of both lengths."""
    tiny = np.float32(1e-20)
    for t in range(B):
        s0, s1, s2 = vec3(mapped, start + Plane.STEPS, t)
        s3 = mapped[lane(start + Plane.STEPS + 3, t)]
        uu, vv, uv = s0 * s0 + s2 * s2, s1 * s1 + s3 * s3, s0 * s1 + s2 * s3
        half, apart = HALF * (uu + vv), HALF * (uu - vv)
        root = math.sqrt(apart * apart + uv * uv)
        longer, area = half + root, abs(s0 * s3 - s1 * s2)
        # The eigenvector of the longer axis, from whichever row of the matrix has more to say.
        x, y = (apart + root, uv) if apart >= 0 else (uv, root - apart)
        scale = math.sqrt(longer / max(x * x + y * y, tiny))
        mapped[lane(start + Plane.LONG_U, t)], mapped[lane(start + Plane.LONG_V, t)] = x * scale, y * scale
        log = HALF * log2(max(longer, tiny))
        mapped[lane(start + Plane.LEVEL, t)] = log
        mapped[lane(start + Plane.LONGER, t)] = log
        mapped[lane(start + Plane.SHORTER, t)] = HALF * log2(max(area * area / max(longer, tiny), tiny))


@lanes
def limit_sides(c, mappings, rows):
    """Fill how much the side planes count: by slope, and by the distance from a camera."""
    frame, mapped, mapping = rows.frame, rows.mapped, mappings[c]
    ax, ay, az = row_of(mapping["axes"], 1)
    low, high = mapping["slope_from"], mapping["slope_to"]  # cosines: the first is the larger one
    ex, ey, ez, near, far = mapping["eye"][0], mapping["eye"][1], mapping["eye"][2], mapping["near"], mapping["far"]
    by_slope = F1 / max(low - high, np.float32(1e-6))
    by_distance = F1 / max(far - near, np.float32(1e-6))
    for t in range(B):
        nx, ny, nz = vec3(frame, Frame.NORMAL, t)
        up = ax * nx + ay * ny
        up = abs(up + az * nz)
        x, y, z = vec3(frame, Frame.POSITION, t)
        x, y, z = x - ex, y - ey, z - ez
        steep = min(max((low - up) * by_slope, F0), F1) if low < F1 else F1
        away = min(max((math.sqrt(x * x + y * y + z * z) - near) * by_distance, F0), F1) if far > 0 else F1
        mapped[lane(Mapped.END * c + Mapped.SIDES, t)] = steep * away


@inlined
def fill_mapping(c, points, plan, scratch):
    """Fill all that a mapping says of the block's texels."""
    rows, mappings = scratch.mapping, plan.mappings
    mapping = mappings[c]
    kind, planes, warp, is_far = mapping["kind"], mapping["planes"], mapping["warp"], points.residual.shape[0] > 0
    if warp >= 0:
        spread_rows(scratch.who, points.warps[warp], Frame.WARP, rows.frame)
    look_up(mapping["true_steps"] > 0, warp >= 0, rows.frame, rows.lookup)
    if kind == BY_UV:
        map_by_uv(c, mappings, rows)
    elif kind != FLAT:
        if is_far:
            bring_near(c, warp >= 0, mappings, rows)
        map_around(c, is_far, mappings, rows)
    for plane in range(3):
        if not planes >> plane & 1:
            continue
        if kind == FLAT:
            map_flat(c, plane, mappings, rows)
            if is_far:
                refine_plane(c, plane, warp >= 0, mappings, rows)
        start = plane_row(Mapped.END * c, plane, 0)
        if mapping["true_steps"] > 0:
            both_axes(start, rows.mapped)
        if warp >= 0:
            bend_gradients(start, rows.frame, rows.mapped)
        if mapping["cheap"] > 0:
            unit_gradients(start, rows.frame, rows.mapped)
    limit_sides(c, mappings, rows)
    if mapping["sharing"] >= 0:
        for t in range(B):
            rows.sharing[lane(Sharing.SHARPNESS, t)] = mapping["sharpness"]
            rows.sharing[lane(Sharing.PLANES, t)] = mapping["sharing"]
        share_planes(Mapped.END * c, 3 * c, np.int64(0), rows.mapped, rows.sharing, rows.plane_shares)


@inlined
def map_block(most, points, plan, scratch):
    """Fill every mapping that the slots of the block need; find the rows of each slot's, and its planes' weights."""
    mark_users(most, points, plan, scratch)
    for c in range(plan.mappings.shape[0]):
        if scratch.mapping.users[INDEX(c)]:
            fill_mapping(c, points, plan, scratch)
    map_slots(most, plan, scratch)
