"""`jquilt adopt`"""

from __future__ import annotations

from pathlib import Path

import click

from jagged_quilt.cli.common import Named, anew_option, at_work, print_table, quilt_options, ready_kernels, report, timed


@click.command("adopt")
@quilt_options
@anew_option
@click.option(
    "--look", type=click.Path(path_type=Path), help="Only list the colours or numbers in a map, and the table to write."
)
def command(named: Named, force: bool, look: Path | None) -> None:
    """Take over weights that another tool left, as the [adopt] table says, and tell what became of them."""
    if look is not None:
        _look(named, look)
        return
    from rich.table import Table

    from jagged_quilt.weights.settle import sums_words

    with at_work(named.threads) as work, timed() as seconds:
        results = named.open(work)
        ready_kernels(results, ["adopt", "adopted"], work)
        made = results.run("adopt", force=force)
        found, adopted, now = results.inherited, results.adopted, results.weights
        made_picture = results.run("adopted")
        taken = seconds()
    assert adopted is not None
    assert results.quilt.table.adopt is not None
    report(made, taken)
    report(made_picture, taken)
    click.echo(f"  {sums_words(found.sums)}")
    click.echo(
        f"  texels changed: {found.sums.changed:,} of {found.sums.texels:,} ({_percent(found.sums.changed, found.sums.texels)})"
    )
    area, to = results.quilt.terrain.area, results.quilt.table.adopt.to
    before = Table("inherited layer", "share", "m²", "goes to", box=None, header_style="bold")
    after = Table("layer", "adopted", "with masks and daubs", "m²", box=None, header_style="bold")
    for table, columns in ((before, (1, 2)), (after, (1, 2, 3))):
        for column in columns:
            table.columns[column].justify = "right"
    for name, share in found.weights.shares().items():
        before.add_row(name, f"{100 * share:.1f} %", f"{area * share:,.0f}", to.get(name, name))
    shares = adopted.shares()
    for layer in results.quilt.layers:
        shown = [s for name, s in now.shares().items() if name == layer.name or name.startswith(f"{layer.name}: ")]
        was = f"{100 * shares[layer.name]:.1f} %" if layer.name in shares else ""
        after.add_row(layer.name, was, f"{100 * sum(shown):.1f} %", f"{area * sum(shown):,.0f}")
    click.echo()
    print_table(before)
    click.echo()
    print_table(after)


def _look(named: Named, image: Path) -> None:
    """List what stands in a map, with the layer whose colour is nearest, and the table that takes it over."""
    import os

    from rich.table import Table
    from rich.text import Text

    from jagged_quilt.maps.roles import MapRole
    from jagged_quilt.quiltfile.reading import read_quilt
    from jagged_quilt.weights.look import keys_in

    quilt = read_quilt(named.quilt_file, time=named.time)
    found = keys_in(image, limits=quilt.table.images)
    colours = {}
    if found.form == "colours":
        sources = {source.name: source for source in quilt.sources}
        with at_work():
            for layer in quilt.layers:
                own = [sources[name] for name in layer.swatches if name in sources]
                if own:
                    colours[layer.name] = own[0].read([MapRole.DIFFUSE]).maps[MapRole.DIFFUSE].values.mean(axis=(0, 1))
    names = found.named(colours)
    table = Table("colour" if found.form == "colours" else "number", "share", "nearest layer", box=None, header_style="bold")
    table.columns[1].justify = "right"
    for key, share, name in zip(found.keys, found.shares, names, strict=True):
        shown = Text.assemble(("    ", f"on {key}"), f" {key}") if found.form == "colours" else Text(key)
        table.add_row(shown, f"{100 * share:.1f} %", name)
    if found.rest > 0:
        table.add_row("others", f"{100 * found.rest:.1f} %", "")
    print_table(table)
    click.echo()
    folder = named.quilt_file.parent.resolve()
    file = Path(os.path.relpath(image.resolve(), folder)).as_posix()
    click.echo(found.table(file, names))


def _percent(part: int, whole: int) -> str:
    from jagged_quilt.show.sheets import percent

    return percent(part / whole)
