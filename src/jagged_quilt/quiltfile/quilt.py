"""A quilt: what a quilt file builds."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from pathlib import Path

import numpy as np

from jagged_quilt.arrays.layout import BLENDED, Layout, layout_named, layout_of, layouts_for
from jagged_quilt.audit.audit import SwatchAudit
from jagged_quilt.blend.film import Film
from jagged_quilt.blend.layer import Layer, every_swatch
from jagged_quilt.blend.warps import AnyWarp, Flow, Swirl, Warp
from jagged_quilt.codecs.pixel_formats import format_named
from jagged_quilt.foundation.checks import known_name, positive
from jagged_quilt.foundation.errors import QuiltError, QuiltFileError, RangeError
from jagged_quilt.foundation.files import FileDigests
from jagged_quilt.foundation.loose import Model
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.shelf import MEMORY, Room, Shelf
from jagged_quilt.foundation.within import Within
from jagged_quilt.light.clear_sky import clear_sky
from jagged_quilt.light.lamps import Light, PointLight, Sun
from jagged_quilt.light.light import Lighting
from jagged_quilt.light.sky import Sky
from jagged_quilt.light.sky_image import SkyImage
from jagged_quilt.maps.image_files import image_size
from jagged_quilt.maps.names import channels_of
from jagged_quilt.maps.roles import OPTIONAL_ROLES, PACKED, MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.swatch_source import MapRule, SwatchSource, plain_value
from jagged_quilt.masks.image_mask import ImageMask
from jagged_quilt.masks.mask import Mask
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.quiltfile.inherit import inherit
from jagged_quilt.quiltfile.layer_tables import OWN, FlowTable
from jagged_quilt.quiltfile.light_tables import check_sky, light_of
from jagged_quilt.quiltfile.mask_maker import Channels, MaskMaker
from jagged_quilt.quiltfile.mask_tables import steps_mask
from jagged_quilt.quiltfile.placed_mesh import layers_of_parts, own_sources, placed_mesh
from jagged_quilt.quiltfile.places import Path as KeyPath
from jagged_quilt.quiltfile.read import fault_at, place_in
from jagged_quilt.quiltfile.schema import FilmTable, MapTable, MedleyTable, MeshTable, QuiltTable, SwatchTable, ViewTable
from jagged_quilt.quiltfile.tables import said
from jagged_quilt.show.sky_file import read_sky
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.surfaces.terrain_source import TerrainSource
from jagged_quilt.weights.adopt import Adopted
from jagged_quilt.weights.channel import Channel
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.daub_file import read_daubs
from jagged_quilt.weights.daub_windows import DaubFile
from jagged_quilt.weights.medley import Medley
from jagged_quilt.weights.weight_map import WeightMap

GROUND = "ground"
"""What films call the terrain."""
HELD_TEXELS = 1 << 26
"""Of a heightmap, or of adopted weights, up to which they are held in memory."""
HELD_DAUBS = 1 << 24
"""Bytes of a file of daubs, up to which they are held in memory."""
_ASPECT = 1.6  # width over height of the view
_SEEN = 32  # places along each side of the ground that such a camera is to see
_RISE = 28.0  # degrees from above, of a camera that nobody placed


@dataclass(frozen=True, eq=False, kw_only=True, repr=False)
class PlacedSource(SwatchSource):
    """A swatch's source that names its place in the quilt file in all that it refuses."""

    within: Within = field(repr=False)
    at: Callable[[], AbstractContextManager[None]] = field(repr=False)

    @cached_property
    def files(self) -> tuple[Path, ...]:
        """The image files in the folder; raise `FileError` if one is a link to what the quilt file may not read."""
        return tuple(self.within.check(path) if path.is_symlink() else path for path in super().files)

    def read(self, roles: Collection[MapRole] | None = None) -> Swatch:
        """Read as `SwatchSource.read` does."""
        with self.at():
            return super().read(roles)

    def stamp(self, roles: Collection[MapRole], digests: FileDigests | None = None) -> str:
        """Hash as `SwatchSource.stamp` does."""
        with self.at():
            return super().stamp(roles, digests)


class Quilt:
    """The objects of a quilt file. Layers are built at once, so that every fault shows; files are read when needed.

    Attributes
    ----------
    path, folder : Path
        The quilt file and the folder that its paths are relative to.
    table : QuiltTable
        What the file says.
    layouts : tuple of Layout
        The arrays to pack; of those that nobody named, `layouts_for` leaves out what no swatch needs.
    sources : tuple of SwatchSource
        Where the swatches come from; nothing of them is read yet.
    layers : tuple of Layer
        From the bottom up.
    channels : tuple of Channel
        What lies beside the layers, each with the daubs upon it.
    films : tuple of Film
        What lies upon the layers; see `films_on`.
    """

    def __init__(self, path: Path, table: QuiltTable, text: str, again: Callable[[], Quilt]) -> None:
        self.path, self.folder, self.table, self._text, self._again = path, path.parent, table, text, again
        self.within = Within(self.folder, tuple(self.folder / each for each in table.allow))
        """Where the file's names, and those in mesh files, may lead."""
        self._check_printable()
        self._check_names()
        self._check_parts()
        self._check_files()
        self.limits = table.images
        self.progress: Progress = silent
        """What hears of work that takes long while meshes are read; results name it."""
        self.shelf: Shelf | None = None
        """Where a heightmap and adopted weights lie that are more than can be held; results name it."""
        self.layouts = self._layouts()
        self.sources = tuple(self._source(place, swatch) for place, swatch in enumerate(table.swatch))
        adopted = table.adopt.to.values() if table.adopt else ()
        channels = Channels(table.channel, lambda: self.daubs)
        self._maker = MaskMaker(self.folder, self.limits, table.layer, self._at, adopted, channels)
        self._medleys = {each.name: self._medley(place, each) for place, each in enumerate(table.medley)}
        for place, layer in enumerate(table.layer):
            self._maker.laid.append(self._layer(place, layer))
        self.layers = tuple(self._maker.laid)
        self._channel_files: dict[str, str] = {}
        self.channels: tuple[Channel, ...] = tuple(self._channel(place, each.name) for place, each in enumerate(table.channel))
        self.films = tuple(self._film(place, film) for place, film in enumerate(table.film))
        self.mesh_layers = tuple(self._mesh_layers(number, mesh) for number, mesh in enumerate(table.mesh))
        if table.view is not None and table.view.camera is not None:
            self.camera  # noqa: B018 (refused now and not after an hour)
        with self._at("sky"):
            check_sky(table.sky)
        if table.sky.image or table.sky.clear is not None:
            self._lights  # noqa: B018 (a sky is made when it is needed)
        else:
            self.lighting  # noqa: B018

    def __reduce__(self) -> tuple[object, ...]:
        """A quilt travels by its file, which is read again."""
        return self._again, ()

    def __repr__(self) -> str:
        there = [f"{len(self.sources)} swatches", f"{len(self.layers)} layers", f"{len(self.table.mesh)} meshes"]
        return f"<Quilt {self.path.name}: {', '.join(there)}>"

    @cached_property
    def swatches(self) -> tuple[Swatch, ...]:
        """The swatches, read from their folders."""
        return tuple(source.read() for source in self.sources)

    @cached_property
    def terrain(self) -> Terrain:
        """The ground, read from its heightmap."""
        with self._at("surface", "terrain"):
            rows, columns = self.ground.samples_in(self.folder, self.limits)
            shelf = self.shelf if rows * columns > HELD_TEXELS else None
            return self.ground.read(self.folder, self.limits, shelf)

    def take_over(self, former: Quilt, changed: set[Path]) -> None:
        """Take from an earlier reading of the file what it read of files, where neither they nor what is said changed."""
        surface, table = self.table.surface, former.table
        ground = {(self.folder / file).resolve() for file in surface.files} if surface is not None else set()
        same_ground = surface is not None and repr(surface) == repr(table.surface) and not ground & changed
        if same_ground and "terrain" in former.__dict__:
            self.terrain = former.terrain
        told = {self.path.resolve(), *((self.folder / file).resolve() for file in self.table.mask_files())}
        if self.table.weights.daubs:
            told.add((self.folder / self.table.weights.daubs).resolve())
        placed, before = ([each.model_dump(exclude={"layer"}) for each in whose.mesh] for whose in (self.table, table))
        stays = changed <= told and placed == before and (same_ground or not any(each.stand for each in self.table.mesh))
        if stays and "meshes" in former.__dict__:
            self.meshes = former.meshes

    @property
    def ground(self) -> TerrainSource:
        """Where the ground comes from; raise `QuiltFileError` if the file names none."""
        if self.table.surface is None:
            raise QuiltFileError(f"{self.path}: there is no ground; say where it is with a [surface] table")
        return self.table.surface

    @cached_property
    def meshes(self) -> tuple[Mesh, ...]:
        """The meshes, read and in their places, in the order of the file."""
        out = []
        for number, table in enumerate(self.table.mesh):
            with self._at("mesh", number, "file"):
                out.append(placed_mesh(table, self.within, self.terrain if table.stand else None, self.progress))
        return tuple(out)

    @cached_property
    def layers_by_part(self) -> tuple[dict[str, list[Layer]], ...]:
        """For each mesh, the layers of each of its parts."""
        out = []
        for number, (mesh, layers) in enumerate(zip(self.meshes, self.mesh_layers, strict=True)):
            with self._at("mesh", number, "layer"):
                out.append(layers_of_parts(self.table.mesh[number].name, mesh, layers))
        return tuple(out)

    @contextmanager
    def of_mesh(self, number: int, key: str) -> Iterator[None]:
        """Add the place of a mesh's key in the quilt file, and the mesh's name, to what is refused inside."""
        with self._at("mesh", number, key):
            try:
                yield
            except QuiltFileError:
                raise
            except QuiltError as error:
                raise RangeError(f'mesh "{self.table.mesh[number].name}": {error}') from error

    def every_source(self, folder: Path) -> tuple[SwatchSource, ...]:
        """Return where all swatches come from: those of the file, and the meshes' own materials (see `own_sources`)."""
        return (*self.sources, *self.own_sources(folder))

    def own_sources(self, folder: Path) -> tuple[SwatchSource, ...]:
        """Return where the swatches of the meshes' own materials come from, of those that layers show.

        Images that lie within mesh files are written to `folder`.
        """
        out: list[SwatchSource] = []
        for number, table in enumerate(self.table.mesh):
            if any(layer.is_own for layer in table.layer):
                with self.of_mesh(number, "layer"):
                    place = folder / table.name.replace(" ", "_")
                    out += own_sources(table.name, self.meshes[number], place, self.layers_by_part[number])
        return tuple(out)

    @property
    def shown_swatches(self) -> set[str]:
        """The swatches that a layer of the terrain or of a mesh uses."""
        layers = [*self.layers, *(layer for own in self.mesh_layers for _, layer in own)]
        if any(layer.swatch == OWN for layer in layers):
            layers += [layer for by_part in self.layers_by_part for own in by_part.values() for layer in own]
        return set(every_swatch(layers))

    @property
    def heights(self) -> tuple[float, float]:
        """Metres between which the ground may lie: what the file says, or the lowest and highest sample."""
        return self.ground.heights or self.terrain.height_range

    @cached_property
    def camera(self) -> Camera:
        """The camera of the lit view; where none is named, one that sees the whole terrain or all meshes."""
        view = self.table.view
        if view is not None and (view.camera is not None or view.target is not None):
            with self._at("view"):
                if view.camera is None or view.target is None:
                    raise RangeError("camera and target must both be said, or neither")
                return Camera(position=view.camera, target=view.target, view_angle=view.view_angle)
        if self.table.surface is None:
            bounds = [mesh.bounds for mesh in self.meshes] or [(np.zeros(3), np.array([4.0, 2.0, 4.0]))]
            low, high = np.min([each[0] for each in bounds], axis=0), np.max([each[1] for each in bounds], axis=0)
            return Camera.before(low, high, _ASPECT)
        (east, south), low = self.ground.size, self.terrain.height_range[0]
        corners = np.array([[x, low, z] for x in (0, east) for z in (0, south)])
        return Camera.fitting(np.concatenate([self.terrain.points((_SEEN, _SEEN)).places, corners]), _ASPECT, rise=_RISE)

    @property
    def haze(self) -> float | None:
        """Metres after which two thirds of what is seen is air; None is as what is seen is wide."""
        return None if self.table.view is None else self.table.view.haze

    @property
    def cut_out(self) -> float:
        """The opacity below which nothing is there, in views."""
        return (self.table.view or ViewTable()).cut_out

    @cached_property
    def lighting(self) -> Lighting:
        """The lights of the lit view, its sky, and how bright it is shown."""
        lights, view, told = self._lights, self.table.view, self.table.sky
        sky: Sky | SkyImage
        with self._at("sky"):
            if told.clear is not None:
                sun = next((light for light in lights if isinstance(light, Sun)), None)
                if sun is None:
                    raise RangeError("a clear sky goes by a sun, and there is none; say one as [[light]]")
                sky = clear_sky(sun, haze=told.clear)
            elif told.image:
                sky = read_sky(self.folder / told.image, bearing=told.bearing, exposure=told.exposure, limits=self.limits)
            else:
                sky = Sky(**said(told, Sky))
            if told.find_sun and isinstance(sky, SkyImage):
                found, sky = sky.find_sun()
                lights = (found, *(lights if self.table.light else ()))
        if view is None:
            return Lighting(lights, sky)
        with self._at("view"):
            return Lighting(lights, sky, view.exposure, view.tone)

    @cached_property
    def _lights(self) -> tuple[Light, ...]:
        """Those of the [[light]] tables; where there is none, the sun of the [view]."""
        view, lights = self.table.view, []
        for number, table in enumerate(self.table.light):
            with self._at("light", number):
                lights.append(light_of(table))
        with self._at("view", "sun"):
            if lights and view is not None and "sun" in view.model_fields_set:
                raise RangeError('is for a quilt without [[light]] tables; say it as one, kind = "sun", or remove it')
            return tuple(lights) or ((Sun(*view.sun),) if view else (Sun(),))

    def check_lamps(self) -> None:
        """Raise `QuiltFileError` if a lamp lies inside the ground, which is read for that."""
        for number, light in enumerate(self._lights):
            if isinstance(light, PointLight) and self.table.surface is not None:
                with self._at("light", number, "position"):
                    self.terrain.check_above(light.position)

    @cached_property
    def daubs(self) -> Sequence[Daub]:
        """The daubs of its file, checked against the layers and the ground; of a large file a `DaubFile`."""
        if not self.table.weights.daubs:
            return ()
        names = tuple(layer.name for layer in self.table.layer)
        channels = tuple(channel.name for channel in self.table.channel)
        check = lambda daub: daub.check_on(self.ground.size, names, channels)
        with self._at("weights", "daubs"):
            path = self.folder / self.table.weights.daubs
            if path.exists() and path.stat().st_size > HELD_DAUBS:
                return DaubFile(path, check)
            daubs = read_daubs(path) if path.exists() else ()  # none painted yet
            for number, daub in enumerate(daubs, 1):
                try:
                    check(daub)
                except QuiltError as error:
                    raise RangeError(f"{path} daub {number}: {error}") from error
            return daubs

    def inherited(self) -> Adopted:
        """Read the weights that the [adopt] table inherits, by their old names."""
        assert self.table.adopt is not None
        with self._at("adopt", "files"):
            return inherit(self.table.adopt, self.folder, self.limits, self._room_for(self.table.adopt.files))

    def _room_for(self, files: Sequence[str]) -> Room:
        """Where images lie: on the shelf if they are more than can be held."""
        first = self.folder / files[0] if files else self.folder
        held = not first.is_file() or math.prod(image_size(first, self.limits)) <= HELD_TEXELS
        return MEMORY if held or self.shelf is None else self.shelf

    def rehomed(self, found: Adopted) -> WeightMap:
        """Return inherited weights by the quilt's own layers."""
        with self._at("adopt", "to"):
            return found.rehomed(self.table.adopt.to if self.table.adopt else {}, [layer.name for layer in self.layers])

    def _layouts(self) -> tuple[Layout, ...]:
        arrays = self.table.arrays
        made = []
        for which, name in enumerate(arrays.layouts if arrays.layouts is not None else [each.name for each in BLENDED]):
            with self._at("arrays", "layouts", which):
                made.append(layout_named(name))
        for which, own in enumerate(arrays.layout):
            with self._at("arrays", "layout", which):
                made.append(layout_of(own.name, own.channels, format_named(own.format)))
                if own.name in [each.name for each in made[:-1]] or not re.fullmatch(r"[A-Za-z0-9_-]+", own.name):
                    raise RangeError(f'"{own.name}" must be a name of its own, of letters, digits, - and _')
        for name, pixels in arrays.formats.items():
            with self._at("arrays", "formats", name):
                place = [each.name for each in made].index(known_name("array", name, [each.name for each in made]))
                made[place] = made[place].in_format(format_named(pixels))
        if not made:
            with self._at("arrays", "layouts"):
                raise RangeError("there is no array to pack; name at least one layout")
        return tuple(made)

    def layouts_for(self, sources: Sequence[SwatchSource]) -> tuple[Layout, ...]:
        """Return the arrays to pack some swatches into."""
        if self.table.arrays.layouts is not None:
            return self.layouts
        needed = [each.name for each in layouts_for({role for source in sources for role in source.roles})]
        idle = {each.name for each in BLENDED} - set(needed) - set(self.table.arrays.formats)
        return tuple(each for each in self.layouts if each.name not in idle)

    def not_carried(self, audits: Sequence[SwatchAudit]) -> list[str]:
        """Return what swatches were found to have and none of the arrays that the file names holds, a line each."""
        out = []
        for role in OPTIONAL_ROLES:
            has = [audit.name for audit in audits if role.key in audit.maps]
            if has and not any(role in layout.roles for layout in self.layouts):
                names = ", ".join(f'"{name}"' for name in has[:6]) + (" …" if len(has) > 6 else "")
                out.append(f'{names}: no array holds the {role.key} map; add "{role.value.array}" to arrays.layouts')
        return out

    def _source(self, place: int, swatch: SwatchTable) -> PlacedSource:
        rules = [rule for which, each in enumerate(swatch.map) for rule in self._rules(("swatch", place, "map", which), each)]
        with self._at("swatch", place, "plain"):
            rules += [MapRule(role=_ROLES[key], value=plain_value(_ROLES[key], told)) for key, told in swatch.plain.items()]
        with self._at("swatch", place):
            own = said(swatch, SwatchSource, leave_out=("folder", "rules", "words", "limits", "aspect"))
            if isinstance(swatch.tile, tuple):
                along, down = (positive("tile", each, "m") for each in swatch.tile)
                own |= {"tile": along, "aspect": down / along}
            if not swatch.folder and not swatch.plain:
                raise RangeError('needs its maps: folder = "…", or plain = { diffuse = "#rrggbb", roughness = 0.5 }')
            if not swatch.folder:
                own |= {"names": "off"}
            return PlacedSource(
                **own,
                folder=self.folder / swatch.folder,
                rules=rules,
                words=self.table.words(),
                limits=self.limits,
                within=self.within,
                at=lambda: self._at("swatch", place, "folder"),
            )

    def _rules(self, here: KeyPath, table: MapTable) -> list[MapRule]:
        """Turn one [[swatch.map]] into rules: one, or one for each channel of a packed file."""
        with self._at(*here):
            if [bool(table.role), bool(table.roles), bool(table.packed)].count(True) != 1:
                raise RangeError(
                    'say what the map is: role = "…", or for a file of several maps roles = ["…", "…"] or packed = "gltf"'
                )
            return [_one_rule(table)] if table.role else _packed_rules(table)

    def _layer(self, place: int, layer: Model) -> Layer:
        with self._at("layer", place, "mask"):
            mask = self._maker.mask(place)
            adopted = self.table.adopt.to.values() if self.table.adopt else ()
            if place == 0 and mask is not None and layer.name not in adopted:
                raise RangeError("the lowest layer takes what the others leave, so a mask has no effect; remove it")
        return self._laid(layer, mask, ("layer", place))

    def _laid(self, layer: Model, mask: Mask | None, key: KeyPath) -> Layer:
        with self._at(*key, "warp"):
            layer = layer.model_copy(update={"warp": self._warp(layer.warp)})
        with self._at(*key):
            return Layer(
                layer.swatch,
                layer.lie(),
                softness=layer.softness,
                mask=mask,
                label=layer.label,
                medley=self._medleys.get(layer.swatch),
                tuning=layer.tuning,
                far=layer.far,
                apart=layer.apart,
                meets=layer.meets,
            )

    def _channel(self, place: int, name: str) -> Channel:
        with self._at("channel", place, "name"):
            _check_own_name(name, self._channel_files)
            return self._maker.channel_named(name)

    def _film(self, place: int, table: FilmTable) -> Film:
        for which, name in enumerate(table.on):
            with self._at("film", place, "on", which):
                known_name("thing that a film lies on", name, [GROUND, *(mesh.name for mesh in self.table.mesh)])
        mask = steps_mask(table.mask, self._maker, lambda which: self._at("film", place, "mask", which))
        with self._at("film", place):
            return Film(mask=mask, **said(table, Film, leave_out=("mask",)))

    def films_on(self, thing: str) -> tuple[Film, ...]:
        """Return the films that lie on the "ground", or on a mesh of a name."""
        return tuple(film for film, table in zip(self.films, self.table.film, strict=True) if not table.on or thing in table.on)

    def _warp(self, told: FlowTable | AnyWarp | None) -> AnyWarp | None:
        """What a layer is bent by, its picture read, at the time of the file."""
        if isinstance(told, FlowTable):
            read = partial(ImageMask.read, self.folder / told.image, limits=self.limits)
            lies = told.model_dump(exclude={"image", "by"})
            return Flow(east=read(channel="r", **lies), south=read(channel="g", **lies), by=told.by)
        return replace(told, time=self.table.weights.time) if isinstance(told, Warp | Swirl) else told

    def _mesh_layers(self, number: int, table: MeshTable) -> list[tuple[str, Layer]]:
        """The layers of a mesh, from the bottom up, each with the part that it names."""
        at = lambda *key: self._at("mesh", number, *key)
        maker = MaskMaker(self.folder, self.limits, list(table.layer), at, above=self._maker)
        out: list[tuple[str, Layer]] = []
        for place, layer in enumerate(table.layer):
            with at("layer", place, "mask"):
                mask = maker.mask(place)
            with at("layer", place, "swatch"):
                if not layer.is_own:
                    known_name("swatch or medley", layer.swatch, [*(s.name for s in self.table.swatch), *self._medleys, OWN])
                if (layer.part, layer.name) in [(part, each.name) for part, each in out]:
                    raise RangeError(f'two layers are called "{layer.name}"; give this one a label of its own')
            with at("layer", place, "mask"):
                if mask is not None and layer.part not in [part for part, _ in out]:
                    raise RangeError("the lowest layer takes what the others leave, so a mask has no effect; remove it")
            maker.laid.append(self._laid(layer, mask, ("mesh", number, "layer", place)))
            out.append((layer.part, maker.laid[-1]))
        return out

    def _medley(self, place: int, table: MedleyTable) -> Medley:
        if table.by == "height" and not table.heights and self.table.surface is not None:
            table = table.model_copy(update={"heights": list(self.heights)})
        with self._at("medley", place):
            return self._maker.medley(place, table)

    def _check_printable(self) -> None:
        """Refuse names that would steer a terminal or break a line: they are printed."""
        table = self.table
        said: list[tuple[KeyPath, str]] = [(("title",), table.title)]
        for name in ("swatch", "medley", "mesh"):
            said += [((name, place, "name"), each.name) for place, each in enumerate(getattr(table, name))]
        said += [(("layer", place, "label"), each.label) for place, each in enumerate(table.layer)]
        for number, mesh in enumerate(table.mesh):
            said += [(("mesh", number, "layer", place, "label"), each.label) for place, each in enumerate(mesh.layer)]
        for key, text in said:
            if not text.isprintable():
                with self._at(*key):
                    raise RangeError(f"must be text that can be printed in one line; got {text!r}")

    def _check_names(self) -> None:
        names = [swatch.name for swatch in self.table.swatch]
        if not names and not any(layer.is_own for mesh in self.table.mesh for layer in mesh.layer):
            raise QuiltFileError(f"{self.path}: there is no swatch; write a [[swatch]], or a [[mesh]] with a layer of its own")
        known: dict[str, None] = {}
        for place, name in enumerate(names):
            with self._at("swatch", place, "name"):
                if name == OWN:
                    raise RangeError(f'"{OWN}" stands for the material of a mesh; give this swatch another name')
                if name in known:
                    raise RangeError(f'two swatches are called "{name}"; give one of them another name')
            known[name] = None
        for place, medley in enumerate(self.table.medley):
            for which, name in enumerate(medley.swatches):
                with self._at("medley", place, "swatches", which):
                    known_name("swatch", name, known)
        for place, medley in enumerate(self.table.medley):
            with self._at("medley", place, "name"):
                if medley.name in known:
                    raise RangeError(f'something else is called "{medley.name}" already; give this medley another name')
            known[medley.name] = None
        for place, mesh in enumerate(self.table.mesh if self.table.surface else ()):
            with self._at("mesh", place, "name"):
                if mesh.name == GROUND:
                    raise RangeError(f'"{GROUND}" is what the terrain is called; give this mesh another name')
        labels = set[str]()
        for place, layer in enumerate(self.table.layer):
            with self._at("layer", place, "swatch"):
                known_name("swatch or medley", layer.swatch, known)
                if layer.name in labels:
                    raise RangeError(f'two layers are called "{layer.name}"; give this one a label of its own')
            labels.add(layer.name)

    def _check_parts(self) -> None:
        """Refuse what needs another part of the file that is not there, and names of meshes that are no names."""
        if self.table.layer:
            with self._at("layer"):
                if self.table.surface is None:
                    raise RangeError("layers lie on the ground, and there is no [surface]; a mesh has layers of its own")
        with self._at("adopt"):
            if self.table.adopt is not None and not self.table.layer:
                raise RangeError("adopted weights need the layers that they go to; write [[layer]]")
        folders = dict[str, str]()
        for number, mesh in enumerate(self.table.mesh):
            with self._at("mesh", number, "name"):
                _check_own_name(mesh.name, folders)
            with self._at("mesh", number, "stand"):
                if mesh.stand and self.table.surface is None:
                    raise RangeError("there is no ground to stand on; write a [surface], or say at = [x, y, z]")

    def _check_files(self) -> None:
        """Refuse what is named outside of the file's folder, unless it is allowed; nothing allows daubs, which are written."""
        for key, name in self.table.named_files():
            with self._at(*key):
                if key[-1] != "daubs":
                    self.within.check(self.folder / name)
                elif not Within(self.folder).holds(self.folder / name):
                    raise RangeError(f'must lie in the folder of the quilt file, or below: daubs are written; got "{name}"')

    def place_of(self, key: str) -> KeyPath:
        """Return the full path of a key as people write it; raise `NameNotFoundError` if it leads nowhere or to many."""
        return place_in(self.table.model_dump(mode="json"), key)

    @contextmanager
    def _at(self, *key: str | int) -> Iterator[None]:
        """Add the place in the quilt file to what is refused inside."""
        try:
            yield
        except QuiltFileError:
            raise
        except QuiltError as error:
            place = self._closer(key, str(error))
            message = str(error).removeprefix(f"{place[-1]}: ") if place else str(error)
            raise QuiltFileError(fault_at(self.path, self._text, place, message)) from error

    def _closer(self, key: KeyPath, message: str) -> KeyPath:
        """The key, of the table at a path, that a message names before it says what it must be; else the path itself."""
        table: Model = self.table
        for part in key:
            table = table[int(part)] if isinstance(table, list) else getattr(table, str(part), None)
        known = getattr(type(table), "model_fields", {})
        before, must, _ = message.partition(" must ")
        words = re.findall(r"\w+", before if must else message.partition(" ")[0])
        return next(((*key, word) for word in reversed(words) if word in known), key)


def _check_own_name(name: str, taken: dict[str, str]) -> None:
    """Raise `RangeError` if a name is none, or makes the name of a file or folder that another, of `taken`, makes already."""
    if not re.fullmatch(r"[\w -]+", name):
        raise RangeError(f'"{name}" must be a name of letters, digits, spaces, - and _')
    file = name.replace(" ", "_").casefold()
    if file in taken:
        why = "is there twice" if taken[file] == name else f'and "{taken[file]}" make one name of a file, "{file}"'
        raise RangeError(f'"{name}" {why}; give it a name of its own')
    taken[file] = name


_ROLES = {role.key: role for role in MapRole}
_SAID_OTHERWISE = ("role", "made_from", "value", "whole_file")


def _one_rule(table: MapTable) -> MapRule:
    role = _ROLES.get(table.role or "")
    if role is None and not table.file:
        raise RangeError('role = "none" leaves a file out; name it with file = "…"')
    if table.green and (role is None or not role.value.direction):
        raise RangeError("green is said of normal maps")
    if table.made_from and (role is not MapRole.HEIGHT or table.file):
        raise RangeError('made_from = "normal" is for role = "height", and without a file')
    if table.value is not None and table.file:
        raise RangeError("a map is a file or a value, not both")
    value = table.value if isinstance(table.value, list) else [] if table.value is None else [table.value]
    own = said(table, MapRule, leave_out=_SAID_OTHERWISE)
    return MapRule(**own, role=role, value=tuple(value), made_from=_ROLES[table.made_from] if table.made_from else None)


def _packed_rules(table: MapTable) -> list[MapRule]:
    if not table.file or table.channel or table.made_from or table.green or table.value is not None:
        raise RangeError("a file of several maps needs its file, and takes no channel, green, value or made_from")
    roles = [_ROLES.get(each) for each in table.roles] if table.roles else list(PACKED[table.packed or "gltf"])
    return [
        MapRule(
            role=role,
            file=table.file,
            channel=channel,
            invert=table.invert,
            upside_down=table.upside_down,
            transfer=table.transfer,
            times=table.times,
            whole_file=True,
        )
        for role, channel in channels_of(tuple(roles)).items()
    ]
