"""The pictures of a quilt: what each needs, and what it draws."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from jagged_quilt.results.audits import MEMO, audit_quilt
from jagged_quilt.show.audit_sheet import audit_sheet
from jagged_quilt.show.balls import draw_balls
from jagged_quilt.show.board import Board
from jagged_quilt.show.mesh_sheet import draw_mesh_sheet
from jagged_quilt.show.riser import draw_riser
from jagged_quilt.show.sheets import maps_sheet, swatch_sheets, weight_sheets
from jagged_quilt.show.weight_pictures import draw_adopted, draw_masks, draw_weight_facts
from jagged_quilt.weights.settle import sums_words

if TYPE_CHECKING:
    from jagged_quilt.results.results import Results


@dataclass(frozen=True, slots=True)
class PictureStep:
    """A picture: the steps that are done before it, what draws its boards, and about how long that takes beside others."""

    needs: frozenset[str]
    draw: Callable[[Results], list[Board]]
    effort: int = 1

    @property
    def wants(self) -> str:
        """What a quilt file must say for it, in words."""
        if "adopt" in self.needs:
            return "say what is inherited with an [adopt] table"
        return "it needs a [surface] with [[layer]]s" if self.needs & {"weigh", "bake"} else "it needs a [[mesh]]"


def _swatches(results: Results) -> list[Board]:
    return swatch_sheets(results.quilt.swatches)


def _balls(results: Results) -> list[Board]:
    quilt = results.quilt
    return draw_balls(quilt.swatches, quilt.lighting, quilt.camera)


def _weights(results: Results) -> list[Board]:
    terrain = results.quilt.terrain
    return [*weight_sheets(results.weights, terrain.area), draw_weight_facts(results.weights, terrain)]


def _masks(results: Results) -> list[Board]:
    beside = [(f"{kind} {name}", mask) for kind, name, mask in results.beside_layers()]
    return draw_masks(results.weigher, results.quilt.terrain, beside)


def _adopted(results: Results) -> list[Board]:
    found, table = results.inherited, results.quilt.table.adopt
    to = table.to if table else {}
    homes = [(old, to.get(old, old)) for old in found.weights.names]
    return [draw_adopted(found.weights, results.weights, homes, sums_words(found.sums), results.quilt.terrain)]


def _maps(results: Results) -> list[Board]:
    return [maps_sheet(results.folder / "bake", results.quilt.terrain.size)]


def _view(results: Results) -> list[Board]:
    board = Board("")
    picture = results.scene().draw(results.quilt.camera, threads=results.threads, progress=results.progress)
    board.pin(picture, 0, 0)
    return [board]


def _riser(results: Results) -> list[Board]:
    return [draw_riser(results.quilt.terrain, threads=results.threads, progress=results.progress)]


def _meshes(results: Results) -> list[Board]:
    quilt = results.quilt
    return [
        draw_mesh_sheet(table.name, mesh, layers, results.arrays, threads=results.threads, progress=results.progress)
        for table, mesh, layers in zip(quilt.table.mesh, quilt.meshes, quilt.layers_by_part, strict=True)
    ]


def _audit(results: Results) -> list[Board]:
    audits = audit_quilt(results.quilt, memo=results.folder / MEMO, threads=results.threads, progress=results.progress)
    return [audit_sheet(each) for each in audits]


PICTURES = {
    "swatches": PictureStep(frozenset(), _swatches, 2),
    "balls": PictureStep(frozenset(), _balls),
    "weights": PictureStep(frozenset({"weigh"}), _weights),
    "masks": PictureStep(frozenset({"weigh"}), _masks),
    "adopted": PictureStep(frozenset({"adopt", "weigh"}), _adopted),
    "maps": PictureStep(frozenset({"bake"}), _maps, 2),
    "view": PictureStep(frozenset({"pack", "weigh"}), _view, 4),
    "riser": PictureStep(frozenset({"weigh"}), _riser),
    "meshes": PictureStep(frozenset({"pack"}), _meshes, 3),
    "audit": PictureStep(frozenset(), _audit, 4),
}
"""Every picture by its name, in the order in which they are drawn."""


def boards_of(name: str, results: Results) -> list[Board]:
    """Return the boards of a picture."""
    return PICTURES[name].draw(results)
