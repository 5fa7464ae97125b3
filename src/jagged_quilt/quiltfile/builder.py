"""From the tables of a quilt file to arrays, swatches, layers, channels and films; nothing but small files is read."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial

from jagged_quilt.arrays.layout import BLENDED, Layout, layout_named, layout_of
from jagged_quilt.blend.film import Film
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.warps import AnyWarp, Flow, Swirl, Warp
from jagged_quilt.codecs.pixel_formats import format_named
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Model
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.masks.image_mask import ImageMask
from jagged_quilt.masks.mask import Mask
from jagged_quilt.quiltfile.checks import GROUND, check_own_name
from jagged_quilt.quiltfile.key_paths import Path as KeyPath
from jagged_quilt.quiltfile.layer_tables import OWN, FlowTable
from jagged_quilt.quiltfile.locator import Locator
from jagged_quilt.quiltfile.mask_maker import Channels, MaskMaker
from jagged_quilt.quiltfile.mask_tables import steps_mask
from jagged_quilt.quiltfile.schema import FilmTable, MedleyTable, MeshTable
from jagged_quilt.quiltfile.swatch_sources import source_of
from jagged_quilt.quiltfile.tables import said
from jagged_quilt.weights.channel import Channel
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.medley import Medley

Heights = tuple[float, float]


@dataclass(frozen=True, eq=False)
class Built:
    """What the tables of a quilt file make.

    Attributes
    ----------
    layouts : tuple of Layout
        The arrays to pack; of those that nobody named, `layouts_of` leaves out what no swatch needs.
    sources : tuple of SwatchSource
        Where the swatches come from; nothing of them is read yet.
    layers : tuple of Layer
        From the bottom up.
    channels : tuple of Channel
        What lies beside the layers, each with the daubs upon it.
    films : tuple of Film
        What lies upon the layers.
    mesh_layers : tuple of lists of (str, Layer)
        For each mesh its layers from the bottom up, each with the part that it names.
    """

    layouts: tuple[Layout, ...]
    sources: tuple[SwatchSource, ...]
    layers: tuple[Layer, ...]
    channels: tuple[Channel, ...]
    films: tuple[Film, ...]
    mesh_layers: tuple[list[tuple[str, Layer]], ...]


def build(where: Locator, within: PathGuard, daubs: Callable[[], Sequence[Daub]], heights: Callable[[], Heights]) -> Built:
    """Build all of it, so that every fault shows; raise `QuiltFileError` for the first.

    daubs, heights : what is painted, and metres between which the ground may lie; asked for where a table needs them.
    """
    return _Builder(where, within, daubs, heights).built()


class _Builder:
    def __init__(
        self, where: Locator, within: PathGuard, daubs: Callable[[], Sequence[Daub]], heights: Callable[[], Heights]
    ) -> None:
        self.where, self.table, self._within, self._heights = where, where.table, within, heights
        adopted = self.table.adopt.to.values() if self.table.adopt else ()
        channels = Channels(self.table.channel, daubs)
        self._maker = MaskMaker(where.path.parent, self.table.images, self.table.layer, where.at, adopted, channels)
        self._medleys: dict[str, Medley] = {}
        self._channel_files: dict[str, str] = {}

    def built(self) -> Built:
        table = self.table
        layouts = self._layouts()
        sources = tuple(source_of(self.where, self._within, index, swatch) for index, swatch in enumerate(table.swatch))
        self._medleys = {each.name: self._medley(index, each) for index, each in enumerate(table.medley)}
        for index, layer in enumerate(table.layer):
            self._maker.laid.append(self._layer(index, layer))
        channels = tuple(self._channel(index, each.name) for index, each in enumerate(table.channel))
        films = tuple(self._film(index, film) for index, film in enumerate(table.film))
        mesh_layers = tuple(self._mesh_layers(number, mesh) for number, mesh in enumerate(table.mesh))
        return Built(layouts, sources, tuple(self._maker.laid), channels, films, mesh_layers)

    def _layouts(self) -> tuple[Layout, ...]:
        arrays = self.table.arrays
        made = []
        for which, name in enumerate(arrays.layouts if arrays.layouts is not None else [each.name for each in BLENDED]):
            with self.where.at("arrays", "layouts", which):
                made.append(layout_named(name))
        for which, own in enumerate(arrays.layout):
            with self.where.at("arrays", "layout", which):
                made.append(layout_of(own.name, own.channels, format_named(own.format)))
                if own.name in [each.name for each in made[:-1]] or not re.fullmatch(r"[A-Za-z0-9_-]+", own.name):
                    raise RangeError(f'"{own.name}" must be a name of its own, of letters, digits, - and _')
        for name, pixels in arrays.formats.items():
            with self.where.at("arrays", "formats", name):
                index = [each.name for each in made].index(known_name("array", name, [each.name for each in made]))
                made[index] = made[index].in_format(format_named(pixels))
        if not made:
            with self.where.at("arrays", "layouts"):
                raise RangeError("there is no array to pack; name at least one layout")
        return tuple(made)

    def _layer(self, index: int, layer: Model) -> Layer:
        with self.where.at("layer", index, "mask"):
            mask = self._maker.mask(index)
            adopted = self.table.adopt.to.values() if self.table.adopt else ()
            if index == 0 and mask is not None and layer.name not in adopted:
                raise RangeError("the lowest layer takes what the others leave, so a mask has no effect; remove it")
        return self._made(layer, mask, ("layer", index))

    def _made(self, layer: Model, mask: Mask | None, key: KeyPath) -> Layer:
        with self.where.at(*key, "warp"):
            layer = layer.model_copy(update={"warp": self._warp(layer.warp)})
        with self.where.at(*key):
            return Layer(
                layer.swatch,
                layer.lie(),
                softness=layer.softness,
                mask=mask,
                label=layer.label,
                medley=self._medleys.get(layer.swatch),
                tuning=layer.tuning,
                far=layer.far,
                per_map=layer.per_map,
                meets=layer.meets,
            )

    def _channel(self, index: int, name: str) -> Channel:
        with self.where.at("channel", index, "name"):
            check_own_name(name, self._channel_files)
            return self._maker.channel_named(name)

    def _film(self, index: int, table: FilmTable) -> Film:
        for which, name in enumerate(table.on):
            with self.where.at("film", index, "on", which):
                known_name("thing that a film lies on", name, [GROUND, *(mesh.name for mesh in self.table.mesh)])
        mask = steps_mask(table.mask, self._maker, lambda which: self.where.at("film", index, "mask", which))
        with self.where.at("film", index):
            return Film(mask=mask, **said(table, Film, leave_out=("mask",)))

    def _warp(self, given: FlowTable | AnyWarp | None) -> AnyWarp | None:
        """What a layer is bent by, its picture read, at the time of the file."""
        if isinstance(given, FlowTable):
            read = partial(ImageMask.read, self.where.path.parent / given.image, limits=self.table.images)
            lies = given.model_dump(exclude={"image", "by"})
            return Flow(east=read(channel="r", **lies), south=read(channel="g", **lies), by=given.by)
        return replace(given, time=self.table.weights.time) if isinstance(given, Warp | Swirl) else given

    def _mesh_layers(self, number: int, table: MeshTable) -> list[tuple[str, Layer]]:
        """The layers of a mesh, from the bottom up, each with the part that it names."""
        at = lambda *key: self.where.at("mesh", number, *key)
        maker = MaskMaker(self.where.path.parent, self.table.images, list(table.layer), at, above=self._maker)
        out: list[tuple[str, Layer]] = []
        for index, layer in enumerate(table.layer):
            with at("layer", index, "mask"):
                mask = maker.mask(index)
            with at("layer", index, "swatch"):
                if not layer.is_own:
                    known_name("swatch or medley", layer.swatch, [*(s.name for s in self.table.swatch), *self._medleys, OWN])
                if (layer.part, layer.name) in [(part, each.name) for part, each in out]:
                    raise RangeError(f'two layers are called "{layer.name}"; give this one a label of its own')
            with at("layer", index, "mask"):
                if mask is not None and layer.part not in [part for part, _ in out]:
                    raise RangeError("the lowest layer takes what the others leave, so a mask has no effect; remove it")
            maker.laid.append(self._made(layer, mask, ("mesh", number, "layer", index)))
            out.append((layer.part, maker.laid[-1]))
        return out

    def _medley(self, index: int, table: MedleyTable) -> Medley:
        if table.by == "height" and not table.heights and self.table.surface is not None:
            table = table.model_copy(update={"heights": list(self._heights())})
        with self.where.at("medley", index):
            return self._maker.medley(index, table)
