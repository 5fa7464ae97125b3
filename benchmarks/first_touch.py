"""What a person waits for: the first demo ever, the next one, a view, and a look after a change; each a process of its own.

    python benchmarks/first_touch.py            about four minutes
    python benchmarks/first_touch.py --quick    under a minute; a smaller demo, and not the first one

The first demo compiles every kernel into an empty cache. The view is `jquilt show view --force` as a whole command; drawing it
is set against blending as many points by the same weights, in one process. A look is timed from the saving of a changed
threshold in the quilt file to the lines that say that the small and the whole picture are there: the median of several. The
last line is JSON.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

import jagged_quilt as jq
from jagged_quilt.results.results import Results
from jagged_quilt.results.scene_of import scene_of
from jagged_quilt.show.stage import LayerShade

JQUILT = [sys.executable, "-m", "jagged_quilt"]
COMPILED = """
import sys
from jagged_quilt.foundation.kernels import when_compiling
from jagged_quilt.cli.main import main
names = []
sys.argv = ["jquilt", *sys.argv[1:]]
with when_compiling(names.append):
    try:
        main()
    except SystemExit:
        pass
print("compiled here:", len(names), *names)
"""


def seconds_of(words, env):
    """Run a command; return the seconds that it took, and what it said."""
    start = time.perf_counter()
    done = subprocess.run(words, env=env, capture_output=True, text=True, check=True)
    return time.perf_counter() - start, done.stdout


def looks(quilt_file, env, count):
    """Seconds from saving a changed threshold to the small and to the whole picture, the median of some changes."""
    process = subprocess.Popen([*JQUILT, "look", quilt_file], stdout=subprocess.PIPE, text=True, env=env)

    def until(word):
        for line in process.stdout:
            if f" {word} after " in line:
                return time.perf_counter()
        raise RuntimeError("the look ended")

    until("whole")
    small, whole = [], []
    for number in range(count):
        time.sleep(1)
        changed = re.sub(
            r"^threshold = .*$", f"threshold = {0.4 + 0.03 * number:.2f}", quilt_file.read_text(), count=1, flags=re.M
        )
        start = time.perf_counter()
        quilt_file.write_text(changed)
        small.append(until("small") - start)
        whole.append(until("whole") - start)
    process.terminate()
    process.communicate()
    return statistics.median(small), statistics.median(whole)


def drawing_over_blend(quilt_file, repeats):
    """Seconds of drawing the view, over those of only blending as many points of the same pieces by the same weights."""
    results = Results(jq.read_quilt(quilt_file), work=jq.Work(threads=1))
    scene, camera = scene_of(results), results.quilt.camera
    drawn, pieces = [], []
    scene.draw(camera, work=jq.Work(threads=1))
    at = LayerShade.at

    def noted(shade, points, **how):
        pieces.append((shade, points, shade.weights.at(points)))
        return at(shade, points, **how)

    LayerShade.at = noted
    scene.draw(camera, work=jq.Work(threads=1))
    LayerShade.at = at
    blended = []
    for _ in range(repeats):
        start = time.perf_counter()
        scene.draw(camera, work=jq.Work(threads=1))
        middle = time.perf_counter()
        for shade, points, weights in pieces:
            shade.blend.at(points, weights, normals="world")
        drawn.append(middle - start)
        blended.append(time.perf_counter() - middle)
    return min(drawn), min(blended), sum(len(points) for _, points, _ in pieces)


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--quick", action="store_true", help="a smaller demo, and not the first one")
    quick = parser.parse_args().quick
    reported = {}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        env = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}  # as people run it
        if not quick:
            env["NUMBA_CACHE_DIR"] = str(folder / "kernels")
            took, said = seconds_of([sys.executable, "-c", COMPILED, "demo", folder / "first"], env)
            reported["first_demo_s"] = took
            print(f"the first demo, nothing compiled: {took:.1f} s")
            files = list((folder / "kernels").rglob("*.nbc"))
            reported["compilations"] = len(files)
            print(f"kernels compiled: {len(files)}; {said.strip().splitlines()[-1]}")
        seconds_of([*JQUILT, "warm"], env)
        small = ["--texels", "128"] if quick else []
        took, said = seconds_of([sys.executable, "-c", COMPILED, "demo", folder / "warm", *small], env)
        reported["warm_demo_s"] = took
        print(f"the next demo: {took:.1f} s; {said.strip().splitlines()[-1]}")
        for step, each in re.findall(r"^ (\w+(?: meshes)?)  .*?([\d.]+) $", said, flags=re.M):
            print(f"  {step:<12}{each:>6} s")
        quilt_file = folder / "warm" / "saltworks.quilt.toml"
        reported["view_s"] = min(
            seconds_of([*JQUILT, "show", quilt_file, "view", "--force"], env)[0] for _ in range(1 if quick else 3)
        )
        print(f"jquilt show view --force: {reported['view_s']:.1f} s")
        kept = min(seconds_of([*JQUILT, "show", quilt_file], env)[0] for _ in range(1 if quick else 2))
        print(f"jquilt show, nothing changed: {kept:.1f} s")
        drawn, blended, points = drawing_over_blend(quilt_file, 1 if quick else 5)
        reported["view_over_blend"] = drawn / blended
        print(f"drawing the view takes {drawn:.2f} s on one thread, blending its {points:,} points alone {blended:.2f} s")
        reported["look_small_s"], reported["look_whole_s"] = looks(quilt_file, env, 2 if quick else 7)
        print(f"a look after a change: small {reported['look_small_s']:.2f} s, whole {reported['look_whole_s']:.2f} s")
        scene = scene_of(Results(jq.read_quilt(quilt_file)))
        camera = jq.read_quilt(quilt_file).camera
        apart = np.abs(scene.draw(camera).astype(int) - scene.draw(camera, closely=True))
        reported["view_mean_difference"] = float(apart.mean())
        reported["view_far_pixels_percent"] = 100 * float((apart.max(axis=2) > 16).mean())
        print(
            f"beside four rays for every pixel: {reported['view_mean_difference']:.2f} of 255 on average, "
            f"{reported['view_far_pixels_percent']:.2f} % of pixels by more than 16"
        )
    if not quick:
        reported["first_over_warm"] = reported["first_demo_s"] / reported["warm_demo_s"]
    print(json.dumps({key: round(value, 3) for key, value in reported.items()}))


if __name__ == "__main__":
    main()
