"""`jquilt bake`"""

from __future__ import annotations

from pathlib import Path

import click

from jagged_quilt.cli.common import at_work, open_results, quilt_options, ready_kernels, report, timed


@click.command("bake")
@quilt_options
@click.option("--texels", type=click.IntRange(1, 1 << 17), help="Along the longer side; the quilt file says it else.")
def command(quilt_file: Path, out: Path | None, threads: int | None, anew: bool, texels: int | None) -> None:
    """Blend the layers over the whole surface into finished maps."""
    with at_work() as progress, timed() as seconds:
        results = open_results(quilt_file, out, threads, anew, progress)
        ready_kernels()
        made = results.bake(texels)
        taken = seconds()
    report(made, taken)
