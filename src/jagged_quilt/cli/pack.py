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
    with at_work() as progress, timed() as seconds:
        results = open_results(quilt_file, out, threads, progress)
        made = results.pack(anew=anew)
        taken = seconds()
    arrays = results.arrays
    what = {}
    for layout in arrays.layouts:
        count = arrays.slice_count(layout.name)
        kind = "sRGB" if layout.srgb else "plain data"
        words = f"{count} slices of {arrays.side} x {arrays.side} with mips, {layout.pixels.value.words}, {kind}"
        what[layout.name] = words + (
            ", linear alpha" if layout.srgb and layout.stored == 4 and len(layout.channels) == 4 else ""
        )
    report(made, taken, what | {"arrays": "which slice is which swatch"})
