"""`jquilt pack`"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import Named, anew_option, at_work, print_table, quilt_options, report, timed

if TYPE_CHECKING:
    from jagged_quilt.arrays.texture_arrays import TextureArrays


@click.command("pack")
@quilt_options
@anew_option
@click.option("--leave-out", is_flag=True, help="Go on without the swatches that cannot be read.")
def command(named: Named, force: bool, leave_out: bool) -> None:
    """Pack the swatches into texture arrays. All of them are looked at before any is read."""
    from jagged_quilt.foundation.errors import FileError
    from jagged_quilt.results.audits import MEMO, broken_sources, known_faults

    with at_work(named.threads) as work, timed() as seconds:
        results = named.open(work)
        broken = broken_sources(results.sources)
        if len(broken) == len(results.sources) or (broken and not leave_out):
            more = "" if leave_out else "\n--leave-out goes on without them"
            raise FileError("\n".join(broken.values()) + more)
        if broken:
            click.echo(f"warning: left out, since they cannot be read: {', '.join(broken)}", err=True)
            results = named.open(work, leave_out=set(broken))
        faulty = known_faults(results.sources, results.folder / MEMO, results.quilt.table.arrays.side)
        if faulty:
            listed = ", ".join(f"{name} ({count})" for name, count in list(faulty.items())[:8])
            click.echo(f"warning: faults are known of {len(faulty)} swatches: {listed}; jquilt check tells them", err=True)
        made = results.run("pack", force=force)
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
    report(made, taken, what | {"arrays": "which slice is which swatch, and what it was made from"})
    _tell_quality(arrays)


def _tell_quality(arrays: TextureArrays) -> None:
    """Say for each slice what block codes cost, where there are any."""
    from rich.table import Table

    coded = [layout for layout in arrays.layouts if any(layout.name in each.quality for each in arrays.facts)]
    if not coded:
        return
    heads = [f"{layout.name} ({layout.pixels.key})" for layout in coded]
    table = Table("what block codes cost", *heads, box=None, header_style="bold")
    for each in arrays.facts:
        cells = []
        for layout in coded:
            quality = each.quality.get(layout.name, {})
            degrees = f", {quality['mean_degrees']:.2f}° on average" if "mean_degrees" in quality else ""
            cells.append(f"{quality['psnr_db']:.1f} dB{degrees}" if quality else "-")
        table.add_row(each.name, *cells)
    print_table(table)
