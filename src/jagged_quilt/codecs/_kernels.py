"""Fitting of single-channel blocks (BC4, and each half of BC5), as loops."""

from __future__ import annotations

import numpy as np

from jagged_quilt.foundation.compiler import inlined, kernel

_REFINED = 3
_SEARCHED = 4


@inlined
def _palette(first, second, colours):
    """The eight values that two end values stand for: six between them, or four between and both extremes."""
    colours[0] = first
    colours[1] = second
    if first > second:
        for n in range(1, 7):
            colours[n + 1] = np.float32((7 - n) * first + n * second) / np.float32(7)
    else:
        for n in range(1, 5):
            colours[n + 1] = np.float32((5 - n) * first + n * second) / np.float32(5)
        colours[6] = np.float32(0)
        colours[7] = np.float32(255)


@inlined
def _choose(block, colours, choice):
    """Give each texel the nearest of eight values; return the sum of squares of what is off."""
    error = np.float32(0)
    for t in range(16):
        best = np.float32(1e9)
        for n in range(8):
            off = block[t] - colours[n]
            off *= off
            if off < best:
                best = off
                choice[t] = n
        error += best
    return error


@inlined
def _error(block, first, second, colours):
    _palette(first, second, colours)
    error = np.float32(0)
    for t in range(16):
        best = np.float32(1e9)
        for n in range(8):
            off = block[t] - colours[n]
            best = min(best, off * off)
        error += best
    return error


@inlined
def _solved(block, choice, six):
    """The end values that fit best to the choices (least squares), or -1 twice if the choices do not tell."""
    aa = np.float32(0)
    ab = np.float32(0)
    bb = np.float32(0)
    av = np.float32(0)
    bv = np.float32(0)
    steps = np.float32(7) if six else np.float32(5)
    for t in range(16):
        n = choice[t]
        if not six and n >= 6:
            continue
        share = np.float32(0) if n == 0 else np.float32(1) if n == 1 else np.float32(n - 1) / steps
        a = np.float32(1) - share
        aa += a * a
        ab += a * share
        bb += share * share
        av += a * block[t]
        bv += share * block[t]
    whole = aa * bb - ab * ab
    if whole < np.float32(1e-4):
        return np.float32(-1), np.float32(-1)
    return (bb * av - ab * bv) / whole, (aa * bv - ab * av) / whole


@inlined
def _rounded(value):
    return int(min(max(value, np.float32(0)), np.float32(255)) + np.float32(0.5))


@inlined
def _fitted(block, first, second, six, colours, choice):
    """Refine two end values by turns of choosing and solving, then by trying their neighbours; keep the best."""
    best = _error(block, first, second, colours)
    for _ in range(_REFINED):
        _palette(first, second, colours)
        _choose(block, colours, choice)
        a, b = _solved(block, choice, six)
        if a < 0 and b < 0:
            break
        low, high = min(_rounded(a), _rounded(b)), max(_rounded(a), _rounded(b))
        if six and low == high:
            break
        new_first, new_second = (high, low) if six else (low, high)
        error = _error(block, new_first, new_second, colours)
        if error >= best:
            break
        best, first, second = error, new_first, new_second
    for _ in range(_SEARCHED):
        if best == 0:
            break
        from_first, from_second = first, second
        for down in range(-1, 2):
            for right in range(-1, 2):
                a, b = from_first + down, from_second + right
                if (down == 0 and right == 0) or min(a, b) < 0 or max(a, b) > 255 or (six and a <= b) or (not six and a > b):
                    continue
                error = _error(block, a, b, colours)
                if error < best:
                    best, first, second = error, a, b
        if first == from_first and second == from_second:
            break
    return best, first, second


@kernel
def fit_blocks(values, scratch, out):
    """Fit every 4 x 4 block of (H, W) values, 0..255, into 8 bytes of `out`; `scratch` is (3, 16) float32."""
    block = scratch[0]
    colours = scratch[1]
    choice = scratch[2].view(np.int32)
    across = values.shape[1] // 4
    for index in range(out.shape[0]):
        top = index // across * 4
        left = index % across * 4
        low = np.float32(255)
        high = np.float32(0)
        inner_low = np.float32(255)
        inner_high = np.float32(0)
        for t in range(16):
            value = min(max(values[top + t // 4, left + t % 4], np.float32(0)), np.float32(255))
            block[t] = value
            low = min(low, value)
            high = max(high, value)
            if value > 4:
                inner_low = min(inner_low, value)
            if value < 251:
                inner_high = max(inner_high, value)
        first, second = _rounded(high), _rounded(low)
        if first == second:  # the same value twice: every choice gives it
            best, first, second = _error(block, first, second, colours), first, second
        else:
            best, first, second = _fitted(block, first, second, True, colours, choice)
        if best > 0 and (low < 4 or high > 251) and inner_low <= inner_high:
            other, a, b = _fitted(block, _rounded(inner_low), _rounded(inner_high), False, colours, choice)
            if other < best:
                first, second = a, b
        _palette(first, second, colours)
        _choose(block, colours, choice)
        out[index, 0] = first
        out[index, 1] = second
        bits = np.uint64(0)
        for t in range(16):
            bits |= np.uint64(choice[t]) << np.uint64(3 * t)
        for byte in range(6):
            out[index, 2 + byte] = np.uint8((bits >> np.uint64(8 * byte)) & np.uint64(255))
