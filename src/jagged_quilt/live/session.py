"""What a page shows of one quilt file: its programs and what they read, kept from change to change. No web in here."""

from __future__ import annotations

import threading
import tomllib
from collections.abc import Mapping
from pathlib import Path

import numpy as np

from jagged_quilt.blend.layer import Layer, one_each
from jagged_quilt.blend.plan import Pages, opened
from jagged_quilt.foundation.errors import FileError, NameNotFoundError, QuiltError, RangeError
from jagged_quilt.foundation.json_types import Facts, Unchecked
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.live.mesh_pieces import KeptMeshes
from jagged_quilt.live.sent import Sent
from jagged_quilt.quiltfile.key_paths import words_of
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.quiltfile.read import parts_of, put_at
from jagged_quilt.quiltfile.write_changes import write_changes
from jagged_quilt.results.kept_results import KeptResults
from jagged_quilt.results.place_of import explained_at
from jagged_quilt.results.scene_of import scene_of

_SKETCH = 512  # texels of weights while a number is being moved


class PageSession:
    """One quilt file on a page: changes that are not saved yet, what came of them, and the file as it stands.

    Parameters
    ----------
    path : Path
    out : Path, optional
        The folder of results; `out` beside the quilt file where it is not given.
    """

    def __init__(self, path: Path, *, out: Path | None = None, work: Work = ANYHOW) -> None:
        self.path, self.lock = Path(path), threading.RLock()
        self._kept = KeptResults(self.path, out, work)
        self._changes: dict[str, Unchecked] = {}
        self._before: list[dict[str, Unchecked]] = []
        self._after: list[dict[str, Unchecked]] = []
        self._moved_from: dict[str, Unchecked] | None = None  # what stood before what is being moved
        self._pages: tuple[object, Pages] | None = None
        self._meshes = KeptMeshes()
        self._sent: Sent | None = None
        self.revision, self.error = 0, ""
        self.read_again(None)

    def state(self) -> Facts:
        """All that a page is told, as JSON."""
        with self.lock:
            own = {"revision": self.revision, "error": self.error, "changed": self._changes}
            own |= {"can_undo": bool(self._before), "can_redo": bool(self._after)}
            return (self._sent.described if self._sent else {}) | own

    def programs(self) -> Facts:
        """The sources of the programs that draw."""
        with self.lock:
            return self._whole().programs()

    def data(self, name: str) -> bytes:
        """Some of what the programs read; raise `NameNotFoundError` if there is none of that name."""
        with self.lock:
            held = self._whole().data
            if name not in held:
                raise NameNotFoundError(f'there is no "{name}"')
            return held[name][2]()

    def turn(self, changes: Mapping[str, Unchecked], *, moving: bool = False) -> None:
        """Change numbers, by their key paths; raise `QuiltError`, and leave all as it was, if they cannot be so.

        moving : whether more will follow at once, so that weights are worked out coarsely and this is no step of its own.
        """
        with self.lock:
            after = {**self._changes, **dict(self._written(key, value) for key, value in changes.items())}
            self._make(after, _SKETCH if moving else None)
            if self._moved_from is None:
                self._moved_from = self._changes
            if not moving:
                self._before.append(self._moved_from)
                self._after.clear()
                self._moved_from = None
            self._changes = after

    def _written(self, key: str, value: Unchecked) -> tuple[str, Unchecked]:
        """A key and its value as the file takes them: one number of a list that the file does not say brings the list."""
        *way, last = parts_of(key)
        table: Unchecked = self._whole().quilt.table.model_dump(mode="json")
        said: Unchecked = tomllib.loads(self._whole().quilt.where.text)
        for each, own in self._changes.items():
            put_at(said, each, own)
        for step in way:
            there = step in said if isinstance(said, dict) else isinstance(step, int) and step < len(said)
            if not there:
                break
            said, table = said[step], table[step]
        else:
            return key, value
        for rest in way[way.index(step) :]:
            table = table[rest] if isinstance(table, dict) and rest in table else None
        if not isinstance(last, int) or not isinstance(table, list):
            return key, value
        return words_of(tuple(way)), [value if at == last else own for at, own in enumerate(table)]

    def undo(self) -> None:
        """Take the last change back."""
        with self.lock:
            self._step(self._before, self._after)

    def redo(self) -> None:
        """Make the change again that was taken back last."""
        with self.lock:
            self._step(self._after, self._before)

    def _step(self, source: list[dict[str, Unchecked]], other: list[dict[str, Unchecked]]) -> None:
        if source:
            changes = source.pop()
            self._make(changes, None)
            other.append(self._changes)
            self._changes, self._moved_from = changes, None

    def save(self) -> list[str]:
        """Write the changes into the quilt file, comments and order kept; return the lines that were written."""
        with self.lock:
            lines = write_changes(self.path, self._changes)
            self._changes, self._before, self._after = {}, [], []
            self.read_again({self.path})
            return lines

    def read_again(self, changed: set[Path] | None) -> None:
        """Follow what changed on disk: the last good picture stays where something is wrong, with the error beside it."""
        with self.lock:
            try:
                self._make(self._changes, None, changed)
                self.error = ""
            except QuiltError as error:
                self.error = str(error)
                self.revision += 1
                if self._sent is None:
                    raise

    def explained(self, x: float, z: float) -> Facts:
        """Why a place of the ground looks as it does: layers from the top down, with each mask step, and daubs."""
        with self.lock:
            found, texel = explained_at(self._whole().results, x, z)
            slope = float(np.degrees(np.arccos(np.clip(texel.normal[0, 1], -1, 1))))
        layers = []
        for layer in reversed(found.layers):
            steps = [
                {"how": step.combine, "what": step.reading.summary, "answer": step.reading.answer, "result": step.result}
                for step in layer.steps
            ]
            turns = [{"name": name, "weight": share} for name, share in layer.turns]
            layers.append({"name": layer.name, "weight": layer.weight, "before": layer.stacked, "steps": steps, "turns": turns})
        daubs = [{"number": number, "what": what, "covers": cover} for number, what, cover in found.daubs]
        return {"position": list(found.position), "slope": slope, "layers": layers, "daubs": daubs}

    def still(self) -> bytes:
        """The view as the library draws it, as a PNG, for who cannot draw it."""
        with self.lock:
            results = self._whole().results
            return scene_of(results).draw(results.quilt.camera, work=results.work).png()

    def follow(self, stop: threading.Event) -> None:
        """Read again whenever the quilt file, or what it goes by, is saved, until it is told to stop."""
        for changed in self._kept.changes(stop):
            self.read_again(changed)

    def _whole(self) -> Sent:
        if self._sent is None:
            raise FileError(f"{self.path}: nothing is known of it yet")
        return self._sent

    def _make(self, changes: dict[str, Unchecked], texels: int | None, changed: set[Path] | None = frozenset()) -> None:  # type: ignore[assignment]
        """Work out what comes of the file with some changes; nothing is different afterwards if it cannot be."""
        results = self._kept.read(None if changed is None else set(changed), changes)
        self._kept.turn_over()
        quilt = results.quilt
        if not quilt.layers:
            raise RangeError(f"{self.path}: there is no ground to show; write a [surface] and [[layer]]s")
        whole = quilt.table.weights.texels
        asked = whole if texels is None else min(texels, whole)
        weights = self._kept.weights(results, asked)
        films = [np.asarray(each.values) for each in self._kept.films(results, asked)]
        key = (results.runner.stamp("pack"), tuple(sorted(quilt.shown_swatches)))
        if self._pages is None or self._pages[0] != key:
            self._pages = key, opened(results.arrays, one_each(_every_layer(quilt)))
        pages = self._pages[1]
        sent = Sent(results, pages, asked, weights, films, self._meshes.pieces(results, pages))
        sent.described  # noqa: B018 (raises what it would raise later)
        self._sent, self.revision = sent, self.revision + 1


def _every_layer(quilt: Quilt) -> list[Layer]:
    """The layers of the ground, and of the parts of meshes."""
    return [*quilt.layers, *(layer for by_part in quilt.layers_by_part for own in by_part.values() for layer in own)]
