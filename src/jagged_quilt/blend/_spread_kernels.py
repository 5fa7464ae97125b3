"""Spread: points, and the layers in their slots, laid out in rows, one column per texel."""

from __future__ import annotations

import numpy as np

from jagged_quilt.blend._lane_kernels import lane, largest, put3, slot_row
from jagged_quilt.blend._rows import INDEX, LAYER_ROWS, TILE_COLUMNS, TILE_ROWS, B, Frame, Slot
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
    put3(frame, Frame.NORMAL, t, (normals[p, 0], normals[p, 1], normals[p, 2]))
    put3(frame, Frame.TANGENT, t, (tangents[p, 0], tangents[p, 1], tangents[p, 2]))
    frame[lane(Frame.HANDEDNESS, t)] = tangents[p, 3]
    frame[lane(Frame.FOOTPRINT, t)], frame[lane(Frame.FOOTPRINT + 1, t)] = footprints[p, 0], footprints[p, 1]
    put3(frame, Frame.POSITION, t, (positions[p, 0], positions[p, 1], positions[p, 2]))


@inlined
def spread_points(who, points, frame):
    """Lay points out in rows.

    Four words are turned at once, also of what has fewer: what is too much goes into rows that are laid out next. The last
    point has none behind it to read, so its block goes one by one.
    """
    if who[INDEX(B - 1)] < points.position.shape[0] - 1:
        turn_into(who, B, 3, 0, points.normal, Frame.NORMAL, frame)
        turn_into(who, B, 4, 0, points.tangent, Frame.TANGENT, frame)
        turn_into(who, B, 2, 0, points.footprint, Frame.FOOTPRINT, frame)
        turn_into(who, B, 3, 0, points.position, Frame.POSITION, frame)
    else:
        for t in range(B):
            _spread_one(t, INDEX(who[t]), points, frame)


@inlined
def spread_rows(who, values, row, frame):
    """Lay (N, columns) out in as many rows from `row` on."""
    for column in range(values.shape[1]):
        for t in range(B):
            frame[lane(row + column, t)] = values[INDEX(who[t]), INDEX(column)]


@inlined
def fill_alike(plan, slots):
    """Fill what all layers say alike in all lanes of every slot, once for many blocks."""
    for k in range(slots.mappings_at.shape[0] // B):
        for row in range(LAYER_ROWS):
            for t in range(B):
                slots.read.values[lane(slot_row(k, row), t)] = plan.slot_rows[INDEX(row)]


@inlined
def _fill_one(k, layer, plan, values):
    """Fill what one layer says in all lanes of a slot."""
    for row in range(LAYER_ROWS):
        if plan.differ[row // 4]:
            said = plan.slot_rows[INDEX(layer * LAYER_ROWS + row)]
            for t in range(B):
                values[lane(slot_row(k, row), t)] = said


@inlined
def _fill_several(k, plan, slots):
    """Fill what the layer of each lane says; return the one mapping of all that weigh, -1 for the first, or -2."""
    for four in range(LAYER_ROWS // 4):
        if plan.differ[four]:
            row = slot_row(k, 4 * four)
            turn_into(slots.layers_at, B, LAYER_ROWS, 4 * four, plan.slot_rows, row, slots.read.values)
    mapping = np.int32(plan.one_mapping)
    for t in range(B if mapping < 0 else 0):
        own = plan.layers[INDEX(slots.layers_at[t])]["mapping"]
        slots.mappings_at[lane(k, t)] = own
        if slots.read.values[lane(slot_row(k, Slot.WEIGHT), t)] > 0:
            if mapping >= 0 and mapping != own:
                mapping = np.int32(-2)
            elif mapping != -2:
                mapping = own
    return mapping


@inlined
def _spread_weights(who, weights, values):
    """Lay the weights of all slots out, four at once where there are as many."""
    width = weights.shape[1]
    if width < 4:
        for k in range(width):
            for t in range(B):
                values[lane(slot_row(k, Slot.WEIGHT), t)] = weights[INDEX(who[t]), INDEX(k)]
        return
    for four in range(0, width, 4):
        k = min(four, width - 4)
        for t in range(0, B, EIGHT):
            to = (
                lane(slot_row(k, Slot.WEIGHT), t),
                lane(slot_row(k + 1, Slot.WEIGHT), t),
                lane(slot_row(k + 2, Slot.WEIGHT), t),
                lane(slot_row(k + 3, Slot.WEIGHT), t),
            )
            turn_four(who, t, width, k, weights, values, to)


@inlined
def spread_layers(who, points, plan, slots):
    """Lay slots out in rows; return how many hold anything."""
    layer_index, values, most = points.layer, slots.read.values, 0
    _spread_weights(who, points.weight, values)
    for k in range(layer_index.shape[1]):
        if not largest(slot_row(k, Slot.WEIGHT), values) > 0:
            continue
        most, alike = k + 1, True
        first = np.int32(layer_index[INDEX(who[0]), INDEX(k)])
        for t in range(B):
            layer = np.int32(layer_index[INDEX(who[t]), INDEX(k)])
            slots.layers_at[INDEX(t)] = layer
            slots.layers[lane(k, t)] = layer
            alike &= layer == first
        if alike:
            _fill_one(k, first, plan, values)
            slots.mappings_at[lane(k, 0)] = -1 - plan.layers[INDEX(first)]["mapping"]
        else:
            mapping = _fill_several(k, plan, slots)
            if mapping != -2:
                slots.mappings_at[lane(k, 0)] = -1 - max(mapping, np.int32(0))
    return most


@inlined
def spread(points, plan, scratch):
    """Lay points and slots out in rows; return how many slots hold anything."""
    who, frame = scratch.who, scratch.mapping.frame
    spread_points(who, points, frame)
    if points.uv.shape[0] > 0:
        spread_rows(who, points.uv, Frame.UV, frame)
        spread_rows(who, points.uv_gradient, Frame.UV_GRADIENT, frame)
    if points.true_steps.shape[0] > 0:
        spread_rows(who, points.true_steps, Frame.TRUE_STEPS, frame)
    if points.residual.shape[0] > 0:
        spread_rows(who, points.residual, Frame.RESIDUAL, frame)
    return spread_layers(who, points, plan, scratch.slots)
