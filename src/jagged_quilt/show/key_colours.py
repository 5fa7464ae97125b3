"""The colour that stands for each layer, the same in every picture."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.colour import linear_from_srgb, oklab

# How colours look with a full deficiency of the long, the middle and the short cones, in linear light:
# Machado, Oliveira and Fernandes, "A Physiologically-based Model for Simulation of Color Vision Deficiency", 2009.
_SEEN = (
    np.eye(3),
    np.array([[0.152286, 1.052583, -0.204868], [0.114503, 0.786281, 0.099216], [-0.003882, -0.048116, 1.051998]]),
    np.array([[0.367322, 0.860646, -0.227968], [0.280085, 0.672501, 0.047413], [-0.011820, 0.042940, 0.968881]]),
    np.array([[1.255528, -0.076749, -0.178779], [-0.078411, 0.930809, 0.147602], [0.004733, 0.691367, 0.303900]]),
)
_BALANCE = (1.0, 1.0, 1.0, 0.5)  # the last is rare
_NEAR = 4  # so many before it in the key are its neighbours, and count for more
_DARKEST, _BRIGHTEST = 0.62, 0.92  # lightness in Oklab, to be read on the dark of a board
_STRONGEST = 0.165  # chroma in Oklab, so that a large area of none shouts
_FIRST = (232, 150, 92)


def key_colours(names: Sequence[str]) -> NDArray[np.uint8]:
    """Return (L, 3) sRGB colours, one for each layer of a map, that can be distinguished also with a colour deficiency."""
    return _sequence(len(names))


def colours_at_home(old: Sequence[str], homes: dict[str, str], new: Sequence[str]) -> NDArray[np.uint8]:
    """Return (L, 3) colours for layers that were taken over: each wears that of its new home.

    A medley's home wears that of its first swatch. What has no home gets a colour of its own.
    """
    known = _sequence(len(new) + len(old))
    spare = iter(known[len(new) :])
    rows = []
    for name in old:
        home = homes.get(name, name)
        there = [n for n, own in enumerate(new) if own == home or own.startswith(f"{home}: ")]
        rows.append(known[there[0]] if there else next(spare))
    return np.array(rows, np.uint8).reshape(-1, 3)


@lru_cache(maxsize=32)
def _sequence(count: int) -> NDArray[np.uint8]:
    """The first colours of one endless row: each as far as can be from those before it, above all from its neighbours."""
    choices = _choices()
    seen = [oklab(np.clip(linear_from_srgb(choices / np.float32(255)) @ matrix.T, 0, 1)) for matrix in _SEEN]
    apart = lambda one: np.min(
        [np.linalg.norm(each - each[one], axis=1) / share for each, share in zip(seen, _BALANCE, strict=True)], axis=0
    )
    chosen: list[int] = []
    last: list[NDArray[np.float64]] = []
    nearest = np.full(len(choices), np.inf)
    at = int(np.abs(choices.astype(int) - _FIRST).sum(axis=1).argmin())
    for _ in range(count):
        chosen.append(at)
        last = [*last[1 - _NEAR :], apart(at)]
        nearest = np.minimum(nearest, last[-1])
        at = int(np.minimum(nearest * 2, np.min(last, axis=0)).argmax())
    return choices[chosen].reshape(-1, 3)


def _choices() -> NDArray[np.uint8]:
    """Colours of a grid that are neither too dark nor nearly white, nor too strong."""
    steps = np.arange(16) * 17
    grid = np.stack(np.meshgrid(steps, steps, steps, indexing="ij"), axis=-1).reshape(-1, 3).astype(np.uint8)
    light, *across = oklab(linear_from_srgb(grid / np.float32(255))).T
    return grid[(light >= _DARKEST) & (light <= _BRIGHTEST) & (np.hypot(*across) <= _STRONGEST)]
