"""What 8 bits leave away of heights and normals, added where an array beside holds it."""

from __future__ import annotations

import math

import numpy as np

from jagged_quilt.blend._fetch_kernels import spot_row
from jagged_quilt.blend._lane_kernels import lane, slot_row
from jagged_quilt.blend._rows import F0, F1, F2, B, Plane, Slot
from jagged_quilt.blend._texel_kernels import channel_bits, corner_weights, corners_at, plain
from jagged_quilt.foundation.compiler import lanes

NOTHING_FINE = np.float32(128.0 / 255.0)  # of a fine channel, where 8 bits left nothing away
FINE_STEP = np.float32(1.0 / 257.0)  # what a fine channel's 0..1 spans of the 0..1 of its role
FLATTEST = 1.0 / 128.0  # the least z of a detail normal, so that slopes are finite


@lanes
def add_fine_heights(k, sample, channel, texels, samples, slots, tallness):
    """Add what 8 bits left away of the height of each lane's sample."""
    (_, between, shares), around, heights = samples.spot, samples.around, samples.heights
    mask, scale = channel_bits(channel)
    spot = spot_row(sample, 0)
    for t in range(B):
        wa, wb, wc, wd = corner_weights(between[lane(spot, t)], between[lane(spot + 1, t)])
        relief = slots[lane(slot_row(k, Slot.RELIEF), t)]
        a, b, c, d = corners_at(t, texels, around)
        fine = wa * plain(a, mask, scale) + wb * plain(b, mask, scale) + wc * plain(c, mask, scale) + wd * plain(d, mask, scale)
        h = relief * ((fine - NOTHING_FINE) * FINE_STEP)
        heights[lane(sample, t)] += h
        tallness[lane(k, t)] += shares[lane(sample, t)] * h


@lanes
def mix_fine_normals(sample, plane, texels, channels, samples, weight, mapped, sums):
    """As `mix_normals`, of normals whose x and y stand rounded in one array, and what that left away in another.

    texels, channels : of x, y, fine x and fine y.
    """
    (start, tilt), around, between = plane, samples.around, samples.spot.between
    mask_x, scale_x = channel_bits(channels[0] % 4)
    mask_y, scale_y = channel_bits(channels[1] % 4)
    mask_u, scale_u = channel_bits(channels[2] % 4)
    mask_v, scale_v = channel_bits(channels[3] % 4)
    spot = spot_row(sample, 0)
    for t in range(B):
        wa, wb, wc, wd = corner_weights(between[lane(spot, t)], between[lane(spot + 1, t)])
        a, b, c, d = corners_at(t, texels[0], around)
        x = (
            wa * plain(a, mask_x, scale_x)
            + wb * plain(b, mask_x, scale_x)
            + wc * plain(c, mask_x, scale_x)
            + wd * plain(d, mask_x, scale_x)
        )
        a, b, c, d = corners_at(t, texels[1], around)
        y = (
            wa * plain(a, mask_y, scale_y)
            + wb * plain(b, mask_y, scale_y)
            + wc * plain(c, mask_y, scale_y)
            + wd * plain(d, mask_y, scale_y)
        )
        a, b, c, d = corners_at(t, texels[2], around)
        fine_x = (
            wa * plain(a, mask_u, scale_u)
            + wb * plain(b, mask_u, scale_u)
            + wc * plain(c, mask_u, scale_u)
            + wd * plain(d, mask_u, scale_u)
        )
        a, b, c, d = corners_at(t, texels[3], around)
        fine_y = (
            wa * plain(a, mask_v, scale_v)
            + wb * plain(b, mask_v, scale_v)
            + wc * plain(c, mask_v, scale_v)
            + wd * plain(d, mask_v, scale_v)
        )
        x, y = x + (fine_x - NOTHING_FINE) * FINE_STEP, y + (fine_y - NOTHING_FINE) * FINE_STEP
        x, y = F2 * x - F1, F2 * y - F1
        slope = weight[lane(0, t)] / max(math.sqrt(max(F0, F1 - x * x - y * y)), np.float32(FLATTEST))
        x, y = x * slope, y * slope
        u, v = start + Plane.GRADIENT_U, start + Plane.GRADIENT_V
        sums[lane(tilt, t)] += x * mapped[lane(u, t)] - y * mapped[lane(v, t)]
        sums[lane(tilt + 1, t)] += x * mapped[lane(u + 1, t)] - y * mapped[lane(v + 1, t)]
        sums[lane(tilt + 2, t)] += x * mapped[lane(u + 2, t)] - y * mapped[lane(v + 2, t)]
