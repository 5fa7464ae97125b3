"""What a quilt file names, loaded when it is first asked for: the ground, meshes, daubs, lights and the camera."""

from __future__ import annotations

import math
from collections.abc import Sequence
from copy import copy
from functools import cached_property
from pathlib import Path

import numpy as np

from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.cached import is_known
from jagged_quilt.foundation.disk_store import MEMORY, ArrayStore, DiskStore
from jagged_quilt.foundation.errors import QuiltError, QuiltFileError, RangeError
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.light.clear_sky import clear_sky
from jagged_quilt.light.lamps import Light, Sun
from jagged_quilt.light.light import Lighting
from jagged_quilt.light.sky import Sky
from jagged_quilt.light.sky_image import SkyImage
from jagged_quilt.maps.image_files import image_size
from jagged_quilt.maps.image_limits import ImageLimits
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.quiltfile.light_tables import check_sky, light_of
from jagged_quilt.quiltfile.locator import Locator
from jagged_quilt.quiltfile.placed_mesh import layers_of_parts, placed_mesh
from jagged_quilt.quiltfile.tables import said
from jagged_quilt.show.sky_file import read_sky
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.surfaces.terrain_source import TerrainSource
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.daub_file import read_daubs
from jagged_quilt.weights.daub_windows import DaubFile

HELD_TEXELS = 1 << 26
"""Of a heightmap, or of adopted weights, up to which they are held in memory."""
HELD_DAUBS = 1 << 24
"""Bytes of a file of daubs, up to which they are held in memory."""
_ASPECT = 1.6  # width over height of the view
_SEEN = 32  # points along each side of the ground that a camera which nobody placed is to see
_RISE = 28.0  # degrees from above, of such a camera


class Loaded:
    """What is loaded of one quilt file.

    Parameters
    ----------
    shelf : DiskStore, optional
        Where a heightmap and adopted weights lie that are more than can be held.
    progress : Progress
        What hears of work that takes long while meshes are read.

    Attributes
    ----------
    sources : tuple of SwatchSource
        Where the swatches come from.
    mesh_layers : tuple of lists of (str, Layer)
        For each mesh its layers, each with the part that it names.
    """

    def __init__(self, where: Locator, within: PathGuard, shelf: DiskStore | None = None, progress: Progress = silent) -> None:
        self.where, self.table, self.within = where, where.table, within
        self.shelf, self.progress = shelf, progress
        self.sources: tuple[SwatchSource, ...] = ()
        self.mesh_layers: tuple[list[tuple[str, Layer]], ...] = ()

    def with_work(self, shelf: DiskStore, progress: Progress) -> Loaded:
        """Return the same, with what is loaded already, for work with a shelf and progress."""
        out = copy(self)
        out.shelf, out.progress = shelf, progress
        return out

    def room_for(self, image: Path, limits: ImageLimits) -> ArrayStore:
        """Where images of the size of one lie: on the shelf if they are more than can be held."""
        held = not image.is_file() or math.prod(image_size(image, limits)) <= HELD_TEXELS
        return MEMORY if held or self.shelf is None else self.shelf

    def check(self) -> None:
        """Raise `QuiltFileError` for a camera or lights that cannot be, now and not after an hour."""
        if self.table.view is not None and self.table.view.camera is not None:
            self.camera  # noqa: B018
        with self.where.at("sky"):
            check_sky(self.table.sky)
        if self.table.sky.image or self.table.sky.clear is not None:
            self.lights  # noqa: B018 (a sky is made when it is needed)
        else:
            self.lighting  # noqa: B018

    @cached_property
    def swatches(self) -> tuple[Swatch, ...]:
        """The swatches, read from their folders."""
        return tuple(source.read() for source in self.sources)

    @property
    def ground(self) -> TerrainSource:
        """Where the ground comes from; raise `QuiltFileError` if the file names none."""
        if self.table.surface is None:
            raise QuiltFileError(f"{self.where.path}: there is no ground; say where it is with a [surface] table")
        return self.table.surface

    @cached_property
    def terrain(self) -> Terrain:
        """The ground, read from its heightmap."""
        folder = self.where.path.parent
        with self.where.at("surface", "terrain"):
            rows, columns = self.ground.samples_in(folder, self.table.images)
            shelf = self.shelf if rows * columns > HELD_TEXELS else None
            return self.ground.read(folder, self.table.images, shelf)

    @property
    def heights(self) -> tuple[float, float]:
        """Metres between which the ground may lie: what the file says, or the lowest and highest sample."""
        return self.ground.heights or self.terrain.height_range

    @cached_property
    def meshes(self) -> tuple[Mesh, ...]:
        """The meshes, read and in their places, in the order of the file."""
        out = []
        for number, table in enumerate(self.table.mesh):
            with self.where.at("mesh", number, "file"):
                out.append(placed_mesh(table, self.within, self.terrain if table.stand else None, self.progress))
        return tuple(out)

    @cached_property
    def layers_by_part(self) -> tuple[dict[str, list[Layer]], ...]:
        """For each mesh, the layers of each of its parts."""
        out = []
        for number, (mesh, layers) in enumerate(zip(self.meshes, self.mesh_layers, strict=True)):
            with self.where.at("mesh", number, "layer"):
                out.append(layers_of_parts(self.table.mesh[number].name, mesh, layers))
        return tuple(out)

    @cached_property
    def daubs(self) -> Sequence[Daub]:
        """The daubs of its file, checked against the layers and the ground; of a large file a `DaubFile`."""
        if not self.table.weights.daubs:
            return ()
        check = lambda daub: check_daub(self, daub)
        with self.where.at("weights", "daubs"):
            path = self.where.path.parent / self.table.weights.daubs
            if path.exists() and path.stat().st_size > HELD_DAUBS:
                return DaubFile(path, lambda daub: check_daub(self, daub, ground_alone=True))
            daubs = read_daubs(path) if path.exists() else ()  # none painted yet
            for number, daub in enumerate(daubs, 1):
                try:
                    check(daub)
                except QuiltError as error:
                    raise RangeError(f"{path} daub {number}: {error}") from error
            return daubs

    @cached_property
    def camera(self) -> Camera:
        """The camera of the lit view; where none is named, one that sees the whole terrain or all meshes."""
        view = self.table.view
        if view is not None and (view.camera is not None or view.target is not None):
            with self.where.at("view"):
                if view.camera is None or view.target is None:
                    raise RangeError("camera and target must both be said, or neither")
                return Camera(position=view.camera, target=view.target, view_angle=view.view_angle)
        if self.table.surface is None:
            bounds = [mesh.bounds for mesh in self.meshes] or [(np.zeros(3), np.array([4.0, 2.0, 4.0]))]
            low, high = np.min([each[0] for each in bounds], axis=0), np.max([each[1] for each in bounds], axis=0)
            return Camera.before(low, high, _ASPECT)
        (east, south), low = self.ground.size, self.terrain.height_range[0]
        corners = np.array([[x, low, z] for x in (0, east) for z in (0, south)])
        return Camera.fitting(np.concatenate([self.terrain.points((_SEEN, _SEEN)).world, corners]), _ASPECT, rise=_RISE)

    @cached_property
    def lighting(self) -> Lighting:
        """The lights of the lit view, its sky, and how bright it is shown."""
        lights, view, table = self.lights, self.table.view, self.table.sky
        sky: Sky | SkyImage
        with self.where.at("sky"):
            if table.clear is not None:
                sun = next((light for light in lights if light.position is None), None)
                if sun is None:
                    raise RangeError("a clear sky goes by a sun, and there is none; say one as [[light]]")
                sky = clear_sky(sun, haze=table.clear)
            elif table.image:
                image, limits = self.where.path.parent / table.image, self.table.images
                sky = read_sky(image, bearing=table.bearing, exposure=table.exposure, limits=limits)
            else:
                sky = Sky(**said(table, Sky))
            if table.find_sun and isinstance(sky, SkyImage):
                found, sky = sky.find_sun()
                lights = (found, *(lights if self.table.light else ()))
        if view is None:
            return Lighting(lights, sky)
        with self.where.at("view"):
            return Lighting(lights, sky, view.exposure, view.tone)

    @cached_property
    def lights(self) -> tuple[Light, ...]:
        """Those of the [[light]] tables; where there is none, the sun of the [view]."""
        view, lights = self.table.view, []
        for number, table in enumerate(self.table.light):
            with self.where.at("light", number):
                lights.append(light_of(table))
        with self.where.at("view", "sun"):
            if lights and view is not None and "sun" in view.model_fields_set:
                raise RangeError('is for a quilt without [[light]] tables; say it as one, kind = "sun", or remove it')
            return tuple(lights) or ((Sun(*view.sun),) if view else (Sun(),))

    def check_lamps(self) -> None:
        """Raise `QuiltFileError` if a lamp lies inside the ground, which is read for that."""
        for number, light in enumerate(self.lights):
            if light.position is not None and self.table.surface is not None:
                with self.where.at("light", number, "position"):
                    self.terrain.check_above(light.position)

    def take_over(self, former: Loaded, changed: set[Path]) -> None:
        """Take from an earlier reading of the file what it read of files, where neither they nor what is said changed."""
        surface, table, folder = self.table.surface, former.table, self.where.path.parent
        ground = {(folder / file).resolve() for file in surface.files} if surface is not None else set()
        same_ground = surface is not None and repr(surface) == repr(table.surface) and not ground & changed
        if same_ground and is_known(former, "terrain"):
            self.terrain = former.terrain
        small = {self.where.path.resolve(), *((folder / file).resolve() for file in self.table.mask_files())}
        if self.table.weights.daubs:
            small.add((folder / self.table.weights.daubs).resolve())
        placed, before = ([each.model_dump(exclude={"layer"}) for each in whose.mesh] for whose in (self.table, table))
        stays = changed <= small and placed == before and (same_ground or not any(each.stand for each in self.table.mesh))
        if stays and is_known(former, "meshes"):
            self.meshes = former.meshes


def check_daub(loaded: Loaded, daub: Daub, *, ground_alone: bool = False) -> None:
    """Raise `QuiltError` unless the layers and the channel of a daub are known and it lies on the ground, or, in space, on
    layers that a mesh has."""
    names = tuple(layer.name for layer in loaded.table.layer)
    of_meshes = {layer.name for mesh in loaded.table.mesh for layer in mesh.layer}
    own = set(daub.layers)
    if daub.in_space and not ground_alone and own and not own <= set(names) and own <= of_meshes | set(names):
        return
    daub.check_on(loaded.ground.size, names, tuple(channel.name for channel in loaded.table.channel))
