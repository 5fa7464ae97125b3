"""What packing costs, and what it keeps; one line of JSON at the end.

`decode_ratio`: packing sets of six 1024 x 1024 PNG maps with mips into uncompressed KTX2, over only decoding the same files
with OpenImageIO on the same threads. `second_run_share`: packing again with nothing changed, over the first time.
`peak_mib`: the most memory that the packing process held, with the most sets. `specular_error_ratio`: see `highlights`.
`bc5_mean_degrees`, `bc7_psnr_db`: what block codes cost the demo's normals and colours, the mean over its swatches.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import OpenImageIO as oiio

import jagged_quilt as jq
from jagged_quilt.arrays.layout import layout_named
from jagged_quilt.codecs.pixel_formats import PixelFormat
from jagged_quilt.demo.swatches import MATERIALS, swatch_maps
from jagged_quilt.foundation.work import ANYHOW
from jagged_quilt.maps.image_writing import write_image

R = jq.MapRole
SIDE = 1024
COVERED = 64  # full-size texels along the side of a mip's texel: 4096 samples


def write_sets(folder, count):
    """Sets of maps as cameras and scanners give them: the demo's materials, each shifted, with a grain of its own."""
    made = {name: swatch_maps(material, SIDE) for name, material in MATERIALS.items()}
    names = list(made)

    def write_one(number):
        rng = np.random.default_rng(number)
        for role, image in made[names[number % len(names)]].items():
            shifted = np.roll(image, rng.integers(0, SIDE, 2), axis=(0, 1))
            if shifted.dtype == np.uint8:
                grain = rng.normal(0, 1.5, shifted.shape).astype(np.float32)
                shifted = np.clip(np.rint(shifted + grain), 0, 255).astype(np.uint8)
            write_image(folder / f"{number:04d}" / f"set_{role.key}.png", shifted)

    ANYHOW.through(range(count), write_one)


def sources(folder, count):
    return [jq.SwatchSource(name=p.name, folder=p, tile=2.0) for p in sorted(folder.iterdir())[:count]]


def decode(path):
    source = oiio.ImageInput.open(str(path))
    spec = source.spec()
    source.read_image(0, 0, 0, spec.nchannels, spec.format)
    source.close()


def seconds(action):
    """Time an action, with no earlier writing left to do in the background."""
    os.sync()
    start = time.perf_counter()
    action()
    return time.perf_counter() - start


def decode_ratio(sets, work, count, repeats):
    """Decode and pack in turn; the best of each, and the time of packing again."""
    files = [path for source in sources(sets, count) for path in source.files]
    jq.pack_files(sources(sets, 1), work / "warm", side=SIDE, zstd=False)
    decoding, packing, again = [], [], []
    for n in range(repeats):
        decoding.append(seconds(lambda: ANYHOW.through(files, decode)))
        out = work / f"arrays{n}"
        packing.append(seconds(lambda out=out: jq.pack_files(sources(sets, count), out, side=SIDE, zstd=False)))
        jq.pack_files(sources(sets, count), out, side=SIDE, zstd=False)
        again.append(seconds(lambda out=out: jq.pack_files(sources(sets, count), out, side=SIDE, zstd=False)))
        for path in out.iterdir():
            path.unlink()
    print(f"{count} sets: decode {min(decoding):.2f} s, pack {min(packing):.2f} s, again {min(again):.3f} s")
    return min(packing) / min(decoding), min(again) / min(packing)


_PEAK = """
import sys, jagged_quilt as jq
from pathlib import Path
sources = [jq.SwatchSource(name=p.name, folder=p, tile=2.0) for p in sorted(Path(sys.argv[1]).iterdir())[:int(sys.argv[2])]]
jq.pack_files(sources, sys.argv[3], side=1024, zstd=False)
print(next(line for line in open("/proc/self/status") if line.startswith("VmHWM")).split()[1])
"""


def peak_mib(sets, work, count):
    """The most memory a process of its own holds while it packs."""
    done = subprocess.run(
        [sys.executable, "-c", _PEAK, sets, str(count), work / "peak"], capture_output=True, text=True, check=True
    )
    for path in (work / "peak").iterdir():
        path.unlink()
    mib = int(done.stdout) / 1024
    print(f"{count} sets: peak {mib:.0f} MiB")
    return mib


def lobe(normals, alpha, directions):
    """GGX of each normal towards each direction, (N, D) float64; the squared sine by the chord, exact near 0."""
    chord = 2 - 2 * np.clip(normals @ directions.T, -1, 1)
    sine = chord / 2 * (2 - chord / 2)
    squared = alpha[:, None] ** 2
    return squared / (np.pi * (sine + (1 - sine) * squared) ** 2)


def highlights(name, side=512):
    """How far the mean highlight of a mip is from the truth, with and without widening, for one swatch of the demo.

    The truth is the mean GGX lobe of all 4096 full-size texels under a texel of the mip, around the mip's own normal, by
    angle; averaged over the mip's texels. Its error is the root of the mean square over the hemisphere, as a share of the
    lobe's own; told too is the share of the light that goes elsewhere.
    """
    maps = {role: jq.TextureMap(role=role, texels=image) for role, image in swatch_maps(MATERIALS[name], side).items()}
    swatch = jq.Swatch(name=name, tile=1, relief=1, maps=maps)
    layout = jq.layout_of("n", ["normal.x", "normal.y", "normal.z", "roughness"], PixelFormat.HALF)
    level = COVERED.bit_length() - 1
    arrays = jq.pack([swatch], side=side, layouts=[layout])
    normal, widened = (arrays.values(name, role, level).astype(float) for role in (R.NORMAL, R.ROUGHNESS))
    blocks = side // COVERED

    def texels_under(values):
        return (
            values.astype(float).reshape(blocks, COVERED, blocks, COVERED, -1).swapaxes(1, 2).reshape(blocks**2, COVERED**2, -1)
        )

    fine = texels_under(maps[R.NORMAL].values)
    rough = texels_under(maps[R.ROUGHNESS].values)[..., 0]
    plain = rough.mean(axis=1)
    angle = np.concatenate([[0], np.geomspace(1e-3, np.pi / 2, 60)])
    turns = np.arange(8) * np.pi / 4
    truth, with_it, without = np.zeros(len(angle)), np.zeros(len(angle)), np.zeros(len(angle))
    for n, middle in enumerate(normal.reshape(-1, 3)):
        east = np.cross(middle, [1, 0, 0] if abs(middle[0]) < 0.7 else [0, 1, 0])
        east /= np.linalg.norm(east)
        up = np.cross(middle, east)
        for turn in turns:
            around = np.cos(turn) * east + np.sin(turn) * up
            directions = np.cos(angle)[:, None] * middle + np.sin(angle)[:, None] * around
            truth += lobe(fine[n], np.maximum(rough[n] ** 2, 1e-4), directions).mean(axis=0)
        towards = np.cos(angle)[:, None] * middle + np.sin(angle)[:, None] * east
        with_it += lobe(middle[None], np.array([widened.reshape(-1)[n] ** 2]), towards)[0] * len(turns)
        without += lobe(middle[None], np.array([plain[n] ** 2]), towards)[0] * len(turns)
    weight = np.gradient(angle) * np.sin(angle) * np.cos(angle)
    off = [np.sqrt(((each - truth) ** 2 * weight).sum() / (truth**2 * weight).sum()) for each in (with_it, without)]
    elsewhere = [(np.abs(each - truth) * weight).sum() / (truth * weight).sum() / 2 for each in (with_it, without)]
    print(
        f"{name:18} lobe off by {100 * off[0]:.1f} %, {100 * off[1]:.1f} % without; "
        f"light elsewhere {100 * elsewhere[0]:.1f} %, {100 * elsewhere[1]:.1f} % without"
    )
    return off[0] / off[1]


def block_codes(side=512):
    """Pack the demo's normals as BC5 and its colours as BC7; mean degrees and mean PSNR over its swatches."""
    swatches = []
    for name, material in MATERIALS.items():
        maps = {role: jq.TextureMap(role=role, texels=image) for role, image in swatch_maps(material, side).items()}
        swatches.append(jq.Swatch(name=name, tile=material.tile, relief=material.relief, maps=maps))
    layouts = [layout_named("normal").in_format(PixelFormat.BC5), layout_named("diffuse").in_format(PixelFormat.BC7)]
    arrays = jq.pack(swatches, side=side, layouts=layouts)
    for each in arrays.facts:
        normal, colour = each.quality["normal"], each.quality["diffuse"]
        print(
            f"{each.name:18} BC5 {normal['psnr_db']:.1f} dB, {normal['mean_degrees']:.2f} degrees; "
            f"BC7 {colour['psnr_db']:.1f} dB"
        )
    off = np.mean([10 ** (-each.quality["normal"]["psnr_db"] / 10) for each in arrays.facts])
    print(f"all of BC5 together {-10 * np.log10(off):.1f} dB")
    return (
        float(np.mean([each.quality["normal"]["mean_degrees"] for each in arrays.facts])),
        float(np.mean([each.quality["diffuse"]["psnr_db"] for each in arrays.facts])),
    )


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--quick", action="store_true", help="4 sets, the highlights of two materials")
    quick = parser.parse_args().quick
    print(f"{ANYHOW.count} threads")
    with tempfile.TemporaryDirectory() as folder:
        sets, work = Path(folder) / "sets", Path(folder) / "work"
        many = 4 if quick else 256
        write_sets(sets, many)
        ratio, again = decode_ratio(sets, work, min(many, 64), 2)
        peaks = [peak_mib(sets, work, count) for count in ((4,) if quick else (64, 256))]
    errors = [highlights(name) for name in list(MATERIALS)[: 2 if quick else None]]
    degrees, psnr = block_codes()
    print(
        json.dumps(
            {
                "sets": min(many, 64),
                "decode_ratio": round(ratio, 3),
                "peak_mib": round(max(peaks)),
                "second_run_share": round(again, 4),
                "specular_error_ratio": round(max(errors), 3),
                "bc5_mean_degrees": round(degrees, 3),
                "bc7_psnr_db": round(psnr, 2),
            }
        )
    )


if __name__ == "__main__":
    main()
