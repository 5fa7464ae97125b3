"""A quilt: what a quilt file builds."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path

from jagged_quilt.blend.film import Film
from jagged_quilt.blend.layer import Layer, every_swatch
from jagged_quilt.foundation.disk_store import DiskStore
from jagged_quilt.foundation.errors import QuiltError, QuiltFileError, RangeError
from jagged_quilt.foundation.path_guard import PathGuard
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.light.light import Lighting
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.quiltfile.builder import Built, build
from jagged_quilt.quiltfile.checks import check_table
from jagged_quilt.quiltfile.layer_tables import OWN
from jagged_quilt.quiltfile.loaded import Loaded
from jagged_quilt.quiltfile.locator import Locator
from jagged_quilt.quiltfile.schema import QuiltTable
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.surfaces.terrain_source import TerrainSource
from jagged_quilt.weights.daub import Daub, SomeDaubs
from jagged_quilt.weights.daub_windows import DaubFile


@dataclass(frozen=True, eq=False, repr=False)
class Quilt(Built):
    """The objects of a quilt file. Layers are built at once, so that every fault shows; files are read when needed.

    What is built is described by `Built`.

    Attributes
    ----------
    where : Locator
        The quilt file, what it says, and where in it something stands.
    loaded : Loaded
        What is loaded of the files that it names.
    """

    where: Locator
    loaded: Loaded
    again: Callable[[], Quilt] = field(repr=False)

    @classmethod
    def of(cls, path: Path, table: QuiltTable, text: str, again: Callable[[], Quilt]) -> Quilt:
        """Build the quilt of a table; raise `QuiltFileError` for what cannot be.

        again : reads the file once more, where the quilt travels.
        """
        where = Locator(path, table, text)
        within = PathGuard(path.parent, tuple(path.parent / each for each in table.allow))
        check_table(where, within)
        loaded = Loaded(where, within)
        built = build(where, within, lambda: loaded.daubs, lambda: loaded.heights)
        loaded.sources, loaded.mesh_layers = built.sources, built.mesh_layers
        loaded.check()
        return cls(**vars(built), where=where, loaded=loaded, again=again)

    def __reduce__(self) -> tuple[object, ...]:
        """A quilt travels by its file, which is read again."""
        return self.again, ()

    def __repr__(self) -> str:
        there = [f"{len(self.sources)} swatches", f"{len(self.layers)} layers", f"{len(self.table.mesh)} meshes"]
        return f"<Quilt {self.path.name}: {', '.join(there)}>"

    def with_work(self, shelf: DiskStore, progress: Progress = silent) -> Quilt:
        """Return the same quilt for work: large arrays lie on a shelf, and reading meshes is heard of."""
        return replace(self, loaded=self.loaded.with_work(shelf, progress))

    path = property(lambda self: self.where.path, doc="The quilt file.")
    folder = property(lambda self: self.where.path.parent, doc="The folder that its paths are relative to.")
    table = property(lambda self: self.where.table, doc="What the file says.")

    @property
    def swatches(self) -> tuple[Swatch, ...]:
        """The swatches, read from their folders."""
        return self.loaded.swatches

    @property
    def ground(self) -> TerrainSource:
        """Where the ground comes from; raise `QuiltFileError` if the file names none."""
        return self.loaded.ground

    @property
    def terrain(self) -> Terrain:
        """The ground, read from its heightmap."""
        return self.loaded.terrain

    @property
    def meshes(self) -> tuple[Mesh, ...]:
        """The meshes, read and in their places, in the order of the file."""
        return self.loaded.meshes

    @property
    def layers_by_part(self) -> tuple[dict[str, list[Layer]], ...]:
        """For each mesh, the layers of each of its parts."""
        return self.loaded.layers_by_part

    @property
    def daubs(self) -> Sequence[Daub]:
        """The daubs of its file, checked against the layers and the ground; of a large file a `DaubFile`."""
        return self.loaded.daubs

    @property
    def ground_daubs(self) -> Sequence[Daub]:
        """Those of its daubs that lie on the ground: all but those in space on layers that only meshes have."""
        names = {layer.name for layer in self.layers}
        if isinstance(self.daubs, DaubFile) or all(names.issuperset(daub.layers) for daub in self.daubs):
            return self.daubs
        return SomeDaubs.of(self.daubs, lambda daub: names.issuperset(daub.layers))

    @property
    def camera(self) -> Camera:
        """The camera of the lit view; where none is named, one that sees the whole terrain or all meshes."""
        return self.loaded.camera

    @property
    def lighting(self) -> Lighting:
        """The lights of the lit view, its sky, and how bright it is shown."""
        return self.loaded.lighting

    @property
    def shown_swatches(self) -> set[str]:
        """The swatches that a layer of the terrain or of a mesh uses."""
        layers = [*self.layers, *(layer for own in self.mesh_layers for _, layer in own)]
        if any(layer.swatch == OWN for layer in layers):
            layers += [layer for by_part in self.layers_by_part for own in by_part.values() for layer in own]
        return set(every_swatch(layers))

    def films_on(self, thing: str) -> tuple[Film, ...]:
        """Return the films that lie on the "ground", or on a mesh of a name."""
        return tuple(film for film, table in zip(self.films, self.table.film, strict=True) if not table.on or thing in table.on)

    @contextmanager
    def of_mesh(self, number: int, key: str) -> Iterator[None]:
        """Add the place of a mesh's key in the quilt file, and the mesh's name, to what is refused inside."""
        with self.where.at("mesh", number, key):
            try:
                yield
            except QuiltFileError:
                raise
            except QuiltError as error:
                raise RangeError(f'mesh "{self.table.mesh[number].name}": {error}') from error
