"""What a terrain tells masks of itself as a whole."""

from __future__ import annotations

import threading
from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, positive
from jagged_quilt.foundation.disk_store import Fill
from jagged_quilt.foundation.fields import Answer
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.grid import Grid
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.surfaces.curvature import curvature_into
from jagged_quilt.surfaces.edge_distance import signed_distance
from jagged_quilt.surfaces.ground_surface import GroundSurface

_kernels = kernels_of("jagged_quilt.surfaces._kernels")


_SAMPLES = 257  # along a side, of how open the ground is: what hides the sky is large
_OPEN: WeakKeyDictionary[GroundSurface, Grid] = WeakKeyDictionary()
_LOCK = threading.Lock()


@dataclass(frozen=True, slots=True, eq=False)
class TerrainFields:
    """Curvature, hidden sky, and a plan to measure distances on."""

    terrain: GroundSurface

    @property
    def surface(self) -> GroundSurface:
        """The terrain."""
        return self.terrain

    def curvature(self, scale: float) -> Grid:
        """Return the mean curvature of the ground in 1/m, above 0 on ridges.

        Heights are smoothed by a Gaussian of `scale` / 4 metres first, so that what is about `scale` metres across tells.
        """
        positive("scale", scale, "m")
        return self._field(
            f"curvature {scale:g} m", lambda out: curvature_into(out, self.terrain.heights, self.terrain.spacing, scale), scale
        )

    def ambient_occlusion(self, reach: float) -> Grid:
        """Return how much of the light of an even sky the ground itself keeps away, 0..1.

        The horizon is searched in 16 directions up to `reach` metres; a direction whose horizon stands at an angle e over
        level lets in cos²(e) of what a cosine-weighted sky sends from it (Max 1988; Bavoil and Sainz 2008).
        """
        steps = _steps_out(positive("reach", reach, "m"), self.terrain.spacing)
        far = np.hypot(*(steps * self.terrain.spacing).T).astype(np.float32)
        return self._field(
            f"hidden sky {reach:g} m", lambda out: _kernels.ambient_occlusion(self.terrain.heights, steps, far, out), reach
        )

    def open_to_sky(self) -> Grid:
        """Return how much of the sky that the ground faces above level it does not hide itself, 0..1, for an even sky.

        Of what lies below level a normal says enough: so a lone cliff is as open as a plain. The horizon is searched as
        `ambient_occlusion` does, over the whole ground, on at most 257 samples along a side; known for a terrain once.
        """
        with _LOCK:
            if self.terrain not in _OPEN:
                _OPEN[self.terrain] = _open_to_sky(self.terrain)
            return _OPEN[self.terrain]

    def edge_distance(self, answer: Answer, texels: int) -> Grid:
        """Return metres over the ground plane to where an answer passes one half, below 0 inside."""
        return signed_distance(answer, self.terrain.canvas(texels), self.terrain.room)

    def _field(self, name: str, fill: Fill, *asked: float) -> Grid:
        """A number for every sample, worked out where there is room for it; `asked` is all that it depends on."""
        key = fingerprint(self.terrain.key, repr((self.terrain.spacing, *asked)))
        values = self.terrain.room.kept(name, key, self.terrain.heights.shape, np.float32, fill)
        return Grid(values, (0.0, 0.0), self.terrain.spacing)


def _open_to_sky(terrain: GroundSurface) -> Grid:
    picked = [np.rint(np.linspace(0, n - 1, min(n, _SAMPLES))).astype(np.int64) for n in terrain.heights.shape]
    heights = frozen(terrain.heights[np.ix_(*picked)], np.float32)
    rows, columns = heights.shape
    spacing = (terrain.size[0] / (columns - 1), terrain.size[1] / (rows - 1))
    south, east = np.gradient(heights, spacing[1], spacing[0])
    steps, out = _steps_out(max(terrain.size), spacing), np.empty_like(heights)
    metres = steps * spacing
    far = np.hypot(*metres.T).astype(np.float32)
    ways = metres.reshape(16, -1, 2)[:, -1] / far.reshape(16, -1)[:, -1:]
    slopes = frozen(np.stack([east, south], axis=-1), np.float32)
    metres = frozen(np.column_stack([metres, far]), np.float32)
    _kernels.open_sky(heights, slopes, steps, metres, frozen(ways, np.float32), out)
    return Grid(out, (0.0, 0.0), spacing)


def _steps_out(reach: float, spacing: tuple[float, float]) -> NDArray[np.int32]:
    """Samples (east, south) to look at in 16 directions, each 1.25 times as far as the one before; (D * S, 2), one direction
    after the other, padded with the last."""
    distances = [min(spacing)]
    while distances[-1] * 1.25 <= reach:
        distances.append(distances[-1] * 1.25)
    angle = 2 * np.pi * (np.arange(16) + 0.5) / 16
    ways = np.stack([np.cos(angle) / spacing[0], np.sin(angle) / spacing[1]], axis=1)
    steps = np.rint(ways[:, None, :] * np.array(distances)[None, :, None]).astype(np.int32)
    steps[(steps == 0).all(axis=2)] = (1, 0)
    return steps.reshape(-1, 2)
