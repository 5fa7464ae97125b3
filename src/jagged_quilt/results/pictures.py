"""The pictures of a quilt: what each needs, and what it draws."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.foundation.files import read_bytes, written_together
from jagged_quilt.results import inputs
from jagged_quilt.results.audits import MEMO, audit_quilt
from jagged_quilt.results.bake_steps import mesh_inputs
from jagged_quilt.results.pack_step import pack_inputs
from jagged_quilt.results.project import Project
from jagged_quilt.results.scene_of import beside_layers, scene_of
from jagged_quilt.results.step import Files, Step, kernels
from jagged_quilt.show.audit_sheet import audit_sheet
from jagged_quilt.show.balls import draw_balls
from jagged_quilt.show.board import Board
from jagged_quilt.show.mesh_sheet import draw_mesh_sheet
from jagged_quilt.show.riser import draw_riser
from jagged_quilt.show.sheets import maps_sheet, swatch_sheets, weight_sheets
from jagged_quilt.show.weight_pictures import draw_adopted, draw_masks, draw_weight_facts
from jagged_quilt.weights.settle import sums_words


@dataclass(frozen=True, slots=True)
class PictureStep:
    """A picture: the steps that are done before it, what draws its boards, and about how long that takes beside others.

    `takes` are steps whose results it reads where there are any.
    """

    needs: frozenset[str]
    draw: Callable[[Project], list[Board]]
    effort: int = 1
    kernels: frozenset[str] = frozenset()
    takes: frozenset[str] = frozenset()

    @property
    def wants(self) -> str:
        """What a quilt file must say for it, in words."""
        if "adopt" in self.needs:
            return "say what is inherited with an [adopt] table"
        return "it needs a [surface] with [[layer]]s" if self.needs & {"weigh", "bake"} else "it needs a [[mesh]]"


def _swatches(project: Project) -> list[Board]:
    return swatch_sheets(project.quilt.swatches)


def _balls(project: Project) -> list[Board]:
    quilt = project.quilt
    return draw_balls(quilt.swatches, quilt.lighting, quilt.camera)


def _weights(project: Project) -> list[Board]:
    terrain = project.quilt.terrain
    return [*weight_sheets(project.weights, terrain.area), draw_weight_facts(project.weights, terrain)]


def _masks(project: Project) -> list[Board]:
    beside = [(f"{kind} {name}", mask) for kind, name, mask in beside_layers(project)]
    return draw_masks(project.weigher, project.quilt.terrain, beside)


def _adopted(project: Project) -> list[Board]:
    found, table = project.inherited, project.quilt.table.adopt
    to = table.to if table else {}
    homes = [(old, to.get(old, old)) for old in found.weights.names]
    return [draw_adopted(found.weights, project.weights, homes, sums_words(found.sums), project.quilt.terrain)]


def _maps(project: Project) -> list[Board]:
    return [maps_sheet(project.folder / "bake", project.quilt.terrain.size)]


def _view(project: Project) -> list[Board]:
    board = Board("")
    picture = scene_of(project).draw(project.quilt.camera, work=project.work)
    board.pin(picture, 0, 0)
    return [board]


def _riser(project: Project) -> list[Board]:
    return [draw_riser(project.quilt.terrain, work=project.work)]


def _meshes(project: Project) -> list[Board]:
    quilt = project.quilt
    return [
        draw_mesh_sheet(table.name, mesh, layers, project.arrays, work=project.work)
        for table, mesh, layers in zip(quilt.table.mesh, quilt.meshes, quilt.layers_by_part, strict=True)
    ]


def _audit(project: Project) -> list[Board]:
    audits = audit_quilt(project.quilt, memo=project.folder / MEMO, work=project.work)
    return [audit_sheet(each) for each in audits]


PICTURES = {
    "swatches": PictureStep(frozenset(), _swatches, 2, kernels("pack ground")),
    "balls": PictureStep(frozenset(), _balls, 1, kernels("pack ground")),
    "weights": PictureStep(frozenset({"weigh"}), _weights, 1, kernels("weigh")),
    "masks": PictureStep(frozenset({"weigh"}), _masks, 1, kernels("weigh")),
    "adopted": PictureStep(frozenset({"adopt", "weigh"}), _adopted, 1, kernels("weigh")),
    "maps": PictureStep(frozenset({"bake"}), _maps, 2, kernels("pack")),
    "view": PictureStep(frozenset({"pack", "weigh"}), _view, 4, kernels("blend weigh ground meshes"), frozenset({"films"})),
    "riser": PictureStep(frozenset({"weigh"}), _riser, 1, kernels("blend ground pack")),
    "meshes": PictureStep(frozenset({"pack"}), _meshes, 3, kernels("blend weigh ground meshes pack")),
    "audit": PictureStep(frozenset(), _audit, 4, kernels("pack ground")),
}
"""Every picture by its name, in the order in which they are drawn."""


def picture_steps(project: Project) -> list[Step]:
    """Return a step for each picture that the steps which are there already give something to show in."""
    named, steps = set(project.runner.steps), list[Step]()
    for name, picture in PICTURES.items():
        if picture.needs <= named and (name != "meshes" or project.quilt.table.mesh):
            steps.append(
                Step(
                    name=name,
                    folder="pictures",
                    needs=tuple(sorted(picture.needs | (picture.takes & named))),
                    inputs=partial(picture_inputs, project),
                    make=partial(_draw, project, name),
                    kernels=picture.kernels,
                )
            )
    return steps


def picture_inputs(project: Project) -> Iterator[bytes | str]:
    """Yield everything that the quilt file says or names."""
    yield from named_inputs(project)
    for number in range(len(project.quilt.table.mesh)):
        yield from mesh_inputs(project, number)


def named_inputs(project: Project) -> Iterator[bytes | str]:
    """Yield everything that the quilt file says or names but the ground and the meshes, which take long to read."""
    quilt = project.quilt
    yield quilt.table.model_dump_json()
    try:
        yield from pack_inputs(project)
    except QuiltError as error:  # the audit draws what is missing, too
        yield str(error)
    yield from inputs.mask_files(quilt)
    yield from inputs.own_kinds(quilt)
    yield from inputs.flow_files(quilt)
    if quilt.table.sky.image:
        yield read_bytes(quilt.folder / quilt.table.sky.image, "sky image")


def _draw(project: Project, name: str, folder: Path, _force: bool) -> Files:
    boards = PICTURES[name].draw(project)
    names = [name + (f"_{number + 1}" if number else "") + ".png" for number in range(len(boards))]
    with written_together(folder) as stage:
        for each, board in zip(names, boards, strict=True):
            board.save(stage / each)
    return Files(tuple(folder / each for each in names))
