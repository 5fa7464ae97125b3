"""`jquilt export`"""

from __future__ import annotations

import click

from jagged_quilt.cli.common import Named, at_work, quilt_options, ready_kernels, report, timed

_SHADER = {
    "blend": "the blend: functions, numbers, and what lies where in these",
    "ground": "a program that draws the ground with it",
    "light": "the light of the view: functions and lamps",
    "thrown_back": "how much of all light a rough surface throws back",
    "sky_light": "the sky's mirror images by roughness, and what it sheds",
}


@click.command("export")
@quilt_options
@click.option("--splat", "forms", flag_value="splat", multiple=True, help="Weights as RGBA sheets, a layer in each channel.")
@click.option("--pairs", "forms", flag_value="pairs", multiple=True, help="Weights as four layer numbers and four weights.")
@click.option("--masks", "forms", flag_value="masks", multiple=True, help="Weights as a grey image for each layer.")
@click.option("--shader", type=click.Choice(["glsl", "essl"]), help="The blend as shader source, and the sheets that it reads.")
@click.option("--channels", is_flag=True, help="Each channel as a grey image.")
@click.option("--terrain", "error", type=float, metavar="METRES", help="The terrain as terrain.glb, at most so far from it.")
@click.option("--near", type=float, metavar="METRES", help="With --terrain: from the camera of the view, beyond this, coarser.")
@click.option("--bits", type=click.Choice(["8", "16"]), default="8", show_default=True, help="Of each channel.")
def command(
    named: Named,
    forms: tuple[str, ...],
    bits: str,
    channels: bool,
    shader: str | None,
    error: float | None,
    near: float | None,
) -> None:
    """Write weights as other programs read them, as splat sheets where no form is chosen; the terrain as a mesh; the blend as
    shader source."""
    from jagged_quilt.foundation.errors import RangeError
    from jagged_quilt.results import exports

    with at_work() as progress, timed() as seconds:
        results = named.open(progress)
        if near is not None and error is None:
            raise RangeError("--near is said with --terrain")
        if error is not None:
            report(exports.export_terrain(results, error, near), seconds())
        if channels:
            report(exports.export_channels(results, int(bits)), seconds())
        if shader is not None:
            ready_kernels(results, ["pack", "weigh"], progress)
            if "masks" in forms or len(forms) > 1:
                raise RangeError("a shader reads weights as splat sheets or as pairs; name one of them")
            made, source = exports.export_shader(results, shader, forms[0] if forms else "splat", int(bits))
            report(made, seconds(), _SHADER)
            for line in source.source.partition("// Cost of a pixel\n")[2].partition("\n\n")[0].splitlines():
                click.echo(f"  {line.removeprefix('//').strip()}")
            for line in source.left_out:
                click.echo(f"  left out: {line}")
        if shader or ((channels or error is not None) and not forms):
            return
        ready_kernels(results, ["weigh"], progress)
        made = exports.export_weights(results, forms or ("splat",), int(bits))
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
