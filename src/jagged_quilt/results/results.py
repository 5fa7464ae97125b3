"""The results of a quilt: its steps, and what they leave, loaded."""

from __future__ import annotations

import contextlib
import json
import math
import tempfile
import warnings
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from functools import cached_property, partial
from pathlib import Path

from jagged_quilt.arrays.pack import PackedAnew, pack_files
from jagged_quilt.arrays.texture_arrays import INPUTS, MANIFEST, TextureArrays, open_arrays
from jagged_quilt.baking.bake import bake
from jagged_quilt.blend.detail_mask import layers_seeing, reads_detail
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.projection import Triplanar, Uv
from jagged_quilt.blend.samples import samples_saved
from jagged_quilt.export.splat_sheets import write_masks, write_pairs, write_splat
from jagged_quilt.export.vertices import write_vertices
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import FileError, QuiltError, QuiltWarning, RangeError
from jagged_quilt.foundation.fields import remembering
from jagged_quilt.foundation.files import (
    FileDigests,
    digest_of_file,
    fingerprint,
    read_bytes,
    read_json,
    temporary_prefix,
    written_together,
)
from jagged_quilt.foundation.loose import Facts
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.shelf import MEMORY, Room, Shelf
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.maps.image_files import image_size, write_image
from jagged_quilt.maps.roles import SURFACE_ROLES, role_among
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.masks.mask import Mask
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshfiles.write import write_mesh
from jagged_quilt.quiltfile.quilt import GROUND, HELD_TEXELS, Quilt, read_quilt
from jagged_quilt.quiltfile.sweep import Sweep, plain_value
from jagged_quilt.results.audits import OWN_IMAGES
from jagged_quilt.results.pictures import PICTURES, boards_of
from jagged_quilt.results.step import Files, Made, Runner, Step
from jagged_quilt.results.sweeps import draw_looks, turns_a_look
from jagged_quilt.show.compare import draw_beside, draw_compared, draw_halves
from jagged_quilt.show.debug import draw_debugs
from jagged_quilt.show.lit_view import LIT_ROLES, draw_scenes
from jagged_quilt.show.paged import PagedGround, draw_pages
from jagged_quilt.show.scene import Scene
from jagged_quilt.show.swing import draw_swing, swing_sheet, swings, write_moving
from jagged_quilt.show.weight_pictures import draw_sweep
from jagged_quilt.surfaces.terrain_mesh import terrain_mesh
from jagged_quilt.surfaces.uv_canvas import UvCanvas
from jagged_quilt.weights.adopt import Adopted
from jagged_quilt.weights.channel import write_channel
from jagged_quilt.weights.daub_file import line_of
from jagged_quilt.weights.daub_windows import DaubFile
from jagged_quilt.weights.weigh import weigh
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import MOST_KEPT, OURS, WeightMap, open_weights

WEIGHT_FORMS = {"splat": write_splat, "pairs": write_pairs, "masks": write_masks}
_SWEEP_TEXELS = 512
_WANTED = {
    "adopt": "nothing to adopt; say what with an [adopt] table",
    "weigh": "nothing to weigh; say a [surface] and its [[layer]]s",
    "bake": "no ground to bake; say a [surface] and its [[layer]]s",
}
"""What a quilt file must say for a step."""


_KERNELS: dict[str, frozenset[str]] = {
    name: frozenset(parts.split())
    for name, parts in {
        "pack": "pack",
        "adopt": "weigh",
        "weigh": "weigh",
        "bake": "blend weigh",
        "bake mesh": "blend meshes weigh",
        "swatches": "pack ground",
        "balls": "pack ground",
        "weights": "weigh",
        "masks": "weigh",
        "adopted": "weigh",
        "maps": "pack",
        "view": "blend weigh ground meshes",
        "riser": "blend ground pack",
        "meshes": "blend weigh ground meshes pack",
        "audit": "pack ground",
        "sweep": "weigh",
        "pages": "blend weigh pages",
        "compare": "blend weigh ground meshes",
        "debug": "blend weigh ground meshes pack",
    }.items()
}
"""Which parts of the kernels each step and picture takes; see `PARTS` of the rehearsal."""


class Results:
    """The folder of results of one quilt.

    Parameters
    ----------
    folder : Path, optional
        `out` beside the quilt file where it is not given.
    texels : int, optional
        Stands in for what the quilt file says of the bake.
    """

    def __init__(
        self,
        quilt: Quilt,
        folder: Path | None = None,
        *,
        texels: int | None = None,
        leave_out: Collection[str] = (),
        threads: int | None = None,
        progress: Progress = silent,
    ) -> None:
        self.quilt = quilt
        self._leave_out = frozenset(leave_out)
        self.folder = quilt.folder / "out" if folder is None else Path(folder)
        self.threads, self.progress, self._texels = threads, progress, texels
        self._arrays: TextureArrays | None = None
        self.runner = Runner(self.folder, self._steps())
        quilt.shelf = self.shelf

    def __repr__(self) -> str:
        return f"<Results of {self.quilt.path.name} in {self.folder}: {', '.join(self.runner.steps)}>"

    def run(self, name: str, *, anew: bool = False) -> Made:
        """Do a step, or draw a picture, unless that is done; with `anew` in any case."""
        if name in PICTURES:
            self.picture_named(name)
        elif name not in self.runner.steps and name in _WANTED:
            raise RangeError(f"{self.quilt.path}: {_WANTED[name]}")
        known_name("step", name, self.runner.steps)
        return self.runner.run(name, anew=anew)

    def take_over(self, former: Results) -> None:
        """Keep the arrays of earlier results in memory where they would be packed the same; see `Quilt.take_over`."""
        if former._arrays is not None and former.runner.stamp("pack") == self.runner.stamp("pack"):
            self._arrays = former._arrays
        if "adopted" in former.__dict__ and all("adopt" in each.runner.steps for each in (self, former)):
            same = former.runner.stamp("adopt") == self.runner.stamp("adopt")
            self.adopted = former.adopted if same else self.adopted

    def draw(self, names: Sequence[str], *, anew: bool = False) -> list[Made]:
        """Draw pictures, or leave those that are as they would be: some at once, since words and sheets leave cores idle."""
        stale = [name for name in names if anew or not self.runner.is_done(self.picture_named(name))]
        for needed in dict.fromkeys(each for name in stale for each in self.runner.steps[name].needs):
            self.run(needed)
        done: dict[str, Made] = {}
        if any("weigh" in self.runner.steps[name].needs for name in stale):
            self.weights  # noqa: B018 (loaded before threads share it)
        if any("pack" in self.runner.steps[name].needs for name in stale):
            self.arrays  # noqa: B018

        def draw_one(name: str) -> None:
            done[name] = self.run(name, anew=anew)

        longest_first = sorted(stale, key=lambda name: -PICTURES[name].effort)
        work_through(longest_first, draw_one, threads=self.threads, step="drawing", progress=self.progress)
        return [done.get(name) or self.run(name) for name in names]

    @cached_property
    def sources(self) -> tuple[SwatchSource, ...]:
        """Where the swatches come from: those of the quilt file, and the meshes' own materials that layers show."""
        every = self.quilt.every_source(self.folder / OWN_IMAGES)
        return tuple(each for each in every if each.name not in self._leave_out)

    def kernels_for(self, names: Collection[str]) -> set[str]:
        """Return which parts of the kernels (see `warm`) some steps or pictures take, and those that they wait for."""
        parts: set[str] = set()
        waiting = list(names)
        while waiting:
            name = waiting.pop()
            waiting += self.runner.steps[name].needs if name in self.runner.steps else ()
            parts |= _KERNELS["bake mesh" if name in self.mesh_steps else name]
        return parts if self.quilt.table.mesh else parts - {"meshes"}

    @property
    def mesh_steps(self) -> list[str]:
        """The steps that bake the meshes, in the order of the file."""
        return [_mesh_step(table.name) for table in self.quilt.table.mesh]

    @property
    def pictures(self) -> list[str]:
        """The pictures that this quilt has something to show in."""
        return [name for name in PICTURES if name in self.runner.steps]

    def picture_named(self, name: str) -> str:
        """Return the name of a picture; raise `QuiltError` if there is none of that name, or nothing to show in it."""
        known_name("picture", name, PICTURES)
        if name not in self.runner.steps:
            raise RangeError(f'{self.quilt.path}: there is nothing to show as "{name}"; {PICTURES[name].wants}')
        return name

    def _steps(self) -> list[Step]:
        table = self.quilt.table
        steps = [Step(name="pack", folder="arrays", inputs=self._pack_inputs, make=self._pack)]
        if table.adopt is not None:
            steps.append(Step(name="adopt", folder="adopted", inputs=self._adopt_inputs, make=self._adopt))
        if table.surface is not None and table.layer:
            needs: tuple[str, ...] = ("adopt",) if table.adopt is not None else ()
            needs += ("pack",) if self._reads_detail else ()
            steps.append(Step(name="weigh", folder="weights", inputs=self._weigh_inputs, make=self._weigh, needs=needs))
            by = ("weigh",) if table.bake.weights == "map" else needs
            steps.append(
                Step(
                    name="bake",
                    folder="bake",
                    inputs=self._bake_inputs,
                    make=self._bake,
                    needs=tuple(dict.fromkeys(("pack", *by))),
                )
            )
        for number, mesh in enumerate(table.mesh):
            steps.append(
                Step(
                    name=_mesh_step(mesh.name),
                    folder=f"meshes/{mesh.name.replace(' ', '_')}",
                    needs=("pack",),
                    inputs=partial(self._mesh_inputs, number),
                    make=partial(self._bake_mesh, number),
                )
            )
        named = {step.name for step in steps}
        for name, picture in PICTURES.items():
            if picture.needs <= named and (name != "meshes" or table.mesh):
                steps.append(
                    Step(
                        name=name,
                        folder="pictures",
                        needs=tuple(sorted(picture.needs)),
                        inputs=self._picture_inputs,
                        make=partial(self._draw, name),
                    )
                )
        return steps

    # What goes in.

    def _pack_inputs(self) -> Iterator[str]:
        yield self.quilt.table.arrays.model_dump_json()
        known: Facts = {}
        with contextlib.suppress(FileError):
            known = read_json(self.folder / "arrays" / INPUTS, "list of inputs")
        digests = FileDigests(known)
        roles = {role for layout in self.quilt.layouts for role in layout.roles} | set(SURFACE_ROLES)
        for source in self.sources:
            yield from (source.name, f"{source.tile} {source.aspect} {source.relief}", source.stamp(roles, digests))

    def _adopt_inputs(self) -> Iterator[bytes | str]:
        table = self.quilt.table.adopt
        assert table is not None
        yield from (table.model_dump_json(), json.dumps([layer.name for layer in self.quilt.layers]))
        yield from (digest_of_file(self.quilt.folder / file, "inherited file") for file in table.files)

    def _weigh_inputs(self) -> Iterator[bytes | str]:
        table = self.quilt.table
        assert table.surface is not None
        masks = [(layer.label, layer.swatch, [step.model_dump(mode="json") for step in layer.mask]) for layer in table.layer]
        if table.channel:
            yield json.dumps([each.model_dump(mode="json") for each in table.channel])
        if self._reads_detail:
            yield from (self.runner.stamp("pack"), json.dumps([layer.model_dump(mode="json") for layer in table.layer]))
        yield from (repr(table.surface), table.weights.model_dump_json(), json.dumps(masks), self._medleys)
        yield self._daubs()
        yield from (digest_of_file(self.quilt.folder / file, "heightmap") for file in table.surface.files)
        yield from self._mask_files()

    def _bake_inputs(self) -> Iterator[bytes | str]:
        table = self.quilt.table
        if table.bake.weights != "map":
            yield from self._weigh_inputs()
        yield from (json.dumps([layer.model_dump(mode="json") for layer in table.layer]), table.bake.model_dump_json())
        yield from (str(self.bake_texels), str(table.weights.time))
        yield from self._flow_files()
        yield from self._films(GROUND)
        yield from self._mask_files() if self.quilt.films_on(GROUND) else ()

    def _mesh_inputs(self, number: int) -> Iterator[bytes | str]:
        """As read and placed, so that whatever the mesh file names beside itself counts too."""
        quilt, table, mesh = self.quilt, self.quilt.table, self.quilt.meshes[number]
        yield from (table.mesh[number].model_dump_json(), table.bake.model_dump_json(), self._medleys)
        yield str(quilt.heights) if table.medley and table.surface is not None else ""
        for array in (mesh.position, mesh.normal, mesh.tangent, mesh.triangles, mesh.uv, mesh.colour, mesh.layout):
            yield b"" if array is None else array.tobytes()
        yield from (str(mesh.origin), str(table.weights.time))
        yield from self._mask_files()
        yield from self._flow_files()
        yield from self._films(table.mesh[number].name)

    def _picture_inputs(self) -> Iterator[bytes | str]:
        """Everything that the quilt file says or names."""
        yield self.quilt.table.model_dump_json()
        try:
            yield from self._pack_inputs()
        except QuiltError as error:  # the audit draws what is missing, too
            yield str(error)
        yield from self._mask_files()
        if self.quilt.table.sky.image:
            yield read_bytes(self.quilt.folder / self.quilt.table.sky.image, "sky image")
        for number in range(len(self.quilt.table.mesh)):
            yield from self._mesh_inputs(number)

    @property
    def _medleys(self) -> str:
        return json.dumps([each.model_dump(mode="json") for each in self.quilt.table.medley])

    def _films(self, thing: str) -> Iterator[str]:
        """What the films of the ground or of a mesh, and the channels that they may ask, depend on beside image files."""
        films = [film for film in self.quilt.table.film if not film.on or thing in film.on]
        yield json.dumps([each.model_dump(mode="json") for each in films])
        if self.quilt.table.channel:
            yield json.dumps([each.model_dump(mode="json") for each in self.quilt.table.channel])
            yield self._daubs()

    def _daubs(self) -> str:
        daubs = self.quilt.daubs
        return digest_of_file(daubs.path) if isinstance(daubs, DaubFile) else "\n".join(map(line_of, daubs))

    def _mask_files(self) -> Iterator[bytes]:
        return (read_bytes(self.quilt.folder / file, "image file") for file in self.quilt.table.mask_files())

    def _flow_files(self) -> Iterator[str]:
        return (digest_of_file(self.quilt.folder / file, "image file") for file in self.quilt.table.flow_files())

    # What is made.

    def _pack(self, folder: Path, anew: bool) -> Files:
        table = self.quilt.table.arrays
        made = pack_files(
            self.sources,
            folder,
            side=table.side,
            layouts=self.quilt.layouts_for(self.sources),
            mips=table.mips,
            zstd=table.compress == "zstd",
            anew=anew,
            threads=self.threads,
            progress=self.progress,
        )
        self._arrays = open_arrays(folder)
        files = [*(path for path in made.files if path.name != MANIFEST), folder / MANIFEST]
        if table.images:
            self._arrays.save_images(folder / "slices")
            files.append(folder / "slices" / "slices.json")
        return Files(tuple(files), _slices_words(made) if made.kept else "")

    def _adopt(self, folder: Path, anew: bool) -> Files:
        return Files(tuple(self.quilt.rehomed(self.inherited).save(folder)))

    def _weigh(self, folder: Path, anew: bool) -> Files:
        canvas, options = self.quilt.terrain.canvas(self.quilt.table.weights.texels), self.weigh_options
        files = weigh(canvas, self.layers, **options).save(folder)
        return Files((*files, *self._write_channels(folder, self.quilt.table.weights.bits)))

    def _write_channels(self, folder: Path, bits: int) -> list[Path]:
        """Write how much there is of each channel over the ground, a grey image each."""
        canvas = self.quilt.terrain.canvas(self.quilt.table.weights.texels)
        with written_together(folder) as stage:
            names = [
                write_channel(stage, canvas, channel, bits, threads=self.threads, progress=self.progress).name
                for channel in self.quilt.channels
            ]
        return [folder / name for name in names]

    def _bake(self, folder: Path, anew: bool) -> Files:
        table, quilt = self.quilt.table.bake, self.quilt
        weights = self.weights if table.weights == "map" else self.weigher
        baked = bake(
            quilt.terrain.canvas(self.bake_texels),
            quilt.layers,
            self.arrays,
            weights=weights,
            normals=table.normals,
            filter=table.filter,
            eye=table.eye,
            films=quilt.films_on(GROUND),
            threads=self.threads,
            progress=self.progress,
        )
        return Files(tuple(baked.save(folder, self.progress)), self._saved_words())

    def _bake_mesh(self, number: int, folder: Path, _anew: bool) -> Files:
        quilt, table, how = self.quilt, self.quilt.table.mesh[number], self.quilt.table.bake
        mesh, layers = quilt.meshes[number], quilt.layers_by_part[number]
        told = uv_words(mesh, layers)
        options: Facts = {"filter": how.filter, "eye": how.eye, "films": quilt.films_on(table.name)}
        options |= {"threads": self.threads, "progress": self.progress}
        if table.into == "vertices":
            files = write_vertices(mesh, layers, self.arrays, folder, **options)
            return Files(tuple(files), "; ".join(filter(None, (f"{len(mesh.position):,} vertices coloured", told))))
        with quilt.of_mesh(number, "unwrap"):
            canvas = UvCanvas(mesh, table.texels, padding=table.padding)
        made = bake(canvas, layers, self.arrays, normals=how.normals, **options)
        assert made.cover is not None
        covered = f"{100 * made.cover.covered.mean():.1f} % of the layout covered"
        files = made.save(folder, self.progress)
        if table.unwrap:  # maps for a layout are of no use without it
            files.append(write_mesh(mesh.by_layout(), folder / "mesh.glb"))
        return Files(tuple(files), "; ".join(filter(None, (covered, told))))

    def _draw(self, name: str, folder: Path, _anew: bool) -> Files:
        boards = boards_of(name, self)
        names = [name + (f"_{number + 1}" if number else "") + ".png" for number in range(len(boards))]
        with written_together(folder) as stage:
            for each, board in zip(names, boards, strict=True):
                board.save(stage / each)
        return Files(tuple(folder / each for each in names))

    def _saved_words(self) -> str:
        """How many samples the limits of triplanar layers save, where there are such limits."""
        layers, terrain = self.quilt.layers, self.quilt.terrain
        if not any(isinstance(each.projection, Triplanar) and each.projection.is_limited for each in layers):
            return ""
        points = terrain.points(terrain.layout(_SWEEP_TEXELS))
        saved = samples_saved(self.arrays, layers, points, self.weights.at(points))
        return f"limits of triplanar layers save {100 * saved:.1f} % of samples"

    @property
    def weigh_options(self) -> Facts:
        """What the quilt file says of weighing, as options of `weigh`."""
        table = self.quilt.table.weights
        told: Facts = {"keep": table.keep, "bits": table.bits, "stacking": table.stacking}
        told |= {"adopted": self.adopted, "daubs": self.quilt.daubs}
        return told | {"threads": self.threads, "progress": self.progress}

    def weigh_stamp(self) -> str:
        """Return what stands for all masks, daubs and adopted weights."""
        return fingerprint(*self._weigh_inputs(), *(self._adopt_inputs() if self.quilt.table.adopt else ()))

    @property
    def bake_texels(self) -> int:
        """Texels along the longer side of the ground's maps."""
        return self.quilt.table.bake.texels if self._texels is None else self._texels

    # What is there, loaded.

    @property
    def arrays(self) -> TextureArrays:
        """The packed arrays; packed first if they are not there, and with a warning if they are damaged."""
        if self._arrays is None:
            made = self.run("pack")
            if self._arrays is None:
                try:
                    self._arrays = open_arrays(made.folder)
                    self._arrays.check()
                except FileError as error:
                    warnings.warn(f"{error}; packed anew", QuiltWarning, stacklevel=2)
                    self._arrays = None
                    self.run("pack", anew=True)
                    return self.arrays
        return self._arrays

    @cached_property
    def layers(self) -> Sequence[Layer]:
        """The layers of the ground, their masks reading the packed textures where they read any."""
        return self.seeing(self.quilt.layers)

    def seeing(self, layers: Sequence[Layer]) -> Sequence[Layer]:
        """Return layers whose masks read the packed textures, where they read any."""
        return layers_seeing(layers, self.arrays) if any(reads_detail(layer.mask) for layer in layers) else layers

    @property
    def _reads_detail(self) -> bool:
        """Whether the masks of the ground read textures."""
        return any(reads_detail(layer.mask) for layer in self.quilt.layers)

    @cached_property
    def inherited(self) -> Adopted:
        """The weights that the quilt file inherits, by their old names."""
        return self.quilt.inherited()

    @cached_property
    def adopted(self) -> WeightMap | None:
        """The adopted weights by the quilt's own layers, as `weights`; None where none are inherited."""
        return None if self.quilt.table.adopt is None else self._loaded("adopt", "adopted")

    @cached_property
    def weights(self) -> WeightMap:
        """The weight map; weighed first if it is not there, and with a warning if it is damaged."""
        return self._loaded("weigh", "weighed")

    @cached_property
    def weigher(self) -> Weigher:
        """What answers weights at any point: masks, adopted weights and daubs together."""
        return Weigher(
            self.layers,
            self.quilt.terrain,
            adopted=self.adopted,
            daubs=self.quilt.daubs,
            stacking=self.quilt.table.weights.stacking,
        )

    def beside_layers(self) -> list[tuple[str, str, Mask]]:
        """Return the masks of the films that lie on the ground, and the channels: kind, name, mask, on the ground."""
        quilt, known = self.quilt, remembering(self.quilt.terrain)
        told: list[tuple[str, str, Mask]] = [("film", each.name, each.mask) for each in reversed(quilt.films_on(GROUND))]
        told += [("channel", each.name, each) for each in quilt.channels]
        return [(kind, name, mask.on(known)) for kind, name, mask in told]

    def scene(self, weights: WeightMap | None = None, *, pages: str | None = None) -> Scene:
        """Return what stands before the camera: the terrain and the meshes, with their layers, under its lights.

        weights : of the terrain; the weight map where they are not given.
        pages : the store that holds the finished maps of the terrain, in place of its layers.
        """
        quilt, scene = self.quilt, Scene(self.arrays, haze=self.quilt.haze, cut_out=self.quilt.cut_out)
        quilt.check_lamps()
        scene.lighting = quilt.lighting
        if pages is not None:
            scene.add_pages(quilt.terrain, PagedGround(pages))
        elif "weigh" in self.runner.steps:
            of_map = self.weights if weights is None else weights
            scene.add(quilt.terrain, quilt.layers, weights=of_map, films=quilt.films_on(GROUND))
        for table, mesh, layers in zip(quilt.table.mesh, quilt.meshes, quilt.layers_by_part, strict=True):
            scene.add(mesh, layers, films=quilt.films_on(table.name))
        if not scene.things:
            raise RangeError(f"{quilt.path}: nothing to look at; say a [surface] with [[layer]]s, or a [[mesh]]")
        return scene

    def _loaded(self, name: str, done: str) -> WeightMap:
        """Load the weights that a step leaves; do it anew, with a warning, where what it left before is damaged."""
        made = self.run(name)
        try:
            return open_weights(made.folder, self._room_for(made.folder))
        except FileError as error:
            warnings.warn(f"{error}; {done} anew", QuiltWarning, stacklevel=3)
            return open_weights(self.run(name, anew=True).folder, self._room_for(made.folder))

    def _room_for(self, folder: Path) -> Room:
        """Where weights of a folder lie: on the shelf if they are more than can be held."""
        first = folder / "weights_0.png"
        large = first.is_file() and math.prod(image_size(first, OURS)) > HELD_TEXELS
        return self.shelf if large else MEMORY

    @property
    def shelf(self) -> Shelf:
        """Where arrays lie that are more than can be held."""
        return Shelf(self.folder / "held")

    # What is drawn or written on request, and not kept.

    def draw_debug(self, kinds: Sequence[str]) -> Made:
        """Draw the view in the false colours of some of `DEBUG`."""
        folder = self.folder / "pictures"
        boards = draw_debugs(self.scene(), self.quilt.camera, kinds, threads=self.threads, progress=self.progress)
        files = tuple(board.save(folder / f"debug_{kind}.png") for kind, board in boards.items())
        return Made(folder, files, fresh=True)

    def draw_from_pages(self, store: str, kinds: Collection[str]) -> Made:
        """Draw of `kinds` the "view", its ground from pages of a store, and which "pages" those are."""
        scene, camera = self.scene(pages=store), self.quilt.camera
        ground = next(thing.pages for thing in scene.things if thing.pages is not None)
        assert ground is not None
        folder, files, options = self.folder / "pictures", [], {"threads": self.threads, "progress": self.progress}
        if "view" in kinds:
            files.append(folder / "view_pages.png")
            write_image(files[-1], scene.draw(camera, **options))  # type: ignore[arg-type]
        if "pages" in kinds:
            files.append(draw_pages(scene, camera, ground, **options).save(folder / "debug_pages.png"))  # type: ignore[arg-type]
        pages = ground.pages
        told = f"{len(pages.held)} of {pages.grid.page_count:,} pages held"
        told += f"; {len(pages.missing)} are missing, and coarser ones stand in" if pages.missing else ""
        return Made(folder, tuple(files), fresh=True, remark=told)

    def draw_compared(self, left: str, right: str) -> Made:
        """Draw the view of two quilts under one light and one camera, and their difference.

        Each is a quilt file, a change KEY=VALUE to this one, or "" for this one as it is.
        """
        folder = self.folder / "pictures"
        with ExitStack() as rest:
            scenes = []
            for side in (self._changed(each) for each in (left, right)):
                own = self if side is self.quilt else rest.enter_context(_beside(self, side))
                scenes.append(own.scene())
                scenes[-1].lighting = self.quilt.lighting
            options = {"width": 620, "height": 388, "threads": self.threads, "progress": self.progress}
            pictures = draw_beside(scenes, self.quilt.camera, **options)
        names = [each or self.quilt.path.name for each in (left, right)]
        return Made(folder, (draw_compared(names, pictures).save(folder / "compare.png"),), fresh=True)

    def draw_with_and_without(self, role: str) -> Made:
        """Draw the view, its left half with the maps of a role and its right half without them."""
        folder, which, scene = self.folder / "pictures", role_among(LIT_ROLES, role), self.scene()
        options = {"without": [(), (which,)], "threads": self.threads, "progress": self.progress}
        pictures = draw_scenes([scene, scene], self.quilt.camera, **options)  # type: ignore[arg-type]
        board = draw_halves(pictures, (f"with {which.key}", f"without {which.key}"))
        return Made(folder, (board.save(folder / f"with_and_without_{which.key}.png"),), fresh=True)

    def draw_swing(self, steps: int, which: int = 0) -> Made:
        """Draw the view with light `which`, from 0, going around what the camera looks at: a sheet, and a moving picture."""
        folder, scene, camera = self.folder / "pictures", self.scene(), self.quilt.camera
        lightings = swings(scene.lighting, which, steps, camera.target)
        pictures = draw_swing(scene, camera, lightings, threads=self.threads, progress=self.progress)
        sheet = swing_sheet(pictures, lightings, which).save(folder / "swing.png")
        return Made(folder, (sheet, write_moving(folder / "swing.webp", pictures)), fresh=True)

    def draw_sweep(self, sweep: Sweep) -> Made:
        """Draw what one number of the quilt file does, for each of its values.

        The weight of the layer that it belongs to, or all layers where it belongs to none; the ground where it shows, if it
        turns what the layer looks like.
        """
        if turns_a_look(sweep, self):
            return Made(self.folder, (draw_looks(self, sweep).save(self.folder / "pictures" / "sweep.png"),), fresh=True)
        quilt, folder = self.quilt, self.folder / "pictures"
        layer, maps = sweep.layer_of(quilt), []
        for value in sweep.values:
            changed = read_quilt(quilt.path, time=quilt.table.weights.time, changes={sweep.key: value})
            weights = weigh(
                quilt.terrain.canvas(_SWEEP_TEXELS),
                self.seeing(changed.layers),
                keep=MOST_KEPT,
                adopted=self.adopted,
                daubs=changed.daubs,
                stacking=changed.table.weights.stacking,
                threads=self.threads,
                progress=self.progress,
            )
            maps.append((f"{value:g}", weights))
        board = draw_sweep(sweep.key, layer, maps, quilt.terrain)
        return Made(folder, (board.save(folder / "sweep.png"),), fresh=True)

    def export_weights(self, forms: Sequence[str], bits: int = 8) -> Made:
        """Write the weight map as other programs read it: any of `WEIGHT_FORMS`."""
        folder = self.folder / "export"
        writers: list[Callable[..., list[Path]]] = [WEIGHT_FORMS[known_name("form", form, WEIGHT_FORMS)] for form in forms]
        return Made(folder, tuple(file for write in writers for file in write(self.weights, folder, bits=bits)), fresh=True)

    def export_channels(self, bits: int = 8) -> Made:
        """Write how much there is of each channel over the ground, a grey image each."""
        if not self.quilt.channels:
            raise RangeError(f"{self.quilt.path}: there is no channel; write a [[channel]]")
        folder = self.folder / "export"
        return Made(folder, tuple(self._write_channels(folder, bits)), fresh=True)

    def export_terrain(self, error: float, near: float | None = None) -> Made:
        """Write the terrain as a mesh within `error` metres of its samples; with `near`, finer about the camera of the view."""
        quilt, folder = self.quilt, self.folder / "export"
        mesh = terrain_mesh(quilt.terrain, error, camera=None if near is None else quilt.camera.position, near=near or 50.0)
        rows, columns = quilt.terrain.heights.shape
        told = f"{len(mesh.triangles):,} triangles; all samples would take {2 * (rows - 1) * (columns - 1):,}"
        return Made(folder, (write_mesh(mesh, folder / "terrain.glb"),), fresh=True, remark=told)

    def _changed(self, words: str) -> Quilt:
        """Return this quilt, another by its file, or this one with a key changed."""
        if not words:
            return self.quilt
        if "=" not in words:
            return read_quilt(words)
        key, _, value = words.partition("=")
        return read_quilt(self.quilt.path, time=self.quilt.table.weights.time, changes={key.strip(): plain_value(value)})


def run(
    quilt: Quilt,
    *steps: str,
    out: Path | str | None = None,
    anew: bool = False,
    threads: int | None = None,
    progress: Progress = silent,
) -> dict[str, Made]:
    """Do steps of a quilt and draw its pictures, as the command line does; only what changed is done again.

    Parameters
    ----------
    steps : str
        "pack", "adopt", "weigh", "bake", "bake NAME" of a mesh, or a picture: "swatches", "balls", "weights", "masks",
        "adopted", "maps", "view", "riser", "meshes", "audit".
    out : Path, optional
        `out` beside the quilt file where it is not given.

    Returns
    -------
    dict of step to Made
        The folder and the files of each, and whether it had to work.

    Raises
    ------
    NameNotFoundError
        If the quilt has no such step.
    """
    results = Results(quilt, None if out is None else Path(out), threads=threads, progress=progress)
    for name in steps:
        known_name("step", name, results.runner.steps)
    return {name: results.run(name, anew=anew) for name in steps}


@contextmanager
def _beside(results: Results, quilt: Quilt) -> Iterator[Results]:
    """Results of another quilt, in a folder that is gone afterwards; arrays that are the same are not packed again."""
    with tempfile.TemporaryDirectory(dir=results.folder, prefix=temporary_prefix()) as folder:
        other = Results(quilt, Path(folder), threads=results.threads, progress=results.progress)
        if other.runner.stamp("pack") == results.runner.stamp("pack"):
            other._arrays = results.arrays
        yield other


def uv_words(mesh: Mesh, layers: Mapping[str, Sequence[Layer]]) -> str:
    """What was measured where a layer lies by uv and does not say what their unit stands for; empty where none does."""
    measured = {
        part.name: mesh.metres_of(part)
        for part in mesh.parts
        if any(isinstance(layer.projection, Uv) and layer.projection.metres is None for layer in layers[part.name])
    }
    if not measured:
        return ""
    low, high = min(measured.values()), max(measured.values())
    return f"one unit of uv measures {low:.3g}" + (f" to {high:.3g} m" if high > 1.001 * low else " m")


def _mesh_step(name: str) -> str:
    return f"bake {name}"


def _slices_words(made: PackedAnew) -> str:
    return f"{made.made} slices made, {made.kept} kept as they were"
