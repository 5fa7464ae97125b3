"""One swatch packed: its maps as the slices of each array, with mips, in the array's own format."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.layout import ArrayChannel, Layout
from jagged_quilt.arrays.mips import Levels, MipFilter, normal_levels, opacity_levels, surface_levels, value_levels
from jagged_quilt.arrays.resize import resized
from jagged_quilt.codecs.block_codes import decoded_blocks, encoded_blocks
from jagged_quilt.codecs.pixel_formats import PixelFormat
from jagged_quilt.foundation.colour import linear_from_srgb, srgb_encode_table, srgb_from_linear
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.padding import Padding
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.texture_map import TextureMap

_kernels = kernels_of("jagged_quilt.arrays._kernels")

_NOTHING = 1 / 512  # of opacity
NOTHING_FINE = 128  # the byte of a fine channel where the rounded one is exact
_BASE, _OVER = (MapRole.NORMAL, MapRole.ROUGHNESS), (MapRole.COAT_NORMAL, MapRole.COAT_ROUGHNESS)
WIDENED = {MapRole.ROUGHNESS: _BASE, MapRole.GLOSS: _BASE, MapRole.COAT_ROUGHNESS: _OVER}
"""The normals and the roughness that a role's mips are made from: roughness is widened by what normals lose."""


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

    levels: list[Stored]
    quality: dict[str, float] = field(default_factory=dict)


def packed_slices(
    swatch: Swatch, layouts: Sequence[Layout], side: int, *, mips: MipFilter = MipFilter.BOX, widen: bool = True
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
    wanted = {role for layout in layouts for role in layout.made_of}
    chains = _chains(swatch, wanted, side, mips, widen)
    return [_packed(layout, chains, side) for layout in layouts]


class Chain:
    """The levels of one role. Bytes at full size are kept as they are, and only decoded if somebody asks."""

    def __init__(self, levels: Levels, given: TextureMap | None = None) -> None:
        self._levels, self._given = levels, given

    def __getitem__(self, level: int) -> NDArray[np.float32]:
        """What a level means, (S, S, C) float32."""
        if self._given is None:
            return self._levels[level]
        return self._given.values if level == 0 else self._levels[level - 1]

    def stored(self, level: int, encoded: bool) -> NDArray[np.uint8] | None:
        """The bytes of a level, if it is kept as bytes in that encoding."""
        return self._given.texels if self._given is not None and level == 0 and self._given.is_encoded == encoded else None


def _coded(given: TextureMap, side: int) -> Chain:
    """The chain of a map of bytes that has the right size already, by box: halved straight from its bytes."""
    if side == 1:
        return Chain([], given)
    half = np.empty((side // 2, side // 2, given.texels.shape[2]), np.float32)
    _kernels.halve_coded(given.texels, given.meanings, half)
    return Chain(value_levels(half, side // 2), given)


def _chains(swatch: Swatch, wanted: Collection[MapRole], side: int, mips: MipFilter, widen: bool) -> dict[MapRole, Chain]:
    chains: dict[MapRole, Chain] = {}
    wider = {WIDENED[role] for role in wanted if role in WIDENED} if widen else set()
    for normal, rough in wider:
        if normal not in swatch.maps:
            continue
        size = max(_room(swatch, role, side) for role in (normal, rough))
        normals, roughness = (_values(swatch, role, size) for role in (normal, rough))
        normal_chain, rough_chain = surface_levels(normals, roughness, side, mips)
        chains[normal], chains[rough] = Chain(normal_chain), Chain(rough_chain)
        if rough is MapRole.ROUGHNESS and MapRole.GLOSS in wanted:
            chains[MapRole.GLOSS] = Chain([1 - level for level in rough_chain])
    for role in set(wanted) - set(chains):
        given = swatch.maps.get(role)
        as_it_is = (
            given is not None and given.texels.dtype == np.uint8 and given.shape == (side, side) and mips is MipFilter.BOX
        )
        if given is not None and as_it_is and not role.value.direction and MapRole.OPACITY not in (role, *swatch.maps):
            chains[role] = _coded(given, side)
            continue
        values = _values(swatch, role, _room(swatch, role, side))
        make = normal_levels if role.value.direction else opacity_levels if role is MapRole.OPACITY else value_levels
        chains[role] = Chain(make(values, side, mips))
    return chains


def _room(swatch: Swatch, role: MapRole, side: int) -> int:
    """The side of the square that a map is brought to before it is halved down: `side` times a power of two."""
    longest = max(swatch.maps[role].shape) if role in swatch.maps else 1
    room = side
    while room < longest:
        room *= 2
    return room


def _values(swatch: Swatch, role: MapRole, side: int) -> NDArray[np.float32]:
    if role not in swatch.maps:
        return np.full((side, side, role.value.channels), role.value.neutral, np.float32)
    given = swatch.maps[role]
    values = resized(given.values, side, side)
    values = _unit(values) if role.value.direction and given.shape != (side, side) else values
    return values if role is MapRole.OPACITY or MapRole.OPACITY not in swatch.maps else _filled(values, swatch, side)


def _filled(values: NDArray[np.float32], swatch: Swatch, side: int) -> NDArray[np.float32]:
    """Values with what is wholly cut out filled from around, so that its colour comes into no texel and no mip beside it."""
    shown = resized(swatch.maps[MapRole.OPACITY].values, side, side)[..., 0] > _NOTHING
    if shown.all() or not shown.any():
        return values
    out = values.copy()
    Padding(shown).grow(out.reshape(-1, out.shape[2]), side)
    return out


def _unit(vectors: NDArray[np.float32]) -> NDArray[np.float32]:
    out = np.empty_like(vectors)
    _kernels.make_unit(vectors.reshape(-1, 3), out.reshape(-1, 3))
    return out


def _packed(layout: Layout, chains: dict[MapRole, Chain], side: int) -> PackedSlice:
    levels: list[Stored] = []
    quality: dict[str, float] = {}
    for level in range(side.bit_length()):
        if layout.pixels is PixelFormat.UNORM8:
            levels.append(_bytes_of_level(layout, chains, level, side >> level))
            continue
        values = {role: chains[role][level] for role in layout.made_of}
        if layout.pixels.value.block:
            wanted = _as_numbers(layout, values, side >> level) * np.float32(255)
            levels.append(encoded_blocks(wanted, layout.pixels))
            if level == 0:
                quality = _quality(layout, wanted, levels[0])
        else:
            numbers = _as_numbers(layout, values, side >> level, signed=layout.pixels is PixelFormat.HALF)
            whole = layout.pixels is PixelFormat.UNORM16
            levels.append(np.rint(numbers * 65535).astype(np.uint16) if whole else numbers.astype(np.float16))
    return PackedSlice(levels, quality)


def _scale(channel: ArrayChannel) -> tuple[float, float]:
    """Scale and offset from what a channel means, to 0..1."""
    scale, offset = (0.5, 0.5) if channel.is_direction else (1.0, 0.0)
    return (-scale, 1 - offset) if channel.inverted else (scale, offset)


@cache
def _encode_table() -> NDArray[np.uint8]:
    return srgb_encode_table(65536)


def as_bytes(layout: Layout, values: Mapping[MapRole, NDArray[np.float32]], side: int) -> NDArray[np.uint8]:
    """Return (H, W, C) uint8, each channel encoded and rounded; what fills up is white."""
    chains = {role: Chain([each]) for role, each in values.items()}
    return _bytes_of_level(layout, chains, 0, side)


def _bytes_of_level(layout: Layout, chains: Mapping[MapRole, Chain], level: int, side: int) -> NDArray[np.uint8]:
    out = np.empty((side * side, layout.stored), np.uint8)
    out[:, len(layout.channels) :] = 255
    for index, channel in enumerate(layout.channels):
        if channel.role is None:
            out[:, index] = round(channel.constant * 255)
            continue
        encoded = layout.srgb and index < 3
        stored = None if channel.inverted else chains[channel.role].stored(level, encoded)
        if stored is not None and channel.fine:
            out[:, index] = NOTHING_FINE
            continue
        if stored is not None:
            _kernels.copy_channel(stored.reshape(side * side, -1), channel.component, out, index)
            continue
        given = chains[channel.role][level].reshape(side * side, -1)
        scale, offset = (np.float32(each) for each in _scale(channel))
        if channel.fine:
            _store_fine(given, channel.component, scale, offset, out[:, index])
        elif encoded:
            _kernels.store_channel(given, channel.component, scale, offset, _encode_table(), out, index)
        else:
            _kernels.store_plain(given, channel.component, scale, offset, out, index)
    return out.reshape(side, side, -1)


def _store_fine(
    given: NDArray[np.float32], component: int, scale: np.float32, offset: np.float32, out: NDArray[np.uint8]
) -> None:
    """Fill what the 8 bits of a channel leave away, in steps of 1 / 65535 from `NOTHING_FINE`: up to 128.5 of them."""
    rounded = np.empty((len(given), 1), np.uint8)
    _kernels.store_plain(given, component, scale, offset, rounded, 0)
    number = np.clip(given[:, component].astype(np.float64) * scale + offset, 0, 1)
    out[:] = np.clip(np.rint(65535 * number - 257.0 * rounded[:, 0]) + NOTHING_FINE, 0, 255).astype(np.uint8)


def finer(channel: ArrayChannel, stored: Stored) -> NDArray[np.float32]:
    """Return what a fine channel adds to what the rounded one means."""
    return (stored.astype(np.float32) - np.float32(NOTHING_FINE)) / np.float32(65535 * _scale(channel)[0])


def _as_numbers(
    layout: Layout, values: dict[MapRole, NDArray[np.float32]], side: int, signed: bool = False
) -> NDArray[np.float32]:
    """Return (H, W, C) float32, 0..1 as they are to be stored; with `signed`, normals are -1..1."""
    out = np.ones((side, side, layout.stored), np.float32)
    for index, channel in enumerate(layout.channels):
        if channel.role is None:
            out[..., index] = channel.constant
            continue
        given = values[channel.role][..., channel.component]
        if signed and channel.is_direction:
            out[..., index] = -given if channel.inverted else given
            continue
        scale, offset = _scale(channel)
        number = np.clip(given * np.float32(scale) + np.float32(offset), 0, 1)
        out[..., index] = srgb_from_linear(number) if layout.srgb and index < 3 else number
    return out


def meant(channel: ArrayChannel, stored: Stored, layout: Layout, index: int) -> NDArray[np.float32]:
    """Return what the stored numbers of one channel mean: the inverse of packing, within the rounding of the format."""
    number = stored.astype(np.float32) / np.float32(layout.pixels.top)
    if layout.pixels is PixelFormat.HALF and channel.is_direction:
        return -number if channel.inverted else number
    if layout.srgb and index < 3:
        number = linear_from_srgb(number)
    scale, offset = _scale(channel)
    return (number - np.float32(offset)) / np.float32(scale)


def _quality(layout: Layout, wanted: NDArray[np.float32], blocks: NDArray[np.uint8]) -> dict[str, float]:
    side = wanted.shape[0]
    got = decoded_blocks(blocks.tobytes(), layout.pixels, side, side).astype(np.float32)
    real = [index for index, channel in enumerate(layout.channels) if channel.role is not None]
    off = float(np.mean((got[..., real] - wanted[..., real]) ** 2, dtype=np.float64))
    quality = {"psnr_db": round(10 * float(np.log10(255**2 / max(off, 1e-6))), 2)}
    positions = [
        next(
            (
                index
                for index, channel in enumerate(layout.channels)
                if (channel.is_direction, channel.component) == (True, axis)
            ),
            None,
        )
        for axis in (0, 1)
    ]
    x, y = positions
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
