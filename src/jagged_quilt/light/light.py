"""How lit surfaces look: what leaves them towards the eye, under lamps and a sky. All linear, Rec. 709."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, number_in
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.light import _rows as k
from jagged_quilt.light.lamps import Light, Sun, checked_lights
from jagged_quilt.light.reflection import albedo_table
from jagged_quilt.light.sky import Sky
from jagged_quilt.light.sky_image import SkyImage
from jagged_quilt.light.tone import Tone, toned
from jagged_quilt.maps.roles import SURFACE_COLUMNS

_kernels = kernels_of("jagged_quilt.light._kernels")
_sky_kernels = kernels_of("jagged_quilt.light._sky_kernels")

Vectors = NDArray[np.float32]
"""(N, 3) float32."""


class LitSurface(NamedTuple):
    """What light falls on, at N points.

    values : (N, 12) or (N, 20) float32
        By `SHADED_ROLES`: unit normals in the world, specular at normal incidence.
    eye : (N, 3)
        Unit, world; points to it.
    """

    values: NDArray[np.float32]
    eye: Vectors

    @property
    def has_optional(self) -> bool:
        """Whether it has coats or emission."""
        return self.values.shape[1] > SURFACE_COLUMNS

    @property
    def occlusion(self) -> NDArray[np.float32]:
        """How open it is to the sky, (N,)."""
        return self.values[:, k.OCCLUSION]

    @property
    def coat_share(self) -> NDArray[np.float32]:
        """How much a coat throws back towards the eye and so takes from what lies below it, (N,): coat x Fresnel."""
        if not self.has_optional:
            return np.zeros(len(self.values), np.float32)
        normal = self.values[:, k.COAT_NORMAL : k.COAT_NORMAL + 3]
        facing = np.clip(np.einsum("nd,nd->n", normal, self.eye), 1e-3, 1)
        fresnel = k.COAT_FACING + (1 - k.COAT_FACING) * (1 - facing) ** 5
        return np.asarray(np.clip(self.values[:, k.COAT], 0, 1) * fresnel, np.float32)

    def without_glow(self) -> LitSurface:
        """Return the same without its emission."""
        if not self.has_optional:
            return self
        values = self.values.copy()
        values[:, k.EMISSION : k.EMISSION + 3] = 0
        return self._replace(values=values)


PARTS = ("diffuse light", "specular light", "sky in the body", "sky in the surface", "coat", "emission")
"""What the light that leaves a point is the sum of: of lamps by the body and by the surface, then of the sky; what a coat
throws back of both; and what glows by itself. All but the coat's are dimmed by it already."""


@dataclass(frozen=True, slots=True)
class Lighting:
    """The lights of a scene, and how what they light is shown.

    Attributes
    ----------
    lights : tuple of Sun, PointLight or SpotLight
    sky : Sky or SkyImage
    exposure : float
        Stops.
    tone : Tone
    """

    lights: tuple[Light, ...] = (Sun(),)
    sky: Sky | SkyImage = Sky()  # noqa: RUF009 (a value)
    exposure: float = 0.0
    tone: Tone = Tone.SOFT

    def __post_init__(self) -> None:
        checked_lights(self.lights)
        number_in("exposure", self.exposure, -20, 20, "stops")

    def shown(self, light: Vectors) -> Vectors:
        """Return light as a screen shows it, 0..1, linear."""
        return toned(light, exposure=self.exposure, tone=self.tone)

    def leaving(
        self,
        surface: LitSurface,
        positions: NDArray[np.float64],
        free: Sequence[NDArray[np.float32]],
        *,
        in_parts: bool = False,
    ) -> Vectors:
        """Return the light that leaves points towards the eye, (N, 3); or the `PARTS` of which it is the sum, (N, 6, 3).

        Lambert below a GGX lobe (Walter et al. 2007) with the height-correlated Smith term and Schlick's Fresnel. What the
        lobe loses by counting only the first reflection is given back by its colour (Turquin 2019), and the body gets what
        the surface lets through: so no energy is made or lost. A coat (KHR_materials_clearcoat) throws back coat x Fresnel by
        a lobe of its own, made as bright in the same way, and dims the rest by just that.

        Parameters
        ----------
        places : (N, 3)
            Metres, in the world.
        free : sequence of (N,)
            For each light how free the way to it is, 0 in shadow.
        """
        count = len(surface.values)
        out = np.zeros((count, len(PARTS) if in_parts else 1, 3), np.float32)
        rows = k.SurfaceRows(*(frozen(each, np.float32) for each in surface))
        scratch, at = np.zeros(k.SCRATCH, np.float32), np.zeros(3 * k.LANES, np.int32)
        _kernels.light_points(rows, self._lamps(positions, free), self.sky.rows, albedo_table(), scratch, at, out)
        return out if in_parts else out[:, 0]

    def _lamps(self, positions: NDArray[np.float64], free: Sequence[NDArray[np.float32]]) -> k.LampRows:
        """The lights at places, as the kernel reads them."""
        reached = [light.reach_at(positions) for light in self.lights]
        ways = [way for way, _ in reached]
        arriving = [share * each for (_, share), each in zip(reached, free, strict=True)]
        colours = [np.multiply(light.colour, light.strength) for light in self.lights]
        return k.LampRows(
            frozen(np.concatenate([*ways, np.empty((0, 3), np.float32)]), np.float32),
            frozen([0, *np.cumsum([len(way) for way in ways])[:-1]] if ways else [], np.int64),
            frozen([len(way) > 1 for way in ways], np.int64),
            frozen(np.reshape(arriving, (len(ways), len(positions))), np.float32),
            frozen(np.reshape(colours, (len(ways), 3)), np.float32),
        )


def hazed(light: Vectors, away: NDArray[np.floating], haze: float, sky: Sky | SkyImage) -> Vectors:
    """Return what is left of light that comes `away` (N,) metres through air, and that of the air before it.

    haze : metres after which two thirds of what is seen is air, as bright as the sky at the horizon.
    """
    out = np.empty((len(light), 3), np.float32)
    _sky_kernels.through_air(frozen(light, np.float32), frozen(away, np.float32), np.float32(1 / haze), sky.rows, out)
    return out
