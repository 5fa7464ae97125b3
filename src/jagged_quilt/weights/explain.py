"""Explaining one place: every layer, each mask step's value there, what daubs did, and the final weight."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jagged_quilt.foundation.ground import Ground
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.points import Points
from jagged_quilt.masks.mask import Reading
from jagged_quilt.weights.lay_daubs import DaubReach, Rectangle, RegionGrid
from jagged_quilt.weights.weigher import Weigher


@dataclass(frozen=True, slots=True)
class ExplainedStep:
    """One mask step at one place: how it goes upon the steps before it, its own answer, and what comes of both."""

    combine: str
    reading: Reading
    result: float


@dataclass(frozen=True, slots=True, kw_only=True)
class LayerThere:
    """One layer at one place.

    Attributes
    ----------
    name : str
    adopted : float or None
        Its weight in the adopted map; None where that does not name it.
    steps : tuple of Step
        Empty where it has no mask.
    stacked : float
        Its weight by masks and stacking.
    weight : float
        Its weight after daubs.
    turns : tuple of (str, float)
        Of a medley, how much of each swatch shows, summing to `weight`.
    """

    name: str
    adopted: float | None
    steps: tuple[ExplainedStep, ...]
    stacked: float
    weight: float
    turns: tuple[tuple[str, float], ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Explanation(NotebookValue):
    """Why one place looks as it does: its layers from the bottom up, and the daubs that touch it.

    Attributes
    ----------
    position : (x, y, z)
        Metres.
    layers : tuple of LayerThere
    daubs : tuple of (int, str, float)
        Number from 1, what it does, and how much it covers there, 0..1.
    """

    position: tuple[float, float, float]
    layers: tuple[LayerThere, ...]
    daubs: tuple[tuple[int, str, float], ...]

    def __repr__(self) -> str:
        shown = ", ".join(f"{each.name} {each.weight:.3g}" for each in reversed(self.layers) if each.weight > 0)
        return f"<Explanation at ({', '.join(f'{each:.4g}' for each in self.position)}) m: {shown}>"


def explain(weigher: Weigher, points: Points, which: int = 0, grid: RegionGrid | None = None) -> Explanation:
    """Explain one of some points.

    Parameters
    ----------
    points : Points
        One point is enough, but where daubs smooth: then all from which they take (see `texel_at`).
    which : int
        The number of the point to explain.
    grid : RegionGrid, optional
        What the points are where they are a region of a grid.

    Examples
    --------
    >>> weigher = jq.Weigher(layers)
    >>> jq.explain(weigher, ground.points_at([[10.0, 20.0]]))
    <Explanation at (10, 2.21, 20) m: clay 1>
    """
    point = points[which : which + 1]
    stacked = weigher.stacked(point)
    adopted = weigher.adopted_there(point)
    after = weigher.daubs.laid(weigher.stacked(points), points, grid)[:, which : which + 1]
    daubs = []
    for number in map(int, weigher.daubs.touching(point)):
        daub = weigher.daubs.daubs[number]
        if daub.channel:  # of a large file, which holds those too
            continue
        cover = float(weigher.daubs.covered(number, point)[0])
        if cover > 0:
            daubs.append((weigher.daubs.numbers[number], " ".join([daub.kind.value, " + ".join(daub.layers)]).strip(), cover))
    layers = []
    for row, name in enumerate(weigher.names):
        mask, medley = weigher.masks[row], weigher.medleys[row]
        turns: tuple[tuple[str, float], ...] = ()
        if medley is not None:
            shares = medley.turns(point)[:, 0] * after[row, 0]
            turns = tuple((swatch, float(share)) for swatch, share in zip(medley.swatches, shares, strict=True))
        layers.append(
            LayerThere(
                name=name,
                adopted=float(adopted[row]) if np.isfinite(adopted[row]) else None,
                steps=() if mask is None else tuple(steps_of(mask.reading(point))),
                stacked=float(stacked[row, 0]),
                weight=float(after[row, 0]),
                turns=turns,
            )
        )
    x, y, z = (float(at) for at in point.position[0])
    return Explanation(position=(x, y, z), layers=tuple(layers), daubs=tuple(daubs))


def texel_at(ground: Ground, position: tuple[float, float], texels: int, daubs: DaubReach) -> tuple[Points, int, RegionGrid]:
    """Return the texel of a weight map that holds a place (x, z), with all around it that smoothing daubs need.

    Returns
    -------
    points, which, grid
        As `explain` takes them.
    """
    height, width = ground.layout(texels)
    spacing = (ground.size[0] / width, ground.size[1] / height)
    row, column = min(int(position[1] / spacing[1]), height - 1), min(int(position[0] / spacing[0]), width - 1)
    x, z = (column + 0.5) * spacing[0], (row + 0.5) * spacing[1]
    box = daubs.needed(Rectangle(x, z, x, z))
    top, left = max(0, int(box.north / spacing[1])), max(0, int(box.west / spacing[0]))
    bottom, right = min(height, int(box.south / spacing[1]) + 1), min(width, int(box.east / spacing[0]) + 1)
    points = ground.points((height, width), slice(top, bottom), slice(left, right))
    return points, (row - top) * (right - left) + column - left, RegionGrid(bottom - top, right - left, spacing)


def steps_of(reading: Reading) -> list[ExplainedStep]:
    """Take a chain of combined masks apart into its steps, in order."""
    if reading.how:
        below, above = reading.parts
        return [*steps_of(below), ExplainedStep(reading.how, above, reading.answer)]
    return [ExplainedStep("", reading, reading.answer)]
