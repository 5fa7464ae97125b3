"""Spread: points, and the layers of their places, laid out in rows, one column per texel."""

from __future__ import annotations

import numpy as np

from jagged_quilt.blend._rows import (
    ACROSS,
    ALONG,
    BIAS,
    BY,
    F0,
    FILTER,
    HAND,
    HARD,
    INDEX,
    LOW,
    NX,
    NY,
    NZ,
    PLACE_ROWS,
    REST,
    SHARP,
    TAPS,
    TILE,
    TILE_COLUMNS,
    TILE_ROWS,
    TRUE_STEPS,
    TX,
    TY,
    TZ,
    UV,
    UV_GRADIENT,
    WRAP_U,
    WRAP_V,
    B,
    X,
    Y,
    Z,
)
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
def spread_points(who, points, frame):
    """Lay points out in rows."""
    positions, normals, tangents, footprints = points.position, points.normal, points.tangent, points.footprint
    for t in range(B):
        p = INDEX(who[t])
        nx, ny, nz = normals[p, 0], normals[p, 1], normals[p, 2]
        tx, ty, tz, hand = tangents[p, 0], tangents[p, 1], tangents[p, 2], tangents[p, 3]
        frame[NX * B + t], frame[NY * B + t], frame[NZ * B + t] = nx, ny, nz
        frame[TX * B + t], frame[TY * B + t], frame[TZ * B + t], frame[HAND * B + t] = tx, ty, tz, hand
        frame[ALONG * B + t], frame[ACROSS * B + t] = footprints[p, 0], footprints[p, 1]
        frame[X * B + t], frame[Y * B + t], frame[Z * B + t] = positions[p, 0], positions[p, 1], positions[p, 2]


@inlined
def spread_rows(who, values, row, frame):
    """Lay (N, columns) out in as many rows from `row` on."""
    for column in range(values.shape[1]):
        for t in range(B):
            frame[INDEX((row + column) * B + t)] = values[INDEX(who[t]), INDEX(column)]


@inlined
def _lay_layer(k, t, layer, differ, look):
    """Lay what a layer says in the lane t of a place, in the rows in which layers differ."""
    rows, place = look.rows, INDEX(PLACE_ROWS * B * k + t)
    tile, hard, low, bias, sharp, by, others = differ
    look.slices[INDEX(B * k + t)] = layer["slice"]
    if tile:
        look.tiles[INDEX(2 * B * k + t)] = layer["tiles_high"]
        look.tiles[INDEX(2 * B * k + B + t)] = layer["tiles_low"]
    if hard:
        rows[place + INDEX(HARD * B)] = layer["hardness"]
    if low:
        rows[place + INDEX(LOW * B)] = layer["relief"]
    if bias:
        rows[place + INDEX(BIAS * B)] = layer["level_bias"]
    if sharp:
        rows[place + INDEX(SHARP * B)] = layer["sharpness"]
    if by:
        rows[place + INDEX(BY * B)] = layer["planes"]
    if others:
        rows[place + INDEX(WRAP_U * B)] = layer["wrap_u"]
        rows[place + INDEX(WRAP_V * B)] = layer["wrap_v"]
        rows[place + INDEX(FILTER * B)] = layer["filter"]
        rows[place + INDEX(TAPS * B)] = layer["most_taps"]


@inlined
def lay_alike(plan, places):
    """Lay what all layers say alike in all lanes of every place, once for many blocks."""
    for k in range(places.laid_at.shape[0]):
        for t in range(B):
            _lay_layer(k, t, plan.layers[INDEX(0)], (True, True, True, True, True, True, not plan.is_plain), places.look)


@inlined
def spread_layers(who, points, plan, places):
    """Lay places out in rows; return how many hold anything."""
    layer_index, layer_weight, rows, said = points.layer, points.weight, places.look.rows, plan.differ
    others = said[WRAP_U] or said[WRAP_V] or said[FILTER] or said[TAPS]
    differ = said[TILE], said[HARD], said[LOW], said[BIAS], said[SHARP], said[BY], others and not plan.is_plain
    most, several_charts = 0, plan.charts.shape[0] > 1
    for k in range(layer_weight.shape[1]):
        place, heaviest = INDEX(PLACE_ROWS * B * k), F0
        first, alike = layer_index[INDEX(who[0]), INDEX(k)], True
        for t in range(B):
            p = INDEX(who[t])
            weight = layer_weight[p, INDEX(k)]
            rows[place + INDEX(t)] = weight
            heaviest = max(heaviest, weight)
            alike &= layer_index[p, INDEX(k)] == first
        if heaviest <= 0:
            continue
        most = k + 1
        if alike:
            layer = plan.layers[INDEX(first)]
            for t in range(B):
                _lay_layer(k, t, layer, differ, places.look)
            places.charts_at[INDEX(B * k)] = -1 - layer["chart"]
            continue
        for t in range(B):
            _lay_layer(k, t, plan.layers[INDEX(layer_index[INDEX(who[t]), INDEX(k)])], differ, places.look)
        chart, one_chart = np.int32(-1), True
        for t in range(B if several_charts else 0):
            layer = plan.layers[INDEX(layer_index[INDEX(who[t]), INDEX(k)])]
            places.charts_at[INDEX(B * k + t)] = layer["chart"]
            if rows[place + INDEX(t)] > 0:
                one_chart &= chart < 0 or chart == layer["chart"]
                chart = layer["chart"]
        if one_chart:
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
