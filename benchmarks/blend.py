"""How fast the blend kernel is, beside plain NumPy doing the same maths in the same run.

    python benchmarks/blend.py            a few minutes
    python benchmarks/blend.py --quick    under 40 s

The standard scene: 1024 x 1024 texels, the 4 heaviest of 8 layers (3.2 show on average), two RGBA8 arrays of 8 x 512 x
512, triplanar (2.2 planes on average), height-aware, reoriented normals. The last line is JSON.
"""

from __future__ import annotations

import argparse
import json
import statistics
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy_blend import NumpyBlend

import jagged_quilt as jq
from jagged_quilt.blend import _kernels
from jagged_quilt.blend.blender import Blender, EncodedTexels
from jagged_quilt.foundation.noise import noise_at

SIDE, CHUNK = 1024, 1 << 15
LAYOUTS = ("diffuse_height", "normal_roughness_occlusion")


def field(rows, columns, hills, seed, octaves=5):
    """Seamless noise, 0..1, stretched."""
    v, u = np.mgrid[:rows, :columns]
    places = np.column_stack([u.ravel() * (hills / columns), v.ravel() * (hills / rows), np.full(u.size, 0.5)])
    values = noise_at(places, size=1.0, octaves=octaves, seed=seed, period=hills).reshape(rows, columns)
    return (values - values.min()) / np.ptp(values)


def swatches(count):
    """Made-up materials of 512 x 512, told apart by colour and grain; beyond 8 they repeat."""
    made = []
    for n in range(count):
        if n < 8:
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
        else:
            plain = made[n % 8].maps
        made.append(jq.Swatch(name=f"swatch {n}", tile=3.0 + 0.4 * (n % 8), relief=0.1 + 0.02 * (n % 5), maps=plain))
    return made


class Scene:
    """Points, kept weights, layers and arrays; `layers` of them stand about, 4 at a place."""

    def __init__(self, layers):
        metres = 8.0  # about one texture texel per output texel
        heights = 3.3 * field(257, 257, 3, 1, octaves=2)
        self.terrain = jq.Terrain(heights, size=(metres, metres))
        self.points = self.terrain.points((SIDE, SIDE))
        self.arrays = jq.pack(swatches(layers), texels=512, layouts=LAYOUTS)
        self.layers = [jq.Layer(f"swatch {n}", jq.Triplanar(4), softness=0.4) for n in range(layers)]
        near = np.stack([field(SIDE, SIDE, 5, 50 + n, octaves=3) for n in range(8)]).reshape(8, -1)
        order = np.argsort(-near, axis=0)[:4].T
        strength = np.take_along_axis(near.T, order, 1) - np.quantile(near, 0.54)
        strength = np.maximum(strength, 0)
        strength[:, 0] = np.maximum(strength[:, 0], 1e-3)
        self.weight = np.ascontiguousarray(strength / strength.sum(1, keepdims=True), np.float32)
        # With more layers, each region of 128 x 128 texels takes its 8 from another place of the list.
        row, column = np.divmod(np.arange(SIDE * SIDE), SIDE)
        region = (row // 128) * (SIDE // 128) + column // 128
        self.index = np.ascontiguousarray((order + 8 * region[:, None]) % layers, np.uint8)
        self.out = [np.empty((SIDE * SIDE, 3), np.uint8) if three else np.empty(SIDE * SIDE, np.uint8)
                    for three in (1, 1, 0, 1, 0)] + [np.empty(SIDE * SIDE, np.uint16)]  # fmt: skip

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


def where_time_goes(scene, blender):
    """Seconds of one thread in each phase, bilinear, phase after phase over the blocks of the scene."""
    k, b, p, size = _kernels, blender, scene.points, BLOCK
    f, i, _, next_i, entries_f, entries_i, around, rows, entry, frame, out = b._scratch_for(4)
    spent = dict.fromkeys(("expand", "address", "fetch diffuse, height", "decode", "weigh by height", "fetch normal ...",
                           "decode and unit", "resolve", "turn", "encode"), 0.0)  # fmt: skip
    clock = time.perf_counter
    for first in range(0, SIDE * SIDE, size):
        marks = [clock()]
        n = k.expand(first, first + size, p.position, p.normal, p.tangent, p.footprint, scene.index, scene.weight,
                     b._layers_f, b._layers_i, b._side_bits, b._level_start, 1, f, i, entries_f, entries_i, entry, frame)  # fmt: skip
        marks.append(clock())
        n = k.pad(f, i, n)
        k.address(n, b._side_bits, f[k.U], f[k.V], i[k.START], *i[k.AT : k.AT + 4], f[k.FX], f[k.FY])
        marks.append(clock())
        k.fetch(n, b._texels[0], i, around)
        marks.append(clock())
        k.decode_colour(n, *around, f[k.FX], f[k.FY], *rows[0:4])
        marks.append(clock())
        k.weigh_by_height(size, entry, entries_f, entries_i, f, i, next_i, b._layers_f, rows[3])
        marks.append(clock())
        k.fetch(n, b._texels[1], i, around)
        marks.append(clock())
        k.decode_data(n, *around, f[k.FX], f[k.FY], *rows[4:8])
        k.unit_normals(n, rows[4], rows[5], rows[b._role_row[5]])
        marks.append(clock())
        k.resolve(size, entry, entries_i, f, i, b._role_row, rows, frame, out)
        marks.append(clock())
        k.turn(size, False, *frame, *out[3:6])
        marks.append(clock())
        k.encode(first, size, out, b._encode, *scene.out)
        marks.append(clock())
        for name, start, end in zip(spent, marks[:-1], marks[1:], strict=True):
            spent[name] += end - start
    return spent


def peak_over_outputs(quick):
    """MiB by which a bake of the demo peaks above the size of its output arrays, in a process of its own."""
    side = 2048 if quick else 8192
    code = f"""
import tempfile, resource, pathlib
import jagged_quilt as jq
from jagged_quilt.demo.project import write_project
from jagged_quilt.quiltfile.results import Results
folder = pathlib.Path(tempfile.mkdtemp())
results = Results(jq.read_quilt(write_project(folder / "demo", texels=128)))
results.bake({side})
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024 - {side}**2 * 13 / 2**20)
import shutil; shutil.rmtree(folder)
"""
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    return side, float(out.split()[-1])


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--quick", action="store_true", help="fewer repeats, a smaller bake; under 40 s")
    quick = parser.parse_args().quick
    repeats = 3 if quick else 9
    scene = Scene(8)
    layers, planes, samples = scene.facts()
    print(f"standard scene: {layers:.2f} layers, {planes:.2f} planes and {samples:.1f} samples of each array at a texel")
    bilinear = Blender(scene.arrays, scene.layers, filter="bilinear")
    trilinear = Blender(scene.arrays, scene.layers)
    plain = NumpyBlend(scene.arrays, scene.layers)

    rows = 256 if quick else SIDE
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
    numpy_s, one, two, tri_one, tri_two = (statistics.median(each) for each in times)
    million = SIDE * SIDE / 1e6
    numpy_rate = rows * SIDE / 1e6 / numpy_s
    scaling = statistics.median(a / b for a, b in zip(times[1], times[2], strict=True))
    print(f"{'Mtexel/s':<28}{'1 thread':>10}{'2 threads':>11}")
    print(f"{'NumPy, bands of 16 rows':<28}{numpy_rate:>10.3f}{'':>11}")
    print(f"{'kernel, bilinear':<28}{million / one:>10.2f}{million / two:>11.2f}")
    print(f"{'kernel, trilinear':<28}{million / tri_one:>10.2f}{million / tri_two:>11.2f}")

    spent = where_time_goes(scene, bilinear)
    whole = sum(spent.values())
    print("where the time goes (bilinear, 1 thread)")
    for name, s in spent.items():
        print(f"  {name:<26}{1e9 * s / SIDE**2:>7.1f} ns per texel{100 * s / whole:>7.1f} %")

    many = Scene(256)
    many_blender = Blender(many.arrays, many.layers, filter="bilinear")
    pair = in_turn([lambda: many.run(many_blender, 2), lambda: scene.run(bilinear, 2)], repeats)
    over = statistics.median(a / b for a, b in zip(*pair, strict=True))
    print(f"256 layers take {over:.2f} x the time of 8, with 4 showing")
    del many, many_blender

    side, peak = peak_over_outputs(quick)
    print(f"baking the demo at {side} x {side} peaks {peak:.0f} MiB above its {side**2 * 13 / 2**20:.0f} MiB of outputs")
    print(json.dumps({
        "numpy_ratio": round(million / two / numpy_rate, 2),
        "thread_scaling": round(scaling, 3),
        "layers_256_over_8": round(over, 3),
        "mtexel_per_s_bilinear": round(million / two, 3),
        "mtexel_per_s_trilinear": round(million / tri_two, 3),
        "peak_mib_over_outputs": round(peak, 1),
    }))  # fmt: skip


if __name__ == "__main__":
    main()
