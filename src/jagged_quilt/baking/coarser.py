"""Finished maps at half the size, the mean of what four texels mean: colour as light, normals as vectors, roughness widened."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.page_grid import within
from jagged_quilt.arrays.slices import WIDENED
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.colour import srgb_encode_table
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.texture_map import TextureMap

_kernels = kernels_of("jagged_quilt.arrays._kernels")

Maps = Mapping[MapRole, Stored]
"""(H, W, C) of each role, as stored."""
_TABLE = srgb_encode_table(65536)


def halved(maps: Maps) -> dict[MapRole, Stored]:
    """Return maps at half the size; the sides of those given are even."""
    given = {role: TextureMap(role=role, texels=texels) for role, texels in maps.items()}
    out: dict[MapRole, Stored] = {}
    for role, each in given.items():
        if role.value.direction:
            normals = each.values
            vectors = _half(normals)
            coarse = np.empty_like(vectors)
            _kernels.make_unit(vectors.reshape(-1, 3), coarse.reshape(-1, 3))
            out[role] = _stored(role, coarse)
            rough = next((one for one in given if one in WIDENED and WIDENED[one][0] is role), None)
            if rough is not None:
                wider = np.empty((*coarse.shape[:2], 1), np.float32)
                _kernels.halve_roughness(given[rough].values, normals, coarse, wider)
                out[rough] = _stored(rough, wider)
    for role, each in given.items():
        if role not in out:
            half = np.empty((each.shape[0] // 2, each.shape[1] // 2, role.value.channels), np.float32)
            _kernels.halve_coded(each.texels, each.meanings, half)
            out[role] = _stored(role, half)
    return {role: out[role] for role in maps}


def coarser(region: Region, finer_size: tuple[int, int], finer: Callable[[Region], Maps]) -> dict[MapRole, Stored]:
    """Return a region of a mip from the mip below, of which `finer` gives regions; where that ends oddly, its last repeat."""
    wanted = Region(2 * region.top, 2 * region.bottom, 2 * region.left, 2 * region.right)
    there = within(wanted, finer_size)
    return halved({role: spread(texels, there, wanted) for role, texels in finer(there).items()})


def spread(texels: Stored, region: Region, wanted: Region) -> Stored:
    """Return texels of a region as those of a larger one: its border repeats."""
    if region == wanted:
        return texels
    around = (
        (region.top - wanted.top, wanted.bottom - region.bottom),
        (region.left - wanted.left, wanted.right - region.right),
    )
    return np.ascontiguousarray(np.pad(texels, (*around, (0, 0)), mode="edge"))


def _half(values: NDArray[np.float32]) -> NDArray[np.float32]:
    out = np.empty((values.shape[0] // 2, values.shape[1] // 2, values.shape[2]), np.float32)
    _kernels.halve(values, out)
    return out


def _stored(role: MapRole, values: NDArray[np.float32]) -> Stored:
    """What a map means, as it is stored when it is baked."""
    rows, columns, channels = values.shape
    if role.value.bits == 16:
        return np.rint(np.clip(values, 0, 1) * np.float32(65535)).astype(np.uint16)
    out = np.empty((rows * columns, channels), np.uint8)
    scale, offset = (np.float32(each) for each in ((0.5, 0.5) if role.value.direction else (1.0, 0.0)))
    for channel in range(channels):
        flat = values.reshape(-1, channels)
        if role.is_colour:
            _kernels.store_channel(flat, channel, scale, offset, _TABLE, out, channel)
        else:
            _kernels.store_plain(flat, channel, scale, offset, out, channel)
    return out.reshape(rows, columns, channels)
