"""The results of a quilt file that is read again and again: what did not change is kept in memory."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import numpy as np

from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.foundation.fields import Remembering
from jagged_quilt.foundation.files import LEFT_OVER, fingerprint
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.foundation.work import Work
from jagged_quilt.maps.image_reader import image_suffixes
from jagged_quilt.masks.image_mask import ImageMask, ImageWrap
from jagged_quilt.meshfiles.read import READERS
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.quiltfile.reading import read_quilt
from jagged_quilt.results.results import Results
from jagged_quilt.results.weigh_steps import film_amounts, film_inputs, mask_inputs, weigh_options
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.daub_windows import DaubFile
from jagged_quilt.weights.lay_daubs import changed_box
from jagged_quilt.weights.weigh import weigh
from jagged_quilt.weights.weight_map import WeightMap, patched

if TYPE_CHECKING:
    from watchfiles import Change

T = TypeVar("T")

_OF_MESHES = (*READERS, ".mtl", ".bin")
_INPUTS = (*_OF_MESHES, ".toml", ".jsonl", ".npy", ".raw", ".r16")
_QUIET = 60  # milliseconds in which nothing more changes before it is looked at
_GLANCE = 500  # milliseconds after which files elsewhere are looked at


class KeptResults:
    """Reads a quilt file as often as it is asked to.

    Attributes
    ----------
    results : Results or None
        Of the file as it was last read without a fault.
    is_wrong : bool
        Whether the file, or what was made of it, was at fault last.
    """

    def __init__(self, path: Path, out: Path | None, work: Work) -> None:
        self.path, self.out, self._work = path, out, work
        self.results: Results | None = None
        self.is_wrong = False
        self._missed: set[Path] = set()  # what changed while the file could not be read
        self._fields: tuple[Terrain, Remembering] | None = None
        self._weights: dict[int, tuple[str, Sequence[Daub], WeightMap]] = {}  # by texels: of a sketch, and whole
        self._film_maps: dict[int, tuple[str, list[ImageMask]]] = {}

    def read(self, changed: set[Path] | None, changes: Mapping[str, Unchecked] | None = None) -> Results:
        """Read the file again, with changes to some of its keys; raise `QuiltError` if something is wrong with it.

        changed : the files that did since the last time; None takes everything for changed.
        """
        self._missed |= changed or set()
        self.is_wrong = True
        quilt = read_quilt(self.path, changes=changes)
        before = self.results
        results = Results(quilt, self.out, work=self._work)
        if before is not None and changed is not None:
            results.quilt.loaded.take_over(before.quilt.loaded, {each.resolve() for each in self._missed})
            results.take_over(before)
        self.results, self._missed, self.is_wrong = results, set(), False
        return results

    def changes(self, stop: threading.Event) -> Iterator[set[Path]]:
        """Yield the inputs that change below the quilt file's folder as they do, and those elsewhere by looking at them."""
        from watchfiles import DefaultFilter, watch

        inputs, home, before = DefaultFilter(), self.path.parent.resolve(), self._elsewhere()

        def wanted(change: Change, path: str) -> bool:
            return self._is_input(Path(path).resolve()) and inputs(change, path)

        for each in watch(
            home,
            watch_filter=wanted,
            debounce=400,
            step=_QUIET,
            stop_event=stop,
            rust_timeout=_GLANCE,
            yield_on_timeout=True,
            raise_interrupt=False,
        ):
            now = self._elsewhere()
            changed = {Path(path) for _, path in each} | {path for path in now if now[path] != before.get(path, now[path])}
            before = now
            if changed:
                yield changed

    def _is_input(self, path: Path) -> bool:
        """Whether a file is one that the quilt file, or a mesh of it, names, or an image in a folder of maps.

        While the file cannot be read, whatever may be a map, a mesh or a quilt file is one: a missing file may have come.
        """
        folder = self.path.parent / "out" if self.out is None else self.out
        if folder.resolve() in path.parents or LEFT_OVER.match(path.name):
            return False
        if path == self.path.resolve():
            return True
        suffix = path.suffix.lower()
        if self.is_wrong or self.results is None:
            return suffix in _INPUTS
        quilt = self.results.quilt
        if path in {(quilt.folder / name).resolve() for _, name in quilt.table.named_files()}:
            return True
        if suffix in _OF_MESHES:
            return path.parent in {(quilt.folder / table.file).resolve().parent for table in quilt.table.mesh}
        if suffix in image_suffixes() and path.parent in {source.folder.resolve() for source in quilt.sources}:
            return True
        materials = [each for mesh in vars(quilt.loaded).get("meshes", ()) for each in mesh.materials.values()]
        return path in {(each.folder / rule.file).resolve() for each in materials for rule in each.rules if rule.file}

    def _elsewhere(self) -> dict[Path, int]:
        """The files that the quilt file names outside of its folder, and when each was written."""
        if self.results is None:
            return {}
        quilt, home = self.results.quilt, self.path.parent.resolve()
        files = {(quilt.folder / name).resolve() for _, name in quilt.table.named_files()}
        for source in quilt.sources:
            with contextlib.suppress(QuiltError):
                files |= {path.resolve() for path in source.files}
        return {path: path.stat().st_mtime_ns for path in files if home not in path.parents and path.is_file()}

    def turn_over(self) -> None:
        """Forget what masks answered that was not asked again since the last time."""
        if self._fields is not None:
            self._fields[1].turn_over()

    def weights(self, results: Results, texels: int, more: Sequence[Daub] = ()) -> WeightMap:
        """The weights of the ground on so many texels along its longer side; where only daubs differ, what they touch is
        weighed again and nothing else.

        more : daubs on top of those of the file.
        """
        key = fingerprint(*mask_inputs(results))
        daubs = results.quilt.ground_daubs
        if more or not isinstance(daubs, DaubFile):
            daubs = (*daubs, *more)
        before, canvas = self._weights.get(texels), results.quilt.terrain.canvas(max(1, texels))
        if before is not None and before[0] == key and before[1] is daubs:
            return before[2]
        if before is None or before[0] != key or isinstance(daubs, DaubFile) or isinstance(before[1], DaubFile):
            how = weigh_options(results) | {"daubs": daubs}
            made = weigh(canvas.knowing(self._known(results.quilt)), results.layers, **how)
            _keep(self._weights, texels, (key, daubs, made))
            return made
        box = changed_box(before[1], daubs)
        made = before[2]
        page = None if box is None else canvas.knowing(self._known(results.quilt).unanswered()).around(*box)
        if page is not None:
            part = weigh(page, results.layers, **(weigh_options(results) | {"daubs": daubs}))
            made = patched(made, part, page.window.top, page.window.left)
        _keep(self._weights, texels, (key, daubs, made))
        return made

    def films(self, results: Results, texels: int) -> list[ImageMask]:
        """How much of each film there is, as maps of so many texels."""
        if "films" not in results.runner.steps:
            return []
        stamp, quilt = fingerprint(*film_inputs(results)), results.quilt
        before = self._film_maps.get(texels)
        if before is not None and before[0] == stamp:
            return before[1]
        canvas = quilt.terrain.canvas(max(1, texels)).knowing(self._known(quilt))
        own = [each.astype(np.float32) / np.float32(255) for each in film_amounts(results, canvas)]
        maps = [ImageMask(values=each, size=quilt.terrain.size, wrap=ImageWrap.CLAMP) for each in own]
        _keep(self._film_maps, texels, (stamp, maps))
        return maps

    def _known(self, quilt: Quilt) -> Remembering:
        """The fields of the ground, with all that was worked out, and answered, for earlier pictures."""
        if self._fields is None or self._fields[0] is not quilt.terrain:
            self._fields = quilt.terrain, Remembering(quilt.terrain.fields, answers=True)
        return self._fields[1]


def _keep(held: dict[int, T], texels: int, value: T) -> None:
    """Hold a value of so many texels, and that of one other number of texels at most."""
    others = {number: own for number, own in held.items() if number != texels}
    held.clear()
    held.update(dict(list(others.items())[-1:]) | {texels: value})
