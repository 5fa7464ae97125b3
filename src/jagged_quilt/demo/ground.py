"""The saltworks' ground: terraces stepping down to a basin of brine."""

from __future__ import annotations

import numpy as np

from jagged_quilt.demo.relief import Field, patches, step

SAMPLES = 513
SIZE = 256.0  # metres
RELIEF = 38.0  # metres
TERRACES = 7
RISERS = (2.3, 6.2)  # metres from the foot of a riser to its top: cliffs here, banks there


def ground(samples: int = SAMPLES) -> Field:
    """Return heights, (samples, samples), 0..1 of RELIEF.

    The land falls from north-west to a basin in the south-east; it is cut into terraces whose risers are a few metres wide
    wherever the land is steep or not, with a low bund along each upper edge that would hold the brine in.
    """
    at = np.linspace(0, 1, samples)
    v, u = np.meshgrid(at, at, indexing="ij")
    rough = patches(u / 2, v / 2, cells=4, octaves=3, seed=71) - 0.5
    wide = patches(u / 2, v / 2, cells=2, octaves=1, seed=72) - 0.5
    away = np.hypot((u - 0.68) * 1.0, (v - 0.66) * 1.15)
    land = 1.22 * away - 0.10 + 0.75 * wide + 0.55 * rough
    land = np.clip(land, 0.0, None)
    land = land / land.max() * (TERRACES - 0.35)
    down, right = np.gradient(land, SIZE / (samples - 1))
    per_metre = np.maximum(np.hypot(down, right), 0.012)
    level = np.floor(land)
    past = (land - level - 0.5) / per_metre
    cliff = step(patches(u, v, cells=5, octaves=2, seed=75), 0.36, 0.64)
    half = 0.5 * (RISERS[1] + (RISERS[0] - RISERS[1]) * cliff)
    lift = step(past / half, -1.0, 1.0)
    bund = 0.7 * np.exp(-(((past - half - 1.7) / 0.9) ** 2))
    steps = (level + lift) / TERRACES
    gentle = 0.8 * (patches(u, v, cells=9, octaves=4, seed=73) - 0.5) + 0.16 * (
        patches(u, v, cells=40, octaves=3, seed=74) - 0.5
    )
    metres = steps * (RELIEF - 1.5) + bund + gentle + 0.4
    floor = step(land, 0.45, 0.0)
    metres -= 0.9 * floor
    metres = metres - metres.min()
    return np.asarray(metres / metres.max())
