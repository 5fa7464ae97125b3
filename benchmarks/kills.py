"""Processes killed at random moments and at every single rename: what a later run believes, and what lies about.

    python benchmarks/kills.py                  200 at random moments, and one at each rename
    python benchmarks/kills.py --kills 1000
    python benchmarks/kills.py --quick          3 at random moments, and at every 17th rename, over the first steps

A small quilt (two swatches, ground, mesh, painted daubs) is made in one folder with settings that go back and forth. A run is
killed by SIGKILL, and the next one, of the same or the other settings, must give every file as a run in a folder of its own
does, and leave nothing else there. The last line is JSON; the exit code is 1 if anything was otherwise.
"""

from __future__ import annotations

import argparse
import json
import os
import signal
import sys
import tempfile
import time
import warnings
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np

import jagged_quilt as jq
from jagged_quilt.foundation import files
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.results.results import Results

STEPS = ("pack", "weigh", "bake", "bake jar", "maps", "weights", "audit")
QUILT = """\
title = "Two fields"
[surface]
terrain = "ground.png"
size = [16.0, 16.0]
heights = [0.0, 4.0]
[arrays]
side = 16
[weights]
texels = 32
daubs = "daubs.jsonl"
[bake]
texels = 32
[[swatch]]
name = "clay"
folder = "clay"
tile = 2.0
[[swatch]]
name = "salt"
plain = { diffuse = "#d8cfc0", roughness = 0.6 }
[[channel]]
name = "wet"
[[layer]]
swatch = "clay"
[[layer]]
swatch = "salt"
mask = [{ kind = "height", band = [1.0, 2.0], fade = 0.5 }]
[[mesh]]
name = "jar"
file = "jar.obj"
at = [8.0, 0.0, 8.0]
stand = true
texels = 32
layer = [{ swatch = "clay" }]
"""
ONE, OTHER = (
    QUILT,
    QUILT.replace("fade = 0.5", "fade = 1.5").replace("side = 16", "side = 8").replace("texels = 32", "texels = 24"),
)


def write_project(folder: Path) -> Path:
    """Write the quilt and all that it names."""
    rng = np.random.default_rng(1)
    v, u = np.mgrid[:17, :17] / 16
    write_image(folder / "ground.png", (65535 * (0.5 + 0.5 * np.sin(5 * u) * np.cos(4 * v))).astype(np.uint16))
    for role, channels in (("diffuse", 3), ("height", 1), ("roughness", 1)):
        write_image(folder / "clay" / f"clay_{role}.png", rng.integers(0, 256, (16, 16, channels), dtype=np.uint8))
    (folder / "jar.obj").write_text("v -1 0 0\nv 1 0 0\nv 0 2 0\nvt 0 0\nvt 1 0\nvt 0.5 1\nf 1/1 2/2 3/3\n")
    jq.daubs.write_daubs(folder / "daubs.jsonl", [jq.Daub(path=((5.0, 5.0),), radius=2, layers=("salt",))])
    return folder / "job.quilt.toml"


def make_all(quilt_file: Path, text: str, out: Path) -> None:
    """Do every step with some settings; in a quick run those before the pictures."""
    quilt_file.write_text(text)
    for step in STEPS[:4] if "--quick" in sys.argv else STEPS:
        Results(jq.read_quilt(quilt_file), out, work=jq.Work(threads=1)).run(step)


def in_child(work: Callable[[], None], until: float | None = None) -> bool:
    """Do something in a process of its own, killed after `until` seconds; return whether it was killed."""
    child = os.fork()
    if not child:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
        try:
            work()
        except BaseException as error:
            os.write(1, f"{type(error).__name__}: {error}\n".encode())
            os._exit(1)
        os._exit(0)
    end = None if until is None else time.monotonic() + until
    while True:
        done, status = os.waitpid(child, os.WNOHANG if end is not None else 0)
        if done:
            code = os.waitstatus_to_exitcode(status)
            if code not in (0, -signal.SIGKILL):
                raise RuntimeError(f"a run failed with {code}")
            return code != 0
        assert end is not None
        if time.monotonic() >= end:
            os.kill(child, signal.SIGKILL)
            end = None
        time.sleep(0.001)


def dying(count: int, work: Callable[[], None]) -> Callable[[], None]:
    """The same, killed at once after so many files took their names."""

    def dies() -> None:
        plain, left = files.put_in_place, [count]

        def put_in_place(made: Path, path: Path) -> None:
            plain(made, path)
            left[0] -= 1
            if left[0] == 0:
                os.kill(os.getpid(), signal.SIGKILL)

        files.put_in_place = put_in_place
        work()

    return dies


def results_of(folder: Path) -> dict[str, bytes]:
    """Every file of the results but those that name no content."""
    return {
        path.relative_to(folder).as_posix(): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and "made" not in path.parts and path.name not in ("inputs.json", "audit.json")
    }


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.split("\n\n", maxsplit=1)[0])
    parser.add_argument("--kills", type=int, default=200)
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--seed", type=int, default=0)
    reported = parser.parse_args()
    warnings.simplefilter("ignore")
    rng, wrong, kills, left_over = np.random.default_rng(reported.seed), [], 0, 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        quilt_file, out = write_project(folder), folder / "out"
        truth, seconds = {}, 0.0
        for text in (ONE, OTHER):
            in_child(partial(make_all, quilt_file, text, folder / "own" / str(len(truth))))
            truth[text] = results_of(folder / "own" / str(len(truth)))
        assert truth[ONE] != truth[OTHER]
        for text in (ONE, OTHER):
            began = time.monotonic()
            in_child(partial(make_all, quilt_file, text, out))
            seconds = time.monotonic() - began

        def judge(what: str) -> str:
            nonlocal left_over
            text = (ONE, OTHER)[int(rng.integers(2))]
            in_child(partial(make_all, quilt_file, text, out))
            found = results_of(out)
            if found != truth[text]:
                differ = sorted(each for each in found.keys() | truth[text].keys() if found.get(each) != truth[text].get(each))
                wrong.append(f"{what}: {', '.join(differ[:4])}")
            left_over += len(list(out.rglob(".new-*")))
            return text

        renames, lies = 0, OTHER
        for count in range(1, 1000, 17 if reported.quick else 1):
            if not in_child(dying(count, partial(make_all, quilt_file, ONE if lies is OTHER else OTHER, out))):
                break
            renames += 1
            lies = judge(f"after rename {count}")
        while kills < (3 if reported.quick else reported.kills):
            text = (ONE, OTHER)[int(rng.integers(2))]
            if in_child(partial(make_all, quilt_file, text, out), until=float(rng.uniform(0, seconds))):
                kills += 1
                judge(f"kill {kills}")
    for each in wrong[:20]:
        print(each)
    print(json.dumps({"renames": renames, "kills": kills, "wrong": len(wrong), "left_over": left_over}))
    return 1 if wrong or left_over else 0


if __name__ == "__main__":
    sys.exit(main())
