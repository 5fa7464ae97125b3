"""Places in another order: layers of which a place costs more stand in the same place at every point."""

from __future__ import annotations

from functools import cache
from itertools import product

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.compiler import kernel

TABLED = 4  # places up to which all that can stand in them is laid down in a table


@cache
def ways_home(most: int) -> NDArray[np.uint8]:
    """Return where each of K layers goes, (ways, K), by the homes of all of them as digits to the base of K + 1, the first one
    lowest: 0 has none, n + 1 is at home in place n. No rows where there would be too many.

    Homes that are taken already give way to the next free place, and what has none fills what is left.
    """
    if most > TABLED:
        return frozen(np.zeros((0, most)), np.uint8)
    rows = []
    for homes in product(range(most + 1), repeat=most):
        out, taken = [-1] * most, set[int]()
        for k, home in enumerate(homes[::-1]):
            if home:
                out[k] = next(place for n in range(most) if (place := (home - 1 + n) % most) not in taken)
                taken.add(out[k])
        left = (place for place in range(most) if place not in taken)
        rows.append([place if place >= 0 else next(left) for place in out])
    return frozen(rows, np.uint8)


@kernel
def go_home(layer, weight, home, ways, out_layer, out_weight):
    """Fill the K layers of each point, and their weights, with each that has a `home` in that place, or the next free one.

    home : (L,), 1 + the place of each layer, below K, or 0 for those that fill what is left.
    ways : as `ways_home` has it; nothing is guessed then, and branches that go by weights are guessed wrong.

    A block of points pays for a place what the dearest layer there costs. Strewn over all places, few such layers would make
    all of them dear.
    """
    most = layer.shape[1]
    for p in range(layer.shape[0]):
        if most == TABLED:  # told apart so that its loops are unrolled
            way = 0
            for k in range(TABLED):
                way += home[layer[p, k]] * np.int32(weight[p, k] > 0) * np.int32((TABLED + 1) ** k)
            for k in range(TABLED):
                place = ways[way, k]
                out_layer[p, place], out_weight[p, place] = layer[p, k], weight[p, k]
            continue
        taken, place = 0, 0  # a bit for each place
        for k in range(most):
            own = np.int64(home[layer[p, k]]) - 1
            if own >= 0 and weight[p, k] > 0:
                while taken >> own & 1:
                    own = own + 1 if own + 1 < most else 0
                taken |= 1 << own
                out_layer[p, own], out_weight[p, own] = layer[p, k], weight[p, k]
        for k in range(most):
            if home[layer[p, k]] == 0 or not weight[p, k] > 0:
                while taken >> place & 1:
                    place += 1
                out_layer[p, place], out_weight[p, place] = layer[p, k], weight[p, k]
                place += 1
