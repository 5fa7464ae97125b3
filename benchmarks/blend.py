"""How fast the blend kernel is, beside plain NumPy doing the same maths in the same run.

    python benchmarks/blend.py            a few minutes
    python benchmarks/blend.py --quick    about half a minute, once all is compiled
    python benchmarks/blend.py --against REV [--wide]    beside the code of another commit, in turn

The standard scene: 1024 x 1024 texels, the 4 heaviest of 8 layers (3.2 show on average), two RGBA8 arrays of 8 x 512 x
512, triplanar (2.2 planes on average), height-aware, reoriented normals. The last line is JSON.
"""

from __future__ import annotations

import argparse
import copy
import json
import os
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
from numpy_blend import NumpyBlend

import jagged_quilt as jq

if "--wide" in sys.argv:
    jq.wide_vectors()

from jagged_quilt.arrays.layout import fine_layout
from jagged_quilt.blend import _mapping_kernels, _mix_kernels, _sample_kernels, _spread_kernels
from jagged_quilt.blend import _rows as rows_of
from jagged_quilt.blend._kernels import blend_block
from jagged_quilt.blend.blend import Blend
from jagged_quilt.blend.settings import NormalSpace
from jagged_quilt.demo.project import write_project
from jagged_quilt.foundation.compiler import kernel
from jagged_quilt.foundation.noise import noise_at
from jagged_quilt.maps.roles import stored_type
from jagged_quilt.results.results import Results

SIDE, CHUNK = 1024, 1 << 15
LAYOUTS = ("diffuse_height", "normal_roughness_occlusion")


def field(rows, columns, hills, seed, octaves=5):
    """Seamless noise, 0..1, stretched."""
    v, u = np.mgrid[:rows, :columns]
    places = np.column_stack([u.ravel() * (hills / columns), v.ravel() * (hills / rows), np.full(u.size, 0.5)])
    values = noise_at(places, size=1.0, octaves=octaves, seed=seed, period=hills).reshape(rows, columns)
    return (values - values.min()) / np.ptp(values)


def swatches(count):
    """Made-up materials of 512 x 512, told apart by colour and grain."""
    made = []
    for n in range(count):
        height = field(512, 512, 24, 10 + n)
        grain = field(512, 512, 40, 30 + n)[..., None]
        hue = np.random.default_rng(n).uniform(0.2, 0.9, 3)
        gy, gx = np.gradient(height)
        normal = np.stack([-gx * 20, gy * 20, np.ones_like(gx)], 2)
        normal /= np.linalg.norm(normal, axis=2, keepdims=True)
        maps = {
            jq.MapRole.DIFFUSE: (hue * (0.4 + 0.6 * grain) * 255).astype(np.uint8),
            jq.MapRole.NORMAL: np.rint(normal * 127.5 + 127.5).astype(np.uint8),
            jq.MapRole.HEIGHT: (height * 65535).astype(np.uint16),
            jq.MapRole.ROUGHNESS: (grain[..., 0] * 255).astype(np.uint8),
            jq.MapRole.OCCLUSION: (height * 255).astype(np.uint8),
        }
        plain = {role: jq.TextureMap(role=role, texels=texels) for role, texels in maps.items()}
        made.append(jq.Swatch(name=f"swatch {n}", tile=3.0 + 0.4 * n, relief=0.1 + 0.02 * (n % 5), maps=plain))
    return made


def many_times(arrays, times):
    """The same arrays with every slice there so many times, each copy at its own place in memory."""
    facts = [replace(each, name=f"swatch {n}") for n, each in enumerate(arrays.facts * times)]
    return replace(arrays, facts=tuple(facts))


def layers_of(count):
    """Layers of the swatches in order."""
    return [jq.Layer(f"swatch {n}", jq.Triplanar(4), softness=0.4) for n in range(count)]


class Scene:
    """Points, kept weights, layers and arrays: 8 layers, of which the 4 heaviest stand at a place."""

    def __init__(self):
        metres = 8.0  # about one texture texel per output texel
        heights = 3.3 * field(257, 257, 3, 1, octaves=2)
        self.terrain = jq.Terrain(heights, size=(metres, metres))
        self.points = self.terrain.points((SIDE, SIDE))
        self.arrays = jq.pack(swatches(8), side=512, layouts=LAYOUTS)
        self.layers = layers_of(8)
        near = np.stack([field(SIDE, SIDE, 5, 50 + n, octaves=3) for n in range(8)]).reshape(8, -1)
        order = np.argsort(-near, axis=0)[:4].T
        strength = np.take_along_axis(near.T, order, 1) - np.quantile(near, 0.54)
        strength = np.maximum(strength, 0)
        strength[:, 0] = np.maximum(strength[:, 0], 1e-3)
        names = tuple(layer.name for layer in self.layers)
        self.weights = jq.PointWeights(names, order.astype(np.uint8), strength / strength.sum(1, keepdims=True))
        self.out = {role: np.empty((SIDE * SIDE, role.value.channels), stored_type(role)) for role in jq.SURFACE_ROLES}

    def fine_arrays(self):
        """The same swatches, with what 8 bits leave away of their heights."""
        return jq.pack(swatches(8), side=512, layouts=[*LAYOUTS, fine_layout([jq.MapRole.HEIGHT])])

    def with_layers(self, count):
        """The same places with more layers: each region of 128 x 128 texels takes its 8 from another part of the list."""
        other = copy.copy(self)
        other.arrays = many_times(self.arrays, count // 8)
        other.layers = layers_of(count)
        row, column = np.divmod(np.arange(SIDE * SIDE), SIDE)
        region = (row // 128) * (SIDE // 128) + column // 128
        index = ((self.weights.layers.astype(int) + 8 * region[:, None]) % count).astype(np.uint8)
        other.weights = jq.PointWeights(tuple(layer.name for layer in other.layers), index, self.weights.weights)
        return other

    def run(self, blend, threads):
        """Blend the whole scene into `out`."""

        def work(first):
            part = slice(first, first + CHUNK)
            out = {role: each[part] for role, each in self.out.items()}
            blend.into(out, self.points[part], self.weights[part], columns=SIDE)

        if threads == 1:
            for first in range(0, SIDE * SIDE, CHUNK):
                work(first)
        else:
            with ThreadPoolExecutor(threads) as pool:
                list(pool.map(work, range(0, SIDE * SIDE, CHUNK)))

    def facts(self):
        """What makes it the standard scene."""
        share = np.abs(self.points.normal) ** 4
        share /= share.sum(1, keepdims=True)
        planes = (share > rows_of.PLANE_CUT).sum(1)
        layers = (self.weights.weights > 0).sum(1)
        return layers.mean(), planes.mean(), (layers * planes).mean()


def shuffled(layer):
    """A layer whose texture lies in patches of 4 m."""
    return replace(layer, projection=replace(layer.projection, shuffle=jq.Shuffle(size=4, border=0.1)))


def with_normals_apart(layer):
    return replace(layer, per_map={"normal": jq.PerMap(scale=0.4, rotation=30)})


def some_knobs(layers):
    """Layers of which two are shuffled, and two have their normal map apart."""
    return [*map(shuffled, layers[:2]), *map(with_normals_apart, layers[2:4]), *layers[4:]]


def all_knobs(layers):
    return [with_normals_apart(shuffled(layer)) for layer in layers]


def in_turn(works, repeats):
    """Seconds of several pieces of work, run in turn so that a drifting machine is fair to all."""
    for work in works:
        work()
    times = [[] for _ in works]
    for _ in range(repeats):
        for each, work in zip(times, works, strict=True):
            start = time.perf_counter()
            work()
            each.append(time.perf_counter() - start)
    return times


PHASES = ("spread", "planes", "locate", "fetch", "rise", "weigh", "mix", "turn", "encode")


@kernel
def chosen(block, scratch):
    """Choose the points of a block; return how many."""
    return _spread_kernels.choose_points(block, SIDE * SIDE, SIDE, scratch.who)


@kernel
def repeat(phase, times, most, points, plan, pages, targets, scratch):
    """Run one phase many times over what the buffers hold."""
    slots, samples, mix, mapped = scratch.slots, scratch.samples, scratch.mix, scratch.mapping.mapped
    read, spot, heights, weight = slots.read, samples.spot, samples.heights, mix.weight
    b = rows_of.B
    for _ in range(times):
        if phase == 0:
            _spread_kernels.spread(points, plan, scratch)
        elif phase == 1:
            _mapping_kernels.map_block(most, points, plan, scratch)
        elif phase == 2:
            _sample_kernels.locate((9, 8), -1, False, (0, 0, 1, 0), 1, mapped, read, spot)
        elif phase == 3:
            _sample_kernels.fetch(1, 3, pages.texels, 2, samples)
        elif phase == 4:
            _sample_kernels.add_heights(0, 1, 3, 8, samples, read.values, mix.tallness)
        elif phase == 5:
            _mix_kernels.weigh(most, read.values, mix)
        elif phase == 6:
            _mix_kernels.weigh_pass(0, 1, spot.shares, mix.slot_share, weight)
            _mix_kernels.mix_colour(1, 0, 8, samples, weight, mix.channels)
            _mix_kernels.mix_data(1, 6, 12, samples, weight, mix.channels)
            _mix_kernels.mix_data(1, 7, 12, samples, weight, mix.channels)
            _mix_kernels.mix_normals(1, (0, rows_of.TILT), (12, 12), (4, 5), samples, weight, mapped, mix.sums)
            _mix_kernels.mix_height(1, heights, weight, mix.sums)
        elif phase == 7:
            _mix_kernels.tilt_normals(False, rows_of.TILT, rows_of.NORMAL, scratch.mapping.frame, mix.sums)
        else:
            _mix_kernels.encode(b, targets, scratch)


@kernel
def passes_of(points, plan, pages, scratch):
    """Blend one block, and return how many passes that took."""
    return blend_block(points, plan, pages, scratch)


def where_time_goes(scene, blend):
    """Nanoseconds per texel of each phase, one thread, bilinear: alone and in the cache, times how often it runs."""
    with blend._input(scene.points, scene.weights, NormalSpace.TANGENT, SIDE) as rows:  # its memory is lent until the end
        return _times_of_phases(scene, blend, *rows)


def _times_of_phases(scene, blend, points, plan, pages, scratch):
    targets = blend._targets(scene.out, None)
    rng, size = np.random.default_rng(0), rows_of.B
    blocks = rng.choice(SIDE * SIDE // size, 12, replace=False)
    spent, often = dict.fromkeys(PHASES, 0.0), dict.fromkeys(PHASES, 0.0)
    for number in blocks:
        assert chosen(int(number), scratch) == size
        passes = passes_of(points, plan, pages, scratch)
        most = int((scene.weights.weights[scratch.who] > 0).sum(axis=1).max())
        kept, shares = scratch.mix.slot_share.reshape(-1, size), scratch.samples.spot.shares.reshape(-1, size)
        seen = sum(bool((kept[scratch.samples.slot[s]] * shares[s] > 0).any()) for s in range(passes))
        runs = dict.fromkeys(PHASES, 1) | {"locate": passes, "fetch": passes, "rise": passes, "mix": seen}
        for phase, name in enumerate(PHASES):
            repeat(phase, 1, most, points, plan, pages, targets, scratch)
            start = time.perf_counter()
            repeat(phase, 300, most, points, plan, pages, targets, scratch)
            spent[name] += runs[name] * (time.perf_counter() - start) / (300 * size * len(blocks)) * 1e9
            often[name] += runs[name] / len(blocks)
    return spent, often


def peak_over_outputs(quick):
    """MiB by which a bake of the demo peaks above the size of its output arrays, in a process of its own."""
    side = 2048 if quick else 8192
    code = f"""
import re, sys
import jagged_quilt as jq
from jagged_quilt.results.results import Results
results = Results(jq.read_quilt(sys.argv[1]), texels={side})
results.run("bake")
peak = re.search(r"VmHWM:\\s+(\\d+)", open("/proc/self/status").read())[1]
print(int(peak) / 1024 - {side}**2 * 13 / 2**20)
"""
    with tempfile.TemporaryDirectory() as folder:
        quilt_file = write_project(Path(folder) / "demo", texels=128 if quick else 512)
        Results(jq.read_quilt(quilt_file), texels=64).run(
            "bake"
        )  # so that the kernels are compiled, the arrays packed and weighed
        out = subprocess.run([sys.executable, "-c", code, quilt_file], capture_output=True, text=True, check=True).stdout
    return side, float(out.split()[-1])


class Former:
    """The same scene by the code of another commit, in a process that runs it when asked."""

    def __init__(self, revision, folder):
        root = Path(__file__).parents[1]
        packed = subprocess.run(
            ["git", "-C", root, "archive", revision, "src", "benchmarks"], capture_output=True, check=True
        ).stdout
        subprocess.run(["tar", "-x", "-C", folder], input=packed, check=True)
        plain = {key: value for key, value in os.environ.items() if not key.startswith("NUMBA_CPU_")}  # never wide
        env = {**plain, "PYTHONPATH": str(Path(folder, "src")), "NUMBA_CACHE_DIR": str(Path(folder, "kernels"))}
        words = [sys.executable, str(Path(folder, "benchmarks", "blend.py")), "--serve"]
        self.process = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=env)

    def run(self, name):
        """Return the seconds that one run took there."""
        self.process.stdin.write(name + "\n")
        self.process.stdin.flush()
        return float(self.process.stdout.readline())

    def close(self):
        self.process.communicate()


def runs_of(scene):
    """What is compared: by name, a run of the whole scene."""
    blends = {"bilinear": Blend(scene.arrays, scene.layers, filter="bilinear"), "trilinear": Blend(scene.arrays, scene.layers)}
    clamped = [replace(layer, projection=replace(layer.projection, wrap="clamp")) for layer in scene.layers[:1]]
    blends["one clamps"] = Blend(scene.arrays, [*clamped, *scene.layers[1:]])
    return {
        f"{name}, {threads} thread{'s' * (threads > 1)}": partial(scene.run, blend, threads)
        for name, blend in blends.items()
        for threads in (1, 2)
    }


def serve():
    """Run what each line of standard input names, and answer with the seconds that it took."""
    runs = runs_of(Scene())
    for line in sys.stdin:
        start = time.perf_counter()
        runs[line.strip()]()
        print(time.perf_counter() - start, flush=True)


def against(revision, quick):
    """Print how much faster each run is than by another commit: the median of the ratios of runs in turn."""
    with tempfile.TemporaryDirectory() as folder:
        former, runs = Former(revision, folder), runs_of(Scene())
        ratios = {}
        for name, run in runs.items():
            pairs = []
            for _ in range(5 if quick else 21):
                start = time.perf_counter()
                run()
                pairs.append((time.perf_counter() - start, former.run(name)))
            ratios[name] = float(np.median([then / now for now, then in pairs[1:]]))
            now, then = (1000 * min(each) for each in zip(*pairs[1:], strict=True))
            print(f"{name:<24}{then:>8.0f} ms at {revision}, {now:>6.0f} ms now: {ratios[name]:.2f} x as fast")
        former.close()
    print(json.dumps({f"over_former_{name.replace(', ', '_').replace(' ', '_')}": round(x, 3) for name, x in ratios.items()}))


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--quick", action="store_true", help="fewer repeats, a smaller bake")
    parser.add_argument("--against", metavar="REV", help="only compare with the code of another commit, in turn with it")
    parser.add_argument("--wide", action="store_true", help="with vectors of 512 bits")
    parser.add_argument("--serve", action="store_true", help=argparse.SUPPRESS)
    asked = parser.parse_args()
    if asked.serve or asked.against:
        serve() if asked.serve else against(asked.against, asked.quick)
        return
    quick = asked.quick
    repeats = 4 if quick else 15
    scene = Scene()
    layers, planes, samples = scene.facts()
    print(f"standard scene: {layers:.2f} layers, {planes:.2f} planes and {samples:.1f} samples of each array at a texel")
    bilinear = Blend(scene.arrays, scene.layers, filter="bilinear")
    trilinear = Blend(scene.arrays, scene.layers)
    plain = NumpyBlend(scene.arrays, scene.layers)

    rows = 64 if quick else SIDE
    band = 16 * SIDE

    def numpy_bands():
        for first in range(0, rows * SIDE, band):
            part = slice(first, first + band)
            results.append(plain.blend(scene.points[part], scene.weights.layers[part], scene.weights.weights[part]))

    results = []
    numpy_bands()
    scene.run(bilinear, 1)
    stored = [np.concatenate(each) for each in zip(*results, strict=True)]
    R = jq.MapRole
    ours = (scene.out[R.DIFFUSE], scene.out[R.NORMAL], scene.out[R.ROUGHNESS][:, 0], scene.out[R.OCCLUSION][:, 0])
    apart = max(int(np.abs(a[: rows * SIDE].astype(int) - b.astype(int)).max()) for a, b in zip(ours, stored, strict=False))
    print(f"largest difference from NumPy: {apart} of 255")
    assert apart <= 2

    times = in_turn(
        [
            numpy_bands,
            lambda: scene.run(bilinear, 1),
            lambda: scene.run(bilinear, 2),
            lambda: scene.run(trilinear, 1),
            lambda: scene.run(trilinear, 2),
            *(
                partial(scene.run, Blend(scene.arrays, layers), 1)
                for layers in (some_knobs(scene.layers), all_knobs(scene.layers))
            ),
            partial(scene.run, Blend(scene.fine_arrays(), scene.layers), 1),
        ],
        repeats,
    )
    # The best of each: other work on the machine only ever adds.
    numpy_s, one, two, tri_one, tri_two, with_some, with_all, fine = (min(each) for each in times)
    some, every = with_some / tri_one, with_all / tri_one
    print(f"two layers of eight shuffled, two with their normals apart: {some:.2f} x; all eight both: {every:.2f} x")
    print(f"heights of more than 8 bits: {fine / tri_one:.2f} x")
    million = SIDE * SIDE / 1e6
    numpy_rate = rows * SIDE / 1e6 / numpy_s
    print(f"{'Mtexel/s':<28}{'1 thread':>10}{'2 threads':>11}")
    print(f"{'NumPy, bands of 16 rows':<28}{numpy_rate:>10.3f}{'':>11}")
    print(f"{'kernel, bilinear':<28}{million / one:>10.2f}{million / two:>11.2f}")
    print(f"{'kernel, trilinear':<28}{million / tri_one:>10.2f}{million / tri_two:>11.2f}")

    spent, often = where_time_goes(scene, bilinear)
    whole = 1e9 * one / SIDE**2
    spent["cache misses and the rest"] = whole - sum(spent.values())
    print(f"where the time goes: {whole:.0f} ns per texel (bilinear, 1 thread)")
    for name, each in spent.items():
        print(f"  {name:<26}{each:>7.1f} ns{100 * each / whole:>7.1f} %   {often.get(name, 1):.1f} times a block")

    many = scene.with_layers(256)
    many_blend = Blend(many.arrays, many.layers, filter="bilinear")
    pair = in_turn([lambda: many.run(many_blend, 2), lambda: scene.run(bilinear, 2)], repeats)
    over = min(pair[0]) / min(pair[1])
    print(f"256 layers take {over:.2f} x the time of 8, with 4 showing")
    side, peak = peak_over_outputs(quick)
    print(f"baking the demo at {side} x {side} peaks {peak:.0f} MiB above its {side**2 * 13 / 2**20:.0f} MiB of outputs")
    print(
        json.dumps(
            {
                "numpy_ratio": round(million / two / numpy_rate, 2),
                "thread_scaling": round(one / two, 3),
                "layers_256_over_8": round(over, 3),
                "some_knobs_over_none": round(with_some / tri_one, 3),
                "all_knobs_over_none": round(with_all / tri_one, 3),
                "fine_heights_over_8_bits": round(fine / tri_one, 3),
                "mtexel_per_s_bilinear": round(million / two, 3),
                "mtexel_per_s_trilinear": round(million / tri_two, 3),
                "peak_mib_over_outputs": round(peak, 1),
            }
        )
    )


if __name__ == "__main__":
    main()
