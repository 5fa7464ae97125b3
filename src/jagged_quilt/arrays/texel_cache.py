"""Texels of more swatches than are held: read from their arrays when a blend shows them, those unread for longest give way."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.layout import Layout
from jagged_quilt.arrays.pages import SwatchFacts, TexelPages, means_of, page_starts
from jagged_quilt.foundation.checks import known_name, positive
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Stored


class Opened(NamedTuple):
    """How swatches are opened to be blended; each as in `TexelPages`."""

    layouts: tuple[Layout, ...]
    side: int
    facts: tuple[SwatchFacts, ...]


class Openable(Protocol):
    """Texture arrays, as far as a cache reads them."""

    def opened(self, names: Sequence[str]) -> Opened: ...
    def levels_of(self, layout: Layout, name: str) -> list[Stored]: ...
    def open(self, names: Sequence[str] | None = None) -> TexelPages: ...


class TexelCache:
    """What a blend reads of texture arrays, within a given size; made by `TextureArrays.cached`.

    Whole slices with all their mips are held, each in a slot. A block of work holds those that it shows until it is done.

    Attributes
    ----------
    arrays : TextureArrays
    names : tuple of str
        The swatches that may be shown.
    layouts, side, facts
        As those of `TexelPages`.
    slots : int
        How many swatches are held at most.
    hits, misses : int
        How often a block found a swatch that it shows held, and how often it had to be read.
    """

    layouts: tuple[Layout, ...]
    side: int
    facts: tuple[SwatchFacts, ...]

    def __init__(self, arrays: Openable, names: Sequence[str], mib: float) -> None:
        self.arrays, self.names, self.mib = arrays, tuple(names), positive("size of the cache", mib, "MiB")
        self.layouts, self.side, self.facts = arrays.opened(self.names)
        self.slots = min(int(mib * (1 << 20) / self.slice_bytes), len(self.names))
        if not self.slots:
            raise RangeError(f"a cache of {mib:g} MiB holds no swatch; one takes {self.slice_bytes / (1 << 20):.3g} MiB")
        self._texels = TexelPages.empty([SwatchFacts()] * self.slots, self.layouts, self.side)
        self._slot_of: OrderedDict[int, int] = OrderedDict()
        """The slot of each swatch that is held, the one that was asked for last at the end."""
        self._in_use = np.zeros(self.slots, np.int64)
        self._changed = threading.Condition()
        self.hits = self.misses = 0

    def __reduce__(self) -> tuple[object, ...]:
        return TexelCache, (self.arrays, self.names, self.mib)

    def __repr__(self) -> str:
        return f"<TexelCache {self.slots} of {len(self.names)} swatches of {self.side} x {self.side} held: {self.figures()}>"

    def figures(self) -> str:
        """Return in words how well it served."""
        asked = max(1, self.hits + self.misses)
        held = self.slots * self.slice_bytes / (1 << 20)
        return f"{held:.3g} MiB, {self.hits} hits, {self.misses} misses ({100 * self.hits / asked:.1f} % hits)"

    @property
    def slice_bytes(self) -> int:
        """What one swatch takes with all its mips."""
        return 4 * len(self.layouts) * int(page_starts(self.side, 1)[-1])

    def means(self, name: str) -> NDArray[np.float64]:
        """Return the mean of every channel of a swatch, as `TexelPages.means` does."""
        index, own = self.index_of(name), self.side * (self.side + 1)
        with self.holding(np.array([index])) as (texels, slots):
            first = int(slots[index]) * own
            return means_of(texels[first : first + own], self.side, self.layouts)

    def index_of(self, name: str) -> int:
        """Return the index of a swatch in `names`; raise `NameNotFoundError` if it was not opened."""
        return self.names.index(known_name("swatch in the arrays", name, self.names))

    @contextmanager
    def holding(self, indices: NDArray[np.integer]) -> Iterator[tuple[NDArray[np.uint32], NDArray[np.int32]]]:
        """Give the texels of all slots, (M, A), and the slot of every swatch, (S,), of which those at `places` are held.

        Where all slots are in use by other threads it waits. Raises `RangeError` if there are more places than slots.
        """
        wanted = [int(index) for index in dict.fromkeys(indices)]
        if len(wanted) > self.slots:
            needed = len(wanted) * self.slice_bytes / (1 << 20)
            raise RangeError(
                f"one block shows {len(wanted)} swatches, and a cache of {self.mib:g} MiB holds {self.slots}; "
                f"give it at least {np.ceil(needed):.0f} MiB"
            )
        with self._changed:
            self._changed.wait_for(lambda: self._can_hold(wanted))
            missing = [index for index in wanted if index not in self._slot_of]
            self.hits, self.misses = self.hits + len(wanted) - len(missing), self.misses + len(missing)
            for index in wanted:
                if index in self._slot_of:
                    self._slot_of.move_to_end(index)
                    self._in_use[self._slot_of[index]] += 1
            for index in missing:
                slot = self._free_slot()
                self._read(index, slot)
                self._slot_of[index] = slot
                self._in_use[slot] += 1
            slots = np.zeros(len(self.names), np.int32)
            slots[wanted] = used = [self._slot_of[index] for index in wanted]
        try:
            yield self._texels.texels, slots
        finally:
            with self._changed:
                self._in_use[used] -= 1
                self._changed.notify_all()

    def _can_hold(self, wanted: Sequence[int]) -> bool:
        """Whether what is missing finds slots that nobody uses, beside those that are wanted."""
        held = [self._slot_of[index] for index in wanted if index in self._slot_of]
        free = set(np.flatnonzero(self._in_use == 0).tolist()) - set(held)
        return len(wanted) - len(held) <= len(free)

    def _free_slot(self) -> int:
        """A slot that was never used, or that of the swatch that nobody has asked for for longest."""
        if len(self._slot_of) < self.slots:
            return min(set(range(self.slots)) - set(self._slot_of.values()))
        oldest = next(index for index, slot in self._slot_of.items() if not self._in_use[slot])
        return self._slot_of.pop(oldest)

    def _read(self, index: int, slot: int) -> None:
        for column, layout in enumerate(self.layouts):
            for level, texels in enumerate(self.arrays.levels_of(layout, self.names[index])):
                self._texels.put(column, slot, level, texels)
