"""One kind of map made from another: plain functions on what maps mean, as `TextureMap.values` gives it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import finite_array, positive
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.json_types import Stored

Values = NDArray[np.float32]
"""(H, W) or (H, W, C) float32."""

DIELECTRIC = 0.04
"""Reflectance at normal incidence of what is no metal, where nothing else is known."""
_STEEPEST = float(np.tan(np.radians(80)))
_LOWEST_EXPONENT, _HIGHEST_EXPONENT = 2.0, 2048.0


def roughness_from_gloss(gloss: Values) -> Values:
    """Return roughness = 1 - gloss; both perceptual, 0..1.

    Examples
    --------
    >>> jq.convert.roughness_from_gloss(np.array([[[0.75]]], np.float32))
    array([[[0.25]]], dtype=float32)
    """
    return np.float32(1) - gloss


def gloss_from_roughness(roughness: Values) -> Values:
    """Return gloss = 1 - roughness; both perceptual, 0..1.

    Examples
    --------
    >>> jq.convert.gloss_from_roughness(np.array([[[0.25]]], np.float32))
    array([[[0.75]]], dtype=float32)
    """
    return np.float32(1) - roughness


def roughness_from_shininess(intensity: Values) -> Values:
    """Return the roughness of a specular intensity that is used as shininess.

    0..1 stands for a Blinn-Phong exponent n from 2 to 2048, in equal ratios; its lobe is as wide as a microfacet lobe of
    alpha = sqrt(2 / (n + 2)) (Walter et al. 2007, section 5.2), and roughness is the root of alpha.

    Examples
    --------
    >>> jq.convert.roughness_from_shininess(np.array([[[0.5]]], np.float32)).round(2)
    array([[[0.42]]], dtype=float32)
    """
    exponent = _LOWEST_EXPONENT * (_HIGHEST_EXPONENT / _LOWEST_EXPONENT) ** np.clip(intensity, 0, 1)
    return ((2 / (exponent + 2)) ** 0.25).astype(np.float32)


def diffuse_specular_from_metallic(base: Values, metallic: Values) -> tuple[Values, Values]:
    """Return diffuse and specular colour of a metallic material, as glTF 2.0 (appendix B) mixes them.

    Parameters
    ----------
    base : (H, W, 3)
        Base colour, linear.
    metallic : (H, W) or (H, W, 1)
        0..1.

    Examples
    --------
    >>> base, metallic = np.full((1, 1, 3), 0.8, np.float32), np.ones((1, 1, 1), np.float32)
    >>> diffuse, specular = jq.convert.diffuse_specular_from_metallic(base, metallic)
    >>> diffuse[0, 0], specular[0, 0]
    (array([0., 0., 0.], dtype=float32), array([0.8, 0.8, 0.8], dtype=float32))
    """
    metal = _one_channel("metallic", metallic, base)
    return base * (1 - metal), DIELECTRIC * (1 - metal) + base * metal


def metallic_from_diffuse_specular(diffuse: Values, specular: Values) -> tuple[Values, Values, Values]:
    """Return base colour, metallic, and what is lost, from diffuse and specular colour, all linear.

    A metallic material cannot have every pair of colours. Metallic solves the mixing of `diffuse_specular_from_metallic` for
    the mean of the channels; the base colour is then the least-squares answer of each channel.

    Returns
    -------
    base : (H, W, 3)
    metallic : (H, W, 1)
    lost : (H, W, 1)
        The largest difference that making diffuse and specular again would leave, over both and all channels.

    Examples
    --------
    >>> diffuse, specular = np.zeros((1, 1, 3), np.float32), np.full((1, 1, 3), 0.8, np.float32)
    >>> base, metallic, lost = jq.convert.metallic_from_diffuse_specular(diffuse, specular)
    >>> base[0, 0], metallic[0, 0]
    (array([0.8, 0.8, 0.8], dtype=float32), array([1.], dtype=float32))
    """
    if diffuse.shape != specular.shape or diffuse.ndim != 3:
        raise ShapeError(f"diffuse and specular must both be (H, W, 3); got {diffuse.shape} and {specular.shape}")
    d = diffuse.mean(axis=2, keepdims=True, dtype=np.float64)
    s = specular.mean(axis=2, keepdims=True, dtype=np.float64)
    # d = b (1 - m) and s = 0.04 (1 - m) + b m, without b: 0.04 m² + (d + s - 0.08) m + 0.04 - s = 0
    half = (d + s - 2 * DIELECTRIC) / 2
    root = np.sqrt(np.maximum(0, half**2 - DIELECTRIC * (DIELECTRIC - s)))
    best: tuple[Values, Values, Values] | None = None
    for sign in (1, -1):  # below 0.04 both answers may do; the one that loses less is kept
        metal = np.clip((sign * root - half) / DIELECTRIC, 0, 1).astype(np.float32)
        plain = 1 - metal
        fit = (plain * diffuse + metal * (specular - DIELECTRIC * plain)) / (plain**2 + metal**2)
        base = np.clip(fit, 0, 1).astype(np.float32)
        again = diffuse_specular_from_metallic(base, metal)
        lost = np.maximum(np.abs(again[0] - diffuse), np.abs(again[1] - specular)).max(axis=2, keepdims=True)
        if best is None:
            best = base, metal, lost
        else:
            worse = lost >= best[2]
            best = np.where(worse, best[0], base), np.where(worse, best[1], metal), np.where(worse, best[2], lost)
    assert best is not None
    return best


def flipped_green(normals: Values) -> Values:
    """Return normals (..., 3) with y turned round: from green-down to green-up, and back.

    Examples
    --------
    >>> jq.convert.flipped_green(np.array([[[0.0, 0.6, 0.8]]], np.float32))
    array([[[ 0. , -0.6,  0.8]]], dtype=float32)
    """
    return normals * np.array([1, -1, 1], np.float32)


def reoriented(base: Values, detail: Values) -> Values:
    """Return detail normals laid on top of a base normal map: turned as the base is turned away from straight up.

    w = t (t . u) / t_z - u with t = base + (0, 0, 1) and u = (-x, -y, z) of the detail (reoriented normal mapping,
    Barre-Brisebois and Hill 2012).

    Parameters
    ----------
    base, detail : (..., 3)
        Unit, z out of the surface; base not straight down.

    Raises
    ------
    ShapeError
        If the two do not fit each other.

    Examples
    --------
    >>> flat, detail = np.array([[[0.0, 0.0, 1.0]]], np.float32), np.array([[[0.6, 0.0, 0.8]]], np.float32)
    >>> jq.convert.reoriented(flat, detail)
    array([[[0.6, 0. , 0.8]]], dtype=float32)
    """
    given = np.asarray(base, np.float64), np.asarray(detail, np.float64)
    if given[0].shape != given[1].shape or given[0].shape[-1:] != (3,):
        raise ShapeError(f"base and detail must both be (..., 3) of one shape; got {given[0].shape} and {given[1].shape}")
    t, u = given[0] + (0.0, 0.0, 1.0), given[1] * (-1.0, -1.0, 1.0)
    w = t * (np.sum(t * u, axis=-1, keepdims=True) / np.maximum(t[..., 2:], 1e-6)) - u
    return np.asarray(w / np.maximum(np.linalg.norm(w, axis=-1, keepdims=True), 1e-12), np.float32)


def height_from_alpha(texels: Stored) -> Values:
    """Return the alpha of stored texels (H, W, 2 or 4) as heights 0..1, (H, W).

    Examples
    --------
    >>> jq.convert.height_from_alpha(np.array([[[128, 128, 255, 51]]], np.uint8))
    array([[0.2]], dtype=float32)
    """
    if texels.ndim != 3 or texels.shape[2] not in (2, 4):
        raise ShapeError(f"texels with alpha must be (H, W, 2) or (H, W, 4); got {texels.shape}")
    top = np.iinfo(texels.dtype).max if texels.dtype.kind == "u" else 1.0
    return (texels[..., -1] / np.float32(top)).astype(np.float32)


def normals_from_two_channels(slopes: Values) -> Values:
    """Return unit normals (..., 3) from x and y (..., 2), -1..1: z = sqrt(max(0, 1 - x² - y²)).

    Examples
    --------
    >>> jq.convert.normals_from_two_channels(np.array([[[0.6, 0.0]]], np.float32))
    array([[[0.6, 0. , 0.8]]], dtype=float32)
    """
    up = np.sqrt(np.maximum(0, 1 - (slopes**2).sum(axis=-1, keepdims=True)))
    whole = np.concatenate([slopes, up], axis=-1)
    return (whole / np.maximum(np.linalg.norm(whole, axis=-1, keepdims=True), 1e-12)).astype(np.float32)


def normal_from_height(metres: Values, *, tile: tuple[float, float]) -> Values:
    """Return the normals of a relief that repeats, by central differences.

    Parameters
    ----------
    metres : (H, W) or (H, W, 1)
        Height in metres.
    tile : (float, float)
        Metres that the map covers, along u and along v: the slopes are true to scale.

    Returns
    -------
    (H, W, 3) float32
        Unit, tangent space, green up.

    Examples
    --------
    >>> slope = np.broadcast_to(np.arange(8, dtype=np.float32), (8, 8)) * 0.25
    >>> normals = jq.convert.normal_from_height(slope, tile=(2.0, 2.0))
    >>> normals[4, 4].round(3)
    array([-0.707,  0.   ,  0.707], dtype=float32)
    """
    relief, (wide, high) = _relief(metres, tile)
    east = (np.roll(relief, -1, axis=1) - np.roll(relief, 1, axis=1)) * (relief.shape[1] / (2 * wide))
    south = (np.roll(relief, -1, axis=0) - np.roll(relief, 1, axis=0)) * (relief.shape[0] / (2 * high))
    normals = np.stack([-east, south, np.ones_like(east)], axis=2)
    return (normals / np.linalg.norm(normals, axis=2, keepdims=True)).astype(np.float32)


def slopes_from_normals(normals: NDArray[np.floating]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the slopes that green-up normals (H, W, 3) tell, east and south, (H, W), metres a metre; none above 80 degrees."""
    vectors = np.asarray(normals, np.float64)
    up = np.maximum(vectors[..., 2], np.maximum(np.hypot(vectors[..., 0], vectors[..., 1]) / _STEEPEST, 1e-9))
    return -vectors[..., 0] / up, vectors[..., 1] / up


def height_from_normal(normals: Values, *, tile: tuple[float, float]) -> Values:
    """Return the relief that fits normals best, in metres about 0, (H, W): the inverse of `normal_from_height`.

    Least squares over all slopes at once, in Fourier space (Frankot and Chellappa 1988), with the frequency response of
    central differences, i sin(w). What no central difference can see (the finest ripples) is left flat, and so is the mean
    slope: a map that repeats has none. Slopes above 80 degrees, as of texels that point sideways or inwards, count as 80.

    Parameters
    ----------
    normals : (H, W, 3)
        Green up.
    tile : (float, float)
        Metres that the map covers, along u and along v.

    Examples
    --------
    >>> wave = 0.1 * np.sin(np.linspace(0, 2 * np.pi, 64, endpoint=False, dtype=np.float32))
    >>> metres = np.broadcast_to(wave, (64, 64))
    >>> normals = jq.convert.normal_from_height(metres, tile=(2.0, 2.0))
    >>> bool(np.ptp(jq.convert.height_from_normal(normals, tile=(2.0, 2.0)) - metres) < 0.001)
    True
    """
    vectors = finite_array("normals", normals, ("H", "W", 3)).astype(np.float64)
    wide, high = positive("tile", tile[0], "m"), positive("tile", tile[1], "m")
    rows, columns = vectors.shape[:2]
    east, south = slopes_from_normals(vectors)
    across = np.sin(2 * np.pi * np.fft.rfftfreq(columns))[None, :] * (columns / wide)
    down = np.sin(2 * np.pi * np.fft.fftfreq(rows))[:, None] * (rows / high)
    power = across**2 + down**2
    seen = power > 1e-9 * power.max() if power.max() > 0 else np.zeros(power.shape, bool)
    wave = -1j * (across * np.fft.rfft2(east) + down * np.fft.rfft2(south))
    wave = np.where(seen, wave / np.where(seen, power, 1), 0)
    return np.fft.irfft2(wave, s=(rows, columns)).astype(np.float32)


def occlusion_from_height(metres: Values, *, tile: tuple[float, float], reach: float | None = None) -> Values:
    """Return how open the sky is above each texel of a relief that repeats, 0..1, (H, W).

    The horizon is searched in 16 directions; a direction whose horizon stands at an angle e lets in cos²(e) of the light
    that a cosine-weighted sky sends from it (Max 1988; Bavoil and Sainz 2008).

    Parameters
    ----------
    metres, tile
        As for `normal_from_height`.
    reach : float, optional
        Metres up to which something can stand in the way; an eighth of the tile where it is not given.

    Examples
    --------
    >>> pit = np.ones((32, 32), np.float32)
    >>> pit[12:20, 12:20] = 0.0
    >>> open_sky = jq.convert.occlusion_from_height(pit, tile=(4.0, 4.0))
    >>> bool(open_sky[16, 16] < open_sky[2, 2])
    True
    """
    relief, (wide, high) = _relief(metres, tile)
    far = min(wide, high) / 8 if reach is None else positive("reach", reach, "m")
    step_x, step_y = wide / relief.shape[1], high / relief.shape[0]
    open_sky = np.zeros_like(relief)
    for turn in range(16):
        angle = 2 * np.pi * (turn + 0.5) / 16
        steepest = np.zeros_like(relief)
        seen = set()
        distance = min(step_x, step_y)
        while distance <= far:
            right, down = round(np.cos(angle) * distance / step_x), round(np.sin(angle) * distance / step_y)
            if (right, down) not in seen and (right, down) != (0, 0):
                seen.add((right, down))
                rise = np.roll(relief, (-down, -right), axis=(0, 1)) - relief
                np.maximum(steepest, rise / np.hypot(right * step_x, down * step_y), out=steepest)
            distance *= 1.25
        open_sky += 1 / (1 + steepest**2)
    return (open_sky / 16).astype(np.float32)


def _relief(metres: Values, tile: tuple[float, float]) -> tuple[NDArray[np.float64], tuple[float, float]]:
    plain = np.asarray(metres, np.float64)
    plain = plain[..., 0] if plain.ndim == 3 and plain.shape[2] == 1 else plain
    if plain.ndim != 2:
        raise ShapeError(f"heights must be (H, W); got {np.shape(metres)}")
    if not np.isfinite(plain).all():
        raise RangeError("heights must be finite")
    return plain, (positive("tile", tile[0], "m"), positive("tile", tile[1], "m"))


def _one_channel(name: str, values: Values, like: Values) -> Values:
    plain = values[..., None] if values.ndim == 2 else values
    if plain.shape[:2] != like.shape[:2] or plain.shape[2] != 1:
        raise ShapeError(f"{name} must be (H, W) of the same size as the colour; got {values.shape} and {like.shape}")
    return plain
