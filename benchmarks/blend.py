"""How fast the blend kernel is, beside plain NumPy doing the same maths in the same run.

    python benchmarks/blend.py            a few minutes
    python benchmarks/blend.py --quick    about half a minute, once all is compiled

The standard scene: 1024 x 1024 texels, the 4 heaviest of 8 layers (3.2 show on average), two RGBA8 arrays of 8 x 512 x
512, triplanar (2.2 planes on average), height-aware, reoriented normals. The last line is JSON.
"""

from __future__ import annotations

import argparse
import copy
import inspect
import json
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

import numba
import numpy as np
from numpy_blend import NumpyBlend

import jagged_quilt as jq
from jagged_quilt.blend import _kernels
from jagged_quilt.blend.blender import Blender, EncodedTexels
from jagged_quilt.demo.project import write_project
from jagged_quilt.foundation.noise import noise_at
from jagged_quilt.quiltfile.results import Results

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
        self.arrays = jq.pack(swatches(8), texels=512, layouts=LAYOUTS)
        self.layers = layers_of(8)
        near = np.stack([field(SIDE, SIDE, 5, 50 + n, octaves=3) for n in range(8)]).reshape(8, -1)
        order = np.argsort(-near, axis=0)[:4].T
        strength = np.take_along_axis(near.T, order, 1) - np.quantile(near, 0.54)
        strength = np.maximum(strength, 0)
        strength[:, 0] = np.maximum(strength[:, 0], 1e-3)
        self.weight = np.ascontiguousarray(strength / strength.sum(1, keepdims=True), np.float32)
        self.index = np.ascontiguousarray(order, np.uint8)
        self.out = [np.empty((SIDE * SIDE, 3), np.uint8) if three else np.empty(SIDE * SIDE, np.uint8)
                    for three in (1, 1, 0, 1, 0)] + [np.empty(SIDE * SIDE, np.uint16)]  # fmt: skip

    def with_layers(self, count):
        """The same places with more layers: each region of 128 x 128 texels takes its 8 from another part of the list."""
        other = copy.copy(self)
        other.arrays = many_times(self.arrays, count // 8)
        other.layers = layers_of(count)
        row, column = np.divmod(np.arange(SIDE * SIDE), SIDE)
        region = (row // 128) * (SIDE // 128) + column // 128
        other.index = np.ascontiguousarray((self.index + 8 * region[:, None]) % count, np.uint8)
        return other

    def run(self, blender, threads):
        """Blend the whole scene into `out`."""

        def work(first):
            part = slice(first, first + CHUNK)
            blender.blend_into(EncodedTexels(*(each[part] for each in self.out)), self.points[part],
                               (self.index[part], self.weight[part]), columns=SIDE)  # fmt: skip

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
        planes = (share > _kernels.PLANE_CUT).sum(1)
        layers = (self.weight > 0).sum(1)
        return layers.mean(), planes.mean(), (layers * planes).mean()


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
INPUT = tuple(inspect.signature(_kernels.blend_points.py_func).parameters)[1:]  # what `Blender` hands to the kernel


@numba.njit(cache=True)
def repeat(phase, times, most, who, points, layer_index, layer_weight, tables, texels, b, table, out):
    """Run one phase many times over what the buffers hold; points, tables, b and out are tuples of arrays."""
    frame, moved, places, counts, tiles, slices, charts_at, is_laid, laid_at, laid = b[:10]
    at, around, between, shares, heights, tall, tallest, kept, whole, weight, channels, sums, steps = b[10:]
    layers, tile_of, slice_of, chart_of, charts, warps = tables
    for _ in range(times):
        if phase == 0:
            _kernels.spread(who, True, *points, layer_index, layer_weight, layers, tile_of, slice_of, chart_of, frame, places,
                            tiles, slices, charts_at)  # fmt: skip
        elif phase == 1:
            _kernels.lay_places(most, who, charts, warps, charts_at, frame, moved, places, counts, is_laid, laid_at, laid)
        elif phase == 2:
            _kernels.locate(9, 8, -1, 0, 1, 1, 0, laid, places, counts, tiles, slices, at, between, shares)
        elif phase == 3:
            _kernels.fetch(texels, 1, at, around)
        elif phase == 4:
            _kernels.rise(0, 1, 3, 8 * _kernels.B, around, between, shares, places, heights, tall)
        elif phase == 5:
            _kernels.weigh(most, places, tall, tallest, kept, whole)
        elif phase == 6:
            _kernels.weights_of_pass(0, 1, kept, shares, weight)
            _kernels.mix_colour(1, 0, 8 * _kernels.B, around, between, weight, channels)
            _kernels.mix_data(1, 1, 2, 12 * _kernels.B, around, between, weight, channels)
            _kernels.mix_data(1, 1, 3, 12 * _kernels.B, around, between, weight, channels)
            _kernels.mix_normals(1, 0, 0, 1, 12 * _kernels.B, 12 * _kernels.B, around, between, weight, laid, sums)
            _kernels.mix_height(1, heights, weight, sums)
        elif phase == 7:
            _kernels.turn(False, frame, sums)
        else:
            _kernels.quantise(np.float32(table.size - 1), sums, steps)
            _kernels.encode(who, who.size, layer_index[:0, 0], steps, table, *out)


def where_time_goes(scene, blender):
    """Nanoseconds per texel of each phase, one thread, bilinear: alone and in the cache, times how often it runs."""
    given = dict(zip(INPUT, blender._input(scene.points, (scene.index, scene.weight), "tangent", SIDE), strict=True))
    points = tuple(given[name] for name in INPUT[1 : INPUT.index("warps")])
    buffers = tuple(given[name] for name in INPUT[INPUT.index("frame") :] if name not in ("taps", "pass_place", "pass_plane"))
    tables = tuple(given[name] for name in ("layers", "tile_of", "slice_of", "chart_of", "charts", "warps"))
    block = [given[n] for n in INPUT[1:] if n not in ("who", "steps")]
    rng, size = np.random.default_rng(0), _kernels.B
    blocks = rng.choice(SIDE * SIDE // size, 12, replace=False)
    spent, often = dict.fromkeys(PHASES, 0.0), dict.fromkeys(PHASES, 0.0)
    for number in blocks:
        count = _kernels.choose_points(int(number), SIDE * SIDE, SIDE, given["who"])
        assert count == size
        passes = _kernels.blend_block(given["who"], *block)
        most = int((scene.weight[given["who"]] > 0).sum(axis=1).max())
        kept, shares = given["kept"].reshape(-1, size), given["shares"].reshape(-1, size)
        seen = sum(bool((kept[given["pass_place"][s]] * shares[s] > 0).any()) for s in range(passes))
        runs = dict.fromkeys(PHASES, 1) | {"locate": passes, "fetch": passes, "rise": passes, "mix": seen}
        for phase, name in enumerate(PHASES):
            call = (phase, 300, most, given["who"], points, given["layer_index"], given["layer_weight"], tables,
                    given["texels"], buffers, blender._encode, tuple(scene.out))  # fmt: skip
            repeat(*call[:1], 1, *call[2:])
            start = time.perf_counter()
            repeat(*call)
            spent[name] += runs[name] * (time.perf_counter() - start) / (300 * size * len(blocks)) * 1e9
            often[name] += runs[name] / len(blocks)
    return spent, often


def peak_over_outputs(quick):
    """MiB by which a bake of the demo peaks above the size of its output arrays, in a process of its own."""
    side = 2048 if quick else 8192
    code = f"""
import re, sys
import jagged_quilt as jq
from jagged_quilt.quiltfile.results import Results
results = Results(jq.read_quilt(sys.argv[1]))
results.bake({side})
peak = re.search(r"VmHWM:\\s+(\\d+)", open("/proc/self/status").read())[1]
print(int(peak) / 1024 - {side}**2 * 13 / 2**20)
"""
    with tempfile.TemporaryDirectory() as folder:
        quilt_file = write_project(Path(folder) / "demo", texels=128 if quick else 512)
        Results(jq.read_quilt(quilt_file)).bake(64)  # so that the kernels are compiled, the arrays packed and weighed
        out = subprocess.run([sys.executable, "-c", code, quilt_file], capture_output=True, text=True, check=True).stdout
    return side, float(out.split()[-1])


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--quick", action="store_true", help="fewer repeats, a smaller bake")
    quick = parser.parse_args().quick
    repeats = 6 if quick else 15
    scene = Scene()
    layers, planes, samples = scene.facts()
    print(f"standard scene: {layers:.2f} layers, {planes:.2f} planes and {samples:.1f} samples of each array at a texel")
    bilinear = Blender(scene.arrays, scene.layers, filter="bilinear")
    trilinear = Blender(scene.arrays, scene.layers)
    plain = NumpyBlend(scene.arrays, scene.layers)

    rows = 64 if quick else SIDE
    band = 16 * SIDE

    def numpy_bands():
        for first in range(0, rows * SIDE, band):
            part = slice(first, first + band)
            results.append(plain.blend(scene.points[part], scene.index[part], scene.weight[part]))

    results = []
    numpy_bands()
    scene.run(bilinear, 1)
    stored = [np.concatenate(each) for each in zip(*results, strict=True)]
    ours = (scene.out[0], scene.out[1], scene.out[2], scene.out[4])
    apart = max(int(np.abs(a[: rows * SIDE].astype(int) - b.astype(int)).max()) for a, b in zip(ours, stored, strict=False))
    print(f"largest difference from NumPy: {apart} of 255")

    times = in_turn(
        [numpy_bands, lambda: scene.run(bilinear, 1), lambda: scene.run(bilinear, 2), lambda: scene.run(trilinear, 1),
         lambda: scene.run(trilinear, 2)], repeats,
    )  # fmt: skip
    # The best of each: other work on the machine only ever adds.
    numpy_s, one, two, tri_one, tri_two = (min(each) for each in times)
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
    many_blender = Blender(many.arrays, many.layers, filter="bilinear")
    pair = in_turn([lambda: many.run(many_blender, 2), lambda: scene.run(bilinear, 2)], repeats)
    over = min(pair[0]) / min(pair[1])
    print(f"256 layers take {over:.2f} x the time of 8, with 4 showing")
    side, peak = peak_over_outputs(quick)
    print(f"baking the demo at {side} x {side} peaks {peak:.0f} MiB above its {side**2 * 13 / 2**20:.0f} MiB of outputs")
    print(json.dumps({
        "numpy_ratio": round(million / two / numpy_rate, 2),
        "thread_scaling": round(one / two, 3),
        "layers_256_over_8": round(over, 3),
        "mtexel_per_s_bilinear": round(million / two, 3),
        "mtexel_per_s_trilinear": round(million / tri_two, 3),
        "peak_mib_over_outputs": round(peak, 1),
    }))  # fmt: skip


if __name__ == "__main__":
    main()
