"""`jquilt weigh`"""

from __future__ import annotations

import click

from jagged_quilt.cli.common import Named, anew_option, at_work, quilt_options, ready_kernels, report, time_option, timed


@click.command("weigh")
@quilt_options
@anew_option
@time_option
def command(named: Named, force: bool) -> None:
    """Work out how much of each layer shows where."""
    from jagged_quilt.show.sheets import percent

    with at_work(named.threads) as work, timed() as seconds:
        results = named.open(work)
        ready_kernels(results, ["weigh"], work)
        made = results.run("weigh", force=force)
        taken = seconds()
    kept = results.weights.layers.shape
    size = f"{kept[1]} x {kept[0]}, {kept[2]} layers a texel"
    what = {path.stem: f"{size}: {'weights' if 'weights' in path.stem else 'layer numbers'}" for path in made.files}
    what |= {path.stem: "how much there is of it" for path in made.files if path.stem.startswith("channel_")}
    report(made, taken, what | {"lost": "what was cut at each texel", "weights": "which number is which layer"})
    shares = results.weights.shares()
    wide = max(map(len, shares))
    for name, share in reversed(shares.items()):
        click.echo(f"  {name:<{wide}} {100 * share:5.1f} %")
    lost = results.weights
    click.echo(f"  cut from texels with more layers: {percent(lost.lost_mean)} on average, {percent(lost.lost_worst)} at worst")
