"""`jquilt show`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import (
    Named,
    anew_option,
    at_work,
    print_table,
    quilt_options,
    ready_kernels,
    report,
    time_option,
    timed,
)
from jagged_quilt.cli.pictures import Asked, PictureCommand

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.table import Table

    from jagged_quilt.masks.mask import Reading
    from jagged_quilt.results.results import Results
    from jagged_quilt.weights.explain import ExplainedStep


@click.command("show", cls=PictureCommand)
@quilt_options
@click.argument("words", nargs=-1, metavar="[PICTURE]...")
@click.option(
    "--pages", "store", metavar="STORE", help="With view or debug pages: the ground from pages that bake --store wrote."
)
@click.option("--at", "position", metavar="X,Z", help="Explain one place: why each layer shows there, or does not.")
@click.option("--csv", type=click.Path(path_type=Path), help="Write the coverage of each layer to this file.")
@anew_option
@time_option
def command(named: Named, words: tuple[str, ...], position: str | None, csv: Path | None, force: bool) -> None:
    """Draw pictures to judge by; all of them where none is named.

    \b
    swatches   the maps of every swatch
    balls      every swatch as balls, beside controls
    weights    where each layer shows, and how much
    masks      every mask step of every layer
    adopted    adopted weights, before and after
    maps       the baked maps
    view       the lit terrain and meshes
    riser      a cliff with planar and with triplanar
    meshes     each mesh: lit, gridded, stretch, triangles
    audit      what examining each swatch found

    \b
    debug KIND...      the view in false colours: grid, uv, density, stretch,
                       mip, tangent, bitangent, normal, wireframe, plane,
                       light, white, flicker; with --pages: pages
    compare A [B]      the view beside that of another quilt file, or of this
                       one with a change, as layer[1].projection=planar
    without ROLE       the view with and without the maps of a role, as normal
    swing STEPS[:N]    the first light, or light N, going around
    sweep KEY=A:B:N    what one number does, as layer[2].softness=0:1:5
    """
    from jagged_quilt.foundation.errors import RangeError
    from jagged_quilt.foundation.files import write_bytes
    from jagged_quilt.quiltfile.sweep import Sweep
    from jagged_quilt.results import requests
    from jagged_quilt.results.pictures import PICTURES
    from jagged_quilt.show.debug import DEBUG

    asked = Asked.of(words, PICTURES, [*DEBUG, "pages"])
    with at_work(named.threads) as work, timed() as seconds:
        results = named.open(work)
        swept = Sweep.of(asked.sweep) if asked.sweep else None
        paged = [kind for kind in asked.debug if kind == "pages"]
        paged += ["view"] if "view" in asked.pictures and named.store else []
        kinds = [kind for kind in asked.debug if kind != "pages"]
        chosen = [name for name in asked.pictures if name not in paged]
        if bool(paged) != bool(named.store):
            raise RangeError("--pages STORE goes with view or debug pages, and debug pages with --pages STORE")
        for name in chosen:
            results.picture_named(name)
        if not (words or position or csv):
            chosen = results.pictures
        others = {
            "debug": kinds or paged,
            "pages": paged,
            "compare": asked.compared or asked.without,
            "view": asked.swing,
            "sweep": swept,
            "weigh": csv or position,
        }
        ready_kernels(results, [*chosen, *(name for name, there in others.items() if there)], work)
        made = results.draw([name for name in results.pictures if name in chosen], force=force) if chosen else []
        made += [requests.show_debug(results, kinds)] if kinds else []
        made += [requests.show_from_pages(results, named.store, paged)] if named.store else []
        if asked.compared:
            made.append(requests.show_compared(results, *(("", *asked.compared)[-2:])))
        made += [requests.show_with_and_without(results, asked.without)] if asked.without else []
        made += [requests.show_swing(results, *_steps_of(asked.swing))] if asked.swing else []
        made += [requests.show_sweep(results, swept)] if swept else []
        if csv:
            write_bytes(csv, _coverage(results))
        taken = seconds()
        for each in made:
            report(each, taken)
        if csv:
            click.echo(f"{csv}: the coverage of {len(results.weights.names)} layers")
        if position:
            _explain(results, position)


def _coverage(results: Results) -> bytes:
    """How much of the ground each layer covers, as comma-separated values."""
    from csv import writer
    from io import StringIO

    columns, text = results.weights.covered(results.quilt.terrain.area), StringIO()
    table = writer(text, lineterminator="\n")
    table.writerow(["layer", *columns])
    for name, *values in zip(results.weights.names, *columns.values(), strict=True):
        table.writerow([name, *(f"{value:.6g}" for value in values)])
    return text.getvalue().encode()


def _steps_of(swing: str) -> tuple[int, int]:
    """The steps of a swing, and the number of the light."""
    from jagged_quilt.foundation.errors import RangeError

    steps, _, which = swing.partition(":")
    if not (steps.isdecimal() and (which or "0").isdecimal()):
        raise RangeError(f"swing must be steps, or steps:light, as 12 or 12:1; got {swing}")
    return int(steps), int(which or 0)


def _explain(results: Results, position: str) -> None:
    """Print every layer from the top down, each mask step's value, and the weight."""
    from rich.table import Table
    from rich.text import Text

    from jagged_quilt.foundation.errors import RangeError
    from jagged_quilt.results.place_of import explained_at
    from jagged_quilt.results.scene_of import beside_layers
    from jagged_quilt.weights.channel import Channel
    from jagged_quilt.weights.explain import steps_of

    try:
        x, z = (float(at) for at in position.split(","))
    except ValueError:
        raise RangeError(f"--at is X,Z in metres; got {position!r}") from None
    explained, texel = explained_at(results, x, z)
    there = results.weights.at(texel)
    stored = {there.names[i]: w for i, w in zip(there.layers[0], there.weights[0], strict=True) if w > 0}
    click.echo(f"at x {x:g}, z {z:g} (the texel there): {explained.position[1]:.2f} m high; layers from the top down")
    table = Table("layer", "step", "goes by", "there", "answer", "so far", "weight", box=None, header_style="bold")
    for column in (4, 5, 6):
        table.columns[column].justify = "right"
    for layer in reversed(explained.layers):
        table.add_row(Text(layer.name, "bold"), "", "", "", "", "", Text(f"{layer.weight:.3f}", "bold"))
        if layer.adopted is not None:
            table.add_row("", "adopted", "", "", "", f"{layer.adopted:.3f}", "")
        _add_steps(table, layer.steps)
        if not layer.steps and layer.adopted is None:
            table.add_row("", "", "no mask" if layer is not explained.layers[0] else "takes what is left", "", "", "", "")
        if abs(layer.stacked - layer.weight) > 5e-4:
            table.add_row("", "", "before daubs", "", "", "", f"{layer.stacked:.3f}")
        for swatch, share in layer.turns:
            table.add_row("", "turn of", swatch, "", "", "", f"{share:.3f}")
    print_table(table)
    for own in results.quilt.layers:
        if knobs := own.knobs:
            click.echo(f"{own.name}: {knobs}")
    for kind, name, mask in beside_layers(results):
        below = mask.mask if isinstance(mask, Channel) else mask
        steps = steps_of(below.reading(texel)) if below is not None else ()
        why = "; ".join(f"{step.combine} {step.reading.summary}: {step.reading.answer:.3f}".strip() for step in steps)
        click.echo(f"{kind} {name} {float(mask.answer(texel)[0]):.3f}" + (f" ({why})" if why else ""))
    for number, what, cover in explained.daubs:
        click.echo(f"daub {number} ({what}) covers {100 * cover:.0f} % here")
    click.echo("in the weight map: " + ", ".join(f"{name} {weight:.3f}" for name, weight in stored.items()))


def _add_steps(table: Table, steps: Sequence[ExplainedStep]) -> None:
    for step in steps:
        own = (step.combine, step.reading.summary, _sensed(step.reading), f"{step.reading.answer:.3f}", f"{step.result:.3f}")
        table.add_row("", *own, "")


def _sensed(reading: Reading) -> str:
    """What a step goes by there: its own words, or those of the masks within."""
    return reading.measured or "; ".join(filter(None, map(_sensed, reading.parts)))
