"""What weights cost; one line of JSON at the end.

`numpy_ratio`: 12 masked layers of 3 steps each, weighed over a terrain, against the same in plain NumPy and SciPy
(`numpy_weights.py`, float32, in bands that fit a cache; measured over a part of the rows, since it is slow). `peak_mib`: the
most memory that a process of its own holds while it weighs. `daub_over_multiply_add`: daubing 10,000 daubs of 20 m at 0.5 m a
texel, per touched texel, over `a *= b; a += c` in place. `daub_area_ratio`: the same daubs on a map of four times the area.
`medley_autocorrelation_ratio`: how much of a repeat's peak in the autocorrelation of a baked diffuse a medley leaves.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import numpy_weights as plain

import jagged_quilt as jq
from jagged_quilt.demo.ground import RELIEF, SIZE, ground
from jagged_quilt.demo.swatches import MATERIALS, swatch_maps
from jagged_quilt.foundation.noise import lattice_turn, noise_quantiles
from jagged_quilt.results.rehearsal import rehearse

KINDS = list(jq.NoiseKind)[:3]


def terrain():
    return jq.Terrain(ground(1025) * RELIEF, size=(SIZE, SIZE))


def steps(n):
    """The three steps of layer n: a noise, a height band, and one by the shape of the ground."""
    noise = jq.Noise(size=9.0 + 2 * n, seed=n, kind=KINDS[n % 3], threshold=0.6, range=0.3)
    height = jq.HeightBand(2.0 * n, 2.0 * n + 14, fade=4.0)
    shape = (jq.Slope(0, 30, fade=12), jq.Facing(30.0 * n), jq.Curvature("hollows", 8.0, -0.2, 0.2))[n // 3 % 3]
    return noise, height, shape


def layers():
    return [jq.Layer("0")] + [jq.Layer(str(n), mask=a * b | c * 0.3) for n in range(1, 13) for a, b, c in [steps(n)]]


def plain_weights(land, texels, rows, curved):
    """The weights of some rows, by hand."""
    points = land.points((texels, texels), slice(*rows), slice(0, texels))
    position, normal = points.position, points.normal
    answers = np.ones((13, len(position)), np.float32)
    for n in range(1, 13):
        noise, height, shape = steps(n)
        table, low, high = noise_quantiles(noise.kind, 3, noise.octaves)
        raw = plain.noise(position, lattice_turn(3) / noise.size, octaves=4, seed=n, kind=noise.kind.value)
        mask = plain.step(plain.spread(raw, table, low, high), 0.45, 0.75)
        mask = mask * plain.band(position[:, 1], height.low, height.high, height.fade)
        if isinstance(shape, jq.Slope):
            third = plain.band(plain.slope(normal), shape.low, shape.high, shape.fade)
        elif isinstance(shape, jq.Facing):
            third = plain.facing(normal, shape.bearing, shape.spread, shape.fade, shape.level)
        else:
            third = plain.step(plain.read_grid(curved, position, (0, 0), land.spacing) * -8.0, -0.2, 0.2)
        answers[n] = np.maximum(mask, third * np.float32(0.3))
    return plain.kept(plain.cover(answers), 4)


def weighing(texels, repeats):
    """Time both, and hold their results against each other."""
    land, stack = terrain(), layers()
    jq.weigh(land.canvas(64), stack)
    share = 8 if texels > 2048 else 4
    band_rows = max(1, (1 << 15) // texels)
    bands = range(0, texels, band_rows * share)
    ours, theirs, off = [], [], []
    for _ in range(repeats):
        start = time.perf_counter()
        made = jq.weigh(jq.Terrain(land.heights, size=land.size).canvas(texels), stack)  # anew: it remembers its curvature
        ours.append(time.perf_counter() - start)
        start = time.perf_counter()
        curved = plain.curvature(land.heights.astype(np.float64), land.spacing, 8.0).astype(np.float32)
        once = time.perf_counter() - start
        start = time.perf_counter()
        for top in bands:
            index, weight = plain_weights(land, texels, (top, top + band_rows), curved)
            if not theirs:
                off.append(largest_difference(made, top, index, weight))
        theirs.append((time.perf_counter() - start) * share + once)
    print(
        f"weighing {texels} x {texels}: ours {min(ours):.2f} s, NumPy {min(theirs):.1f} s (measured over 1/{share} of the rows)"
    )
    print(f"  largest difference of a weight: {max(off)}/255")
    return min(theirs) / min(ours)


def largest_difference(made, top, index, weight):
    rows = len(index) // made.layers.shape[1]
    own = np.zeros((len(index), 13), int)
    np.add.at(own, (np.arange(len(index))[:, None], index), weight)
    there = made.layers[top : top + rows].reshape(len(index), -1), made.weights[top : top + rows].reshape(len(index), -1)
    np.add.at(own, (np.arange(len(index))[:, None], there[0]), -there[1].astype(int))
    return int(np.percentile(np.abs(own).max(axis=1), 99.9))


def peak_mib(texels):
    code = f"import weights as w; w.jq.weigh(w.terrain().canvas({texels}), w.layers()); w.tell()"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, cwd=sys.path[0])
    return float(done.stdout.split()[-1])


def tell():
    """Print the MiB that this process held at most, and not those of the one that started it."""
    lines = dict(line.split(":", 1) for line in Path("/proc/self/status").read_text().splitlines())
    print(int(lines["VmHWM"].split()[0]) / 1024)


def daubing(count, wide, repeats):
    """Daubs at 0.5 m a texel over a square of so many metres, and the same on a map of twice the side."""
    rng = np.random.default_rng(5)
    daubs = [
        jq.Daub(path=(tuple(at),), radius=20.0, layers=(str(layer),), strength=0.4)
        for at, layer in zip(rng.uniform(20, wide - 20, (count, 2)), rng.integers(0, 8, count), strict=True)
    ]
    touched = count * np.pi * (20 / 0.5) ** 2
    a, b, c = np.ones(int(touched), np.float32), np.ones(int(touched), np.float32), np.ones(int(touched), np.float32)
    taken = {wide: [], 2 * wide: [], "multiply-add": []}
    maps = {}
    for metres in (wide, 2 * wide):
        side = 2 * metres
        rows = np.arange(side)[:, None] * np.ones((1, side), int)
        index = np.stack([rows // 16 % 8, (rows // 16 + 1) % 8, (rows // 16 + 2) % 8, (rows // 16 + 3) % 8], axis=2)
        shares = np.broadcast_to(np.array([120, 80, 40, 15], np.uint8), index.shape)
        weights = jq.WeightMap(names=tuple(map(str, range(8))), layers=index.astype(np.uint8), weights=shares.copy())
        maps[metres] = weights, jq.Terrain(np.zeros((3, 3)), size=(metres, metres))
    for _ in range(repeats):
        for metres, (weights, land) in maps.items():
            start = time.perf_counter()
            jq.daubs.lay_daubs(weights, land, daubs)
            taken[metres].append(time.perf_counter() - start)
        start = time.perf_counter()
        a *= b
        a += c
        taken["multiply-add"].append(time.perf_counter() - start)
    best = {name: min(each) for name, each in taken.items()}
    print(
        f"daubing {count} daubs, {touched / 1e6:.0f} M touched texels: {best[wide] * 1e9 / touched:.1f} ns each, "
        f"multiply-add {best['multiply-add'] * 1e9 / touched:.2f} ns"
    )
    return best[wide] / best["multiply-add"], best[2 * wide] / best[wide]


def medley_ratio(texels):
    """The peak of the autocorrelation at the tile distance, of a wall of one stone and of a medley of three."""
    names = ("layered_gypsum", "red_gypsum", "broken_gypsum")
    swatches = []
    for name in names:
        images = swatch_maps(MATERIALS[name], 128)
        maps = {role: jq.TextureMap(role=role, texels=image) for role, image in images.items()}
        swatches.append(jq.Swatch(name=name, tile=MATERIALS[name].tile, relief=0.2, maps=maps))
    arrays = jq.pack(swatches, side=128)
    tile = MATERIALS[names[0]].tile
    side = tile * texels / 64  # 64 texels a tile
    land = jq.Terrain(np.zeros((2, 2)), size=(side, side))
    medley = jq.Medley(names, jq.Noise(size=7.0, octaves=3), softness=0.25)
    peaks = [
        repeat_peak(jq.bake(land.canvas(texels), [layer], arrays)["diffuse"], 64)
        for layer in (jq.Layer(names[0]), jq.Layer("wall", medley=medley))
    ]
    print(f"autocorrelation of diffuse at the tile distance: one swatch {peaks[0]:.3f}, medley {peaks[1]:.3f}")
    return peaks[1] / peaks[0]


def repeat_peak(diffuse, lag):
    """How far the autocorrelation at the tile distance, right and down, stands above its surroundings (half a tile around).

    Of luminance, with all that is larger than two tiles taken out, so that patches of unlike colour do not count as repeats.
    """
    from scipy.ndimage import gaussian_filter

    grey = diffuse.astype(np.float64) @ (0.2126, 0.7152, 0.0722)
    grey -= gaussian_filter(grey, lag, mode="nearest")
    peaks = []
    for axis in (0, 1):
        rows = np.moveaxis(grey, axis, 1)
        at = np.array(
            [np.corrcoef(rows[:, :-shift].ravel(), rows[:, shift:].ravel())[0, 1] for shift in range(lag // 2, 3 * lag // 2)]
        )
        peaks.append(at[lag // 2] - np.median(at))
    return max(peaks)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--quick", action="store_true", help="1024 x 1024 and fewer repeats")
    quick = parser.parse_args().quick
    rehearse()
    texels = 1024 if quick else 4096
    ratio = weighing(texels, 1 if quick else 2)
    over, area = daubing(2_500 if quick else 10_000, 512 if quick else 1024, 3 if quick else 5)
    reported = {
        "numpy_ratio": round(ratio, 1),
        "peak_mib": round(peak_mib(texels)),
        "daub_over_multiply_add": round(over, 1),
        "daub_area_ratio": round(area, 2),
        "medley_autocorrelation_ratio": round(medley_ratio(1024), 3),
    }
    print(json.dumps(reported))


if __name__ == "__main__":
    main()
