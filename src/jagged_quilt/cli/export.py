"""`jquilt export`"""

from __future__ import annotations

import click

from jagged_quilt.cli.common import Named, at_work, quilt_options, ready_kernels, report, timed


@click.command("export")
@quilt_options
@click.option("--splat", "forms", flag_value="splat", multiple=True, help="Weights as RGBA sheets, a layer in each channel.")
@click.option("--pairs", "forms", flag_value="pairs", multiple=True, help="Weights as four layer numbers and four weights.")
@click.option("--masks", "forms", flag_value="masks", multiple=True, help="Weights as a grey image for each layer.")
@click.option("--channels", is_flag=True, help="Each channel as a grey image.")
@click.option("--terrain", "error", type=float, metavar="METRES", help="The terrain as terrain.glb, at most so far from it.")
@click.option("--near", type=float, metavar="METRES", help="With --terrain: from the camera of the view, beyond this, coarser.")
@click.option("--bits", type=click.Choice(["8", "16"]), default="8", show_default=True, help="Of each channel.")
def command(named: Named, forms: tuple[str, ...], bits: str, channels: bool, error: float | None, near: float | None) -> None:
    """Write weights as other programs read them, as splat sheets where no form is chosen; or the terrain as a mesh."""
    from jagged_quilt.foundation.errors import RangeError
    from jagged_quilt.results import requests

    with at_work() as progress, timed() as seconds:
        results = named.open(progress)
        if near is not None and error is None:
            raise RangeError("--near is said with --terrain")
        if error is not None:
            report(requests.export_terrain(results, error, near), seconds())
        if channels:
            report(requests.export_channels(results, int(bits)), seconds())
        if (channels or error is not None) and not forms:
            return
        ready_kernels(results, ["weigh"], progress)
        made = requests.export_weights(results, forms or ("splat",), int(bits))
        taken = seconds()
    report(made, taken)
    click.echo("  which layer is where:")
    names = results.weights.names
    if not forms or "splat" in forms:
        for first in range(0, len(names), 4):
            four = [f"{channel} {name}" for channel, name in zip("RGBA", names[first : first + 4], strict=False)]
            click.echo(f"  splat_{first // 4}.png: {', '.join(four)}")
    if "pairs" in forms:
        click.echo("  pairs: " + ", ".join(f"{number} {name}" for number, name in enumerate(names)))
