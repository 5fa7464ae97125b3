"""Spread: points, and the layers of their places, laid out in rows, one column per texel."""

from __future__ import annotations

import numpy as np

from jagged_quilt.blend._number_kernels import largest
from jagged_quilt.blend._rows import (
    ACROSS,
    ALONG,
    HAND,
    INDEX,
    LAYER_ROWS,
    NX,
    NY,
    NZ,
    PLACE_ROWS,
    REST,
    TILE_COLUMNS,
    TILE_ROWS,
    TRUE_STEPS,
    TX,
    TY,
    TZ,
    UV,
    UV_GRADIENT,
    WEIGHT,
    B,
    X,
    Y,
    Z,
)
from jagged_quilt.foundation._turn_kernels import EIGHT, turn_four, turn_into
from jagged_quilt.foundation.compiler import inlined


@inlined
def block_count(points, columns):
    """How many blocks hold all points."""
    if columns == 0:
        return (points + B - 1) // B
    return ((points // columns + TILE_ROWS - 1) // TILE_ROWS) * ((columns + TILE_COLUMNS - 1) // TILE_COLUMNS)


@inlined
def choose_points(block, points, columns, who):
    """Fill which points a block takes; return how many, the rest of the lanes repeat the last.

    columns : 0 takes points in order; else they are rows of a grid so wide, and a block is a tile of it.
    """
    count = 0
    if columns == 0:
        for p in range(block * B, min(block * B + B, points)):
            who[INDEX(count)] = p
            count += 1
    else:
        across = (columns + TILE_COLUMNS - 1) // TILE_COLUMNS
        top, left = block // across * TILE_ROWS, block % across * TILE_COLUMNS
        for row in range(top, min(top + TILE_ROWS, points // columns)):
            for column in range(left, min(left + TILE_COLUMNS, columns)):
                who[INDEX(count)] = row * columns + column
                count += 1
    for t in range(count, B):
        who[INDEX(t)] = who[INDEX(count - 1)]
    return count


@inlined
def _spread_one(t, p, points, frame):
    """Lay one point out in its lane."""
    positions, normals, tangents, footprints = points.position, points.normal, points.tangent, points.footprint
    nx, ny, nz = normals[p, 0], normals[p, 1], normals[p, 2]
    tx, ty, tz, hand = tangents[p, 0], tangents[p, 1], tangents[p, 2], tangents[p, 3]
    frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t] = nx, ny, nz
    frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t], frame[HAND * B + t] = tx, ty, tz, hand
    frame[ALONG * B + t], frame[ACROSS * B + t] = footprints[p, 0], footprints[p, 1]
    frame[X * B + t], frame[Y * B + t], frame[Z * B + t] = positions[p, 0], positions[p, 1], positions[p, 2]


@inlined
def spread_points(who, points, frame):
    """Lay points out in rows.

    Four words are turned at once, also of what has fewer: what is too much goes into rows that are laid out next. The last
    point has none behind it to read, so its block goes one by one.
    """
    if who[INDEX(B - 1)] < points.position.shape[0] - 1:
        turn_into(who, B, 3, 0, points.normal, NX, frame)
        turn_into(who, B, 4, 0, points.tangent, TX, frame)
        turn_into(who, B, 2, 0, points.footprint, ALONG, frame)
        turn_into(who, B, 3, 0, points.position, X, frame)
    else:
        for t in range(B):
            _spread_one(t, INDEX(who[t]), points, frame)


@inlined
def spread_rows(who, values, row, frame):
    """Lay (N, columns) out in as many rows from `row` on."""
    for column in range(values.shape[1]):
        for t in range(B):
            frame[INDEX((row + column) * B + t)] = values[INDEX(who[t]), INDEX(column)]


@inlined
def lay_alike(plan, places):
    """Lay what all layers say alike in all lanes of every place, once for many blocks."""
    for k in range(places.charts_at.shape[0] // B):
        for row in range(LAYER_ROWS):
            for t in range(B):
                places.look.rows[INDEX((PLACE_ROWS * k + row) * B + t)] = plan.looks[INDEX(row)]


@inlined
def _lay_one(k, layer, plan, rows):
    """Lay what one layer says in all lanes of a place."""
    for row in range(LAYER_ROWS):
        if plan.differ[row // 4]:
            said, out = plan.looks[INDEX(layer * LAYER_ROWS + row)], INDEX((PLACE_ROWS * k + row) * B)
            for t in range(B):
                rows[out + INDEX(t)] = said


@inlined
def _lay_several(k, plan, places):
    """Lay what the layer of each lane says; return the one chart of all that weigh, -1 for the first, or -2."""
    for four in range(LAYER_ROWS // 4):
        if plan.differ[four]:
            turn_into(places.layers_at, B, LAYER_ROWS, 4 * four, plan.looks, PLACE_ROWS * k + 4 * four, places.look.rows)
    chart, weight = np.int32(plan.one_chart), INDEX((PLACE_ROWS * k + WEIGHT) * B)
    for t in range(B if chart < 0 else 0):
        lies = plan.layers[INDEX(places.layers_at[t])]["chart"]
        places.charts_at[INDEX(B * k + t)] = lies
        if places.look.rows[weight + INDEX(t)] > 0:
            if chart >= 0 and chart != lies:
                chart = np.int32(-2)
            elif chart != -2:
                chart = lies
    return chart


@inlined
def _spread_weights(who, weights, rows):
    """Lay the weights of all places out, four at once where there are as many."""
    width = weights.shape[1]
    if width < 4:
        for k in range(width):
            for t in range(B):
                rows[INDEX((PLACE_ROWS * k + WEIGHT) * B + t)] = weights[INDEX(who[t]), INDEX(k)]
        return
    for four in range(0, width, 4):
        k = min(four, width - 4)
        a, b = INDEX((PLACE_ROWS * k + WEIGHT) * B), INDEX(PLACE_ROWS * B)
        for t in range(0, B, EIGHT):
            i = a + INDEX(t)
            turn_four(who, t, width, k, weights, rows, (i, i + b, i + b + b, i + b + b + b))


@inlined
def spread_layers(who, points, plan, places):
    """Lay places out in rows; return how many hold anything."""
    layer_index, rows, most = points.layer, places.look.rows, 0
    _spread_weights(who, points.weight, rows)
    for k in range(layer_index.shape[1]):
        if not largest(PLACE_ROWS * k + WEIGHT, rows) > 0:
            continue
        most, alike = k + 1, True
        first = np.int32(layer_index[INDEX(who[0]), INDEX(k)])
        for t in range(B):
            layer = np.int32(layer_index[INDEX(who[t]), INDEX(k)])
            places.layers_at[INDEX(t)] = layer
            places.layers[INDEX(B * k + t)] = layer
            alike &= layer == first
        if alike:
            _lay_one(k, first, plan, rows)
            places.charts_at[INDEX(B * k)] = -1 - plan.layers[INDEX(first)]["chart"]
        else:
            chart = _lay_several(k, plan, places)
            if chart != -2:
                places.charts_at[INDEX(B * k)] = -1 - max(chart, np.int32(0))
    return most


@inlined
def spread(points, plan, scratch):
    """Lay points and places out in rows; return how many places hold anything."""
    who, frame = scratch.who, scratch.lying.frame
    spread_points(who, points, frame)
    if points.uv.shape[0] > 0:
        spread_rows(who, points.uv, UV, frame)
        spread_rows(who, points.uv_gradient, UV_GRADIENT, frame)
    if points.true_steps.shape[0] > 0:
        spread_rows(who, points.true_steps, TRUE_STEPS, frame)
    if points.rest.shape[0] > 0:
        spread_rows(who, points.rest, REST, frame)
    return spread_layers(who, points, plan, scratch.places)
