"""What can be measured on a map to tell whether it is what it should be; numbers only, no judgement."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.colour import linear_from_srgb, srgb_from_linear
from jagged_quilt.foundation.json_types import Stored

Values = NDArray[np.float32]
"""(H, W, C) float32."""

_LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)
_FARTHEST = 16  # texels over which a border is looked at
_FEWEST = 16  # strips across a border: fewer say more of chance than of the map
_UNSEEN = 0.5 / 255
ENOUGH = 512
"""Rows of a map from which all but its borders can be measured."""
_STEEPEST = 3.0  # slope: steeper ones come of rounding
_LARGE_FORMS = 8  # texels: what is smaller is grain
_AT_ONCE = 1 << 20  # texels that are counted together
_BANDS = 4  # of rows, that stand for a larger map


class Lengths(NamedTuple):
    """Lengths of stored normals before they are made unit."""

    mean: float
    lowest: float
    """The 1st percentile."""
    highest: float
    """The 99th percentile."""
    inwards: float
    """The share of texels that point into the surface."""


class Seam(NamedTuple):
    """How visible the border is when a map repeats, 0..1: where left meets right, and where top meets bottom."""

    sides: float
    ends: float

    @property
    def worst(self) -> float:
        """The larger of the two."""
        return max(self.sides, self.ends)


def luminance(colour: Values) -> Values:
    """Return the luminance of linear Rec. 709 colour, (H, W)."""
    return colour @ _LUMINANCE


def lengths_of(vectors: Values) -> Lengths:
    """Measure stored normals, (H, W, 3), -1..1 as decoded."""
    length = np.linalg.norm(vectors, axis=2)
    low, high = np.percentile(length, [1, 99])
    return Lengths(float(length.mean()), float(low), float(high), float((vectors[..., 2] < -0.02).mean()))


def slopes_of(normals: Values) -> tuple[Values, Values]:
    """Return the slopes that green-up normals tell: along u, and along v (down the image)."""
    up = np.maximum(normals[..., 2], np.float32(0.05))
    return (-normals[..., 0] / up).astype(np.float32), (normals[..., 1] / up).astype(np.float32)


def agreement(normals: Values, height: Values) -> tuple[float, float]:
    """Return how the slopes of normals go with those of a height map of the same size: correlation along u, along v.

    Both near 1 where they belong together; along v near -1 where green points down; both near -1 where the height is
    inverted. 0 where either is flat.
    """
    flat = height[..., 0] if height.ndim == 3 else height
    east = np.roll(flat, -1, axis=1) - np.roll(flat, 1, axis=1)
    south = np.roll(flat, -1, axis=0) - np.roll(flat, 1, axis=0)
    along_u, along_v = slopes_of(normals)
    return correlation(along_u, east), correlation(along_v, south)


def agreement_by_scale(normals: Values, height: Values) -> tuple[float, float]:
    """Return how slopes of normals along v go with those of a height map: of large forms, and of the fine grain on them."""
    _, along_v = slopes_of(normals)
    flat = height[..., 0]
    south = np.roll(flat, -1, axis=0) - np.roll(flat, 1, axis=0)
    rows, columns = (side // _LARGE_FORMS * _LARGE_FORMS for side in flat.shape)
    if min(rows, columns) == 0:
        return 0.0, 0.0
    coarse, fine = [], []
    for each in (along_v[:rows, :columns], south[:rows, :columns]):
        blocks = each.reshape(rows // _LARGE_FORMS, _LARGE_FORMS, columns // _LARGE_FORMS, _LARGE_FORMS)
        mean = blocks.mean(axis=(1, 3), keepdims=True)
        coarse.append(mean[:, 0, :, 0])
        fine.append((blocks - mean).reshape(rows, columns))
    return correlation(coarse[0], coarse[1]), correlation(fine[0], fine[1])


def picked(texels: Stored, rows: int, columns: int) -> Stored:
    """Return every so manieth row and column of a larger map."""
    down = (np.arange(rows) * texels.shape[0]) // rows
    across = (np.arange(columns) * texels.shape[1]) // columns
    return np.ascontiguousarray(texels[down][:, across])


def curl_of(normals: Values) -> float:
    """Return the mean square of the curl of the slopes that green-up normals tell; 0 of any surface, but for rounding."""
    along_u, along_v = (np.clip(each, -_STEEPEST, _STEEPEST) for each in slopes_of(normals))
    curl = (
        np.roll(along_u, -1, axis=0) - np.roll(along_u, 1, axis=0) - np.roll(along_v, -1, axis=1) + np.roll(along_v, 1, axis=1)
    )
    return float(np.mean(curl**2))


def curl_share(normals: Values) -> float:
    """Return, without a height map, how much green-up normals contradict themselves: 0 not at all, 1 as green-down never would.

    The slopes of a surface have no curl. The mean square of the curl is taken as the normals stand, and with green turned
    round; the first over the sum of both. 0.5 says nothing: flat, or the same both ways.
    """
    along_u, along_v = slopes_of(normals)
    u_down = np.roll(along_u, -1, axis=0) - np.roll(along_u, 1, axis=0)
    v_right = np.roll(along_v, -1, axis=1) - np.roll(along_v, 1, axis=1)
    as_it_is, turned = float(np.mean((u_down - v_right) ** 2)), float(np.mean((u_down + v_right) ** 2))
    return as_it_is / (as_it_is + turned) if as_it_is + turned > 1e-9 else 0.5


def bands(texels: Stored, above: int = 2 * ENOUGH) -> Stored:
    """Return, of a map with more rows, a part that tells as much: bands of rows, the first and the last among them."""
    rows = len(texels)
    if rows <= above:
        return texels
    high = ENOUGH // _BANDS
    firsts = np.linspace(0, rows - high, _BANDS).astype(int)
    return np.concatenate([texels[first : first + high] for first in firsts])


def seam_of(texels: Stored) -> Seam:
    """Measure how visible the border is when a map repeats, against the map's own inside.

    Over distances of 1 to 16 texels: the root mean square difference of the means on both sides of the border, beside those
    on both sides of every line inside (boards and courses have some that are as strong as a border). The score is
    1 - (the most visible line inside) / (border), at the distance where it is largest; 0 where the border is no more
    visible than that line, or too faint to be seen.

    Parameters
    ----------
    texels : (H, W, C)
        As stored; whole numbers stand for 0..1.
    """
    return Seam(*(_border(_seen(bands(each, ENOUGH))) for each in (texels, texels.transpose(1, 0, 2))))


def _seen(texels: Stored) -> Values:
    """Texels as an eye sees them: stored numbers, 0..1."""
    if texels.dtype.kind == "u":
        return (texels / np.float32(np.iinfo(texels.dtype).max)).astype(np.float32)
    return np.asarray(texels, np.float32)


def _border(values: Values) -> float:
    means = values.astype(np.float32)  # of [x, x + reach), over as many rows; what is left over at the end is left out
    worst, reach = 0.0, 1
    while reach <= _FARTHEST and means.shape[1] > 3 * reach and len(means) >= _FEWEST:
        inside = np.sqrt(np.mean((means[:, reach:] - means[:, :-reach]) ** 2, axis=(0, 2)))
        border = float(np.sqrt(np.mean((means[:, 0] - means[:, -1]) ** 2)))
        if border > _UNSEEN:
            worst = max(worst, 1 - float(inside.max()) / border)
        even = len(means) // 2 * 2
        strips = (means[0:even:2] + means[1:even:2]) * np.float32(0.5)
        means, reach = (strips[:, :-reach] + strips[:, reach:]) * np.float32(0.5), 2 * reach
    return worst


def counts_of(texels: Stored) -> NDArray[np.int64]:
    """Return how often each value of 8-bit texels occurs, (256,)."""
    flat = texels.reshape(-1)
    parts = (flat[first : first + _AT_ONCE] for first in range(0, flat.size, _AT_ONCE))
    return np.sum([np.bincount(part, minlength=256) for part in parts], axis=0)


def missing_codes(texels: Stored, *, encoded: bool) -> tuple[int, float]:
    """Look for the gaps that a conversion of 8-bit values leaves in a histogram.

    Decoding 8-bit sRGB into 8 bits skips codes in the lights, encoding skips codes in the darks. Counts the texels that lie
    on codes which such a conversion cannot give, and how many would if the map had been made otherwise (as many as on
    the emptier of the codes beside them).

    Parameters
    ----------
    texels : uint8
    encoded : bool
        Whether to look for the gaps of encoding; else for those of decoding.
    """
    table = srgb_from_linear if encoded else linear_from_srgb
    possible = np.zeros(256, bool)
    possible[np.rint(table(np.arange(256) / 255) * 255).astype(int)] = True
    counts = counts_of(texels).astype(float)
    codes = np.arange(256)
    below = np.maximum.accumulate(np.where(possible, codes, 0))
    above = np.minimum.accumulate(np.where(possible, codes, 255)[::-1])[::-1]
    beside = np.minimum(counts[below], counts[above])  # nothing is expected where few levels leave gaps of their own
    return int(counts[~possible].sum()), float(beside[~possible].sum())


def is_encoded_normal(vectors: Values) -> bool:
    """Whether stored normals, -1..1, look as if they had been sRGB-encoded: decoded, they are straighter and more unit."""
    decoded = linear_from_srgb(vectors * 0.5 + 0.5) * 2 - 1
    tilt = [abs(float(each[..., :2].mean(axis=(0, 1)).sum())) for each in (vectors, decoded)]
    off = [float(np.abs(np.linalg.norm(each, axis=2) - 1).mean()) for each in (vectors, decoded)]
    return tilt[0] > 0.5 and tilt[1] < 0.5 * tilt[0] and off[1] < off[0]


def encoding_gain(normals: Values, height: Values) -> float:
    """Return how much better normals go with a height map once that is decoded from sRGB; above 0 it looks encoded."""
    plain = sum(abs(each) for each in agreement(normals, height))
    return sum(abs(each) for each in agreement(normals, linear_from_srgb(height))) / 2 - plain / 2


def correlation(one: Values, other: Values) -> float:
    """Return the correlation of two maps; 0 where either is flat."""
    a, b = one - one.mean(), other - other.mean()
    power = float(np.sqrt((a.astype(np.float64) ** 2).sum() * (b.astype(np.float64) ** 2).sum()))
    return float((a * b).sum(dtype=np.float64) / power) if power > 1e-12 else 0.0
