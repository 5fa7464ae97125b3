"""`jquilt pack`"""

from __future__ import annotations

from pathlib import Path

import click

from jagged_quilt.cli.common import anew_option, at_work, open_results, quilt_options, report, timed


@click.command("pack")
@quilt_options
@anew_option
def command(quilt_file: Path, out: Path | None, threads: int | None, anew: bool) -> None:
    """Pack the swatches into texture arrays."""
    from jagged_quilt.arrays.layout import layout_named

    with at_work() as progress, timed() as seconds:
        results = open_results(quilt_file, out, threads, progress)
        made = results.pack(anew=anew)
        taken = seconds()
    side, slices = results.quilt.table.arrays.texels, len(results.quilt.table.swatch)
    what = {
        layout.name: f"{slices} slices of {side} x {side} with mips, {'sRGB, linear alpha' if layout.colour else 'plain data'}"
        for layout in map(layout_named, results.quilt.table.arrays.layouts)
    }
    report(made, taken, what | {"arrays": "which slice is which swatch"})
