"""What pages cost: memory by the size of the ground, one page beside its share, going on after a stop, a view's need, workers.

    python benchmarks/pages.py            some minutes: 8,192 x 8,192 texels, and a strip of 65,536 x 2,048 over all mips
    python benchmarks/pages.py --quick    512 x 512 and a strip of 4,096 x 128

The ground and the layers are the demo's, its maps of 128 texels. Peaks are of processes of their own. The last line is JSON.
"""

from __future__ import annotations

import argparse
import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

import jagged_quilt as jq
from jagged_quilt.arrays.page_grid import PageAt
from jagged_quilt.arrays.page_store import PageStore
from jagged_quilt.baking.page_bake import make_pages, on_threads
from jagged_quilt.baking.page_stamps import GroundStamps
from jagged_quilt.baking.page_texels import GroundTexels, page_alone
from jagged_quilt.baking.pages import bake_pages
from jagged_quilt.demo.project import write_project
from jagged_quilt.foundation.work import ALONE

_STEPS = 60


def ready(folder, texels):
    """The demo's ground as a canvas of so many texels, ready to be baked."""
    quilt = jq.read_quilt(folder / "demo" / "saltworks.quilt.toml")
    arrays = jq.pack(quilt.swatches, side=128)
    weights = jq.weigh(quilt.terrain.canvas(512), quilt.layers)
    return quilt, jq.Baker(quilt.terrain.canvas(texels), quilt.layers, arrays, weights=weights)


class StoppedError(Exception):
    """Somebody pressed a key."""


def stopped_half_way(finest, store, stamps, grid):
    """Begin to make the pages of a store, and stop when half of them are there."""
    half = grid.page_count // 2

    def watch(step, done, whole):
        if step == "baking pages" and done >= half:
            raise StoppedError

    try:
        make_pages(finest, store, stamps, progress=watch)
    except StoppedError:
        return
    raise AssertionError("it was never stopped")


def peak(folder, texels):
    """The most memory, in MiB, that baking so many texels took in a process of its own."""
    words = [sys.executable, __file__, "--in", str(folder), "--peak", "x".join(map(str, texels))]
    return float(subprocess.run(words, check=True, capture_output=True, text=True).stdout.split()[-1])


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--quick", action="store_true", help="a smaller ground")
    parser.add_argument("--in", dest="folder", help=argparse.SUPPRESS)
    parser.add_argument("--peak", help=argparse.SUPPRESS)
    asked = parser.parse_args()
    if asked.peak:
        folder, texels = Path(asked.folder), tuple(int(each) for each in asked.peak.split("x"))
        _, baker = ready(folder, texels)
        bake_pages(baker, folder / f"{asked.peak}.zarr")
        print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
        return
    small, strip = ((512, 512), (128, 4096)) if asked.quick else ((8192, 8192), (2048, 65536))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_project(folder / "demo", texels=128)
        peaks = [peak(folder, texels) for texels in (small, strip)]
        print(f"peak: {peaks[0]:.0f} MiB for {small[1]} x {small[0]} texels, {peaks[1]:.0f} for {strip[1]} x {strip[0]}")
        quilt, baker = ready(folder, 1024 if asked.quick else 2048)
        grid = jq.PageGrid(baker.canvas.texels, 128 if asked.quick else 256, shard=2)
        finest, stamps = GroundTexels(baker), GroundStamps(baker)

        def fresh(name):
            return PageStore.create(str(folder / name), "ground", grid, baker.roles, {})

        make_pages(finest, fresh("first.zarr"), stamps)  # loads the kernels
        began = time.perf_counter()
        made = make_pages(finest, fresh("whole.zarr"), stamps, runs=on_threads(ALONE))
        whole = time.perf_counter() - began
        print(f"{made.made} pages in {whole:.2f} s on one thread, {made.made / whole:.1f} a second")
        over = []
        for at in (PageAt(0, 3, 3), PageAt(1, 1, 2), PageAt(2, 1, 0)):
            times = []
            for _ in range(3):
                began = time.perf_counter()
                page_alone(finest, grid, at)
                times.append(time.perf_counter() - began)
            share = whole * 4**at.mip / np.prod(grid.pages(0))
            over.append(min(times) / share)
            print(f"page {at} alone: {1000 * min(times):.0f} ms, {over[-1]:.2f} of its share")
        store = fresh("stopped.zarr")
        stopped_half_way(finest, store, stamps, grid)
        began = time.perf_counter()
        left = make_pages(finest, store, stamps, runs=on_threads(ALONE))
        resumed = (time.perf_counter() - began) / whole
        print(f"gone on after half: {left.made} of {grid.page_count} pages in {resumed:.2f} of the time")
        huge, counts = jq.PageGrid((65536, 65536)), []
        scene = jq.Scene(jq.pack(quilt.swatches, side=16)).add(quilt.terrain, quilt.layers)
        for share in np.linspace(0, 1, 12 if asked.quick else _STEPS):
            place = (60 + 60 * share, 240 - 217 * share**0.5, 250 - 80 * share)
            camera = jq.Camera(position=place, target=(124, 4, 120 + 30 * share))
            counts.append(len(jq.show.pages_needed(scene, camera, huge, quilt.terrain.size)))
        print(f"a glide over 65,536 x 65,536 texels needs {min(counts)} to {max(counts)} of {huge.page_count:,} pages")
        seconds = [_on_workers(finest, fresh(f"workers{count}.zarr"), stamps, count) for count in (1, 2)]
        print(f"on Dask: {seconds[0]:.2f} s with one worker, {seconds[1]:.2f} with two ({os.cpu_count()} cores)")
        print(
            json.dumps(
                {
                    "peak_mib_small": round(peaks[0]),
                    "peak_mib_large": round(peaks[1]),
                    "page_over_share": round(max(over), 2),
                    "resume_share": round(resumed, 2),
                    "held_over_median": round(max(counts) / float(np.median(counts)), 2),
                    "workers_scaling": round(seconds[0] / seconds[1], 2),
                }
            )
        )


def _on_workers(finest, store, stamps, count):
    """Seconds to make all pages on so many workers, which have loaded their kernels before."""
    from jagged_quilt.baking.cluster import on_cluster

    with on_cluster("local", work=jq.Work(threads=count)) as runs:
        make_pages(finest, store, stamps, runs=runs)
        began = time.perf_counter()
        make_pages(finest, store, stamps, force=True, runs=runs)
        return time.perf_counter() - began


if __name__ == "__main__":
    main()
