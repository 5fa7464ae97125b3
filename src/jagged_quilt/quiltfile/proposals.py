"""Layers to begin with: where each material would lie on a ground, by its name or its colour, each with the reason."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.colour import linear_from_srgb, oklab

if TYPE_CHECKING:
    from jagged_quilt.audit.gather import GatheredSet
    from jagged_quilt.surfaces.terrain import Terrain

_GREY, _COLOURED = 0.035, 0.05  # Oklab chroma: below looks grey, above has a hue that one would name
_WHITE, _PALE = 0.87, 0.75  # Oklab lightness
_SAMPLES = 256  # of a ground, along its longer side
_MOST = 3  # layers for one spot
_STEEP, _LOW, _HIGH = 0.80, 0.12, 0.88  # of its texels lie below


class Spot(Enum):
    """Where on a ground a material lies."""

    LEVEL = "level"
    STEEP = "steep"
    LOW = "low"
    HIGH = "high"
    NOWHERE = "nowhere"


_WORDS = {
    Spot.STEEP: """
        basalt bedrock boulder cliff crag granite gypsum limestone marble mountain rock sandstone schist scree shale slate
        stone
    """,
    Spot.LOW: "beach brine dune lake lakebed marsh mud puddle river riverbed sand seabed shore silt swamp water",
    Spot.HIGH: "firn frost glacier ice icy snow snowy",
    Spot.LEVEL: """
        clay crust dirt earth field forest grass gravel ground heath leaves loam meadow moss needles pasture pebbles peat salt
        soil straw turf undergrowth
    """,
    Spot.NOWHERE: """
        asphalt bark brick bricks carpet ceramic concrete fabric fur glass gold iron leather metal painted paper parquet paving
        planks plaster plastic rust shingles steel tile tiles wallpaper ware wood wooden
    """,
}
_SPOT_OF = {word: spot for spot, words in _WORDS.items() for word in words.split()}


@dataclass(frozen=True, slots=True, kw_only=True)
class Material:
    """What is known of a material before it is laid anywhere.

    Attributes
    ----------
    name : str
    colour : (3,) float64
        Its mean, linear.
    """

    name: str
    colour: NDArray[np.float64]

    @classmethod
    def of_set(cls, one: GatheredSet) -> Material:
        """Look at the colour map of a set of files."""
        from jagged_quilt.audit.content_check import thumbnail
        from jagged_quilt.maps.roles import MapRole

        file = next(each.file for each in one.maps if MapRole.DIFFUSE in each.roles)
        texels = thumbnail(file).texels
        colour = linear_from_srgb(texels.reshape(-1, texels.shape[2])).mean(axis=0, dtype=np.float64)
        return cls(name=one.name, colour=np.broadcast_to(colour, 3) if len(colour) == 1 else colour[:3])


@dataclass(frozen=True, slots=True, kw_only=True)
class GroundShape:
    """Slopes and heights of a ground, by what share of it lies below.

    Attributes
    ----------
    steep : float
        Degrees: a fifth of the ground is steeper.
    lowest, low, high, highest : float
        Metres: an eighth lies below `low`, another above `high`.
    size : float
        Metres, along the longer side.
    """

    steep: float
    lowest: float
    low: float
    high: float
    highest: float
    size: float

    @classmethod
    def of(cls, terrain: Terrain) -> GroundShape:
        """Measure a terrain."""
        points = terrain.points(terrain.layout(_SAMPLES))
        slope = np.degrees(np.arccos(np.clip(points.normal[:, 1].astype(np.float64), -1, 1)))
        heights = points.world[:, 1]
        low, high = np.quantile(heights, (_LOW, _HIGH))
        return cls(
            steep=float(np.quantile(slope, _STEEP)),
            lowest=float(heights.min()),
            low=float(low),
            high=float(high),
            highest=float(heights.max()),
            size=max(terrain.size),
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Proposal:
    """A layer, as the keys of its tables; each table with the reason for it.

    Attributes
    ----------
    swatch, why : str
    is_triplanar : bool
    masks : sequence of (dict of str to str, str)
        Keys and values as TOML has them, and a few words.
    """

    swatch: str
    why: str
    is_triplanar: bool = False
    masks: tuple[tuple[dict[str, str], str], ...] = ()


def propose_layers(materials: Sequence[Material], ground: GroundShape) -> tuple[list[Proposal], list[tuple[str, str]]]:
    """Return layers from the bottom up, and which materials get none, each with the reason.

    The lowest is what lies on level ground; then what is steep, low and high. Where several would lie in the same spot, the
    first does, and two others are patches of noise in it.
    """
    spots = {each.name: spot_of(each) for each in materials}
    if all(spot is not Spot.LEVEL for spot, _ in spots.values()) and materials:  # something must lie at the bottom
        first = next((name for name, (spot, _) in spots.items() if spot is not Spot.NOWHERE), materials[0].name)
        spots[first] = Spot.LEVEL, f"{spots[first][1]}; nothing else is for level ground"
    out: list[Proposal] = []
    for spot in (Spot.LEVEL, Spot.STEEP, Spot.LOW, Spot.HIGH):
        for name in [name for name, (own, _) in spots.items() if own is spot][_MOST:]:
            spots[name] = Spot.NOWHERE, f"{spots[name][1]}, as {_MOST} others that have layers"
    for spot in (Spot.LEVEL, Spot.STEEP, Spot.LOW, Spot.HIGH):
        for count, name in enumerate(name for name, (own, _) in spots.items() if own is spot):
            masks = [] if spot is Spot.LEVEL else _masks(spot, ground)
            if count:
                masks.append(_patches(ground, len(out)))
            out.append(Proposal(swatch=name, why=spots[name][1], is_triplanar=spot is Spot.STEEP, masks=tuple(masks)))
    return out, [(name, why) for name, (spot, why) in spots.items() if spot is Spot.NOWHERE]


def spot_of(material: Material) -> tuple[Spot, str]:
    """Return where a material lies, and how that is known: by a word of its name, or else by its colour."""
    for word in reversed(re.findall(r"[a-z]+", material.name.lower())):
        if word in _SPOT_OF:
            spot = _SPOT_OF[word]
            made = spot is Spot.NOWHERE
            return spot, f'"{word}" is made, not found on a ground' if made else f'"{word}" in its name: {_PHRASES[spot]}'
    lightness, a, b = (float(each) for each in oklab(material.colour[None])[0])
    chroma, hue = float(np.hypot(a, b)), float(np.degrees(np.arctan2(b, a))) % 360
    measured = f"lightness {lightness:.2f}, chroma {chroma:.2f}"
    if lightness > _WHITE and chroma < _GREY:
        return Spot.HIGH, f"it is white ({measured}): {_PHRASES[Spot.HIGH]}"
    if chroma > _COLOURED and 200 < hue < 290:
        return Spot.LOW, f"it is blue ({measured}): {_PHRASES[Spot.LOW]}"
    if chroma < _GREY and lightness < _PALE:
        return Spot.STEEP, f"it is grey ({measured}): {_PHRASES[Spot.STEEP]}"
    shade = (
        "green"
        if 105 < hue < 170
        else "brown"
        if lightness < _PALE and 20 < hue < 105
        else "pale"
        if lightness > _PALE
        else "dark"
    )
    return Spot.LEVEL, f"it is {shade} ({measured}): {_PHRASES[Spot.LEVEL]}"


_PHRASES = {
    Spot.LEVEL: "on level ground",
    Spot.STEEP: "where it is steep",
    Spot.LOW: "where it is low and level",
    Spot.HIGH: "where it is high",
}


def _masks(spot: Spot, ground: GroundShape) -> list[tuple[dict[str, str], str]]:
    fade = max(0.1, 0.04 * (ground.highest - ground.lowest))
    steep = max(2.0, ground.steep)
    if spot is Spot.STEEP:
        keys = {"kind": '"slope"', "band": f"[{steep:.0f}.0, 90.0]", "fade": f"{max(2.0, 0.2 * steep):.1f}"}
        return [(keys, f"a fifth of this ground is steeper than {ground.steep:.0f} degrees")]
    if spot is Spot.LOW:
        band, why = (ground.lowest - fade, ground.low), f"an eighth of it lies below {ground.low:.1f} m"
    else:
        band, why = (ground.high, ground.highest + fade), f"an eighth of it lies above {ground.high:.1f} m"
    height = {"kind": '"height"', "band": f"[{band[0]:.1f}, {band[1]:.1f}]", "fade": f"{fade:.1f}"}
    slope = {"kind": '"slope"', "band": f"[0.0, {steep:.0f}.0]", "fade": f"{max(2.0, 0.2 * steep):.1f}"}
    return [(height, why), (slope, "and not where it is steep")]


def _patches(ground: GroundShape, seed: int) -> tuple[dict[str, str], str]:
    keys = {
        "kind": '"noise"',
        "size": f"{max(1.0, ground.size / 16):.1f}",
        "threshold": "0.6",
        "range": "0.15",
        "seed": str(seed),
    }
    return keys, "patches of it, since something else lies here already"
