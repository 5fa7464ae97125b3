"""A clear sky by its sun and how hazy the air is (Preetham, Shirley and Smits 1999)."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import number_in, whole_number_in
from jagged_quilt.light.lamps import Colour, Sun
from jagged_quilt.light.sky_image import SkyImage, directions_of

# By turbidity: how luminance and the two chromaticities go over the sky (Perez), and the zenith's chromaticities by its cube.
_PEREZ = np.array(
    [
        [(0.1787, -1.4630), (-0.3554, 0.4275), (-0.0227, 5.3251), (0.1206, -2.5771), (-0.0670, 0.3703)],
        [(-0.0193, -0.2592), (-0.0665, 0.0008), (-0.0004, 0.2125), (-0.0641, -0.8989), (-0.0033, 0.0452)],
        [(-0.0167, -0.2608), (-0.0950, 0.0092), (-0.0079, 0.2102), (-0.0441, -1.6537), (-0.0109, 0.0529)],
    ]
)
_ZENITH_X = np.array(
    [(0.00166, -0.00375, 0.00209, 0.0), (-0.02903, 0.06377, -0.03202, 0.00394), (0.11693, -0.21196, 0.06052, 0.25886)]
)
_ZENITH_Y = np.array(
    [(0.00275, -0.00610, 0.00317, 0.0), (-0.04214, 0.08970, -0.04153, 0.00516), (0.15346, -0.26756, 0.06670, 0.26688)]
)
_TO_709 = np.array([(3.2406, -1.5372, -0.4986), (-0.9689, 1.8758, 0.0415), (0.0557, -0.2040, 1.0570)])
_SCALE = 0.045  # light for a thousand candela per square metre: a clear sky at noon is then about as bright as the default one


def clear_sky(
    sun: Sun = Sun(),  # noqa: B008 (a value)
    *,
    haze: float = 3.0,
    rows: int = 256,
    ground: Colour = (0.124, 0.105, 0.087),
) -> SkyImage:
    """Return the sky around a sun, without its disc.

    Parameters
    ----------
    haze : float
        Turbidity, 2 (very clear) to 8 (hazy).
    rows : int
        Of the image; it is twice as wide.
    ground : (red, green, blue)
        What comes from below the horizon, linear light.

    Examples
    --------
    >>> jq.clear_sky(jq.Sun(bearing=118, height=24), haze=3.0, rows=64)
    <SkyImage 128 x 64, bearing 0, exposure 0>
    """
    number_in("haze", haze, 1.8, 10)
    size = (whole_number_in("rows", rows, 8, 8192), 2 * rows)
    ways = directions_of(size)
    up, towards = ways[..., 1], sun.towards
    from_sun = np.arccos(np.clip(ways @ towards, -1, 1))
    low = math.acos(towards[1])
    terms = _PEREZ @ [haze, 1.0]
    cube = np.array([low**3, low**2, low, 1.0])
    chi = (4 / 9 - haze / 120) * (math.pi - 2 * low)
    luminance = max((4.0453 * haze - 4.9710) * math.tan(chi) - 0.2155 * haze + 2.4192, 0.05)
    zenith = luminance, *(float([haze**2, haze, 1.0] @ table @ cube) for table in (_ZENITH_X, _ZENITH_Y))
    cosine = np.maximum(up, 0.01)
    bright, x, y = (
        value * _perez(terms[n], cosine, from_sun) / _perez(terms[n], np.array(1.0), np.array(low))
        for n, value in enumerate(zenith)
    )
    xyz = np.stack([x / y, np.ones_like(y), (1 - x - y) / y], axis=-1) * bright[..., None]
    light = np.maximum(xyz @ _TO_709.T, 0) * _SCALE
    below = np.clip(-up * 12, 0, 1)[..., None]
    return SkyImage((light * (1 - below) + np.array(ground) * below).astype(np.float32))


def _perez(terms: NDArray[np.float64], cosine: NDArray[np.float64], from_sun: NDArray[np.float64]) -> NDArray[np.float64]:
    a, b, c, d, e = terms
    return np.asarray((1 + a * np.exp(b / cosine)) * (1 + c * np.exp(d * from_sun) + e * np.cos(from_sun) ** 2))
