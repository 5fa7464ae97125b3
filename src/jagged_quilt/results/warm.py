"""Kernels compiled before they are needed: in processes side by side, once for a version on a machine."""

from __future__ import annotations

import contextlib
import subprocess
import sys
import threading
from collections.abc import Collection

from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.foundation.files import read_json, write_json
from jagged_quilt.foundation.kernel_cache import cache_folder, cache_key, came_compiled
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.results.rehearsal import PARTS, rehearse

_RECORD = "jagged_quilt_warm.json"
_EXPECTED = {"pack": 12, "blend": 10, "weigh": 30, "ground": 14, "meshes": 9, "pages": 10}  # kernels in each part, for the bar


def cold(parts: Collection[str] = ()) -> list[str]:
    """Return those of some parts of the kernels (of all where none is named) that are not known to be compiled."""
    known = _known()
    if cache_folder() is None or came_compiled():
        return []  # nothing would be kept, or nothing is to be done
    return [name for name in PARTS if name not in known and (not parts or name in parts)]


def warm(parts: Collection[str] = (), *, work: Work = ANYHOW, force: bool = False) -> list[str]:
    """Compile kernels ahead of their first use, in as many processes as there are threads.

    Parameters
    ----------
    parts : of "pack", "blend", "weigh", "ground", "meshes" and "pages"
        All where none is named.
    force : bool
        Go through them even if they are known to be compiled.

    Returns
    -------
    list of str
        The parts that were not known to be compiled.

    Examples
    --------
    >>> jq.warm()  # compiles all kernels, once for a machine  # doctest: +SKIP
    """
    wanted = [name for name in PARTS if not parts or name in parts] if force else cold(parts)
    if not wanted:
        return []
    shares: list[list[str]] = [[] for _ in range(min(work.count, len(wanted)))]
    for name in sorted(wanted, key=lambda name: -PARTS[name].seconds):
        min(shares, key=lambda share: sum(PARTS[each].seconds for each in share)).append(name)
    whole, done, lock = sum(_EXPECTED[name] for name in wanted), 0, threading.Lock()
    work.progress("compiling", 0, whole)

    def follow(share: list[str]) -> None:
        nonlocal done
        with subprocess.Popen(
            [sys.executable, "-m", "jagged_quilt.results.rehearsal", *share],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        ) as process:
            assert process.stdout is not None
            for _ in process.stdout:
                with lock:
                    done += 1
                    work.progress("compiling", min(done, whole), whole)
        if process.returncode != 0:
            failed.append(share)

    failed: list[list[str]] = []
    followers = [threading.Thread(target=follow, args=(share,)) for share in shares] if sys.executable else []
    for each in followers:
        each.start()
    for each in followers:
        each.join()
    if failed or not followers:  # here, where an error can be seen
        rehearse(wanted)
    work.progress("compiling", whole, whole)
    remember(wanted)
    return wanted


def remember(parts: Collection[str]) -> None:
    """Note in the compiler's cache that some parts are compiled."""
    folder = cache_folder()
    if folder is not None:
        with contextlib.suppress(QuiltError):  # then they are gone through again the next time
            write_json(folder / _RECORD, {"of": cache_key(), "parts": sorted({*_known(), *parts})})


def _known() -> set[str]:
    """The parts of which the cache says that they were compiled."""
    folder = cache_folder()
    if folder is None or not (folder / _RECORD).is_file():
        return set()
    with contextlib.suppress(QuiltError, KeyError, TypeError):
        record = read_json(folder / _RECORD, "list of compiled kernels")
        if record["of"] == cache_key():
            return set(record["parts"])
    return set()
