"""`jquilt show`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import (
    Named,
    anew_option,
    at_work,
    quilt_options,
    ready_kernels,
    report,
    terminal,
    time_option,
    timed,
)

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.table import Table

    from jagged_quilt.masks.mask import Reading
    from jagged_quilt.results.results import Results
    from jagged_quilt.weights.explain import Step


@click.command("show")
@quilt_options
@click.option("--swatches", "chosen", flag_value="swatches", multiple=True, help="Draw the maps of every swatch.")
@click.option("--balls", "chosen", flag_value="balls", multiple=True, help="Draw every swatch as balls, beside controls.")
@click.option("--weights", "chosen", flag_value="weights", multiple=True, help="Draw where each layer shows, and how much.")
@click.option("--masks", "chosen", flag_value="masks", multiple=True, help="Draw every mask step of every layer.")
@click.option("--adopted", "chosen", flag_value="adopted", multiple=True, help="Draw adopted weights, before and after.")
@click.option("--maps", "chosen", flag_value="maps", multiple=True, help="Draw the baked maps.")
@click.option("--view", "chosen", flag_value="view", multiple=True, help="Draw the lit terrain.")
@click.option("--audit", "chosen", flag_value="audit", multiple=True, help="Draw what examining each swatch found.")
@click.option(
    "--meshes", "chosen", flag_value="meshes", multiple=True, help="Draw each mesh: lit, gridded, stretch, triangles."
)
@click.option("--riser", "chosen", flag_value="riser", multiple=True, help="Draw a cliff with planar and with triplanar.")
@click.option(
    "--debug",
    "kinds",
    multiple=True,
    metavar="KIND",
    help="Draw the view in false colours: grid, uv, density, stretch, mip, tangent, bitangent, normal, wireframe or plane; "
    "light in its parts, what is brighter than white, flicker, or with --pages the pages.",
)
@click.option(
    "--compare",
    "compared",
    multiple=True,
    metavar="A",
    help="Draw the view beside that of another quilt file, or of this one with a change, as layer[1].projection=planar; "
    "given twice, the two with each other.",
)
@click.option(
    "--with-and-without", "role", metavar="ROLE", help="Draw the view with and without the maps of a role, as normal."
)
@click.option(
    "--swing",
    metavar="STEPS[:LIGHT]",
    help="Draw the first light, or that of the number, from 0, going around in so many steps: a sheet, and a moving picture.",
)
@click.option("--flicker", "kinds", flag_value="flicker", multiple=True, help="Draw what flickers while the camera glides.")
@click.option(
    "--pages", "store", metavar="STORE", help="With --view or --debug pages: the ground from pages that bake --store wrote."
)
@click.option("--at", "place", metavar="X,Z", help="Explain one place: why each layer shows there, or does not.")
@click.option(
    "--sweep", metavar="KEY=FROM:TO:COUNT", help="Draw what one number does, as layer[2].mask[1].threshold=0.2:0.8:9."
)
@click.option("--csv", type=click.Path(path_type=Path), help="Write the coverage of each layer to this file.")
@anew_option
@time_option
def command(
    named: Named,
    chosen: tuple[str, ...],
    place: str | None,
    sweep: str | None,
    csv: Path | None,
    kinds: tuple[str, ...],
    compared: tuple[str, ...],
    role: str | None,
    swing: str | None,
    anew: bool,
) -> None:
    """Draw pictures to judge by; all of them where nothing is chosen."""
    from jagged_quilt.foundation.checks import known_name
    from jagged_quilt.foundation.errors import RangeError
    from jagged_quilt.foundation.files import write_bytes
    from jagged_quilt.quiltfile.sweep import Sweep
    from jagged_quilt.results import requests
    from jagged_quilt.show.debug import DEBUG

    with at_work() as progress, timed() as seconds:
        results = named.open(progress)
        swept = Sweep.of(sweep) if sweep else None
        if len(compared) > 2:
            raise RangeError(f"--compare takes one or two; got {len(compared)}")
        paged = tuple(kind for kind in kinds if kind == "pages") + (("view",) if "view" in chosen and named.store else ())
        kinds = tuple(kind for kind in kinds if kind != "pages")
        chosen = tuple(name for name in chosen if name not in paged)
        if bool(paged) != bool(named.store):
            raise RangeError("--pages STORE goes with --view or --debug pages, and --debug pages with --pages STORE")
        for kind in kinds:
            known_name("kind of debug picture", kind, [*DEBUG, "pages"])
        for name in chosen:
            results.picture_named(name)
        if not chosen and not (paged or place or swept or csv or kinds or compared or role or swing):
            chosen = tuple(results.pictures)
        others = {
            "debug": kinds or paged,
            "pages": paged,
            "compare": compared or role,
            "view": swing,
            "sweep": swept,
            "weigh": csv or place,
        }
        ready_kernels(results, [*chosen, *(name for name, asked in others.items() if asked)], progress)
        made = results.draw([name for name in results.pictures if name in chosen], anew=anew) if chosen else []
        made += [requests.show_debug(results, kinds)] if kinds else []
        made += [requests.show_from_pages(results, named.store, paged)] if named.store else []
        made += [requests.show_compared(results, *(("", *compared) if len(compared) == 1 else compared))] if compared else []
        made += [requests.show_with_and_without(results, role)] if role else []
        made += [requests.show_swing(results, *_steps_of(swing))] if swing else []
        made += [requests.show_sweep(results, swept)] if swept else []
        if csv:
            write_bytes(csv, results.weights.coverage(results.quilt.terrain.area).to_csv(float_format="%.6g").encode())
        taken = seconds()
        for each in made:
            report(each, taken)
        if csv:
            click.echo(f"{csv}: the coverage of {len(results.weights.names)} layers")
        if place:
            _explain(results, place)


def _steps_of(swing: str) -> tuple[int, int]:
    """The steps of a swing, and the number of the light."""
    from jagged_quilt.foundation.errors import RangeError

    steps, _, which = swing.partition(":")
    if not (steps.isdecimal() and (which or "0").isdecimal()):
        raise RangeError(f"--swing must be steps, or steps:light, as 12 or 12:1; got {swing}")
    return int(steps), int(which or 0)


def _explain(results: Results, place: str) -> None:
    """Print every layer from the top down, each mask step's value, and the weight."""
    from rich.table import Table
    from rich.text import Text

    from jagged_quilt.foundation.errors import RangeError
    from jagged_quilt.weights.channel import Channel
    from jagged_quilt.weights.explain import explain, steps_of, texel_at

    east, south = results.quilt.terrain.size
    try:
        x, z = (float(at) for at in place.split(","))
    except ValueError:
        raise RangeError(f"--at is X,Z in metres; got {place!r}") from None
    if not (0 <= x <= east and 0 <= z <= south):
        raise RangeError(f"--at {place}: outside of the surface, which reaches from 0,0 to {east:g},{south:g} m")
    texels = results.quilt.table.weights.texels
    points, which, grid = texel_at(results.quilt.terrain, (x, z), texels, results.weigher.daubs)
    told = explain(results.weigher, points, which, grid)
    texel = points[which : which + 1]
    there = results.weights.at(texel)
    stored = {there.names[i]: w for i, w in zip(there.layers[0], there.weights[0], strict=True) if w > 0}
    click.echo(f"at x {x:g}, z {z:g} (the texel there): {told.position[1]:.2f} m high; layers from the top down")
    table = Table("layer", "step", "goes by", "there", "answer", "so far", "weight", box=None, header_style="bold")
    for column in (4, 5, 6):
        table.columns[column].justify = "right"
    for layer in reversed(told.layers):
        table.add_row(Text(layer.name, "bold"), "", "", "", "", "", Text(f"{layer.weight:.3f}", "bold"))
        if layer.adopted is not None:
            table.add_row("", "adopted", "", "", "", f"{layer.adopted:.3f}", "")
        _add_steps(table, layer.steps)
        if not layer.steps and layer.adopted is None:
            table.add_row("", "", "no mask" if layer is not told.layers[0] else "takes what is left", "", "", "", "")
        if abs(layer.stacked - layer.weight) > 5e-4:
            table.add_row("", "", "before daubs", "", "", "", f"{layer.stacked:.3f}")
        for swatch, share in layer.turns:
            table.add_row("", "turn of", swatch, "", "", "", f"{share:.3f}")
    terminal().print(table)
    for own in results.quilt.layers:
        if knobs := own.knobs:
            click.echo(f"{own.name}: {knobs}")
    for kind, name, mask in results.beside_layers():
        below = mask.mask if isinstance(mask, Channel) else mask
        steps = steps_of(below.reading(texel)) if below is not None else ()
        why = "; ".join(f"{step.combine} {step.reading.words}: {step.reading.answer:.3f}".strip() for step in steps)
        click.echo(f"{kind} {name} {float(mask.answer(texel)[0]):.3f}" + (f" ({why})" if why else ""))
    for number, what, cover in told.daubs:
        click.echo(f"daub {number} ({what}) covers {100 * cover:.0f} % here")
    click.echo("in the weight map: " + ", ".join(f"{name} {weight:.3f}" for name, weight in stored.items()))


def _add_steps(table: Table, steps: Sequence[Step]) -> None:
    for step in steps:
        own = (step.combine, step.reading.words, _sensed(step.reading), f"{step.reading.answer:.3f}", f"{step.result:.3f}")
        table.add_row("", *own, "")


def _sensed(reading: Reading) -> str:
    """What a step goes by there: its own words, or those of the masks within."""
    return reading.sensed or "; ".join(filter(None, map(_sensed, reading.parts)))
