"""Packing: swatches into texture arrays of one size, with mips."""

from __future__ import annotations

import warnings
from collections.abc import Iterable, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.layout import LAYOUTS, Layout, layout_named
from jagged_quilt.arrays.mips import level_count, mip_levels, normal_mip_levels
from jagged_quilt.arrays.resize import resized
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.foundation.checks import power_of_two
from jagged_quilt.foundation.colour import srgb_from_linear
from jagged_quilt.foundation.errors import QuiltWarning, RangeError, ShapeError
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch import Swatch

_MOST_TEXELS = (1 << 31) - 1


def pack(
    swatches: Iterable[Swatch],
    *,
    texels: int = 512,
    layouts: Sequence[str] = tuple(LAYOUTS),
    threads: int | None = None,
    progress: Progress = silent,
) -> TextureArrays:
    """Pack the maps of swatches into texture arrays with full mip chains.

    Every map is brought to `texels` x `texels` (a tent filter that wraps, in linear light for colour, on vectors for
    normals). What a swatch lacks is filled with the role's neutral value.

    Parameters
    ----------
    texels : int
        Side of every slice; a power of two up to 8192.
    layouts : sequence of str
        Which arrays to make: of "diffuse_height", "normal_roughness_occlusion", "specular".

    Raises
    ------
    RangeError
        If `texels` is not a power of two, or the arrays would be too large to address.
    ShapeError
        If there is no swatch, or two of one name.
    """
    given = list(swatches)
    side = power_of_two("texels", texels, 8192)
    chosen = tuple(layout_named(name) for name in layouts)
    names = tuple(swatch.name for swatch in given)
    if not given or not chosen:
        raise ShapeError("packing needs at least one swatch and one layout")
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None or len(set(chosen)) < len(chosen):
        raise ShapeError(f'two swatches are called "{twice}"' if twice else f"a layout is named twice: {list(layouts)}")
    starts = np.cumsum([0] + [len(given) * (side >> level) ** 2 for level in range(level_count(side))])
    if starts[-1] > _MOST_TEXELS:
        raise RangeError(f"{len(given)} slices of {side} x {side} texels are more than one array can address; "
                         f"pack at {side // 2}")  # fmt: skip
    for swatch in given:
        _warn_of_sizes(swatch)
    stored = np.zeros((int(starts[-1]), len(chosen)), np.uint32)

    def pack_one(place: int) -> None:
        mips = {role: _mips_of(given[place], role, side) for role in {r for each in chosen for r in each.roles}}
        for level in range(level_count(side)):
            values = {role: next(levels) for role, levels in mips.items()}
            area = (side >> level) ** 2
            at = int(starts[level]) + place * area
            for row, layout in enumerate(chosen):
                stored[at : at + area, row] = _stored_rgba(layout, values).reshape(-1, 4).view(np.uint32).ravel()

    work_through(range(len(given)), pack_one, threads=threads, step="packing swatches", progress=progress)
    return TextureArrays(
        layouts=chosen,
        names=names,
        tiles=tuple(float(swatch.tile) for swatch in given),
        reliefs=tuple(float(swatch.relief) for swatch in given),
        side=side,
        texels=stored,
    )


def _mips_of(swatch: Swatch, role: MapRole, side: int) -> Iterator[NDArray[np.float32]]:
    given = swatch.maps.get(role)
    if given is None:
        values = np.full((side, side, role.value.channels), role.value.neutral, np.float32)
    else:
        values = resized(given.values, side, side)
    return normal_mip_levels(values) if role is MapRole.NORMAL else mip_levels(values)


def _stored_rgba(layout: Layout, values: dict[MapRole, NDArray[np.float32]]) -> NDArray[np.uint8]:
    """Return (H, W, 4) uint8, each channel encoded by the layout and rounded."""
    size = next(iter(values.values())).shape[:2]
    out = np.full((*size, 4), 255, np.uint8)
    for channel, content in enumerate(layout.channels):
        if content is None:
            continue
        role, component = content
        plain = values[role][..., component]
        if role is MapRole.NORMAL:
            plain = plain * 0.5 + 0.5
        elif layout.colour and channel < 3:
            plain = srgb_from_linear(plain)
        out[..., channel] = np.rint(np.clip(plain, 0, 1) * 255).astype(np.uint8)
    return out


def _warn_of_sizes(swatch: Swatch) -> None:
    """A map that is not square will be stretched, which no one should find out by looking."""
    for role, each in swatch.maps.items():
        if each.size[0] != each.size[1]:
            warnings.warn(
                f'swatch "{swatch.name}": its {role.key} map, {each.size[1]} x {each.size[0]}, will be stretched to a square',
                QuiltWarning,
                stacklevel=3,
            )
