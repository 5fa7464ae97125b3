"""A file of more daubs than are held: known is where each lies, and it is read when something that it touches is weighed."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import overload

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.files import digest_of_file
from jagged_quilt.foundation.missing import missing
from jagged_quilt.foundation.points import Points
from jagged_quilt.weights.daub import Daub, DaubKind
from jagged_quilt.weights.daub_file import daub_in_line
from jagged_quilt.weights.lay_daubs import DaubLayer, DaubReach, RegionGrid, Weights


class DaubFile(Sequence[Daub]):
    """The daubs of a file, each read when it is asked for.

    Parameters
    ----------
    path : Path
    check : callable, optional
        Called with every daub once, to refuse it.

    Attributes
    ----------
    boxes : (D, 4) float64
        What each can touch: west, north, east, south.
    smoothing : tuple of Daub
        Those that smooth, in order; they are held.
    layers : dict of str to int
        The layers that daubs name, and the number, from 1, of the first that does.

    Raises
    ------
    QuiltError
        As `read_daubs`, or what `check` raises, with the daub's number.
    """

    def __init__(self, path: Path, check: Callable[[Daub], None] | None = None) -> None:
        self.path, starts, lines, boxes = Path(path), [], [], list[tuple[float, ...]]()
        smoothing, self.layers = [], dict[str, int]()
        for line, (start, text) in enumerate(_lines(self.path), 1):
            if not text.strip():
                continue
            daub = daub_in_line(self.path, line, text)
            starts.append(start)
            lines.append(line)
            boxes.append(daub.bounds)
            for name in daub.layers:
                self.layers.setdefault(name, len(starts))
            if daub.kind is DaubKind.SMOOTH:
                smoothing.append(daub)
            if check is not None:
                try:
                    check(daub)
                except QuiltError as error:
                    raise type(error)(f"{self.path} daub {len(starts)}: {error}") from error
        self._starts, self._lines = np.array(starts, np.int64), np.array(lines, np.int64)
        self.boxes, self.smoothing = np.array(boxes, np.float64).reshape(-1, 4), tuple(smoothing)
        self._size = self.path.stat().st_size
        self.digest = digest_of_file(self.path)  # so that a changed file is noticed

    def __repr__(self) -> str:
        return f"<DaubFile {self.path.name}: {len(self):,} daubs>"

    def __len__(self) -> int:
        return len(self._starts)

    @overload
    def __getitem__(self, number: int) -> Daub: ...
    @overload
    def __getitem__(self, number: slice) -> list[Daub]: ...
    def __getitem__(self, number: int | slice) -> Daub | list[Daub]:
        if isinstance(number, slice):
            return self.some(range(len(self))[number])
        return self.some([range(len(self))[number]])[0]

    def some(self, numbers: Iterable[int]) -> list[Daub]:
        """Return some daubs by their numbers, from 0; raise `FileError` if the file is not as it was."""
        found = []
        try:
            with self.path.open("rb") as file:
                if self._size != self.path.stat().st_size:
                    raise FileError(f"{self.path}: changed while it was read; begin again")
                for number in numbers:
                    file.seek(int(self._starts[number]))
                    found.append(daub_in_line(self.path, int(self._lines[number]), file.readline()))
        except OSError as error:
            raise FileError(f"{self.path}: the file of daubs cannot be read: {error.strerror or error}") from error
        return found


class WindowedDaubs(DaubReach):
    """The daubs of a file ready to be laid, as a `DaubLayer` is: of the file only those are read that touch the points.

    Raises `NameNotFoundError` if a daub names a layer that is not there.
    """

    def __init__(self, daubs: DaubFile, names: tuple[str, ...], channel: str = "") -> None:
        super().__init__(daubs.boxes, () if channel else daubs.smoothing)
        self.daubs, self._names, self._channel = daubs, names, channel
        self.numbers = range(1, len(daubs) + 1)
        if channel:
            return
        for name, number in daubs.layers.items():
            try:
                known_name("layer", name, names)
            except QuiltError as error:
                raise type(error)(f"daub {number}: {error}") from error

    def laid(self, weights: Weights, points: Points, grid: RegionGrid | None = None) -> Weights:
        """Return weights with the daubs on them; see `DaubLayer.laid`."""
        return DaubLayer(self.daubs.some(self.touching(points)), self._names, self._channel).laid(weights, points, grid)

    def covered(self, d: int, points: Points) -> NDArray[np.float32]:
        """Return how much daub d covers at each point, (N,) float32."""
        return DaubLayer([self.daubs[d]], self._names).covered(0, points)


def _lines(path: Path) -> Iterator[tuple[int, bytes]]:
    """The lines of a file, each with the byte at which it begins."""
    try:
        with path.open("rb") as file:
            at = 0
            for line in file:
                yield at, line
                at += len(line)
    except FileNotFoundError:
        raise FileError(missing(Path(path), "file of daubs")) from None
    except OSError as error:
        raise FileError(f"{path}: the file of daubs cannot be read: {error.strerror or error}") from error
