"""A quilt: what a quilt file builds."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path

from jagged_quilt.arrays.layout import layout_named
from jagged_quilt.blend.layer import Layer, Planar, Projection, Triplanar
from jagged_quilt.foundation.checks import known_name, power_of_two, whole_number_in
from jagged_quilt.foundation.errors import QuiltError, QuiltFileError, RangeError
from jagged_quilt.maps.swatch import Swatch, read_swatch
from jagged_quilt.quiltfile.places import Path as KeyPath
from jagged_quilt.quiltfile.read import fault_at, read_table
from jagged_quilt.quiltfile.schema import (
    AnyStep,
    ConstantStep,
    HeightStep,
    LayerTable,
    NoiseStep,
    QuiltTable,
    SlopeStep,
    SwatchTable,
)  # fmt: skip
from jagged_quilt.show.light import Sun
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.weights.mask import Combine, Combined, Constant, Inverted, Mask
from jagged_quilt.weights.noise_mask import Noise
from jagged_quilt.weights.shape_masks import HeightBand, Slope
from jagged_quilt.weights.weigh import MOST_KEPT


class Quilt:
    """The objects of a quilt file. Layers are built at once, so that every fault shows; files are read when needed.

    Attributes
    ----------
    path, folder : Path
        The quilt file and the folder that its paths are relative to.
    table : QuiltTable
        What the file says.
    layers : tuple of Layer
        From the bottom up.
    """

    def __init__(self, path: Path, table: QuiltTable, text: str) -> None:
        self.path, self.folder, self.table, self._text = path, path.parent, table, text
        self._check_names()
        with self._at("arrays", "texels"):
            power_of_two("texels", table.arrays.texels, 8192)
        with self._at("weights", "texels"):
            whole_number_in("texels", table.weights.texels, 1, 1 << 17)
        with self._at("weights", "keep"):
            whole_number_in("keep", table.weights.keep, 1, MOST_KEPT)
        with self._at("bake", "texels"):
            whole_number_in("texels", table.bake.texels, 1, 1 << 17)
        for which, name in enumerate(table.arrays.layouts):
            with self._at("arrays", "layouts", which):
                layout_named(name)
        self.layers = tuple(self._layer(place, layer) for place, layer in enumerate(table.layer))
        self.camera, self.sun  # noqa: B018 (refused now and not after an hour)

    @cached_property
    def swatches(self) -> tuple[Swatch, ...]:
        """The swatches, read from their folders."""
        return tuple(self._swatch(place, swatch) for place, swatch in enumerate(self.table.swatch))

    @cached_property
    def terrain(self) -> Terrain:
        """The ground, read from its heightmap."""
        surface = self.table.surface
        with self._at("surface", "terrain"):
            return Terrain.read(
                self.folder / surface.terrain,
                size=(surface.size[0], surface.size[1]),
                heights=(surface.heights[0], surface.heights[1]),
            )

    @cached_property
    def camera(self) -> Camera:
        """The camera of the lit view; where the file names none, one that sees the whole terrain from the south-east."""
        view = self.table.view
        if view is None:
            east, south = self.table.surface.size
            high = self.table.surface.heights[1]
            return Camera(
                position=(0.95 * east, high + 0.25 * max(east, south), 1.05 * south),
                target=(0.5 * east, 0.0, 0.5 * south),
            )
        with self._at("view"):
            x, y, z = view.camera
            tx, ty, tz = view.target
            return Camera(position=(x, y, z), target=(tx, ty, tz), view_angle=view.view_angle)

    @cached_property
    def sun(self) -> Sun:
        """The sun of the lit view."""
        if self.table.view is None:
            return Sun()
        with self._at("view", "sun"):
            return Sun(*self.table.view.sun)

    def swatch_folder(self, swatch: SwatchTable) -> Path:
        """The folder of a swatch's maps."""
        return self.folder / swatch.folder

    def _swatch(self, place: int, swatch: SwatchTable) -> Swatch:
        with self._at("swatch", place, "folder"):
            return read_swatch(self.swatch_folder(swatch), name=swatch.name, tile=swatch.tile, relief=swatch.relief)

    def _layer(self, place: int, layer: LayerTable) -> Layer:
        mask = self._mask(place, layer.mask)
        with self._at("layer", place, "mask"):
            if place == 0 and mask is not None:
                raise RangeError("the lowest layer takes what the others leave, so a mask has no effect; remove it")
        with self._at("layer", place, "sharpness"):
            projection: Projection = Triplanar(layer.sharpness) if layer.projection == "triplanar" else Planar()
        with self._at("layer", place, "softness"):
            return Layer(layer.swatch, projection, softness=layer.softness, mask=mask, label=layer.label)

    def _mask(self, place: int, steps: list[AnyStep]) -> Mask | None:
        """Put mask steps upon each other in order, beginning with "everywhere"."""
        mask: Mask | None = None
        for which, step in enumerate(steps):
            here = ("layer", place, "mask", which)
            own = self._step(here, step)
            combine = Combine(step.combine)
            if mask is not None:
                mask = Combined(combine, mask, own)
            elif combine in (Combine.ADD, Combine.MAXIMUM):
                with self._at(*here, "combine"):
                    raise RangeError(f'the first step stands on "everywhere", where "{step.combine}" has no effect; '
                                     'use "multiply"')  # fmt: skip
            else:
                mask = Inverted(own) if combine is Combine.SUBTRACT else own
        return mask

    def _step(self, here: KeyPath, step: AnyStep) -> Mask:
        mask: Mask
        match step:
            case HeightStep():
                with self._at(*here, "band"):
                    mask = HeightBand(step.band[0], step.band[1], step.fade)
            case SlopeStep():
                with self._at(*here, "band"):
                    mask = Slope(step.band[0], step.band[1], step.fade)
            case NoiseStep():
                with self._at(*here):
                    mask = Noise(size=step.size, octaves=step.octaves, threshold=step.threshold, range=step.range,
                                 seed=step.seed, period=step.period)  # fmt: skip
            case ConstantStep():
                with self._at(*here, "value"):
                    mask = Constant(step.value)
        if step.invert:
            mask = ~mask
        if step.strength != 1.0:
            with self._at(*here, "strength"):
                mask = mask * step.strength
        return mask

    def _check_names(self) -> None:
        names = [swatch.name for swatch in self.table.swatch]
        for place, name in enumerate(names):
            if name in names[:place]:
                with self._at("swatch", place, "name"):
                    raise RangeError(f'two swatches are called "{name}"; give one of them another name')
        labels: list[str] = []
        for place, layer in enumerate(self.table.layer):
            with self._at("layer", place, "swatch"):
                known_name("swatch", layer.swatch, names)
                label = layer.label or layer.swatch
                if label in labels:
                    raise RangeError(f'two layers are called "{label}"; give this one a label of its own')
                labels.append(label)

    @contextmanager
    def _at(self, *key: str | int) -> Iterator[None]:
        """Add the place in the quilt file to what is refused inside."""
        try:
            yield
        except QuiltFileError:
            raise
        except QuiltError as error:
            raise QuiltFileError(fault_at(self.path, self._text, key, str(error))) from error


def read_quilt(path: Path | str) -> Quilt:
    """Read a quilt file.

    Raises
    ------
    FileError
        If there is no such file.
    QuiltFileError
        If it says something that cannot be; the message names the line and the key path.
    """
    path = Path(path)
    table, text = read_table(path)
    return Quilt(path, table, text)
