"""Compile all kernels for families of processors, for a wheel to bring along.

    python -m jagged_quilt.results.compile_families src/jagged_quilt/compiled
    pip wheel --no-deps .

The first writes a folder for each family that this machine can run; the second packs what is there. With `--host` it
writes one for machines that are just like this one, from the compiler's cache as far as that holds them.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

import click

import jagged_quilt
from jagged_quilt.foundation.compiler import name_in_cache
from jagged_quilt.foundation.files import write_json
from jagged_quilt.foundation.kernel_cache import cache_folder, source_key
from jagged_quilt.foundation.shipped_kernels import FAMILIES, HOST, RECORD, can_run, target_here
from jagged_quilt.results.warm import warm


@click.command()
@click.argument("into", type=click.Path(path_type=Path))
@click.option("--host", is_flag=True, help="Only for processors that are just like this one.")
@click.option("--here", is_flag=True, hidden=True)
def compile_families(into: Path, host: bool, here: bool) -> None:
    """Compile all kernels for processors of the families that this one belongs to."""
    if here or host:
        warm(force=True)
        folder = cache_folder()
        if folder is None:
            raise click.ClickException("there is no folder for the compiler's cache; set NUMBA_CACHE_DIR to one")
        keep_family(folder.parent, into / HOST if host else into)
        return
    for family in filter(can_run, FAMILIES):
        with tempfile.TemporaryDirectory() as cache:
            settings = {"NUMBA_CPU_NAME": family, "NUMBA_CPU_FEATURES": "", "NUMBA_CACHE_DIR": cache}
            command = [sys.executable, "-m", "jagged_quilt.results.compile_families", "--here", str(into / family)]
            subprocess.run(command, env=os.environ | settings, check=True)
        click.echo(f"{into / family}")


def keep_family(cache: Path, into: Path) -> None:
    """Copy what a cache holds of the kernels of today into the folder of a family, with its record."""
    shutil.rmtree(into, ignore_errors=True)
    for name in sorted({name_in_cache(each) for each in Path(jagged_quilt.__file__).parent.glob("*/_*kernels.py")}):
        for kernel in sorted(cache.glob(f"{name}/*.nb[ci]")):
            (into / name).mkdir(parents=True, exist_ok=True)
            shutil.copyfile(kernel, into / name / kernel.name)
    write_json(into / RECORD, {"of": source_key(), "target": target_here()})


if __name__ == "__main__":
    compile_families()
