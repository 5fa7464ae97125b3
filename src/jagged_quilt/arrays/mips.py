"""Mip chains: ever smaller versions of a map, each meaning what the full size means on average."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.resize import resized
from jagged_quilt.foundation.checks import power_of_two
from jagged_quilt.foundation.choices import Choice
from jagged_quilt.foundation.kernels import kernels_of

_kernels = kernels_of("jagged_quilt.arrays._kernels")


class MipFilter(Choice):
    """How a level is made from the one above: the mean of 2 x 2 texels, or a windowed sinc, which is sharper."""

    BOX = "box"
    LANCZOS = "lanczos"


Levels = list[NDArray[np.float32]]
"""(S, S, C), (S/2, S/2, C) ... (1, 1, C) float32."""
Halver = Callable[[NDArray[np.float32]], NDArray[np.float32]]

_CUTOUT = 0.5
LARGEST_SIDE = 8192


def checked_side(side: int) -> int:
    """Return texels along the side of a slice; raise `RangeError` unless it is a power of two that can be packed."""
    return power_of_two("side", side, LARGEST_SIDE)


def level_count(side: int) -> int:
    """Return how many levels a square of `side` texels has, down to one texel."""
    return side.bit_length()


def halver(filter: MipFilter) -> Halver:
    """Return what makes a level from the one above: the mean of 2 x 2 texels, or a windowed sinc that wraps."""
    return _box if filter is MipFilter.BOX else _sharp


def _box(values: NDArray[np.float32]) -> NDArray[np.float32]:
    out = np.empty((values.shape[0] // 2, values.shape[1] // 2, values.shape[2]), np.float32)
    _kernels.halve(values, out)
    return out


def _sharp(values: NDArray[np.float32]) -> NDArray[np.float32]:
    return resized(values, values.shape[0] // 2, values.shape[1] // 2, kernel="lanczos")


def value_levels(values: NDArray[np.float32], side: int, filter: MipFilter = MipFilter.BOX) -> Levels:
    """Return the mips of plain or linear values (S', S', C), from `side` down; S' is `side` or a power of two times it."""
    return _halved_down(values, side, halver(filter))


def opacity_levels(values: NDArray[np.float32], side: int, filter: MipFilter = MipFilter.BOX) -> Levels:
    """Return the mips of a cut-out mask, (S', S', 1): as many texels of each level reach 0.5 as of the full size.

    Each level is scaled so that the share of its texels that reaches 0.5 is as near as can be (Castaño 2010).
    """
    levels = value_levels(values, side, filter)
    covered = float((values >= _CUTOUT).mean())
    if covered in (0.0, 1.0):
        return levels
    return [level if level.size == values.size else _with_coverage(level, covered) for level in levels]


def _with_coverage(level: NDArray[np.float32], covered: float) -> NDArray[np.float32]:
    values, counts = np.unique(level, return_counts=True)
    shares = np.cumsum(counts[::-1])[::-1] / level.size  # of texels that reach each value
    shares[values <= 0] = np.inf
    least = float(values[np.argmin(np.abs(shares - covered))])
    return np.clip(level * np.float32(_CUTOUT / least), 0, 1) if least > 0 else level


def normal_levels(normals: NDArray[np.float32], side: int, filter: MipFilter = MipFilter.BOX) -> Levels:
    """Return the mips of unit normals: each the mean of the full-size vectors that it covers, made unit again."""
    return _surface(normals, None, side, filter)[0]


def surface_levels(
    normals: NDArray[np.float32], roughness: NDArray[np.float32], side: int, filter: MipFilter = MipFilter.BOX
) -> tuple[Levels, Levels]:
    """Return the mips of normals and of roughness, the roughness widened by what the normals lose.

    The highlight of a texel is the mean of the highlights of the four texels above it, seen along its own normal: its GGX
    lobe gets the width at which it is as high there as their lobes are on average, and no wider than the spread of the
    normals tells (Toksvig 2005).

    Parameters
    ----------
    normals : (S', S', 3) unit
    roughness : (S', S', 1)
        Perceptual; alpha is its square.
    """
    return _surface(normals, roughness, side, filter)


def _surface(
    normals: NDArray[np.float32], roughness: NDArray[np.float32] | None, side: int, filter: MipFilter
) -> tuple[Levels, Levels]:
    half = halver(filter)
    normal_chain: Levels = []
    rough_chain: Levels = []
    vectors, unit = normals, normals
    while True:
        if unit.shape[0] <= side:
            normal_chain.append(unit)
            if roughness is not None:
                rough_chain.append(roughness)
        if unit.shape[0] == 1:
            return normal_chain, rough_chain
        vectors = half(vectors)
        coarse = np.empty_like(vectors)
        _kernels.make_unit(vectors.reshape(-1, 3), coarse.reshape(-1, 3))
        if roughness is not None:
            wider = np.empty((*coarse.shape[:2], 1), np.float32)
            _kernels.halve_roughness(roughness, unit, coarse, wider)
            roughness = wider
        unit = coarse


def _halved_down(values: NDArray[np.float32], side: int, half: Halver) -> Levels:
    levels: Levels = []
    while True:
        if values.shape[0] <= side:
            levels.append(values)
        if values.shape[0] == 1:
            return levels
        values = half(values)
