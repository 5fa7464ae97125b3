"""`jquilt pack`"""

from __future__ import annotations

from pathlib import Path

import click

from jagged_quilt.cli.common import at_work, open_results, quilt_options, report, timed


@click.command("pack")
@quilt_options
def command(quilt_file: Path, out: Path | None, threads: int | None, anew: bool) -> None:
    """Pack the swatches into texture arrays."""
    with at_work() as progress, timed() as seconds:
        results = open_results(quilt_file, out, threads, anew, progress)
        made = results.pack()
        taken = seconds()
    report(made, taken)
