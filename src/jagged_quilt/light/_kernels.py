"""Light on points, as a loop."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.compiler import inlined, kernel

F0, F1, HALF = np.float32(0.0), np.float32(1.0), np.float32(0.5)


class SurfaceRows(NamedTuple):
    """What light falls on, at N points."""

    diffuse: NDArray[np.float32]  # (N, 3)
    specular: NDArray[np.float32]  # (N, 3)
    roughness: NDArray[np.float32]  # (N,)
    occlusion: NDArray[np.float32]  # (N,)
    normal: NDArray[np.float32]  # (N, 3)


class SkyRows(NamedTuple):
    """A sky as a gradient, and what the ground throws back: (3,) each; and how much of it counts as light from all around."""

    zenith: NDArray[np.float32]
    horizon: NDArray[np.float32]
    bounce: NDArray[np.float32]
    ambient: np.float32


@inlined
def _fifth(x):
    return x * x * x * x * x


@inlined
def _sky_at(up, sky, c):
    """The sky's light from a height above the horizon, -1..1; below it, what the ground throws back."""
    below = min(max(-up * np.float32(6.0), F0), F1)
    above = sky.horizon[c] + (sky.zenith[c] - sky.horizon[c]) * math.sqrt(min(max(up, F0), F1))
    return above * (F1 - below) + sky.bounce[c] * below


@kernel
def sky_light(directions, sky, out):
    """Fill the sky's light from each direction."""
    for p in range(directions.shape[0]):
        for c in range(3):
            out[p, c] = _sky_at(directions[p, 1], sky, c)


@kernel
def through_air(light, away, density, sky, out):
    """Fill what is left of light behind air, and the air's own."""
    for p in range(light.shape[0]):
        air = F1 - math.exp(-away[p] * density)
        for c in range(3):
            out[p, c] = light[p, c] * (F1 - air) + sky.horizon[c] * air


@kernel
def light_points(surface, view, towards, sunlit, sun, sky, out):
    """Fill the light that leaves each point towards the eye; `light.py` says by which model."""
    diffuse, specular, normal = surface.diffuse, surface.specular, surface.normal
    roughness, occlusion = surface.roughness, surface.occlusion
    zenith, horizon, bounce, ambient = sky.zenith, sky.horizon, sky.bounce, sky.ambient
    lx, ly, lz = towards[0], towards[1], towards[2]
    for p in range(normal.shape[0]):
        nx, ny, nz = normal[p, 0], normal[p, 1], normal[p, 2]
        vx, vy, vz = view[p, 0], view[p, 1], view[p, 2]
        rough = roughness[p]
        hx, hy, hz = vx + lx, vy + ly, vz + lz
        length = F1 / max(math.sqrt(hx * hx + hy * hy + hz * hz), np.float32(1e-6))
        hx, hy, hz = hx * length, hy * length, hz * length
        n_l = min(max(nx * lx + ny * ly + nz * lz, F0), F1)
        along = nx * vx + ny * vy + nz * vz
        n_v = min(max(along, np.float32(1e-3)), F1)
        n_h = min(max(nx * hx + ny * hy + nz * hz, F0), F1)
        v_h = min(max(vx * hx + vy * hy + vz * hz, F0), F1)
        alpha = max(rough, np.float32(0.04))
        alpha *= alpha
        square = alpha * alpha
        base = n_h * n_h * (square - F1) + F1
        lobe = square / (np.float32(math.pi) * base * base)
        smith = HALF / (
            n_l * math.sqrt(n_v * n_v * (F1 - square) + square)
            + n_v * math.sqrt(n_l * n_l * (F1 - square) + square)
            + np.float32(1e-6)
        )
        grazing_h, grazing_v = _fifth(F1 - v_h), _fifth(F1 - n_v)
        mirror_up = np.float32(2.0) * along * ny - vy
        for c in range(3):
            f0 = specular[p, c]
            fresnel = f0 + (F1 - f0) * grazing_h
            direct = (diffuse[p, c] / np.float32(math.pi) * (F1 - fresnel) + lobe * smith * fresnel) * n_l * sunlit[p] * sun[c]
            edge = f0 + (max(F1 - rough, f0) - f0) * grazing_v
            around = bounce[c] + (HALF * (horizon[c] + zenith[c]) - bounce[c]) * (HALF + HALF * ny)
            blurred = _sky_at(mirror_up, sky, c) * (F1 - rough) + around * rough
            out[p, c] = direct + (diffuse[p, c] * (F1 - edge) * around * ambient + edge * blurred) * occlusion[p]
