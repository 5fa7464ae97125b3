"""Looking again and again: what did not change stays in memory, and a small picture comes before the whole one."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from jagged_quilt.blend.plan import Pages, opened
from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.masks.image_mask import ImageMask
from jagged_quilt.results.kept_results import KeptResults
from jagged_quilt.results.results import Results
from jagged_quilt.results.scene_of import scene_of
from jagged_quilt.show.board import HEIGHT, WIDTH, Picture
from jagged_quilt.show.debug import draw_debugs
from jagged_quilt.show.lit_view import draw_scenes
from jagged_quilt.show.scene import Scene
from jagged_quilt.show.thumbnails import Thumbnails
from jagged_quilt.weights.weight_map import WeightMap

COARSE = 4  # a small picture has so many times fewer pixels along each side


@dataclass(frozen=True, slots=True)
class Looked:
    """What was drawn: the files, whether they are the whole or the small picture, and how long that took from the change."""

    files: tuple[Path, ...]
    is_whole: bool
    seconds: float


class _StaleError(Exception):
    """Something changed while a picture was drawn."""


class Look:
    """Draws pictures of a quilt file as often as it is asked to, and keeps what did not change.

    Parameters
    ----------
    names : sequence of str
        Pictures of the quilt, of `PICTURES`.
    kinds : sequence of str
        Kinds of debug pictures.
    out : Path, optional
        The folder of results; `out` beside the quilt file where it is not given.
    """

    def __init__(
        self,
        path: Path,
        names: Sequence[str] = ("view",),
        kinds: Sequence[str] = (),
        *,
        out: Path | None = None,
        work: Work = ANYHOW,
    ) -> None:
        self.path, self.names, self.kinds = Path(path), tuple(names), tuple(kinds)
        self._work, self._tell = replace(work, progress=self._progress), work.progress
        self._changes: queue.Queue[set[Path] | Exception] = queue.Queue()
        self._kept = KeptResults(self.path, out, self._work)
        self._pages: tuple[object, Pages] | None = None
        self._glances = Thumbnails()

    def draw(self, changed: set[Path] | None = None) -> Iterator[Looked]:
        """Read the quilt file again and draw: small where that can be, then whole.

        changed : the files that did since the last time; None takes everything for changed.

        Raises `QuiltError` if something is wrong with the file; what was drawn before stays.
        """
        start = time.perf_counter()
        results = self._kept.read(changed)
        self._kept.turn_over()
        for name in self.names:
            results.picture_named(name)
        folder = results.folder / "pictures"
        if "view" in self.names or self.kinds:
            yield Looked(self._drawn(results, folder, COARSE), False, time.perf_counter() - start)
        files: list[Path] = []
        if "view" in self.names or self.kinds:
            files += self._drawn(results, folder, 1)
        files += [path for each in results.draw([n for n in self.names if n != "view"]) for path in each.files]
        yield Looked(tuple(files), True, time.perf_counter() - start)

    def watch(self) -> Iterator[Looked | QuiltError]:
        """Draw, and draw again on each change, for good: yield what was drawn, or what is wrong with the file."""
        stop = threading.Event()
        watcher = threading.Thread(target=self._follow, args=(stop,), daemon=True)
        watcher.start()
        changed: set[Path] | None = None
        try:
            while True:
                try:
                    yield from self.draw(changed)
                except _StaleError:
                    pass
                except QuiltError as error:
                    self._kept.is_wrong = True
                    yield error
                changed = self._next_change()
        finally:
            stop.set()
            watcher.join(timeout=2)

    def _next_change(self) -> set[Path]:
        """Wait until something changes; return all that did."""
        changed: set[Path] = set()
        while not changed or not self._changes.empty():
            change = self._changes.get()
            if isinstance(change, Exception):
                raise FileError(f"{self.path.parent}: cannot be watched for changes: {change}") from change
            changed |= change
        return changed

    def _follow(self, stop: threading.Event) -> None:
        """Put what changes into the queue as it comes."""
        try:
            for changed in self._kept.changes(stop):
                self._changes.put(changed)
        except Exception as error:
            self._changes.put(error)

    def _progress(self, step: str, done: int, whole: int) -> None:
        if not self._changes.empty():
            raise _StaleError
        self._tell(step, done, whole)

    def _scene(self, results: Results, weights: WeightMap | None, film_maps: Sequence[ImageMask]) -> Scene:
        """What stands before the camera, with the texels of before where they are the same."""
        scene = scene_of(results, weights, film_maps=film_maps)
        if self.kinds:
            return scene  # the grid needs the arrays themselves
        shown = results.quilt.shown_swatches
        key = (results.runner.stamp("pack"), tuple(sorted(shown)))
        if self._pages is None or self._pages[0] != key:
            layers = [layer for thing in scene.things for _, own in thing.by_part for layer in own]
            self._pages = key, opened(results.arrays, layers)
        scene.arrays = self._pages[1]
        return scene

    def _drawn(self, results: Results, folder: Path, coarse: int) -> tuple[Path, ...]:
        texels = max(1, results.quilt.table.weights.texels // (1 if coarse == 1 else 2))  # half as fine does for small pictures
        weights = self._kept.weights(results, texels) if "weigh" in results.runner.steps else None
        scene, camera, files = self._scene(results, weights, self._kept.films(results, texels)), results.quilt.camera, []
        if "view" in self.names:
            width, height = WIDTH // coarse, HEIGHT // coarse
            (picture,) = draw_scenes([scene], camera, width=width, height=height, thumbnails=self._glances, work=self._work)
            files.append(folder / "view.png")
            results.runner.forget("view")
            write_image(files[0], _enlarged(picture, coarse))
        if self.kinds:
            boards = draw_debugs(scene, camera, self.kinds, coarse=coarse, work=self._work)
            files += [board.save(folder / f"debug_{kind}.png") for kind, board in boards.items()]
        return tuple(files)


def _enlarged(picture: Picture, times: int) -> Picture:
    return picture if times == 1 else np.repeat(np.repeat(picture, times, axis=0), times, axis=1)
