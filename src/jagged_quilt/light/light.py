"""One sun, one sky: how lit surfaces look. All linear, Rec. 709."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, number_in
from jagged_quilt.light import _kernels

Vectors = NDArray[np.float32]
"""(N, 3) float32."""

_SKY = _kernels.SkyRows(
    zenith=frozen([0.20, 0.34, 0.62], np.float32),
    horizon=frozen([0.66, 0.72, 0.78], np.float32),
    bounce=frozen([0.20, 0.17, 0.14], np.float32),
    ambient=np.float32(0.55),
)
_SUN = frozen([3.3, 3.0, 2.55], np.float32)


@dataclass(frozen=True, slots=True)
class Sun:
    """Where the sun stands.

    Attributes
    ----------
    bearing : float
        Degrees from north over east.
    height : float
        Degrees above the horizon, above 0.
    """

    bearing: float = 300.0
    height: float = 35.0

    def __post_init__(self) -> None:
        number_in("the sun's bearing", self.bearing, -360, 360, "degrees")
        number_in("the sun's height", self.height, 1, 90, "degrees")

    @property
    def towards(self) -> NDArray[np.float64]:
        """Unit vector towards the sun, in the world."""
        level = math.cos(math.radians(self.height))
        bearing = math.radians(self.bearing)
        return np.array([level * math.sin(bearing), math.sin(math.radians(self.height)), -level * math.cos(bearing)])


def sky(directions: Vectors) -> Vectors:
    """Return the sky's light from a direction; below the horizon, what the ground throws back."""
    out = np.empty((len(directions), 3), np.float32)
    _kernels.sky_light(frozen(directions, np.float32), _SKY, out)
    return out


def lit(
    diffuse: Vectors,
    specular: Vectors,
    roughness: NDArray[np.float32],
    occlusion: NDArray[np.float32],
    normal: Vectors,
    view: Vectors,
    sun: Sun,
    sunlit: NDArray[np.float32],
) -> Vectors:
    """Return the light that leaves points towards the eye.

    Lambert below a GGX lobe (Walter et al. 2007) with the height-correlated Smith term and Schlick's Fresnel; the sky adds
    light by how far a normal looks up, and its mirror image by reflectance and roughness.

    Parameters
    ----------
    diffuse, specular : (N, 3)
        Reflectance: of the body, and at normal incidence of the surface.
    roughness, occlusion, sunlit : (N,)
        sunlit is 0 in shadow.
    normal, view : (N, 3)
        Unit, world; view points to the eye.
    """
    out = np.empty((len(normal), 3), np.float32)
    surface = (frozen(each, np.float32) for each in (diffuse, specular, roughness, occlusion, normal))
    _kernels.light_points(
        _kernels.SurfaceRows(*surface),
        frozen(view, np.float32),
        frozen(sun.towards, np.float32),
        frozen(sunlit, np.float32),
        _SUN,
        _SKY,
        out,
    )
    return out


def hazed(light: Vectors, away: NDArray[np.floating], haze: float) -> Vectors:
    """Return what is left of light that comes `away` (N,) metres through air, and that of the air before it.

    haze : metres after which two thirds of what is seen is air, as bright as the sky at the horizon.
    """
    out = np.empty((len(light), 3), np.float32)
    _kernels.through_air(frozen(light, np.float32), frozen(away, np.float32), np.float32(1 / haze), _SKY, out)
    return out


def shoulder(light: NDArray[np.float32]) -> NDArray[np.float32]:
    """Return light as it is up to 0.7, and what is brighter bent to stay below 1."""
    bright = light > 0.7
    out = light.astype(np.float32)
    out[bright] = 1 - 0.3 * np.exp(-(light[bright] - 0.7) / 0.3)
    return out
