"""What it costs to gather and to check sets of maps that lie in one folder; one line of JSON at the end.

Sets of six 1024 x 1024 maps, as cameras and scanners give them, all in one folder. `gather_over_decode`: gathering them, over
only decoding each file and keeping a small copy, on the same threads. `check_second_share`: checking the quilt file again with
nothing changed, over the first time. `check_peak_mib`: the most memory that the checking process held. `large_cpu_s` and
`large_peak_mib`: seconds of processor and memory of checking one set of six 4096 x 4096 maps, start of the process included.
"""

from __future__ import annotations

import argparse
import json
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from pack import seconds, write_sets

import jagged_quilt as jq
from jagged_quilt.audit.content_check import SIDE
from jagged_quilt.demo.swatches import MATERIALS, swatch_maps
from jagged_quilt.foundation.work import ANYHOW
from jagged_quilt.maps.image_files import read_channels
from jagged_quilt.maps.image_writing import write_image


def into_one_folder(sets, heap):
    """Name every file by its set, and put all into one folder."""
    heap.mkdir()
    for path in sorted(sets.glob("*/*.png")):
        shutil.move(path, heap / path.name.replace("set_", f"kiln_{path.parent.name}_"))


def copy_of(path):
    texels = read_channels(path).texels
    step = max(1, max(texels.shape[:2]) // SIDE)
    return texels[::step, ::step].copy()


def checked(quilt_file):
    """Check in a process of its own; return seconds, the peak of its memory in MiB, and seconds of processor."""
    code = (
        "import sys, re, time; from jagged_quilt.cli.check import command\n"
        "try: command.main([sys.argv[1]], standalone_mode=False)\n"
        "except SystemExit: pass\n"
        "print(re.search(r'VmHWM:\\s+(\\d+)', open('/proc/self/status').read())[1], time.process_time())"
    )
    start = time.perf_counter()
    done = subprocess.run([sys.executable, "-c", code, str(quilt_file)], capture_output=True, text=True, check=True)
    peak, processor = done.stdout.split()[-2:]
    return time.perf_counter() - start, int(peak) / 1024, float(processor)


def write_large(folder):
    """One set, the demo's clay laid out four times four."""
    material = next(iter(MATERIALS))
    for role, image in swatch_maps(MATERIALS[material], 1024).items():
        write_image(folder / f"kiln_{role.key}.png", np.tile(image, (4, 4, 1) if image.ndim == 3 else (4, 4)))
    (folder / "one.quilt.toml").write_text('[[swatch]]\nname = "kiln"\nfolder = "."\ntile = 8.0\n')
    return folder / "one.quilt.toml"


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--quick", action="store_true", help="fewer sets")
    quick = parser.parse_args().quick
    count = 5 if quick else 200
    with tempfile.TemporaryDirectory() as folder:
        sets, heap = Path(folder) / "sets", Path(folder) / "heap"
        write_sets(sets, count)
        into_one_folder(sets, heap)
        files = sorted(heap.iterdir())
        copies = seconds(lambda: ANYHOW.through(files, copy_of))
        found = []
        gathering = seconds(lambda: found.append(jq.gather(heap)))
        assert [len(each.maps) for each in found[0].sets] == count * [6]
        quilt_file = Path(folder) / "materials.quilt.toml"
        words = [sys.executable, "-m", "jagged_quilt", "gather", str(heap), "--into", str(quilt_file)]
        subprocess.run(words, check=True, capture_output=True)
        first, peak, _ = checked(quilt_file)
        second, _, _ = checked(quilt_file)
        _, large_peak, processor = (0, 0, 0) if quick else checked(write_large(Path(folder) / "large"))
    print(f"{count} sets: gathered in {gathering:.2f} s, small copies in {copies:.2f} s")
    print(f"checked in {first:.2f} s and {peak:.0f} MiB, again in {second:.2f} s")
    print(
        json.dumps(
            {
                "sets": count,
                "gather_over_decode": round(gathering / copies, 3),
                "check_second_share": round(second / first, 4),
                "check_peak_mib": round(peak),
                **({} if quick else {"large_cpu_s": round(processor, 1), "large_peak_mib": round(large_peak)}),
            }
        )
    )


if __name__ == "__main__":
    main()
