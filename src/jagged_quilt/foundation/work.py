"""How work is done: on how many threads, and who hears how far it is."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed
from dataclasses import dataclass
from typing import TypeVar

from jagged_quilt.foundation.checks import whole_number_in
from jagged_quilt.foundation.progress import Progress, silent

Part = TypeVar("Part")


@dataclass(frozen=True)
class Work:
    """How work is done; results are the same bytes however it is.

    Attributes
    ----------
    threads : int or None
        1 to 1024; None means one for each core that this process may use.
    progress : callable
        Called as `progress(step, done, whole)`: the step's name and how many of its parts are done; whole 0 is a remark.

    Raises
    ------
    RangeError
        If the number of threads is out of range.

    Examples
    --------
    >>> Work(threads=2).count
    2
    """

    threads: int | None = None
    progress: Progress = silent

    def __post_init__(self) -> None:
        if self.threads is not None:
            whole_number_in("threads", self.threads, 1, 1024)

    @property
    def count(self) -> int:
        """How many threads there are."""
        if self.threads is not None:
            return self.threads
        return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1

    @property
    def quiet(self) -> Work:
        """The same with nobody listening."""
        return Work(self.threads)

    def through(self, parts: Sequence[Part], do: Callable[[Part], None], *, step: str = "working") -> None:
        """Call `do` on every part, on threads, in order of arrival; the first error is raised, and nothing is left running.

        Parts must not write to the same memory.
        """
        progress, count = self.progress, min(self.count, len(parts))
        progress(step, 0, len(parts))
        if count <= 1:
            for done, part in enumerate(parts, 1):
                do(part)
                progress(step, done, len(parts))
            return
        with ThreadPoolExecutor(count) as pool:
            tasks = [pool.submit(do, part) for part in parts]
            try:
                for done, task in enumerate(as_completed(tasks), 1):
                    task.result()
                    progress(step, done, len(parts))
            except BaseException:
                pool.shutdown(cancel_futures=True)
                raise


ANYHOW = Work()
"""On all cores, with nobody listening."""
ALONE = Work(threads=1)
"""On one thread, with nobody listening."""
