"""What a person waits for: the first demo ever, the next one, a view, and a look after a change; each a process of its own.

    python benchmarks/first_touch.py            about four minutes
    python benchmarks/first_touch.py --quick    under a minute; a smaller demo, and not the first one

The first demo compiles every kernel into an empty cache. The view is `jquilt show view --force` as a whole command; drawing it
is set against blending its points alone, in one process. A look is timed from the saving of a changed
threshold in the quilt file to the lines that say that the small and the whole picture are there: the median of several.

`knobs_over_plain` is a point of the demo's blend over one with shuffling, far layers, tuning, softness of pairs and films off;
`draw_over_blend_plain` drawing the demo over blending its points with those off; `debug_over_view` the dearest false-colour
picture over the view. The last line is JSON.
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
from copy import copy
from dataclasses import replace
from pathlib import Path

import numpy as np

import jagged_quilt as jq
from jagged_quilt.results.results import Results
from jagged_quilt.results.scene_of import scene_of
from jagged_quilt.show.debug import draw_debug
from jagged_quilt.show.stage import LayerShade

KINDS = ("stretch", "density", "mip", "uv", "plane", "wireframe")
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


OFF = {
    "shuffle": lambda layer: replace(layer, projection=replace(layer.projection, shuffle=None)),
    "far": lambda layer: replace(layer, far=None),
    "tuning and meets": lambda layer: replace(layer, tuning=jq.Tuning(), meets=()),
}
ALONE = jq.Work(threads=1)


def without(scene, knobs):
    """The scene with some knobs of its layers turned off, and its films taken away where "films" is among them."""
    out = copy(scene)
    out.things, out._parts = (), None
    for thing in scene.things:

        def plain(layers):
            for name in set(knobs) & set(OFF):
                layers = [OFF[name](layer) for layer in layers]
            return layers

        layers = thing.layers
        own = {part: plain(each) for part, each in layers.items()} if isinstance(layers, dict) else plain(layers)
        out.add(thing.surface, own, weights=thing.weights, films=() if "films" in knobs else thing.films)
    return out


def processor(work):
    """Seconds of the processor."""
    start = time.process_time()
    work()
    return time.process_time() - start


def drawing(quilt_file, repeats):
    """Drawing the view and what it is made of, in seconds of the processor on one thread, with all knobs and with some off."""
    results = Results(jq.read_quilt(quilt_file), work=ALONE)
    scene, camera = scene_of(results), results.quilt.camera
    variants = {
        "the demo as it is": (),
        **{f"without {name}": (name,) for name in (*OFF, "films")},
        "with none": (*OFF, "films"),
    }
    rows, at = {}, LayerShade.at
    for name, knobs in variants.items():
        own, pieces = without(scene, knobs), []
        own.draw(camera, work=ALONE)

        def noted(shade, points, pieces=pieces, **how):
            pieces.append((shade, points, shade.weights.at(points), how))
            return at(shade, points, **how)

        LayerShade.at = noted
        own.draw(camera, work=ALONE)
        LayerShade.at = at

        def blend(pieces=pieces):
            for shade, points, weights, how in pieces:
                shade.blend.at(points, weights, **how)

        drawn = min(processor(lambda own=own: own.draw(camera, work=ALONE)) for _ in range(repeats))
        blended = min(processor(blend) for _ in range(repeats))
        count = sum(len(points) for _, points, _, _ in pieces)
        rows[name] = drawn, blended, 1e9 * blended / count
    debug = {
        kind: min(processor(lambda kind=kind: draw_debug(scene, camera, kind, work=ALONE)) for _ in range(repeats))
        for kind in KINDS
    }
    return rows, debug


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
        rows, debug = drawing(quilt_file, 1 if quick else 4)
        print("the view, seconds of the processor on one thread:   draw   blend alone   ns a point")
        for name, (drawn, blended, each) in rows.items():
            print(f"  {name:<46}{drawn:>7.2f}{blended:>12.2f}{each:>13.0f}")
        print("debug pictures: " + ", ".join(f"{kind} {took:.2f} s" for kind, took in debug.items()))
        (drawn, _, each), (_, plain, plain_each) = rows["the demo as it is"], rows["with none"]
        reported |= {"view_cpu_s": drawn, "knobs_over_plain": each / plain_each, "draw_over_blend_plain": drawn / plain}
        reported["debug_over_view"] = max(debug.values()) / drawn
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
