"""The results of a quilt: what lies in the folder of results, whether it is still true, and how it is made."""

from __future__ import annotations

import contextlib
import json
import tempfile
import warnings
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

from jagged_quilt.arrays.pack import PackedAnew, pack_files
from jagged_quilt.arrays.texture_arrays import INPUTS, MANIFEST, TextureArrays
from jagged_quilt.baking.bake import bake
from jagged_quilt.baking.uv_bake import bake_mesh
from jagged_quilt.blend.projection import Triplanar
from jagged_quilt.blend.samples import samples_saved
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import FileError, QuiltError, QuiltWarning, RangeError
from jagged_quilt.foundation.files import FileDigests, fingerprint, read_bytes, read_json, written_together
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.foundation.version import __version__
from jagged_quilt.maps.audit import SwatchAudit, audit_swatch
from jagged_quilt.maps.roles import SURFACE_ROLES
from jagged_quilt.meshes.write import write_mesh
from jagged_quilt.quiltfile.quilt import Quilt, read_quilt
from jagged_quilt.quiltfile.sweep import Sweep, plain_value
from jagged_quilt.show.audit_sheet import audit_sheet
from jagged_quilt.show.board import Board
from jagged_quilt.show.compare import draw_compared
from jagged_quilt.show.debug import draw_debug
from jagged_quilt.show.lit_view import draw_scene
from jagged_quilt.show.mesh_sheet import draw_mesh_sheet
from jagged_quilt.show.riser import draw_riser
from jagged_quilt.show.scene import Dressed, Scene
from jagged_quilt.show.sheets import maps_sheet, swatch_sheets, weight_sheets
from jagged_quilt.show.weight_pictures import draw_adopted, draw_masks, draw_sweep, draw_weight_facts
from jagged_quilt.surfaces.terrain_mesh import terrain_mesh
from jagged_quilt.weights.adopt import Adopted
from jagged_quilt.weights.daub_file import line_of
from jagged_quilt.weights.medley import shown_names
from jagged_quilt.weights.settle import sums_words
from jagged_quilt.weights.splat_sheets import write_masks, write_pairs, write_splat
from jagged_quilt.weights.weigh import stacking_named, weigh
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import MOST_KEPT, WeightMap

PICTURES = ("swatches", "weights", "masks", "adopted", "maps", "view", "riser", "meshes", "audit")
WEIGHT_FORMS = ("splat", "pairs", "masks")
_SWEEP_TEXELS = 512


@dataclass(frozen=True)
class Made:
    """What a step did: the folder, its files, and whether it had to work."""

    folder: Path
    files: tuple[Path, ...]
    fresh: bool
    remark: str = ""


class Results:
    """The folder of results of one quilt.

    Each step leaves a manifest with a stamp, a hash of everything that went in; a step whose stamp still holds and whose
    files are there is not done again.

    Parameters
    ----------
    folder : Path, optional
        `out` beside the quilt file where it is not given.
    """

    def __init__(
        self, quilt: Quilt, folder: Path | None = None, *, threads: int | None = None,
        progress: Progress = silent,
    ) -> None:  # fmt: skip
        self.quilt = quilt
        self.folder = quilt.folder / "out" if folder is None else Path(folder)
        self._threads, self._progress = threads, progress
        self._arrays: TextureArrays | None = None

    def pack(self, *, anew: bool = False) -> Made:
        """Pack the arrays unless they are there; with `anew` in any case. Slices whose inputs are unchanged are kept."""
        folder, table = self.folder / "arrays", self.quilt.table.arrays
        stamp = self._arrays_stamp
        files = [folder / f"{layout.name}.ktx2" for layout in self.quilt.layouts]
        images = [folder / "slices" / "slices.json"] if table.images else []
        if not anew and self._holds(folder / MANIFEST, stamp, [*files, *images]):
            return Made(folder, (*files, folder / MANIFEST), fresh=False)
        made = pack_files(self.quilt.sources, folder, texels=table.texels, layouts=self.quilt.layouts, mips=table.mips,
                          zstd=table.compress == "zstd", stamp=stamp, anew=anew, threads=self._threads,
                          progress=self._progress)  # fmt: skip
        self._arrays = TextureArrays.load(folder)
        if images:
            self._arrays.save_images(folder / "slices")
        return Made(folder, made.files, fresh=True, remark=_slices_words(made) if made.kept else "")

    def adopt(self, *, anew: bool = False) -> Made:
        """Adopt the weights that the quilt file inherits unless that is done; raise `RangeError` if it inherits none."""
        folder, table = self.folder / "adopted", self.quilt.table.adopt
        if table is None:
            raise RangeError(f"{self.quilt.path}: nothing to adopt; say what with an [adopt] table")
        files = [folder / "layers_0.png", folder / "weights_0.png"]
        if not anew and self._holds(folder / "weights.json", self._adopt_stamp, files):
            return Made(folder, (*files, folder / "weights.json"), fresh=False)
        adopted = self.quilt.rehomed(self.inherited)
        return Made(folder, tuple(adopted.save(folder, self._adopt_stamp)), fresh=True)

    @cached_property
    def inherited(self) -> Adopted:
        """The weights that the quilt file inherits, by their old names."""
        return self.quilt.inherited()

    @cached_property
    def adopted(self) -> WeightMap | None:
        """The adopted weights by the quilt's own layers, as `weights`; None where none are inherited."""
        return None if self.quilt.table.adopt is None else _loaded(self.adopt, "adopted")

    @cached_property
    def weigher(self) -> Weigher:
        """What answers weights at any point: masks, adopted weights and daubs together."""
        return Weigher(self.quilt.layers, self.quilt.terrain, adopted=self.adopted, daubs=self.quilt.daubs,
                       stacking=stacking_named(self.quilt.table.weights.stacking))  # fmt: skip

    def weigh(self, *, anew: bool = False) -> Made:
        """Weigh the layers unless that is done; with `anew` in any case."""
        folder, stamp = self.folder / "weights", self._weights_stamp
        sheets = range(-(-min(self.quilt.table.weights.keep, len(shown_names(self.quilt.layers))) // 4))
        files = [folder / f"{kind}_{n}.png" for n in sheets for kind in ("layers", "weights")]
        if not anew and self._holds(folder / "weights.json", stamp, files):
            return Made(folder, (*files, folder / "weights.json"), fresh=False)
        table = self.quilt.table.weights
        weights = weigh(self.quilt.terrain, self.quilt.layers, texels=table.texels, keep=table.keep, bits=table.bits,
                        stacking=table.stacking, adopted=self.adopted, daubs=self.quilt.daubs,
                        threads=self._threads, progress=self._progress)  # fmt: skip
        return Made(folder, tuple(weights.save(folder, stamp)), fresh=True)

    def bake(self, texels: int | None = None, *, anew: bool = False) -> Made:
        """Bake the maps unless they are there; `texels` stands in for what the quilt file says."""
        table = self.quilt.table.bake
        side = table.texels if texels is None else texels
        folder = self.folder / "bake"
        stamp = self._stamp("bake", self._arrays_stamp, self._weights_stamp, self._layers_text,
                            table.model_dump_json(), str(side))  # fmt: skip
        files = [folder / f"{role.key}.png" for role in SURFACE_ROLES]
        if not anew and self._holds(folder / "bake.json", stamp, files):
            return Made(folder, (*files, folder / "bake.json"), fresh=False)
        weights = self.weights if table.weights == "map" else self.weigher
        baked = bake(self.quilt.terrain, self.quilt.layers, self.arrays, weights, texels=side, normals=table.normals,
                     filter=table.filter, threads=self._threads, progress=self._progress)  # fmt: skip
        return Made(folder, tuple(baked.save(folder, stamp, self._progress)), fresh=True, remark=self._saved_words())

    def _saved_words(self) -> str:
        """How many samples the limits of triplanar layers save, where there are such limits."""
        layers, terrain = self.quilt.layers, self.quilt.terrain
        if not any(isinstance(each.projection, Triplanar) and each.projection.is_limited for each in layers):
            return ""
        points = terrain.points(terrain.layout(_SWEEP_TEXELS))
        saved = samples_saved(self.arrays, layers, points, self.weights.at(points))
        return f"limits of triplanar layers save {100 * saved:.1f} % of samples"

    def bake_meshes(self, *, anew: bool = False) -> list[Made]:
        """Bake every mesh of the quilt into its own uv, unless that is done."""
        return [self.bake_mesh(number, anew=anew) for number in range(len(self.quilt.table.mesh))]

    def bake_mesh(self, number: int, *, anew: bool = False) -> Made:
        """Bake one mesh, by its place in the file."""
        quilt, table = self.quilt, self.quilt.table.mesh[number]
        folder = self.folder / "meshes" / table.name.replace(" ", "_")
        mesh = quilt.meshes[number]  # as read and placed, so whatever its file names beside itself counts too
        arrays = (mesh.position, mesh.normal, mesh.tangent, mesh.triangles, mesh.uv, mesh.colour)
        medleys = json.dumps([each.model_dump(mode="json") for each in quilt.table.medley])
        stamp = self._stamp("mesh", self._arrays_stamp, table.model_dump_json(), quilt.table.bake.model_dump_json(), medleys,
                            str(quilt.heights) if quilt.table.medley else "",
                            *(b"" if array is None else array.tobytes() for array in arrays),
                            *(read_bytes(quilt.folder / file, "image file") for file in quilt.table.mask_files()))  # fmt: skip
        files = [folder / f"{role.key}.png" for role in SURFACE_ROLES]
        if not anew and self._holds(folder / "bake.json", stamp, files):
            return Made(folder, (*files, folder / "bake.json"), fresh=False)
        bake_table = quilt.table.bake
        made = bake_mesh(mesh, quilt.layers_by_part[number], self.arrays, texels=table.texels,
                         padding=table.padding, normals=bake_table.normals, filter=bake_table.filter, threads=self._threads,
                         progress=self._progress)  # fmt: skip
        told = f"{100 * made.covered.mean():.1f} % of the layout covered"
        return Made(folder, tuple(made.save(folder, stamp, self._progress)), fresh=True, remark=told)

    @property
    def things(self) -> list[Dressed]:
        """What stands before the camera: the terrain and the meshes, with their layers."""
        quilt = self.quilt
        meshes = zip(quilt.meshes, quilt.layers_by_part, strict=True)
        return [Dressed(quilt.terrain, quilt.layers, self.weights), *(Dressed(mesh, layers) for mesh, layers in meshes)]

    def draw_debug(self, kinds: Sequence[str]) -> Made:
        """Draw the view in the false colours of some of `DEBUG`."""
        folder, files = self.folder / "pictures", []
        for kind in kinds:
            board = draw_debug(kind, self.things, self.arrays, self.quilt.camera, self.quilt.sun, threads=self._threads,
                               progress=self._progress)  # fmt: skip
            files.append(board.save(folder / f"debug_{kind}.png"))
        return Made(folder, tuple(files), fresh=True)

    def draw_compared(self, left: str, right: str) -> Made:
        """Draw the view of two quilts under one light and one camera, and their difference.

        Each is a quilt file, a change KEY=VALUE to this one, or "" for this one as it is.
        """
        sides = [self._changed(each) for each in (left, right)]
        folder = self.folder / "pictures"
        with ExitStack() as rest:
            pictures = []
            for side in sides:
                own = self if side is self.quilt else rest.enter_context(_beside(self, side))
                scene = Scene(own.things, own.arrays)
                pictures.append(draw_scene(scene, self.quilt.camera, self.quilt.sun, width=620, height=388,
                                           threads=self._threads, progress=self._progress))  # fmt: skip
        names = [each or self.quilt.path.name for each in (left, right)]
        return Made(folder, (draw_compared(names, pictures).save(folder / "compare.png"),), fresh=True)

    def _changed(self, words: str) -> Quilt:
        """Return this quilt, another by its file, or this one with a key changed."""
        if not words:
            return self.quilt
        if "=" not in words:
            return read_quilt(words)
        key, _, value = words.partition("=")
        return read_quilt(self.quilt.path, time=self.quilt.table.weights.time, changes={key.strip(): plain_value(value)})

    def draw(self, chosen: Sequence[str] = ()) -> Made:
        """Draw pictures, all of `PICTURES` where none is chosen; what they need is made first."""
        for name in chosen:
            known_name("picture", name, PICTURES)
        folder = self.folder / "pictures"
        names: list[str] = []
        table = self.quilt.table
        possible = [name for name in PICTURES if {"adopted": bool(table.adopt), "meshes": bool(table.mesh)}.get(name, True)]
        boards = [(name, self._boards(name)) for name in PICTURES if name in (chosen or possible)]
        with written_together(folder) as stage:
            for name, drawn in boards:
                for number, board in enumerate(drawn):
                    names.append(name + (f"_{number + 1}" if number else "") + ".png")
                    board.save(stage / names[-1])
        return Made(folder, tuple(folder / name for name in names), fresh=True)

    def draw_sweep(self, sweep: Sweep) -> Made:
        """Draw what one number of the quilt file does, for each of its values.

        The weight of the layer that it belongs to, or all layers where it belongs to none.
        """
        quilt, folder = self.quilt, self.folder / "pictures"
        layer, maps = sweep.layer_of(quilt), []
        for value in sweep.values:
            changed = read_quilt(quilt.path, time=quilt.table.weights.time, changes={sweep.key: value})
            weights = weigh(quilt.terrain, changed.layers, texels=_SWEEP_TEXELS, keep=MOST_KEPT, adopted=self.adopted,
                            daubs=changed.daubs, stacking=changed.table.weights.stacking, threads=self._threads,
                            progress=self._progress)  # fmt: skip
            maps.append((f"{value:g}", weights))
        board = draw_sweep(sweep.key, layer, maps, quilt.terrain)
        return Made(folder, (board.save(folder / "sweep.png"),), fresh=True)

    def export_weights(self, forms: Sequence[str], bits: int = 8) -> Made:
        """Write the weight map as other programs read it: any of `WEIGHT_FORMS`."""
        folder = self.folder / "export"
        writers = {"splat": write_splat, "pairs": write_pairs, "masks": write_masks}
        weights = self.weights
        files = [file for form in forms for file in writers[known_name("form", form, WEIGHT_FORMS)](weights, folder, bits=bits)]
        return Made(folder, tuple(files), fresh=True)

    def export_terrain(self, error: float, near: float | None = None) -> Made:
        """Write the terrain as a mesh within `error` metres of its samples; with `near`, finer about the camera of the view."""
        quilt, folder = self.quilt, self.folder / "export"
        mesh = terrain_mesh(quilt.terrain, error, camera=None if near is None else quilt.camera.position, near=near or 50.0)
        rows, columns = quilt.terrain.heights.shape
        told = f"{len(mesh.triangles):,} triangles; all samples would take {2 * (rows - 1) * (columns - 1):,}"
        return Made(folder, (write_mesh(mesh, folder / "terrain.glb"),), fresh=True, remark=told)

    def _boards(self, name: str) -> list[Board]:
        quilt = self.quilt
        if name == "swatches":
            return swatch_sheets(quilt.swatches)
        if name == "weights":
            return [*weight_sheets(self.weights, quilt.terrain.area), draw_weight_facts(self.weights, quilt.terrain)]
        if name == "masks":
            return draw_masks(self.weigher, quilt.terrain)
        if name == "adopted":
            self.adopt()
            found, to = self.inherited, quilt.table.adopt.to if quilt.table.adopt else {}
            homes = [(old, to.get(old, old)) for old in found.weights.names]
            return [draw_adopted(found.weights, self.weights, homes, sums_words(found.sums), quilt.terrain)]
        if name == "maps":
            return [maps_sheet(self.bake().folder, quilt.terrain.size)]
        if name == "audit":
            return [audit_sheet(each) for each in audit_quilt(quilt, threads=self._threads, progress=self._progress)]
        if name == "meshes":
            pairs = zip(quilt.table.mesh, self.things[1:], strict=True)
            return [draw_mesh_sheet(table.name, thing, self.arrays, threads=self._threads, progress=self._progress)
                    for table, thing in pairs]  # fmt: skip
        if name == "riser":
            return [draw_riser(quilt.terrain, threads=self._threads, progress=self._progress)]
        board = Board("")
        board.pin(draw_scene(Scene(self.things, self.arrays), quilt.camera, quilt.sun, threads=self._threads,
                             progress=self._progress), 0, 0)  # fmt: skip
        return [board]

    @property
    def arrays(self) -> TextureArrays:
        """The packed arrays; packed first if they are not there, and with a warning if they are damaged."""
        if self._arrays is None:
            made = self.pack()
            if self._arrays is None:
                try:
                    self._arrays = TextureArrays.load(made.folder)
                    self._arrays.check()
                except FileError as error:
                    warnings.warn(f"{error}; packed anew", QuiltWarning, stacklevel=2)
                    self.pack(anew=True)
                    return self.arrays
        return self._arrays

    @cached_property
    def weights(self) -> WeightMap:
        """The weight map; weighed first if it is not there, and with a warning if it is damaged."""
        return _loaded(self.weigh, "weighed")

    @cached_property
    def _arrays_stamp(self) -> str:
        parts = [self.quilt.table.arrays.model_dump_json()]
        known: dict[str, Any] = {}
        with contextlib.suppress(FileError):
            known = read_json(self.folder / "arrays" / INPUTS, "list of inputs")
        digests = FileDigests(known)
        for source in self.quilt.sources:
            roles = {role for layout in self.quilt.layouts for role in layout.roles} | set(SURFACE_ROLES)
            parts += [source.name, f"{source.tile} {source.relief}", source.stamp(roles, digests)]
        return self._stamp("arrays", *parts)

    @cached_property
    def _adopt_stamp(self) -> str:
        table = self.quilt.table.adopt
        files = [read_bytes(self.quilt.folder / file, "inherited file") for file in (table.files if table else ())]
        return self._stamp("adopt", table.model_dump_json() if table else "", json.dumps([x.name for x in self.quilt.layers]),
                           *files)  # fmt: skip

    @cached_property
    def _weights_stamp(self) -> str:
        table = self.quilt.table
        files = [read_bytes(self.quilt.folder / file, "heightmap") for file in table.surface.files()]
        files += [read_bytes(self.quilt.folder / file, "image file") for file in table.mask_files()]
        daubs = "\n".join(line_of(daub) for daub in self.quilt.daubs)
        medleys = json.dumps([each.model_dump(mode="json") for each in table.medley])
        masks = json.dumps([(x.label, x.swatch, [step.model_dump(mode="json") for step in x.mask]) for x in table.layer])
        return self._stamp("weights", table.surface.model_dump_json(), table.weights.model_dump_json(), masks, medleys,
                           daubs, self._adopt_stamp, *files)  # fmt: skip

    @property
    def _layers_text(self) -> str:
        return json.dumps([layer.model_dump(mode="json") for layer in self.quilt.table.layer])

    def _stamp(self, *parts: bytes | str) -> str:
        return fingerprint(__version__, *parts)

    def _holds(self, manifest: Path, stamp: str, files: list[Path]) -> bool:
        """Whether a manifest carries the stamp and every file is there and not empty."""
        if not manifest.is_file():
            return False
        try:
            known = read_json(manifest, "manifest").get("stamp")
        except QuiltError:
            return False
        return known == stamp and all(path.is_file() and path.stat().st_size > 0 for path in files)


@contextmanager
def _beside(results: Results, quilt: Quilt) -> Iterator[Results]:
    """Results of another quilt, in a folder that is gone afterwards; arrays that are the same are not packed again."""
    with tempfile.TemporaryDirectory(dir=results.folder, prefix=".compare_") as folder:
        other = Results(quilt, Path(folder), threads=results._threads, progress=results._progress)
        if other._arrays_stamp == results._arrays_stamp:
            other._arrays = results.arrays
        yield other


def _loaded(step: Callable[..., Made], done: str) -> WeightMap:
    """Load the weights that a step leaves; do it anew, with a warning, where what it left before is damaged."""
    made = step()
    try:
        return WeightMap.load(made.folder)
    except FileError as error:
        warnings.warn(f"{error}; {done} anew", QuiltWarning, stacklevel=3)
        return WeightMap.load(step(anew=True).folder)


def audit_quilt(quilt: Quilt, *, threads: int | None = None, progress: Progress = silent) -> list[SwatchAudit]:
    """Examine every swatch of a quilt, as `audit_swatch` does."""
    audits: list[SwatchAudit | None] = [None] * len(quilt.sources)

    def examine(place: int) -> None:
        audits[place] = audit_swatch(quilt.sources[place], texels=quilt.table.arrays.texels)

    work_through(range(len(audits)), examine, threads=threads, step="examining maps", progress=progress)
    return [each for each in audits if each is not None]


def _slices_words(made: PackedAnew) -> str:
    return f"{made.made} slices made, {made.kept} kept as they were"
