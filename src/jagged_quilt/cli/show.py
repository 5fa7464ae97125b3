"""`jquilt show`"""

from __future__ import annotations

from pathlib import Path

import click

from jagged_quilt.cli.common import at_work, open_results, quilt_options, ready_kernels, report, timed


@click.command("show")
@quilt_options
@click.option("--swatches", "chosen", flag_value="swatches", multiple=True, help="Draw the maps of every swatch.")
@click.option("--weights", "chosen", flag_value="weights", multiple=True, help="Draw where each layer shows, and how much.")
@click.option("--maps", "chosen", flag_value="maps", multiple=True, help="Draw the baked maps.")
@click.option("--view", "chosen", flag_value="view", multiple=True, help="Draw the lit terrain.")
@click.option("--audit", "chosen", flag_value="audit", multiple=True, help="Draw what examining each swatch found.")
@click.option("--riser", "chosen", flag_value="riser", multiple=True, help="Draw a cliff with planar and with triplanar.")
def command(quilt_file: Path, out: Path | None, threads: int | None, chosen: tuple[str, ...]) -> None:
    """Draw pictures to judge by; all of them where none is chosen."""
    with at_work() as progress, timed() as seconds:
        results = open_results(quilt_file, out, threads, progress)
        ready_kernels(pictures=True)
        made = results.draw(chosen)
        taken = seconds()
    report(made, taken)
