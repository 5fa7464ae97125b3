"""One swatch packed: its maps as the slices of each array, with mips, in the array's own format."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays import _kernels
from jagged_quilt.arrays.layout import Channel, Layout
from jagged_quilt.arrays.mips import Levels, MipFilter, normal_levels, opacity_levels, surface_levels, value_levels
from jagged_quilt.arrays.resize import resized
from jagged_quilt.codecs.block_codes import decoded_blocks, encoded_blocks
from jagged_quilt.codecs.pixel_formats import PixelFormat
from jagged_quilt.foundation.colour import linear_from_srgb, srgb_encode_table, srgb_from_linear
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch import Swatch


@dataclass(frozen=True, eq=False)
class PackedSlice:
    """One slice of one array.

    Attributes
    ----------
    levels : list
        From the full size down: (H, W, C) of the format's kind, or the bytes of blocks.
    quality : dict
        What block codes cost at the full size: `psnr_db`, and for normals `mean_degrees`. Empty for other formats.
    """

    levels: list[NDArray[Any]]
    quality: dict[str, float] = field(default_factory=dict)


def packed_slices(
    swatch: Swatch, layouts: Sequence[Layout], side: int, *, mips: MipFilter = "box", widen: bool = True
) -> list[PackedSlice]:
    """Pack one swatch into one slice of each layout.

    Parameters
    ----------
    swatch : Swatch
        Missing roles are neutral.
    side : int
        Texels along the slice's side; a power of two.
    widen : bool
        Whether roughness is widened by what normals lose in the mips.
    """
    wanted = {role for layout in layouts for role in layout.roles}
    chains = _chains(swatch, wanted, side, mips, widen)
    return [_packed(layout, chains, side) for layout in layouts]


def _chains(swatch: Swatch, wanted: Collection[MapRole], side: int, mips: MipFilter, widen: bool) -> dict[MapRole, Levels]:
    chains: dict[MapRole, Levels] = {}
    rough = MapRole.ROUGHNESS in wanted or MapRole.GLOSS in wanted
    if rough and widen and MapRole.NORMAL in swatch.maps:
        size = max(_room(swatch, role, side) for role in (MapRole.NORMAL, MapRole.ROUGHNESS))
        normals, roughness = (_values(swatch, role, size) for role in (MapRole.NORMAL, MapRole.ROUGHNESS))
        chains[MapRole.NORMAL], chains[MapRole.ROUGHNESS] = surface_levels(_unit(normals), roughness, side, mips)
        chains[MapRole.GLOSS] = [1 - level for level in chains[MapRole.ROUGHNESS]] if MapRole.GLOSS in wanted else []
    for role in set(wanted) - set(chains):
        values = _values(swatch, role, _room(swatch, role, side))
        if role is MapRole.NORMAL:
            chains[role] = normal_levels(_unit(values), side, mips)
        elif role is MapRole.OPACITY:
            chains[role] = opacity_levels(values, side, mips)
        else:
            chains[role] = value_levels(values, side, mips)
    return chains


def _room(swatch: Swatch, role: MapRole, side: int) -> int:
    """The side of the square that a map is brought to before it is halved down: `side` times a power of two."""
    longest = max(swatch.maps[role].size) if role in swatch.maps else 1
    room = side
    while room < longest:
        room *= 2
    return room


def _values(swatch: Swatch, role: MapRole, side: int) -> NDArray[np.float32]:
    if role not in swatch.maps:
        return np.full((side, side, role.value.channels), role.value.neutral, np.float32)
    return resized(swatch.maps[role].values, side, side)


def _unit(vectors: NDArray[np.float32]) -> NDArray[np.float32]:
    out = np.empty_like(vectors)
    _kernels.make_unit(vectors.reshape(-1, 3), out.reshape(-1, 3))
    return out


def _packed(layout: Layout, chains: dict[MapRole, Levels], side: int) -> PackedSlice:
    levels: list[NDArray[Any]] = []
    quality: dict[str, float] = {}
    for level in range(side.bit_length()):
        values = {role: chains[role][level] for role in layout.roles}
        if layout.pixels.value.block:
            wanted = _as_numbers(layout, values, side >> level) * np.float32(255)
            levels.append(encoded_blocks(wanted, layout.pixels))
            if level == 0:
                quality = _quality(layout, wanted, levels[0])
        elif layout.pixels is PixelFormat.UNORM8:
            levels.append(as_bytes(layout, values, side >> level))
        else:
            numbers = _as_numbers(layout, values, side >> level, signed=layout.pixels is PixelFormat.HALF)
            whole = layout.pixels is PixelFormat.UNORM16
            levels.append(np.rint(numbers * 65535).astype(np.uint16) if whole else numbers.astype(np.float16))
    return PackedSlice(levels, quality)


def _scale(channel: Channel) -> tuple[float, float]:
    """Scale and offset from what a channel means, to 0..1."""
    scale, offset = (0.5, 0.5) if channel.role is MapRole.NORMAL else (1.0, 0.0)
    return (-scale, 1 - offset) if channel.inverted else (scale, offset)


@cache
def _tables() -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
    return np.rint(np.arange(65536) / 65535 * 255).astype(np.uint8), srgb_encode_table(65536)


def as_bytes(layout: Layout, values: dict[MapRole, NDArray[np.float32]], side: int) -> NDArray[np.uint8]:
    """Return (H, W, C) uint8, each channel encoded and rounded; what fills up is white."""
    plain, encode = _tables()
    out = np.full((side * side, layout.stored), 255, np.uint8)
    for place, channel in enumerate(layout.channels):
        if channel.role is None:
            out[:, place] = round(channel.constant * 255)
            continue
        given = values[channel.role].reshape(side * side, -1)
        scale, offset = _scale(channel)
        table = encode if layout.srgb and place < 3 else plain
        _kernels.store_channel(given, channel.component, np.float32(scale), np.float32(offset), table, out, place)
    return out.reshape(side, side, -1)


def _as_numbers(
    layout: Layout, values: dict[MapRole, NDArray[np.float32]], side: int, signed: bool = False
) -> NDArray[np.float32]:
    """Return (H, W, C) float32, 0..1 as they are to be stored; with `signed`, normals are -1..1."""
    out = np.ones((side, side, layout.stored), np.float32)
    for place, channel in enumerate(layout.channels):
        if channel.role is None:
            out[..., place] = channel.constant
            continue
        given = values[channel.role][..., channel.component]
        if signed and channel.role is MapRole.NORMAL:
            out[..., place] = -given if channel.inverted else given
            continue
        scale, offset = _scale(channel)
        number = np.clip(given * np.float32(scale) + np.float32(offset), 0, 1)
        out[..., place] = srgb_from_linear(number) if layout.srgb and place < 3 else number
    return out


def meant(channel: Channel, stored: NDArray[Any], layout: Layout, place: int) -> NDArray[np.float32]:
    """Return what the stored numbers of one channel mean: the inverse of packing, within the rounding of the format."""
    number = stored.astype(np.float32) / np.float32(layout.pixels.top)
    if layout.pixels is PixelFormat.HALF and channel.role is MapRole.NORMAL:
        return -number if channel.inverted else number
    if layout.srgb and place < 3:
        number = linear_from_srgb(number)
    scale, offset = _scale(channel)
    return (number - np.float32(offset)) / np.float32(scale)


def _quality(layout: Layout, wanted: NDArray[np.float32], blocks: NDArray[np.uint8]) -> dict[str, float]:
    side = wanted.shape[0]
    got = decoded_blocks(blocks.tobytes(), layout.pixels, side, side).astype(np.float32)
    real = [place for place, channel in enumerate(layout.channels) if channel.role is not None]
    off = float(np.mean((got[..., real] - wanted[..., real]) ** 2, dtype=np.float64))
    quality = {"psnr_db": round(10 * float(np.log10(255**2 / max(off, 1e-6))), 2)}
    places = [next((place for place, channel in enumerate(layout.channels) if (channel.role, channel.component) ==
                    (MapRole.NORMAL, axis)), None) for axis in (0, 1)]  # fmt: skip
    x, y = places
    if x is not None and y is not None:
        before, after = (_vectors(each[..., [x, y]]) for each in (wanted, got))
        cosine = np.clip((before * after).sum(axis=2), -1, 1)
        quality["mean_degrees"] = round(float(np.degrees(np.arccos(cosine)).mean()), 3)
    return quality


def _vectors(stored: NDArray[np.float32]) -> NDArray[np.float64]:
    flat = stored.astype(np.float64) / 127.5 - 1
    up = np.sqrt(np.maximum(0, 1 - (flat**2).sum(axis=2, keepdims=True)))
    whole = np.concatenate([flat, up], axis=2)
    return whole / np.linalg.norm(whole, axis=2, keepdims=True)
