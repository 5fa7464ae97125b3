"""What 8 bits leave away of heights and normals, added where an array beside holds it."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.blend._fetch_kernels import spot_row
from jagged_quilt.blend._lane_kernels import lane, slot_row
from jagged_quilt.blend._rows import F0, F1, F2, B, Plane, Slot
from jagged_quilt.blend._texel_kernels import FLATTEST, channel_bits, corner_weights, corners_at, plain
from jagged_quilt.foundation.compiler import inlined, lanes

NOTHING_FINE = np.float32(128.0 / 255.0)  # of a fine channel, where 8 bits left nothing away
FINE_STEP = np.float32(1.0 / 257.0)  # what a fine channel's 0..1 spans of the 0..1 of its role


@inlined
def _between(t, texels, bits, shares, around):
    """One channel between the four texels around a lane's sample, 0..1."""
    a, b, c, d = corners_at(t, texels, around)
    mask, scale = bits
    return (
        shares[0] * plain(a, mask, scale)
        + shares[1] * plain(b, mask, scale)
        + shares[2] * plain(c, mask, scale)
        + shares[3] * plain(d, mask, scale)
    )


@inlined
def _left_away(t, texels, bits, shares, around):
    """What a fine channel adds to the 0..1 of its role."""
    return (_between(t, texels, bits, shares, around) - NOTHING_FINE) * FINE_STEP


@lanes
def add_fine_heights(k, sample, channel, texels, samples, slots, tallness):
    """Add what 8 bits left away of the height of each lane's sample."""
    (_, between, shares), around, heights = samples.spot, samples.around, samples.heights
    bits, spot = channel_bits(channel), spot_row(sample, 0)
    for t in range(B):
        corners = corner_weights(between[lane(spot, t)], between[lane(spot + 1, t)])
        h = slots[lane(slot_row(k, Slot.RELIEF), t)] * _left_away(t, texels, bits, corners, around)
        heights[lane(sample, t)] += h
        tallness[lane(k, t)] += shares[lane(sample, t)] * h


@lanes
def mix_fine_normals(sample, plane, texels, channels, samples, weight, mapped, sums):
    """As `mix_normals`, of normals whose x and y stand rounded in one array, and what that left away in another.

    texels, channels : of x, y, fine x and fine y.
    """
    (start, tilt), around, between = plane, samples.around, samples.spot.between
    bits_x, bits_y = channel_bits(channels[0] % 4), channel_bits(channels[1] % 4)
    fine_x, fine_y = channel_bits(channels[2] % 4), channel_bits(channels[3] % 4)
    spot = spot_row(sample, 0)
    for t in range(B):
        corners = corner_weights(between[lane(spot, t)], between[lane(spot + 1, t)])
        x = _between(t, texels[0], bits_x, corners, around) + _left_away(t, texels[2], fine_x, corners, around)
        y = _between(t, texels[1], bits_y, corners, around) + _left_away(t, texels[3], fine_y, corners, around)
        x, y = F2 * x - F1, F2 * y - F1
        slope = weight[lane(0, t)] / max(math.sqrt(max(F0, F1 - x * x - y * y)), np.float32(FLATTEST))
        x, y = x * slope, y * slope
        u, v = start + Plane.GRADIENT_U, start + Plane.GRADIENT_V
        sums[lane(tilt, t)] += x * mapped[lane(u, t)] - y * mapped[lane(v, t)]
        sums[lane(tilt + 1, t)] += x * mapped[lane(u + 1, t)] - y * mapped[lane(v + 1, t)]
        sums[lane(tilt + 2, t)] += x * mapped[lane(u + 2, t)] - y * mapped[lane(v + 2, t)]
