"""The results of a quilt: its steps, and what they leave, loaded."""

from __future__ import annotations

import math
import warnings
from collections.abc import Collection, Mapping, Sequence
from functools import cached_property, partial
from pathlib import Path

from jagged_quilt.arrays.mips import LARGEST_SIDE
from jagged_quilt.arrays.pack import PackedAnew, pack, pack_files
from jagged_quilt.arrays.texture_arrays import MANIFEST, TextureArrays, open_arrays
from jagged_quilt.baking.bake import Baker
from jagged_quilt.baking.baked_maps import BakedMaps
from jagged_quilt.blend.detail_mask import layers_seeing, reads_detail
from jagged_quilt.blend.layer import Layer, every_swatch
from jagged_quilt.blend.samples import samples_saved
from jagged_quilt.export.driver import Driver
from jagged_quilt.export.shader_blend import baked_on
from jagged_quilt.export.vertices import write_vertices
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import FileError, QuiltWarning, RangeError, warning_of
from jagged_quilt.foundation.fields import remembering
from jagged_quilt.foundation.files import (
    fingerprint,
    written_together,
)
from jagged_quilt.foundation.locks import alone_with
from jagged_quilt.foundation.loose import Facts
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.shelf import MEMORY, Room, Shelf
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.maps.image_files import image_size
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.masks.mask import Mask
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshfiles.write import write_mesh
from jagged_quilt.quiltfile.quilt import GROUND, HELD_TEXELS, Quilt
from jagged_quilt.results.audits import OWN_IMAGES
from jagged_quilt.results.inputs import Inputs
from jagged_quilt.results.pictures import PICTURES, boards_of
from jagged_quilt.results.step import Files, Made, Runner, Step
from jagged_quilt.show.paged import PagedGround
from jagged_quilt.show.scene import Scene
from jagged_quilt.surfaces.uv_canvas import UvCanvas
from jagged_quilt.weights.adopt import Adopted
from jagged_quilt.weights.channel import write_channel
from jagged_quilt.weights.weigh import weigh
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import OURS, WeightMap, open_weights

_SAVED_TEXELS = 512
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
    on_gpu : bool
        Whether maps are baked by the exported shader, on an OpenGL driver.
    """

    def __init__(
        self,
        quilt: Quilt,
        folder: Path | None = None,
        *,
        texels: int | None = None,
        on_gpu: bool = False,
        leave_out: Collection[str] = (),
        threads: int | None = None,
        progress: Progress = silent,
    ) -> None:
        self.quilt = quilt
        self._leave_out = frozenset(leave_out)
        self.folder = quilt.folder / "out" if folder is None else Path(folder)
        self.threads, self.progress, self._texels, self.on_gpu = threads, progress, texels, on_gpu
        self._arrays: TextureArrays | None = None
        self.device = ""
        """The device that baked last, if one did."""
        self.inputs = Inputs(self)
        self.runner = Runner(self.folder, self._steps())
        quilt.shelf, quilt.progress = self.shelf, progress

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
        steps = [Step(name="pack", folder="arrays", inputs=self.inputs.pack, make=self._pack)]
        if table.adopt is not None:
            steps.append(Step(name="adopt", folder="adopted", inputs=self.inputs.adopt, make=self._adopt))
        if table.surface is not None and table.layer:
            needs: tuple[str, ...] = ("adopt",) if table.adopt is not None else ()
            needs += ("pack",) if self.reads_detail else ()
            steps.append(Step(name="weigh", folder="weights", inputs=self.inputs.weigh, make=self._weigh, needs=needs))
            by = ("weigh",) if table.bake.weights == "map" else needs
            steps.append(
                Step(
                    name="bake",
                    folder="bake",
                    inputs=self.inputs.bake,
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
                    inputs=partial(self.inputs.mesh, number),
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
                        inputs=self.inputs.picture,
                        make=partial(self._draw, name),
                    )
                )
        return steps

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
        return Files((*files, *self.write_channels(folder, self.quilt.table.weights.bits)))

    def write_channels(self, folder: Path, bits: int) -> list[Path]:
        """Write how much there is of each channel over the ground, a grey image each."""
        canvas = self.quilt.terrain.canvas(self.quilt.table.weights.texels)
        with written_together(folder) as stage:
            names = [
                write_channel(stage, canvas, channel, bits, threads=self.threads, progress=self.progress).name
                for channel in self.quilt.channels
            ]
        return [folder / name for name in names]

    def _bake(self, folder: Path, anew: bool) -> Files:
        return Files(tuple(self.baked_ground().save(folder, self.progress)), self._saved_words())

    def baked_ground(self, texels: int | None = None, bits: int = 8) -> BakedMaps:
        """Bake the ground, of so many texels along its longer side, or as the quilt file has it."""
        table, quilt = self.quilt.table.bake, self.quilt
        canvas = quilt.terrain.canvas(texels or self.bake_texels)
        baker = Baker(
            canvas,
            quilt.layers,
            self.arrays,
            weights=self.weights if table.weights == "map" else self.weigher,
            normals=table.normals,
            filter=table.filter,
            eye=table.eye,
            films=quilt.films_on(GROUND),
        )
        return self._over(baker, self.arrays, bits)

    def _over(self, baker: Baker, arrays: TextureArrays, bits: int) -> BakedMaps:
        """Bake the whole canvas, by the kernel or by a shader."""
        if not self.on_gpu:
            return baker.over(baker.canvas, bits=bits, threads=self.threads, progress=self.progress)
        with Driver() as driver:
            self.device = driver.name
            return baked_on(driver, baker, arrays, bits=bits, progress=self.progress)

    def baked_mesh(self, number: int, texels: int | None = None, bits: int = 8) -> BakedMaps:
        """Bake a mesh into its layout, of so many texels along its longer side, or as the quilt file has it."""
        quilt, table, how = self.quilt, self.quilt.table.mesh[number], self.quilt.table.bake
        layers, films = quilt.layers_by_part[number], quilt.films_on(table.name)
        with quilt.of_mesh(number, "unwrap"):
            canvas = UvCanvas(quilt.meshes[number], texels or table.texels, padding=table.padding)
        arrays = self._arrays_of_mesh(number)
        with warning_of(f'mesh "{table.name}"'):
            baker = Baker(canvas, layers, arrays, normals=how.normals, filter=how.filter, eye=how.eye, films=films)
            return self._over(baker, arrays, bits)

    def _arrays_of_mesh(self, number: int) -> TextureArrays:
        """Return the arrays to bake a mesh from: the quilt's own, or larger ones where the mesh's own maps are larger."""
        layers = [layer for own in self.quilt.layers_by_part[number].values() for layer in own]
        shown = set(every_swatch(layers))
        own_sources = self.quilt.own_sources(self.folder / OWN_IMAGES)
        largest = max((each.largest_side for each in own_sources if each.name in shown), default=1)
        table = self.quilt.table.arrays
        side = min(LARGEST_SIDE, 1 << (largest - 1).bit_length())
        if side <= table.side:
            return self.arrays
        sources = [each for each in self.sources if each.name in shown]
        layouts = self.quilt.layouts_for(sources)
        return pack(sources, side=side, layouts=layouts, mips=table.mips, threads=self.threads, progress=self.progress)

    def _bake_mesh(self, number: int, folder: Path, _anew: bool) -> Files:
        quilt, table = self.quilt, self.quilt.table.mesh[number]
        mesh, layers = quilt.meshes[number], quilt.layers_by_part[number]
        told = uv_words(mesh, layers)
        if table.into == "vertices":
            files = write_vertices(mesh, layers, self.arrays, folder, **self.mesh_options(number))
            return Files(tuple(files), "; ".join(filter(None, (f"{len(mesh.position):,} vertices coloured", told))))
        made = self.baked_mesh(number)
        assert made.cover is not None
        covered = f"{100 * made.cover.covered.mean():.1f} % of the layout covered"
        files = made.save(folder, self.progress)
        if table.unwrap:  # maps for a layout are of no use without it
            files.append(write_mesh(mesh.by_layout(), folder / "mesh.glb"))
        return Files(tuple(files), "; ".join(filter(None, (covered, told))))

    def mesh_options(self, number: int) -> Facts:
        """What the quilt file says of baking a mesh, as options of `bake`."""
        how, films = self.quilt.table.bake, self.quilt.films_on(self.quilt.table.mesh[number].name)
        return {"filter": how.filter, "eye": how.eye, "films": films, "threads": self.threads, "progress": self.progress}

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
        if not any(each.projection.is_limited for each in layers):
            return ""
        points = terrain.points(terrain.layout(_SAVED_TEXELS))
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
        return fingerprint(*self.inputs.weigh(), *(self.inputs.adopt() if self.quilt.table.adopt else ()))

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
    def reads_detail(self) -> bool:
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
        `out` beside the quilt file where it is not given. It is this process's own until all is done: another one waits.

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
    with alone_with(results.folder):
        return {name: results.run(name, anew=anew) for name in steps}


def uv_words(mesh: Mesh, layers: Mapping[str, Sequence[Layer]]) -> str:
    """What was measured where a layer lies by uv and does not say what their unit stands for; empty where none does."""
    measured = {
        part.name: mesh.metres_of(part)
        for part in mesh.parts
        if any(layer.projection.unit_is_measured for layer in layers[part.name])
    }
    if not measured:
        return ""
    low, high = min(measured.values()), max(measured.values())
    return f"one unit of uv measures {low:.3g}" + (f" to {high:.3g} m" if high > 1.001 * low else " m")


def _mesh_step(name: str) -> str:
    return f"bake {name}"


def _slices_words(made: PackedAnew) -> str:
    return f"{made.made} slices made, {made.kept} kept as they were"
