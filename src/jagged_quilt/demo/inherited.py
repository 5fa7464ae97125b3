"""An old splat sheet of the saltworks, as another program would have left it, and a few daubs."""

from __future__ import annotations

import json
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.demo.ground import RELIEF, SIZE
from jagged_quilt.demo.relief import Field, patches, step

TEXELS = 512
CART_TRACK = (
    (132.0, 222.0),
    (121.0, 214.5),
    (112.0, 206.5),
    (105.0, 198.5),
    (100.0, 191.5),
    (95.0, 187.0),
    (87.0, 183.5),
    (76.0, 178.0),
    (60.0, 173.0),
)


def splat_sheet(ground: Field) -> NDArray[np.uint8]:
    """Return four weights a texel, (TEXELS, TEXELS, 4) uint8: bare earth, pebbles, trodden path, rubble.

    They were painted by hand, it seems: here and there they sum to a little more or less than they should.

    Parameters
    ----------
    ground : (samples, samples)
        Heights, 0..1 of RELIEF.
    """
    v, u = np.meshgrid(*[(np.arange(TEXELS) + 0.5) / TEXELS] * 2, indexing="ij")
    at = np.minimum((np.stack([v, u]) * (ground.shape[0] - 1)).astype(int), ground.shape[0] - 2)
    metres = ground[at[0], at[1]] * RELIEF
    down, right = np.gradient(metres, SIZE / TEXELS)
    steep = np.hypot(down, right)
    pebbles = step(patches(u, v, cells=7, octaves=4, seed=81), 0.46, 0.62) * step(metres, 6.0, 16.0)
    rubble = step(patches(u, v, cells=40, octaves=3, seed=82), 0.35, 0.55) * _foot_of(steep)
    path = step(_to_track(u * SIZE, v * SIZE, CART_TRACK), 3.2, 2.0)
    over = np.stack([np.ones_like(u), pebbles, path, rubble], axis=2)
    for upper in range(1, 4):
        over[..., :upper] *= 1 - over[..., upper : upper + 1]
    slip = 1 + 0.10 * step(np.hypot(u - 0.25, v - 0.3), 0.08, 0.05) - 0.12 * step(np.hypot(u - 0.6, v - 0.85), 0.07, 0.04)
    return np.rint(np.clip(over * slip[..., None], 0, 1) * 255).astype(np.uint8)


def _foot_of(steep: Field) -> Field:
    """Where something steep is near and the place itself is not."""
    from scipy.ndimage import maximum_filter

    return step(maximum_filter(steep, 9), 0.6, 0.9) * step(steep, 0.7, 0.35)


def _to_track(x: Field, z: Field, track: tuple[tuple[float, float], ...]) -> Field:
    nearest = np.full(x.shape, np.inf)
    for (ax, az), (bx, bz) in pairwise(track):
        part = np.clip(((x - ax) * (bx - ax) + (z - az) * (bz - az)) / ((bx - ax) ** 2 + (bz - az) ** 2), 0, 1)
        nearest = np.minimum(nearest, np.hypot(x - ax - part * (bx - ax), z - az - part * (bz - az)))
    return nearest


def daubs() -> bytes:
    """Return the daubs as JSON lines: two wheel tracks along the path, salt spilled beside it, a softened heap, and
    brine spilled by the sluice."""
    track = np.array(CART_TRACK)
    along = np.gradient(track, axis=0)
    aside = np.stack([-along[:, 1], along[:, 0]], axis=1) / np.linalg.norm(along, axis=1, keepdims=True)
    daubs: list[dict[str, object]] = [
        {"layer": "cracked clay", "path": _places(track + side * aside), "radius": 0.55, "strength": 0.95, "ceiling": 0.9}
        for side in (-0.95, 0.95)
    ]
    spill = [[103.0, 203.0], [106.5, 204.5], [110.5, 209.5]]
    daubs.append({"layer": "salt crust", "path": spill, "radius": 2.6, "falloff": 0.8, "breakup": {"size": 1.4, "range": 0.3}})
    daubs.append({"layer": "salt crust", "path": [[107.5, 205.5]], "radius": 1.8, "falloff": 0.6})
    daubs.append({"do": "smooth", "path": [[106.5, 204.5]], "radius": 4.0, "strength": 0.6, "reach": 0.5})
    wet = [[112.0, 206.0], [119.0, 201.0], [128.0, 199.0]]
    daubs.append({"channel": "wetness", "path": wet, "radius": 2.2, "falloff": 0.8, "breakup": {"size": 1.5}})
    return "".join(json.dumps(each) + "\n" for each in daubs).encode()


def _places(points: NDArray[np.float64]) -> list[list[float]]:
    return [[round(float(x), 2), round(float(z), 2)] for x, z in points]
