"""Texels: the channels of one, as numbers 0..1 or as linear light."""

from __future__ import annotations

import numpy as np

from jagged_quilt.blend._lane_kernels import lane
from jagged_quilt.blend._rows import F1
from jagged_quilt.foundation.compiler import inlined

BYTE_SCALE = np.float32(1.0 / 255.0)
FLATTEST = 1.0 / 128.0  # the least z of a detail normal, so that slopes are finite
# sRGB to linear light above the straight part: a polynomial fitted to the curve at the 8-bit values, in the error that
# counts, that of the value when it is encoded again: at most 0.05 of an 8-bit step.
C0, C1, C2 = np.float32(0.0010635564103722572), np.float32(0.028081538155674934), np.float32(0.5619546175003052)
C3, C4 = np.float32(0.5238565802574158), np.float32(-0.11539348214864731)
# The same of the sixth degree, within 3e-5: for colours that a matrix may subtract from each other.
D0, D1, D2 = np.float32(0.0008751389104872942), np.float32(0.034400101751089096), np.float32(0.49906912446022034)
D3, D4, D5 = np.float32(0.7680764198303223), np.float32(-0.5338178873062134), np.float32(0.3167717158794403)
D6 = np.float32(-0.08540410548448563)
STRAIGHT_END, STRAIGHT_SCALE = np.float32(0.04045), np.float32(1.0 / 12.92)


@inlined
def plain(texel, mask, scale):
    """One channel, 0..1, as it is stored. It is not shifted down: scale holds 1 / 255 and the channel's place."""
    return np.float32(np.uint32(texel & mask)) * scale


@inlined
def linear(texel, mask, s):
    """One channel, 0..1, as linear light of its sRGB value; s is the scale that brings it to 0..1."""
    x = np.float32(np.int32(texel & mask))
    curved = (((C4 * s * s * s * s * x + C3 * s * s * s) * x + C2 * s * s) * x + C1 * s) * x + C0
    return x * (STRAIGHT_SCALE * s) if x <= STRAIGHT_END / s else curved


@inlined
def linear_fine(texel, mask, s):
    """As `linear`, closer to the curve."""
    x = np.float32(np.int32(texel & mask)) * s
    curved = (((((D6 * x + D5) * x + D4) * x + D3) * x + D2) * x + D1) * x + D0
    return STRAIGHT_SCALE * x if x <= STRAIGHT_END else curved


@inlined
def channel_bits(channel):
    """The mask of a channel of a texel, and what brings it to 0..1."""
    return np.uint32(np.uint32(255) << np.uint32(8 * channel)), np.float32(BYTE_SCALE / np.float32(1 << (8 * channel)))


@inlined
def corner_weights(fx, fy):
    both = fx * fy
    return F1 - fx - fy + both, fx - both, fy - both, both


@inlined
def corners_at(t, texels, around):
    """The four texels around a lane's sample, which are in four rows of `around` from one on."""
    return around[lane(texels, t)], around[lane(texels + 1, t)], around[lane(texels + 2, t)], around[lane(texels + 3, t)]
