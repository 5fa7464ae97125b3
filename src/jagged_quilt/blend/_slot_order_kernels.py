"""Slots in another order: layers that cost more stand in the same slot at every point."""

from __future__ import annotations

from functools import cache
from itertools import product

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.compiler import kernel

TABLED = 4  # slots up to which all that can stand in them is laid down in a table


@cache
def slot_orders(most: int) -> NDArray[np.uint8]:
    """Return where each of K layers goes, (orders, K), by the preferred slots of all of them as digits to the base of K + 1,
    the first one lowest: 0 prefers none, n + 1 prefers slot n. No rows where there would be too many.

    Preferred slots that are taken already give way to the next free one, and what prefers none fills what is left.
    """
    if most > TABLED:
        return frozen(np.zeros((0, most)), np.uint8)
    rows = []
    for preferred in product(range(most + 1), repeat=most):
        out, taken = [-1] * most, set[int]()
        for k, own in enumerate(preferred[::-1]):
            if own:
                out[k] = next(slot for n in range(most) if (slot := (own - 1 + n) % most) not in taken)
                taken.add(out[k])
        left = (slot for slot in range(most) if slot not in taken)
        rows.append([slot if slot >= 0 else next(left) for slot in out])
    return frozen(rows, np.uint8)


@kernel
def order_slots(layer, weight, preferred, orders, out_layer, out_weight):
    """Fill the K layers of each point, and their weights, with each that prefers a slot in that one, or the next free one.

    preferred : (L,), 1 + the slot of each layer, below K, or 0 for those that fill what is left.
    orders : as `slot_orders` has it; nothing is guessed then, and branches that go by weights are guessed wrong.

    A block of points pays for a slot what the dearest layer there costs. Strewn over all slots, few such layers would make all
    of them dear.
    """
    most = layer.shape[1]
    for p in range(layer.shape[0]):
        if most == TABLED:  # a case of its own, so that its loops are unrolled
            order = 0
            for k in range(TABLED):
                order += preferred[layer[p, k]] * np.int32(weight[p, k] > 0) * np.int32((TABLED + 1) ** k)
            for k in range(TABLED):
                slot = orders[order, k]
                out_layer[p, slot], out_weight[p, slot] = layer[p, k], weight[p, k]
            continue
        taken, slot = 0, 0  # a bit for each slot
        for k in range(most):
            own = np.int64(preferred[layer[p, k]]) - 1
            if own >= 0 and weight[p, k] > 0:
                while taken >> own & 1:
                    own = own + 1 if own + 1 < most else 0
                taken |= 1 << own
                out_layer[p, own], out_weight[p, own] = layer[p, k], weight[p, k]
        for k in range(most):
            if preferred[layer[p, k]] == 0 or not weight[p, k] > 0:
                while taken >> slot & 1:
                    slot += 1
                out_layer[p, slot], out_weight[p, slot] = layer[p, k], weight[p, k]
                slot += 1
