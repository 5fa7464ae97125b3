"""Stairs: what rounding to few levels leaves of a height map, found and taken out."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, positive
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.kernels import kernels_of

_stairs_kernels = kernels_of("jagged_quilt.maps._stairs_kernels")

Values = NDArray[np.float32]

_ROUNDS = 512
_AROUND = 5.0  # samples about a place, by which it is decided
_PRESSED = 0.08  # of those, that may lie at the end of their half step
_END = 0.499
_VISIBLE = 8  # rounds: stairs that fewer take out are the roughness of the ground
_TREADS = 0.2  # of neighbours that are alike, where there are stairs
_WIDE = 6.0  # samples from the middle of a plateau to its rim, at least
_FALLS = 3.0  # levels that the ground changes half so far beyond a plateau's rim
_RIM = 33  # per cent of the rim may fall less
_FLAT = 0.02  # levels


def without_stairs(values: Values, *, step: float, wraps: bool = True) -> Values:
    """Return heights of few levels smoothed, none moved by more than half a step.

    What was rounded is within half a step of what is stored: of all such surfaces that which bends least is sought, round by
    round. Where the ground itself is rough, many samples are soon pressed against the end of their half step: there the
    rounds before that hold. Plateaus, which are flat for far longer than the ground about them falls a level in, stay as they
    are.

    Parameters
    ----------
    values : (H, W) or (H, W, 1)
    step : float
        From one level to the next, in the unit of `values`; at 8 bits 1/255.
    wraps : bool
        Whether neighbours wrap around the border, as in a map that repeats; else the border stands beside itself.

    Examples
    --------
    >>> ramp = np.linspace(0, 1, 256, dtype=np.float32)[None, :, None].repeat(8, axis=0)
    >>> stairs = np.floor(ramp * 16) / 16
    >>> smooth = jq.convert.without_stairs(stairs, step=1 / 16, wraps=False)
    >>> bool(np.abs(np.diff(smooth[0, :, 0])).max() < 0.5 / 16)
    True
    """
    levels = _levels(values, step)
    smooth, rounds = _smoothed(levels, wraps, _ROUNDS)
    plain = np.asarray(values, np.float32).reshape(levels.shape)
    bounded = np.clip(smooth, levels.min(), levels.max()) * np.float32(step)
    return np.asarray(np.where(rounds > 0, bounded, plain), np.float32).reshape(values.shape)


def stairs_in(values: Values, *, step: float, wraps: bool = True) -> float:
    """Return the share of heights that lie on stairs: treads of equal samples, wider than the ground is rough."""
    levels = _levels(values, step)
    alike = np.mean([(np.diff(levels, axis=axis) == 0).mean() if levels.shape[axis] > 1 else 0 for axis in (0, 1)])
    if alike < _TREADS:
        return 0.0
    return float((_smoothed(levels, wraps, _VISIBLE)[1] >= _VISIBLE).mean())


def _levels(values: Values, step: float) -> Values:
    plain = np.asarray(values, np.float32)
    plain = plain[..., 0] if plain.ndim == 3 and plain.shape[2] == 1 else plain
    if plain.ndim != 2:
        raise ShapeError(f"heights must be (H, W); got {np.shape(values)}")
    return np.ascontiguousarray(plain / np.float32(positive("step", step)))


def _smoothed(levels: Values, wraps: bool, most: int) -> tuple[Values, NDArray[np.int32]]:
    """Levels smoothed by as many rounds, of `most`, as each place bears, and how many those are; none on plateaus."""
    from scipy.ndimage import gaussian_filter

    border: Literal["wrap", "nearest"] = "wrap" if wraps else "nearest"
    held = frozen(_plateaus(levels), bool)
    still_open = ~held
    chosen, rounds = levels.copy(), np.zeros(levels.shape, np.int32)
    now, after, done, stop = levels, np.empty_like(levels), 0, 1
    while stop <= most and still_open.any():
        for _ in range(stop - done):
            _stairs_kernels.flatten_bends(frozen(now, np.float32), frozen(levels, np.float32), held, wraps, after)
            now, after = after, np.empty_like(levels) if now is levels else now
        done, stop = stop, 2 * stop
        pressed = (np.abs(now - levels) > _END).astype(np.float32)
        still_open &= gaussian_filter(pressed, _AROUND, mode=border) <= _PRESSED
        chosen[still_open], rounds[still_open] = now[still_open], done
    return chosen, rounds


def _plateaus(levels: Values) -> NDArray[np.bool_]:
    """Which samples lie on a plateau: equal ones for a long way, beyond whose rim the ground soon falls or rises by levels."""
    from scipy import ndimage

    inner = np.ones(levels.shape, bool)
    for axis in (0, 1):
        alike = np.abs(np.diff(levels, axis=axis)) < _FLAT
        ahead = [slice(None)] * 2
        behind = [slice(None)] * 2
        ahead[axis], behind[axis] = slice(0, -1), slice(1, None)
        inner[tuple(ahead)] &= alike
        inner[tuple(behind)] &= alike
    number, count = ndimage.label(inner)
    out = np.zeros(levels.shape, bool)
    if not count:
        return out
    reach = ndimage.maximum(ndimage.distance_transform_edt(inner), number, np.arange(1, count + 1))
    for which, box in enumerate(ndimage.find_objects(number), 1):
        if reach[which - 1] < _WIDE or box is None:
            continue
        own = int(np.ceil(reach[which - 1] / 2)) + 1
        wide = tuple(slice(max(0, s.start - own - 1), s.stop + own + 1) for s in box)
        flat = number[wide] == which
        away = ndimage.distance_transform_edt(~flat)
        rim = (away > own - 1) & (away <= own)
        level = levels[wide][flat][0]
        if rim.any() and np.percentile(np.abs(levels[wide][rim] - level), _RIM) >= _FALLS:
            same = np.abs(levels[wide] - level) < _FLAT
            out[wide] |= same & (away <= 1.5)
    return out
