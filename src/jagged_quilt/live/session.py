"""What a page shows of one quilt file: its programs and what they read, kept from change to change. No web in here."""

from __future__ import annotations

import threading
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from jagged_quilt.blend.layer import Layer, one_each
from jagged_quilt.blend.plan import Pages, opened
from jagged_quilt.foundation.errors import FileError, NameNotFoundError, QuiltError, RangeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Facts, Unchecked
from jagged_quilt.foundation.locks import alone_with
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.live.mesh_pieces import KeptMeshes
from jagged_quilt.live.sent import Sent
from jagged_quilt.quiltfile.key_paths import words_of
from jagged_quilt.quiltfile.loaded import check_daub
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.quiltfile.read import parts_of, put_at
from jagged_quilt.quiltfile.write_changes import write_changes
from jagged_quilt.results.kept_results import KeptResults
from jagged_quilt.results.place_of import explained_at
from jagged_quilt.results.results import Results
from jagged_quilt.results.scene_of import scene_of
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.daub_file import append_daub, daub_of, drop_daub, read_daubs

_SKETCH = 512  # texels of weights while a number is being moved
_DAUBS = "weights.daubs"
_NEW = "daubs.jsonl"  # where strokes go if the quilt file does not say


@dataclass(frozen=True, slots=True)
class _Turned:
    """Numbers that were turned: what was changed of the file before, and after."""

    before: dict[str, Unchecked]
    after: dict[str, Unchecked]


@dataclass(frozen=True, slots=True)
class _Painted:
    """A stroke that was painted."""

    daub: Daub


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
        self._before: list[_Turned | _Painted] = []
        self._after: list[_Turned | _Painted] = []
        self._acknowledged: set[str] = set()  # strokes that came, so that none is painted twice
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
        return self.stamped(name)[1]

    def stamped(self, name: str) -> tuple[str, bytes]:
        """The same, after the stamp that it has now."""
        with self.lock:
            held = self._whole().data
            if name not in held:
                raise NameNotFoundError(f'there is no "{name}"')
            stamp, _, data = held[name]
            return fingerprint(stamp), data()

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
                self._before.append(_Turned(self._moved_from, after))
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

    def paint(self, said: Unchecked, name: str = "", *, moving: bool = False) -> None:
        """Paint a stroke, told as a line of a file of daubs is; raise `QuiltError`, and leave all as it was, if it is none.

        It is appended to the quilt's file of daubs. Where the quilt file names none, `daubs.jsonl` is written into it.

        Parameters
        ----------
        name : str
            What the stroke is called by who sends it: one that came before is not painted again.
        moving : bool
            Whether it is still being drawn: then it is shown, and written nowhere.
        """
        with self.lock:
            quilt, daub = self._whole().quilt, daub_of(said)
            check_daub(quilt.loaded, daub)
            if moving:
                self._show([daub])
            elif name not in self._acknowledged:
                self._append(daub)
                self._acknowledged.add(name)
                self._before.append(_Painted(daub))
                self._after.clear()

    def _append(self, daub: Daub) -> None:
        path = self._daub_file()
        if path is None:
            write_changes(self.path, {_DAUBS: _NEW})
            path = self.path.parent / _NEW
        append_daub(path, daub)
        self._make(self._changes, None, {self.path.resolve(), path.resolve()})

    def _take_out(self, daub: Daub) -> None:
        """Drop the last daub of the file that is this one."""
        path = self._daub_file()
        with alone_with(path or self.path):
            daubs = read_daubs(path) if path is not None and path.exists() else ()
            numbers = [number for number, each in enumerate(daubs, 1) if each == daub]
            if path is None or not numbers:
                raise RangeError(f"{path or self.path}: that stroke is not there any more; somebody else took it out")
            drop_daub(path, numbers[-1])
        self._make(self._changes, None, {path.resolve()})

    def _daub_file(self) -> Path | None:
        quilt = self._whole().quilt
        return quilt.folder / quilt.table.weights.daubs if quilt.table.weights.daubs else None

    def undo(self) -> None:
        """Take the last change, or the last stroke, back."""
        with self.lock:
            if self._before:
                step = self._before[-1]
                if isinstance(step, _Painted):
                    self._take_out(step.daub)
                else:
                    self._make(step.before, None)
                    self._changes, self._moved_from = step.before, None
                self._after.append(self._before.pop())

    def redo(self) -> None:
        """Make the change again that was taken back last."""
        with self.lock:
            if self._after:
                step = self._after[-1]
                if isinstance(step, _Painted):
                    self._append(step.daub)
                else:
                    self._make(step.after, None)
                    self._changes, self._moved_from = step.after, None
                self._before.append(self._after.pop())

    def save(self) -> list[str]:
        """Write the changes into the quilt file, comments and order kept; return the lines that were written."""
        with self.lock:
            lines = write_changes(self.path, self._changes)
            self._changes = {}  # strokes stand in their file already, and can be taken out of it as before
            self._before = [step for step in self._before if isinstance(step, _Painted)]
            self._after = [step for step in self._after if isinstance(step, _Painted)]
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
        if not results.quilt.layers:
            raise RangeError(f"{self.path}: there is no ground to show; write a [surface] and [[layer]]s")
        self._send(results, texels)

    def _show(self, more: Sequence[Daub]) -> None:
        """Show what some more daubs would come to."""
        sent = self._whole()
        names = {layer.name for layer in sent.quilt.layers}
        on_ground = [daub for daub in more if names.issuperset(daub.layers) and not daub.channel]
        weights = self._kept.weights(sent.results, sent.quilt.table.weights.texels, on_ground)
        pieces = self._meshes.pieces(sent.results, sent.pages, more)
        self._sent, self.revision = sent.with_weights(weights, pieces), self.revision + 1

    def _send(self, results: Results, texels: int | None) -> None:
        quilt, whole = results.quilt, results.quilt.table.weights.texels
        asked = whole if texels is None else min(texels, whole)
        weights = self._kept.weights(results, asked)
        films = [np.asarray(each.values) for each in self._kept.films(results, asked)]
        key = (results.runner.stamp("pack"), tuple(sorted(quilt.shown_swatches)))
        if self._pages is None or self._pages[0] != key:
            with alone_with(results.folder):
                self._pages = key, opened(results.arrays, one_each(_every_layer(quilt)))
        pages = self._pages[1]
        former = None if self._sent is None else self._sent.weights
        sent = Sent(results, pages, asked, weights, films, self._meshes.pieces(results, pages), former)
        sent.described  # noqa: B018 (raises what it would raise later)
        self._sent, self.revision = sent, self.revision + 1


def _every_layer(quilt: Quilt) -> list[Layer]:
    """The layers of the ground, and of the parts of meshes."""
    return [*quilt.layers, *(layer for by_part in quilt.layers_by_part for own in by_part.values() for layer in own)]
