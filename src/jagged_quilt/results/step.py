"""Steps: what one needs, what goes into its stamp, what it makes; and the runner that redoes only what changed."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from pathlib import Path
from urllib.parse import quote

from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import FileError, QuiltError, QuiltWarning
from jagged_quilt.foundation.files import VOUCHING, digest_of_file, fingerprint, read_json, remove_left_overs, write_json
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.foundation.reading import Watch
from jagged_quilt.foundation.version import __version__

MANIFESTS = "made"
"""The folder, among the results, of a manifest for each step: its stamp, and a hash of every file that it vouches for."""


@dataclass(frozen=True, slots=True)
class Files:
    """What a step wrote, what is to be said of it now, and what whenever it is asked for."""

    files: tuple[Path, ...]
    remark: str = ""
    notes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Made:
    """What became of a step: the folder, its files, whether it had to work, and what is to be said of it."""

    folder: Path
    files: tuple[Path, ...]
    fresh: bool
    remark: str = ""
    notes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One thing to make.

    Attributes
    ----------
    name : str
    folder : str
        Where its files lie, below the folder of results.
    inputs : callable
        Returns all that its result depends on, but what other steps make: text, or bytes.
    make : callable
        Writes its files into a folder; with True, without keeping anything that lies there.
    needs : tuple of str
        The steps that are done before it, and on which its result depends.
    kernels : frozenset of str
        Which parts of the kernels it takes; see `PARTS` of the rehearsal.
    """

    name: str
    folder: str
    inputs: Callable[[], Iterable[bytes | str]]
    make: Callable[[Path, bool], Files]
    needs: tuple[str, ...] = ()
    kernels: frozenset[str] = frozenset()


def kernels(parts: str) -> frozenset[str]:
    """Return parts of the kernels, named in one line."""
    return frozenset(parts.split())


class Runner:
    """Does steps in a folder, each at most once, and only those of which something changed.

    Before the first file of a step takes its name the manifest goes; it comes back last. So whenever the process dies, no file
    of other settings is believed afterwards. What dead processes left lying about is removed first.
    """

    def __init__(self, folder: Path, steps: Iterable[Step] = ()) -> None:
        self.folder = folder
        self.steps: dict[str, Step] = {step.name: step for step in steps}
        self._stamps: dict[str, str] = {}
        self._done: dict[str, Made] = {}
        self._watch = Watch(folder)
        remove_left_overs(folder)

    def add(self, step: Step) -> None:
        """Add a step; the steps that it needs are there already, or come."""
        self.steps[step.name] = step

    def stamp(self, name: str) -> str:
        """Return a hash of all that a step's result depends on."""
        if name not in self._stamps:
            step = self.steps[known_name("step", name, self.steps)]
            below = [self.stamp(each) for each in step.needs]
            self._stamps[name] = fingerprint(__version__, name, *step.inputs(), *below)
        return self._stamps[name]

    def is_done(self, name: str) -> bool:
        """Whether a step has nothing to do."""
        return name in self._done or self._kept(name, self.stamp(name)) is not None

    def forget(self, name: str) -> None:
        """Vouch no longer for what a step wrote: somebody else writes there now."""
        self._manifest(name).unlink(missing_ok=True)
        self._done.pop(name, None)

    def _manifest(self, name: str) -> Path:
        return self.folder / MANIFESTS / f"{quote(name, safe='')}.json"

    def run(self, name: str, *, force: bool = False) -> Made:
        """Do a step unless that is done; with `force` in any case. What it needs is done first."""
        if name in self._done and not force:
            return self._done[name]
        stamp, step = self.stamp(name), self.steps[name]
        kept = None if force else self._kept(name, stamp)
        if kept is not None:
            self._done[name] = replace(kept, folder=self.folder / step.folder)
            return self._done[name]
        for each in step.needs:
            self.run(each)
        result = self._do(step, stamp, force)
        self._done[name] = replace(result, fresh=False, remark="")
        return result

    def run_alone(self, step: Step, *, force: bool = False) -> Made:
        """Do a step that is none of the quilt's own, unless that is done; what it needs it asks for itself."""
        stamp = fingerprint(__version__, step.name, *step.inputs(), *map(self.stamp, step.needs))
        kept = None if force else self._kept(step.name, stamp)
        return self._do(step, stamp, force) if kept is None else replace(kept, folder=self.folder / step.folder)

    def _do(self, step: Step, stamp: str, force: bool) -> Made:
        folder, manifest = self.folder / step.folder, self._manifest(step.name)
        token = VOUCHING.set(manifest)
        try:
            made = step.make(folder, force)
        finally:
            VOUCHING.reset(token)
        manifest.unlink(missing_ok=True)
        if changed := self._watch.changed():
            raise FileError(
                f"{changed}: changed while {step.name} was at work; what was made of it counts for nothing: run it again"
            )
        files = {self._name(path): _looks(path) for path in made.files}
        write_json(manifest, {"stamp": stamp, "files": files, "notes": list(made.notes)})
        return Made(folder, made.files, fresh=True, remark=made.remark, notes=made.notes)

    def _name(self, path: Path) -> str:
        return path.relative_to(self.folder).as_posix()

    def _kept(self, name: str, stamp: str) -> Made | None:
        """What the manifest of a step says, if it carries the stamp and each file is as it was written; else None."""
        manifest = self._manifest(name)
        if not manifest.is_file():
            return None
        try:
            known = read_json(manifest, "manifest")
            files = {self.folder / name: looks for name, looks in dict(known["files"]).items()}
            if known["stamp"] != stamp:
                return None
            changed = [path for path, looks in files.items() if not _looks_so(path, looks)]
            notes = tuple(str(each) for each in known.get("notes", ()))
        except (QuiltError, KeyError, TypeError, ValueError):
            return None
        for path in changed:
            if path.is_file():
                warnings.warn(f"{path}: is not as it was made; made anew", QuiltWarning, stacklevel=4)
        return None if changed else Made(self.folder, tuple(files), fresh=False, notes=notes)


def _looks(path: Path) -> list[Unchecked]:
    """The size of a file, when it was written, and a hash of it."""
    there = path.stat()
    return [there.st_size, there.st_mtime_ns, digest_of_file(path)]


def _looks_so(path: Path, looks: list[Unchecked]) -> bool:
    """Whether a file is as it was; it is read again only where it was touched since."""
    if not path.is_file():
        return False
    there = path.stat()
    if [there.st_size, there.st_mtime_ns] == looks[:2]:
        return True
    return bool(there.st_size == looks[0]) and digest_of_file(path) == looks[2]
