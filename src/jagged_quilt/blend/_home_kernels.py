"""Places in another order: layers of which a place costs more stand in the same place at every point."""

from __future__ import annotations

import numpy as np

from jagged_quilt.foundation.compiler import kernel


@kernel
def go_home(layer, weight, home, out_layer, out_weight):
    """Fill the K layers of each point, and their weights, with each that has a `home` in that place, or the next free one.

    home : (L,), the place of each layer, or -1 for those that fill what is left.

    A block of points pays for a place what the dearest layer there costs. Strewn over all places, few such layers would make
    all of them dear.
    """
    most = layer.shape[1]
    for p in range(layer.shape[0]):
        for k in range(most):
            out_weight[p, k] = np.float32(-1)
        for k in range(most):
            wanted = home[layer[p, k]]
            if wanted >= 0 and weight[p, k] > 0:
                place = wanted % most
                while out_weight[p, place] >= 0:
                    place = (place + 1) % most
                out_layer[p, place], out_weight[p, place] = layer[p, k], weight[p, k]
        place = 0
        for k in range(most):
            if home[layer[p, k]] < 0 or not weight[p, k] > 0:
                while out_weight[p, place] >= 0:
                    place += 1
                out_layer[p, place], out_weight[p, place] = layer[p, k], weight[p, k]
