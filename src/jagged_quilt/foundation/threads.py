"""Work in parts on threads, in order of arrival, with the first error raised and nothing left running."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed
from typing import TypeVar

from jagged_quilt.foundation.checks import whole_number_in
from jagged_quilt.foundation.progress import Progress, silent

Part = TypeVar("Part")


def thread_count(threads: int | None) -> int:
    """Return how many threads to use; None means one for each core that this process may use."""
    if threads is None:
        return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return whole_number_in("threads", threads, 1, 1024)


def work_through(
    parts: Sequence[Part],
    work: Callable[[Part], None],
    *,
    threads: int | None = None,
    step: str = "working",
    progress: Progress = silent,
) -> None:
    """Call `work` on every part; parts must not write to the same memory."""
    count = min(thread_count(threads), len(parts))
    progress(step, 0, len(parts))
    if count <= 1:
        for done, part in enumerate(parts, 1):
            work(part)
            progress(step, done, len(parts))
        return
    with ThreadPoolExecutor(count) as pool:
        tasks = [pool.submit(work, part) for part in parts]
        try:
            for done, task in enumerate(as_completed(tasks), 1):
                task.result()
                progress(step, done, len(parts))
        except BaseException:
            pool.shutdown(cancel_futures=True)
            raise
