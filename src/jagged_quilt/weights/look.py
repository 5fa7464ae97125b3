"""What stands in a painted map: its colours or numbers, with their shares, before it is adopted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.colour import linear_from_srgb, oklab
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.maps.image_files import read_image
from jagged_quilt.maps.image_limits import LIMITS, ImageLimits
from jagged_quilt.weights.sheets import palette_numbers

_splat_kernels = kernels_of("jagged_quilt.weights._splat_kernels")

_ALIKE = 8  # of 255: colours so near to one that is more frequent are counted with it
_LEAST = 0.002  # of the texels, to be a key
_MOST = 64
_SOLID = 0.1  # of a key's texels lie within a region of it, at least


@dataclass(frozen=True, slots=True, kw_only=True)
class Keys:
    """What a map holds.

    Attributes
    ----------
    form : "colours" or "index"
        As which it is to be adopted.
    keys : tuple of str
        Colours as "#rrggbb", or numbers, the most frequent first.
    shares : tuple of float
        How much of the map each is, 0..1.
    rest : float
        How much is neither: mixtures along edges, and what is too rare to be a key.
    """

    __repr__ = short_repr

    form: str
    keys: tuple[str, ...]
    shares: tuple[float, ...]
    rest: float

    def named(self, colours: Mapping[str, Sequence[float]]) -> list[str]:
        """Return a name for each key: that of the nearest of some linear colours, each given once; else "layer 3".

        Nearest by OKLab (Ottosson 2020), the closest pair first.
        """
        out = [f"layer {number + 1}" for number in range(len(self.keys))]
        if self.form != "colours" or not colours:
            return out
        own = oklab(linear_from_srgb(np.array([_rgb(key) for key in self.keys]) / 255).astype(np.float64))
        known = oklab(np.array(list(colours.values()), np.float64))
        away = np.linalg.norm(own[:, None] - known[None], axis=2)
        names = list(colours)
        for _ in range(min(away.shape)):
            key, name = np.unravel_index(int(np.argmin(away)), away.shape)
            out[int(key)] = names[int(name)]
            away[key], away[:, name] = np.inf, np.inf
        return out

    def table(self, file: str, names: Sequence[str]) -> str:
        """Return the [adopt] table that takes the map over, with names for its layers."""
        quoted = lambda words: ", ".join(f'"{word}"' for word in words)
        what = f"colours = [{quoted(self.keys)}]" if self.form == "colours" else f"numbers = [{', '.join(self.keys)}]"
        return f'[adopt]\nform = "{self.form}"\nfiles = ["{file}"]\nlayers = [{quoted(names)}]\n{what}\n'


def keys_in(file: Path | str, *, limits: ImageLimits = LIMITS) -> Keys:
    """Look at a painted map: a palette or grey whole numbers are an index map, anything else is keyed by colours.

    Raises `ImageError` if it cannot be read.

    Examples
    --------
    >>> jq.adopt.keys_in("keys.png").keys
    ('#0000ff', '#ff0000')
    """
    file = Path(file)
    numbers = palette_numbers(file)
    texels = read_image(file, limits) if numbers is None else numbers
    if texels.shape[2] in (2, 4):
        texels = texels[..., :-1]
    if texels.dtype.kind == "f":
        texels = np.rint(np.clip(texels, 0, 1) * 255).astype(np.uint8)
    if numbers is not None or (texels == texels[..., :1]).all():
        values, counts = np.unique(texels[..., 0], return_counts=True)
        kept = counts >= _LEAST * counts.sum()
        order = np.flatnonzero(kept)[np.argsort(-counts[kept], kind="stable")][:_MOST]
        shares = counts[order] / counts.sum()
        return Keys(
            form="index",
            keys=tuple(str(int(values[each])) for each in order),
            shares=tuple(float(each) for each in shares),
            rest=float(1 - shares.sum()),
        )
    shift = 8 if texels.dtype == np.uint16 else 0
    packed = (texels >> shift).astype(np.uint32) @ np.array([1 << 16, 1 << 8, 1], np.uint32)
    values, counts = np.unique(packed, return_counts=True)
    order = np.argsort(-counts, kind="stable")
    found: list[NDArray[np.int64]] = []
    totals: list[int] = []
    for value, count in zip(values[order].tolist(), counts[order].tolist(), strict=True):
        colour = np.array([value >> 16, value >> 8 & 255, value & 255])
        near = next((index for index, key in enumerate(found) if np.abs(key - colour).max() <= _ALIKE), None)
        if near is not None:
            totals[near] += count
        elif count >= _LEAST * packed.size / 4 and len(found) < _MOST:
            found.append(colour)
            totals.append(count)
    order = np.argsort(-np.array(totals), kind="stable")
    kept_keys = [int(index) for index in order if totals[index] >= _LEAST * packed.size]
    kept_keys = _without_blends(texels >> shift, found, kept_keys)
    return Keys(
        form="colours",
        keys=tuple("#" + "".join(f"{part:02x}" for part in found[index]) for index in kept_keys),
        shares=tuple(totals[index] / packed.size for index in kept_keys),
        rest=float(1 - sum(totals[index] for index in kept_keys) / packed.size),
    )


def _without_blends(texels: NDArray[np.integer], found: Sequence[NDArray[np.int64]], indices: list[int]) -> list[int]:
    """Leave out what stands along edges alone and lies between two more frequent colours."""
    keys = np.array([found[index] for index in indices], np.float32) / np.float32(255)
    label, inside = np.empty(texels.shape[:2], np.int64), np.zeros(texels.shape[:2], np.bool_)
    shown = np.ascontiguousarray(texels[..., :3] / np.float32(255), np.float32)
    _splat_kernels.nearest_key(shown, keys, np.float32(_ALIKE / 255), label)
    _splat_kernels.solid(label, inside)
    alone = np.bincount(label[inside], minlength=len(keys)) < _SOLID * np.bincount(label[label >= 0], minlength=len(keys))
    kept: list[int] = []
    for number, index in enumerate(indices):
        if not (alone[number] and _is_between(keys[number], [keys[indices.index(each)] for each in kept])):
            kept.append(index)
    return kept


def _is_between(colour: NDArray[np.float32], others: Sequence[NDArray[np.float32]]) -> bool:
    """Whether a colour is a mixture of two others, within what counts as alike."""
    for index, one in enumerate(others):
        for two in others[:index]:
            way = two - one
            share = float(np.clip((colour - one) @ way / max(float(way @ way), 1e-12), 0, 1))
            if np.abs(one + share * way - colour).max() <= _ALIKE / 255:
                return True
    return False


def _rgb(key: str) -> tuple[int, ...]:
    return tuple(int(key[at : at + 2], 16) for at in (1, 3, 5))
