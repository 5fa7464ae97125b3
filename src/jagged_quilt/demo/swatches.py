"""The materials of the saltworks: each a relief and what follows from it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.demo.relief import Field, cells_of, grid, patches, per_cell, step, stretched, warped
from jagged_quilt.foundation.colour import srgb_from_linear
from jagged_quilt.maps.roles import MapRole

Colour = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Coat:
    """A clear coat: how much of it there is, how rough it is, and how high it lies in the relief; (H, W) each."""

    amount: Field
    roughness: Field
    height: Field


@dataclass(frozen=True, eq=False)
class Recipe:
    """What the maker of a material decides; the maps follow.

    Attributes
    ----------
    height : (H, W)
        0..1 of the relief.
    diffuse : (H, W, 3)
        sRGB-encoded, 0..1, as one picks a colour.
    roughness : (H, W)
        0..1, perceptual.
    reflectance : (H, W)
        Linear, at normal incidence.
    coat : Coat, optional
        A clear coat over it.
    """

    height: Field
    diffuse: Colour
    roughness: Field
    reflectance: Field
    coat: Coat | None = None


def _between(low: tuple[int, int, int], high: tuple[int, int, int], share: Field) -> Colour:
    """Mix two 8-bit sRGB colours."""
    return (np.array(low) + (np.array(high) - np.array(low)) * share[..., None]) / 255


def brine(side: int) -> Recipe:
    """Shallow salt water, still, over a pale floor; a rosy bloom drifts in it."""
    u, v = grid(side)
    wu, wv = warped(u, v, amount=0.10, cells=3, seed=11)
    ripple = patches(wu, wv, cells=7, octaves=3, seed=12) * 0.7 + patches(u, v, cells=19, octaves=2, seed=13) * 0.3
    bloom = step(patches(wu, wv, cells=4, octaves=5, seed=14), 0.30, 0.80)
    diffuse = _between((84, 122, 118), (132, 116, 108), bloom) * (0.93 + 0.14 * patches(u, v, cells=5, seed=15))[..., None]
    return Recipe(stretched(ripple), diffuse, 0.06 + 0.05 * bloom, 0.019 + 0.004 * ripple)


def salt_crust(side: int) -> Recipe:
    """Dry salt that grew into polygons with raised rims."""
    u, v = grid(side)
    wu, wv = warped(u, v, amount=0.06, cells=6, seed=21)
    edge, _, which = cells_of(wu, wv, count=36, seed=22)
    rim = np.exp(-((edge / 0.012) ** 2))
    shoulder = np.exp(-edge / 0.03)
    grain = patches(u, v, cells=48, octaves=3, seed=23)
    dish = patches(u, v, cells=8, octaves=4, seed=24)
    height = stretched(0.62 * rim + 0.30 * shoulder + 0.16 * dish + 0.10 * grain + 0.06 * per_cell(which, seed=25))
    stain = step(patches(u, v, cells=4, octaves=5, seed=26), 0.45, 0.75)
    diffuse = _between((206, 198, 188), (240, 238, 232), np.clip(0.3 + 0.9 * height, 0, 1))
    diffuse = diffuse * (1 - 0.14 * stain[..., None] * np.array([0.3, 0.7, 1.0]))
    return Recipe(height, diffuse, 0.62 + 0.25 * grain - 0.12 * rim, 0.040 + 0.010 * grain)


def cracked_clay(side: int) -> Recipe:
    """Grey-brown clay that dried into curled plates."""
    u, v = grid(side)
    wu, wv = warped(u, v, amount=0.05, cells=5, seed=31)
    edge, middle, which = cells_of(wu, wv, count=64, seed=32)
    fine, _, _ = cells_of(*warped(u, v, amount=0.03, cells=12, seed=33), count=400, seed=34)
    gap = step(edge, 0.011, 0.003)
    hairline = step(fine, 0.0022, 0.0006) * step(edge, 0.01, 0.03)
    curl = step(edge, 0.05, 0.005) * 0.35
    grain = patches(u, v, cells=40, octaves=4, seed=35)
    height = stretched(
        (0.55 + curl + 0.20 * grain - 0.5 * middle + 0.12 * per_cell(which, seed=36)) * (1 - gap) - 0.08 * hairline
    )
    tone = np.clip(0.35 + 0.5 * per_cell(which, seed=37) + 0.5 * (grain - 0.5), 0, 1)
    diffuse = _between((112, 88, 70), (158, 132, 108), tone) * (1 - 0.72 * gap - 0.25 * hairline * (1 - gap))[..., None]
    return Recipe(height, diffuse, 0.86 - 0.12 * curl + 0.06 * grain, 0.033 + 0.010 * grain)


def layered_gypsum(side: int) -> Recipe:
    """Beds of pale gypsum: ledges that run level, of unlike thickness, with crystals that glint."""
    return _beds(side, count=14, seed=41, dark=(150, 122, 100), pale=(222, 206, 184))


def red_gypsum(side: int) -> Recipe:
    """The same stone, stained by iron, in fewer and thicker beds."""
    return _beds(side, count=9, seed=141, dark=(138, 104, 84), pale=(208, 178, 152))


def _beds(side: int, *, count: int, seed: int, dark: tuple[int, int, int], pale: tuple[int, int, int]) -> Recipe:
    u, v = grid(side)
    bend = 0.035 * (patches(u, v, cells=3, octaves=4, seed=seed) - 0.5) * 2
    along = v + bend
    rng = np.random.default_rng(seed + 1)
    borders = np.sort((np.arange(count) + rng.uniform(0.15, 0.85, count)) / count)
    turn = along % 1.0
    bed = np.searchsorted(borders, turn) % count
    below = borders[bed - 1]
    above = borders[bed]
    within = ((turn - below) % 1.0) / ((above - below) % 1.0)
    ledge = rng.random(count)[bed]
    crumble = patches(u, v, cells=14, octaves=5, seed=seed + 2)
    split = step(np.abs(patches(u, v, cells=6, octaves=4, seed=seed + 3) - 0.5), 0.012, 0.004)
    lip = step(within, 0.0, 0.10) * step(within, 1.0, 0.82)
    height = stretched((0.30 + 0.5 * ledge) * (0.45 + 0.55 * lip) + 0.30 * crumble - 0.22 * split)
    tone = np.clip(0.55 * rng.random(count)[bed] + 0.3 * crumble + 0.25 * lip, 0, 1)
    diffuse = _between(dark, pale, tone) * (1 - 0.35 * split)[..., None]
    glint = step(patches(u, v, cells=60, octaves=2, seed=seed + 4), 0.62, 0.75)
    return Recipe(height, diffuse, 0.72 - 0.42 * glint, 0.042 + 0.02 * glint)


def broken_gypsum(side: int) -> Recipe:
    """Blocks that split off and lie as they fell, with rubble between."""
    u, v = grid(side)
    wu, wv = warped(u, v, amount=0.04, cells=5, seed=241)
    edge, middle, which = cells_of(wu, wv, count=49, seed=242)
    gap = step(edge, 0.016, 0.003)
    grain = patches(u, v, cells=20, octaves=5, seed=243)
    tilt = 0.5 + 2.2 * ((per_cell(which, seed=244) - 0.5) * (middle - 0.05))
    height = stretched((0.35 + 0.5 * per_cell(which, seed=245)) * tilt * (1 - 0.8 * gap) + 0.25 * grain)
    tone = np.clip(0.2 + 0.5 * per_cell(which, seed=246) + 0.4 * grain, 0, 1)
    diffuse = _between((146, 118, 96), (218, 200, 176), tone) * (1 - 0.45 * gap)[..., None]
    return Recipe(height, diffuse, 0.78 - 0.16 * per_cell(which, seed=247), 0.040 + 0.010 * grain)


def raked_gravel(side: int) -> Recipe:
    """Small stones, raked into shallow furrows."""
    u, v = grid(side)
    _, middle, which = cells_of(u, v, count=900, seed=51)
    size = 0.55 + 0.45 * per_cell(which, seed=52)
    stone = np.sqrt(np.clip(1 - (middle / (0.0195 * size)) ** 2, 0, 1)) * size
    furrow = 0.5 + 0.5 * np.cos(2 * np.pi * (6 * u + 0.25 * (patches(u, v, cells=3, octaves=3, seed=53) - 0.5)))
    sand = patches(u, v, cells=64, octaves=2, seed=54)
    height = stretched(0.55 * stone + 0.45 * furrow + 0.06 * sand)
    hue = per_cell(which, seed=55)
    stones = _between((92, 88, 84), (186, 172, 154), hue)
    ground = _between((96, 84, 72), (128, 112, 94), sand)
    cover = step(stone, 0.02, 0.25)[..., None]
    diffuse = (stones * cover + ground * (1 - cover)) * (0.72 + 0.28 * stretched(height))[..., None]
    return Recipe(height, diffuse, 0.80 - 0.22 * cover[..., 0] * hue, 0.036 + 0.012 * hue * cover[..., 0])


def weathered_planks(side: int) -> Recipe:
    """Silvered boards side by side, with gaps, grain and nail heads."""
    u, v = grid(side)
    boards = 6
    board = np.floor(u * boards).astype(int) % boards
    across = u * boards % 1.0
    gap = np.minimum(across, 1 - across)
    open_gap = step(gap, 0.035, 0.012)
    shift = np.random.default_rng(61).random(boards)[board]
    long_v = (v + shift) % 1.0
    ring = 0.5 + 0.5 * np.sin(2 * np.pi * (5 * across + 3.0 * patches(u, long_v, cells=4, octaves=2, seed=63)))
    grain = stretched(patches(u, long_v, cells=24, octaves=3, seed=64)) * 0.5 + ring * 0.5
    end_joint = step(np.abs((v + shift) % 1.0 - 0.5), 0.006, 0.002)
    nail_u = np.minimum(np.abs(across - 0.2), np.abs(across - 0.8)) / boards
    nail_v = np.abs(np.abs((v + shift) % 1.0 - 0.5) - 0.03)
    nail = step(np.hypot(nail_u, nail_v), 0.0085, 0.0060)
    rounded = step(gap, 0.0, 0.14)
    height = stretched(
        (0.62 + 0.22 * rounded + 0.16 * grain + 0.10 * shift) * (1 - open_gap) * (1 - 0.8 * end_joint) - 0.06 * nail
    )
    tone = np.clip(0.25 + 0.45 * grain + 0.4 * (shift - 0.5), 0, 1)
    diffuse = _between((92, 80, 68), (176, 164, 148), tone)
    diffuse = diffuse * (1 - 0.8 * np.maximum(open_gap, end_joint))[..., None]
    diffuse = diffuse * (1 - nail[..., None]) + nail[..., None] * np.array([74, 56, 46]) / 255
    return Recipe(height, diffuse, 0.78 - 0.14 * grain - 0.2 * nail, 0.04 + 0.02 * nail)


def glazed_ware(side: int) -> Recipe:
    """Coloured slip over fired clay, pooled and thin in turns; a clear glaze lies over it, with a fine net of cracks."""
    u, v = grid(side)
    wu, wv = warped(u, v, amount=0.05, cells=5, seed=81)
    pooled = patches(wu, wv, cells=6, octaves=4, seed=82)
    edge, _, _ = cells_of(wu, wv, count=90, seed=83)
    crack = np.exp(-((edge / 0.006) ** 2))
    orange_peel = patches(u, v, cells=60, octaves=2, seed=85)
    speck = step(patches(u, v, cells=44, octaves=2, seed=84), 0.70, 0.82)
    diffuse = _between((30, 74, 70), (70, 122, 100), step(pooled, 0.25, 0.8))
    diffuse = diffuse * (1 - 0.45 * crack[..., None]) * (1 - 0.35 * speck[..., None])
    height = stretched(0.6 * pooled + 0.30 * orange_peel - 0.10 * crack)
    worn = step(patches(wu, wv, cells=9, octaves=4, seed=86), 0.70, 0.74)
    glaze = Coat((1 - worn) * (1 - 0.6 * crack), 0.05 + 0.12 * speck + 0.10 * crack, 0.30 * orange_peel + 0.15 * pooled)
    return Recipe(height, diffuse * (1 + 0.12 * worn[..., None]), 0.62 - 0.12 * pooled, 0.04 + 0.008 * pooled, glaze)


@dataclass(frozen=True)
class Material:
    """A material of the demo, with its size in the world in metres."""

    recipe: Callable[[int], Recipe]
    tile: float
    relief: float


MATERIALS = {
    "brine": Material(brine, 16.0, 0.03),
    "salt_crust": Material(salt_crust, 4.0, 0.06),
    "cracked_clay": Material(cracked_clay, 3.0, 0.08),
    "layered_gypsum": Material(layered_gypsum, 6.0, 0.22),
    "red_gypsum": Material(red_gypsum, 4.7, 0.20),
    "broken_gypsum": Material(broken_gypsum, 7.3, 0.30),
    "raked_gravel": Material(raked_gravel, 2.5, 0.07),
    "weathered_planks": Material(weathered_planks, 1.6, 0.03),
    "glazed_ware": Material(glazed_ware, 1.2, 0.004),
}


_LENS = 0.7  # texels; as a lens would, so that no edge of the relief is sharper than a texel can hold


def swatch_maps(material: Material, side: int) -> dict[MapRole, NDArray[np.uint8] | NDArray[np.uint16]]:
    """Return the maps of a material as they are stored in files, from one relief: six, and those of a coat if any."""
    from scipy.ndimage import gaussian_filter

    recipe = material.recipe(side)
    texel = material.tile / side
    height = stretched(gaussian_filter(recipe.height, _LENS, mode="wrap"))
    metres = height * material.relief
    specular = np.repeat(srgb_from_linear(recipe.reflectance.astype(np.float32))[..., None], 3, axis=2)
    maps: dict[MapRole, NDArray[np.uint8] | NDArray[np.uint16]] = {
        MapRole.DIFFUSE: _bytes(recipe.diffuse),
        MapRole.NORMAL: _bytes(_normals(metres, texel) * 0.5 + 0.5),
        MapRole.ROUGHNESS: _bytes(recipe.roughness),
        MapRole.SPECULAR: _bytes(specular),
        MapRole.HEIGHT: np.rint(np.clip(height, 0, 1) * 65535).astype(np.uint16),
        MapRole.OCCLUSION: _bytes(occlusion(metres, texel)),
    }
    if recipe.coat is not None:
        above = gaussian_filter(recipe.coat.height, _LENS, mode="wrap") * material.relief
        maps[MapRole.COAT] = _bytes(recipe.coat.amount)
        maps[MapRole.COAT_NORMAL] = _bytes(_normals(above, texel) * 0.5 + 0.5)
        maps[MapRole.COAT_ROUGHNESS] = _bytes(recipe.coat.roughness)
    return maps


def _normals(metres: Field, texel: float) -> NDArray[np.float64]:
    """The unit normals of a repeating relief, green up, (H, W, 3)."""
    east = (np.roll(metres, -1, axis=1) - np.roll(metres, 1, axis=1)) / (2 * texel)
    south = (np.roll(metres, -1, axis=0) - np.roll(metres, 1, axis=0)) / (2 * texel)
    normal = np.stack([-east, south, np.ones_like(east)], axis=2)
    return np.asarray(normal / np.linalg.norm(normal, axis=2, keepdims=True))


def occlusion(metres: Field, texel: float, reach: int = 24) -> Field:
    """Return how open the sky is above each texel of a repeating relief, 0..1.

    The horizon is searched in 8 directions up to `reach` texels away; open sky in a direction is 1 - sin(horizon).
    """
    own = metres.astype(np.float32)
    rows, columns = own.shape
    around = np.pad(own, 2 * reach, mode="wrap")
    open_sky = np.zeros_like(own)
    for down, right in ((0, 1), (1, 1), (1, 0), (1, -1), (0, -1), (-1, -1), (-1, 0), (-1, 1)):
        steepest = np.zeros_like(own)
        far = 1
        while far <= reach:
            top, left = 2 * reach + down * far, 2 * reach + right * far
            rise = around[top : top + rows, left : left + columns] - own
            rise *= np.float32(1 / (far * texel * np.hypot(down, right)))
            np.maximum(steepest, rise, out=steepest)
            far += max(1, far // 3)
        open_sky += 1 - steepest / np.sqrt(1 + steepest * steepest)
    return (open_sky / 8).astype(np.float64)


def _bytes(values: NDArray[np.floating]) -> NDArray[np.uint8]:
    return np.rint(np.clip(values, 0, 1) * 255).astype(np.uint8)
