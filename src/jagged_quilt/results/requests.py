"""What is drawn or written of a quilt on request, and not kept as a step: comparisons, sweeps, debug views."""

from __future__ import annotations

import tempfile
from collections.abc import Collection, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path

from jagged_quilt.foundation.files import (
    temporary_prefix,
)
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.maps.roles import role_among
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.quiltfile.reading import read_quilt
from jagged_quilt.quiltfile.sweep import Sweep, plain_value
from jagged_quilt.results.results import Results
from jagged_quilt.results.scene_of import scene_of
from jagged_quilt.results.step import Made
from jagged_quilt.results.sweeps import draw_looks, turns_a_look
from jagged_quilt.show.compare import draw_beside, draw_compared, draw_halves
from jagged_quilt.show.debug import draw_debugs
from jagged_quilt.show.lit_view import LIT_ROLES, draw_scenes
from jagged_quilt.show.paged import PagedGround, draw_pages
from jagged_quilt.show.swing import draw_swing, swing_sheet, swings, write_moving
from jagged_quilt.show.weight_pictures import draw_sweep
from jagged_quilt.weights.settings import MOST_KEPT
from jagged_quilt.weights.weigh import weigh

_SWEEP_TEXELS = 512


def show_debug(results: Results, kinds: Sequence[str]) -> Made:
    """Draw the view in the false colours of some of `DEBUG`."""
    folder = results.folder / "pictures"
    boards = draw_debugs(scene_of(results), results.quilt.camera, kinds, work=results.work)
    files = tuple(board.save(folder / f"debug_{kind}.png") for kind, board in boards.items())
    return Made(folder, files, fresh=True)


def show_from_pages(results: Results, store: str, kinds: Collection[str]) -> Made:
    """Draw of `kinds` the "view", its ground from pages of a store, and which "pages" those are."""
    scene, camera = scene_of(results, pages=store), results.quilt.camera
    ground = next(thing.pages for thing in scene.things if isinstance(thing.pages, PagedGround))
    folder, files = results.folder / "pictures", list[Path]()
    if "view" in kinds:
        files.append(folder / "view_pages.png")
        write_image(files[-1], scene.draw(camera, work=results.work))
    if "pages" in kinds:
        files.append(draw_pages(scene, camera, ground, work=results.work).save(folder / "debug_pages.png"))
    pages = ground.pages
    remark = f"{len(pages.held)} of {pages.grid.page_count:,} pages held"
    remark += f"; {len(pages.missing)} are missing, and coarser ones stand in" if pages.missing else ""
    return Made(folder, tuple(files), fresh=True, remark=remark)


def show_compared(results: Results, left: str, right: str) -> Made:
    """Draw the view of two quilts under one light and one camera, and their difference.

    Each is a quilt file, a change KEY=VALUE to this one, or "" for this one as it is.
    """
    folder = results.folder / "pictures"
    with ExitStack() as rest:
        scenes = []
        for side in (_changed(results, each) for each in (left, right)):
            own = results if side is results.quilt else rest.enter_context(_beside(results, side))
            scenes.append(scene_of(own))
            scenes[-1].lighting = results.quilt.lighting
        options = {"width": 620, "height": 388, "work": results.work}
        pictures = draw_beside(scenes, results.quilt.camera, **options)
    names = [each or results.quilt.path.name for each in (left, right)]
    return Made(folder, (draw_compared(names, pictures).save(folder / "compare.png"),), fresh=True)


def show_with_and_without(results: Results, role: str) -> Made:
    """Draw the view, its left half with the maps of a role and its right half without them."""
    folder, which, scene = results.folder / "pictures", role_among(LIT_ROLES, role), scene_of(results)
    options = {"without": [(), (which,)], "work": results.work}
    pictures = draw_scenes([scene, scene], results.quilt.camera, **options)  # type: ignore[arg-type]
    board = draw_halves(pictures, (f"with {which.key}", f"without {which.key}"))
    return Made(folder, (board.save(folder / f"with_and_without_{which.key}.png"),), fresh=True)


def show_swing(results: Results, steps: int, which: int = 0) -> Made:
    """Draw the view with light `which`, from 0, going around what the camera looks at: a sheet, and a moving picture."""
    folder, scene, camera = results.folder / "pictures", scene_of(results), results.quilt.camera
    lightings = swings(scene.lighting, which, steps, camera.target)
    pictures = draw_swing(scene, camera, lightings, work=results.work)
    sheet = swing_sheet(pictures, lightings, which).save(folder / "swing.png")
    return Made(folder, (sheet, write_moving(folder / "swing.webp", pictures)), fresh=True)


def show_sweep(results: Results, sweep: Sweep) -> Made:
    """Draw what one number of the quilt file does, for each of its values.

    The weight of the layer that it belongs to, or all layers where it belongs to none; the ground where it shows, if it
    turns what the layer looks like.
    """
    if turns_a_look(sweep, results):
        return Made(results.folder, (draw_looks(results, sweep).save(results.folder / "pictures" / "sweep.png"),), fresh=True)
    quilt, folder = results.quilt, results.folder / "pictures"
    layer, maps = sweep.layer_of(quilt), []
    for value in sweep.values:
        changed = read_quilt(quilt.path, time=quilt.table.weights.time, changes={sweep.key: value})
        weights = weigh(
            quilt.terrain.canvas(_SWEEP_TEXELS),
            results.seeing(changed.layers),
            keep=MOST_KEPT,
            adopted=results.adopted,
            daubs=changed.daubs,
            stacking=changed.table.weights.stacking,
            work=results.work,
        )
        maps.append((f"{value:g}", weights))
    board = draw_sweep(sweep.key, layer, maps, quilt.terrain)
    return Made(folder, (board.save(folder / "sweep.png"),), fresh=True)


def _changed(results: Results, words: str) -> Quilt:
    """Return this quilt, another by its file, or this one with a key changed."""
    if not words:
        return results.quilt
    if "=" not in words:
        return read_quilt(words)
    key, _, value = words.partition("=")
    return read_quilt(results.quilt.path, time=results.quilt.table.weights.time, changes={key.strip(): plain_value(value)})


@contextmanager
def _beside(results: Results, quilt: Quilt) -> Iterator[Results]:
    """Results of another quilt, in a folder that is gone afterwards; arrays that are the same are not packed again."""
    with tempfile.TemporaryDirectory(dir=results.folder, prefix=temporary_prefix()) as folder:
        other = Results(quilt, Path(folder), work=results.work)
        if other.runner.stamp("pack") == results.runner.stamp("pack"):
            other.arrays = results.arrays
        yield other
