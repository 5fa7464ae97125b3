"""What a quilt file says that is allowed and cannot well be meant: each with the figure that makes one wonder."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.foundation.points import Points
from jagged_quilt.maps.image_files import image_size
from jagged_quilt.masks.mask import Combine, Combined, Mask
from jagged_quilt.masks.shape_masks import HeightBand, Slope
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import WeightMap

_TEXELS = 384  # along the longer side: what is measured of the ground and of its layers
_HARDLY = 0.001  # of the ground
_STEEP = 60.0  # degrees that half of a ground seldom reaches
_RADIANS = 1.6  # a little more than a right angle
_RANGE = 0.25  # of what a file can say
_COARSE = 10.0  # times as few texels a metre
_PROPORTIONS = 0.02


@dataclass(frozen=True, slots=True, kw_only=True)
class QuiltNote:
    """One thing to wonder about.

    Attributes
    ----------
    key : str
        Where in the quilt file, as `layer[2].mask[0].band`.
    what : str
        What is odd, with the figure.
    explains : str
        What that usually comes from, and what to write.
    """

    key: str
    what: str
    explains: str


def notes_on(quilt: Quilt, adopted: WeightMap | None = None) -> list[QuiltNote]:
    """Return what is odd in a quilt file; nothing of it stops anything.

    Parameters
    ----------
    adopted : WeightMap, optional
        The weights that the quilt file inherits, by its own layers.
    """
    found = list(_on_density(quilt))
    if quilt.table.surface is None:
        return found
    terrain = quilt.terrain
    points = terrain.points(terrain.layout(_TEXELS))
    found += [*_on_ground(quilt, points), *_on_tiles(quilt), *_on_bands(quilt), *_on_splat(quilt)]
    if len(quilt.layers) > 1:
        try:
            weigher = Weigher(
                quilt.layers, terrain, adopted=adopted, daubs=quilt.ground_daubs, stacking=quilt.table.weights.stacking
            )
            found += _on_shares(quilt, weigher, points)
        except QuiltError:
            pass  # a mask that reads textures has none here; what is wrong is reported when it is weighed
    return found


def _on_ground(quilt: Quilt, points: Points) -> Iterator[QuiltNote]:
    slope = np.degrees(np.arccos(np.clip(points.normal[:, 1].astype(np.float64), -1, 1)))
    middle = float(np.median(slope))
    (width, depth), (low, high) = quilt.terrain.size, quilt.terrain.height_range
    if middle > _STEEP:
        yield QuiltNote(
            key="surface",
            what=f"half of it is steeper than {middle:.0f} degrees: {high - low:.6g} m high on {width:g} x {depth:g} m",
            explains="size and heights are in metres; one of them may be in kilometres, feet or centimetres",
        )
    said = quilt.ground.heights
    if said is not None and said[1] != said[0]:
        share = (high - low) / abs(said[1] - said[0])
        if 0 < share < _RANGE:
            yield QuiltNote(
                key="surface.heights",
                what=f"the file uses {100 * share:.0f} % of its range: {low:.2f} to {high:.2f} m",
                explains="few levels are left for the ground; stretch the file over all its range, or check heights",
            )


def _on_tiles(quilt: Quilt) -> Iterator[QuiltNote]:
    size, used = min(quilt.terrain.size), {name for layer in quilt.layers for name in layer.swatches}
    for index, source in enumerate(quilt.sources):
        if source.name in used and source.tile > size:
            yield QuiltNote(
                key=f"swatch[{index}].tile",
                what=f'a tile of "{source.name}" covers {source.tile:g} m, more than the ground, {size:g} m',
                explains="tile is the metres that one repeat of the picture covers, and not the number of repeats",
            )


def _on_density(quilt: Quilt) -> Iterator[QuiltNote]:
    used = {name for layer in quilt.layers for name in layer.swatches}
    density: dict[int, float] = {}
    for index, source in enumerate(quilt.sources):
        if source.name in used:
            try:
                side = source.largest_side
            except QuiltError:
                continue  # reported as a fault
            if side > 1:
                density[index] = side / source.tile
    if len(density) < 3:
        return
    middle = float(np.median(list(density.values())))
    for index, own in density.items():
        if own * _COARSE < middle:
            name = quilt.sources[index].name
            yield QuiltNote(
                key=f"swatch[{index}].tile",
                what=f'"{name}" has {own:.3g} texels a metre, its neighbours {middle:.3g}: it will look blurred beside them',
                explains="a smaller tile makes it finer; a larger picture does, too",
            )


def _on_bands(quilt: Quilt) -> Iterator[QuiltNote]:
    low, high = quilt.terrain.height_range
    for index, layer in enumerate(quilt.layers):
        for number, (how, mask) in enumerate(_steps(layer)):
            key = f"layer[{index}].mask[{number}].band"
            if isinstance(mask, Slope) and 0 < mask.high <= _RADIANS:
                yield QuiltNote(
                    key=key,
                    what=f'"{layer.name}" shows from {mask.low:g} to {mask.high:g} degrees: nearly level ground alone',
                    explains=f"slopes are in degrees, 0 to 180; {mask.high:g} radians are {np.degrees(mask.high):.0f} degrees",
                )
            if not isinstance(mask, HeightBand):
                continue
            if (mask.low - mask.fade >= high or mask.high + mask.fade <= low) and how in (
                "",
                Combine.MULTIPLY.value,
                Combine.MINIMUM.value,
            ):
                yield QuiltNote(
                    key=key,
                    what=f'"{layer.name}" shows from {mask.low:g} to {mask.high:g} m; the ground has {low:.2f} to {high:.2f} m',
                    explains="bands of heights are metres, as heights of the surface are",
                )


def _on_splat(quilt: Quilt) -> Iterator[QuiltNote]:
    if quilt.table.adopt is None or not quilt.table.adopt.files:
        return
    width, depth = quilt.terrain.size
    rows, columns = image_size(quilt.folder / quilt.table.adopt.files[0], quilt.table.images)
    if abs(columns / rows * depth / width - 1) > _PROPORTIONS:
        yield QuiltNote(
            key="adopt.files",
            what=f"{columns} x {rows} texels of weights are stretched over {width:g} x {depth:g} m",
            explains="they cover all of the ground; a sheet of another proportion belongs to another size, or was cut",
        )


def _on_shares(quilt: Quilt, weigher: Weigher, points: Points) -> Iterator[QuiltNote]:
    """Layers that hardly show, and what took them away."""
    stacked = weigher.daubs.laid(weigher.stacked(points), points, None) if len(weigher.daubs.daubs) else weigher.stacked(points)
    for row, share in enumerate(stacked.mean(axis=1, dtype=np.float64)):
        if share < _HARDLY:
            where = "nowhere" if share < 1e-7 else f"on {100 * share:.2g} % of the ground"
            yield QuiltNote(
                key=f"layer[{row}]",
                what=f'"{weigher.names[row]}" shows {where}: {_what_took(weigher, row, points, stacked)}',
                explains="`jquilt show FILE masks` shows each step of its mask; `--at X,Z` says why at a place",
            )


def _what_took(weigher: Weigher, row: int, points: Points, stacked: NDArray[np.float32]) -> str:
    mask = weigher.masks[row]
    for number, (summary, answer) in enumerate(_answers(mask, points) if mask is not None else ()):
        if answer.mean(dtype=np.float64) < _HARDLY:
            return f"nothing is left after mask[{number}], {summary}"
    own = np.ones(len(points)) if mask is None else mask.answer(points)
    above = stacked[row + 1 :]
    if len(above):
        most = int((above * own).sum(axis=1).argmax())
        return f'"{weigher.names[row + 1 + most]}" lies over it'
    return "others take its place"


def _answers(mask: Mask, points: Points) -> Iterator[tuple[str, NDArray[np.float32]]]:
    """Each step of a chain of masks, and what there is after it."""
    if isinstance(mask, Combined):
        yield from _answers(mask.below, points)
        yield mask.above.summary, mask.answer(points)
    else:
        yield mask.summary, mask.answer(points)


def _steps(layer: Layer) -> list[tuple[str, Mask]]:
    """How each step of a layer's mask goes upon those before, and the step."""
    out: list[tuple[str, Mask]] = []
    mask = layer.mask
    while isinstance(mask, Combined):
        out.append((mask.combine.value, mask.above))
        mask = mask.below
    return [*([("", mask)] if mask is not None else []), *reversed(out)]
