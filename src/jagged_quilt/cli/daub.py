"""`jquilt daub`"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import as_typed, print_table

if TYPE_CHECKING:
    from jagged_quilt.foundation.json_types import Unchecked
    from jagged_quilt.weights.daub import Daub


@click.command("daub")
@click.argument("quilt_file", type=click.Path(path_type=Path))
@click.option("--add", "layer", metavar="LAYER", help="Paint this layer; a pair is written LAYER+LAYER (and --between).")
@click.option("--erase", metavar="LAYER", help="Take this layer away; '-' goes back to what was there before any daub.")
@click.option("--channel", metavar="CHANNEL", help="Paint this channel; with --erase alone, take it away.")
@click.option("--smooth", is_flag=True, help="Take the weights from all around.")
@click.option("--along", metavar="'X,Z X,Z …'", help="The path, in metres.")
@click.option("--radius", type=float, help="Metres.")
@click.option("--falloff", type=float, help="0 full up to the radius, 1 falling all the way; 0.5 where not given.")
@click.option("--strength", type=float, help="0 to 1; 1 where not given.")
@click.option("--ceiling", type=float, help="0 to 1, which the layer's weight never passes.")
@click.option("--breakup", type=float, metavar="SIZE", help="Thin it out by noise of so many metres.")
@click.option("--between", type=float, metavar="SIZE", help="Of a pair, decide by noise of so many metres.")
@click.option("--reach", type=float, help="Of --smooth, the metres from which weights are taken.")
@click.option("--drop", type=int, metavar="N", help="Undo daub N, counted from 1.")
def command(quilt_file: Path, drop: int | None, **options: Unchecked) -> None:
    """Paint: add a daub to the quilt file's daubs, undo one, or list them where nothing else is said."""
    from jagged_quilt.foundation.errors import QuiltFileError, RangeError
    from jagged_quilt.quiltfile.reading import read_quilt
    from jagged_quilt.weights.daub_file import append_daub, drop_daub

    quilt = read_quilt(quilt_file)
    if not quilt.table.weights.daubs:
        raise QuiltFileError(f'{quilt_file}: says no file of daubs; write daubs = "daubs.jsonl" under [weights]')
    path, daubs = quilt.folder / quilt.table.weights.daubs, quilt.daubs
    deeds = [bool(options["layer"]), bool(options["erase"]), options["smooth"]]
    deeds[0] |= bool(options["channel"]) and not any(deeds[1:])
    if drop is not None:
        if any(deeds):
            raise RangeError("--drop stands alone")
        drop_daub(path, drop)
        click.echo(f"{path}: daub {drop} dropped, {len(daubs) - 1} left")
    elif any(deeds):
        if sum(deeds) != 1 or not options["along"] or options["radius"] is None:
            raise RangeError(
                "a daub is one of --add LAYER, --channel CHANNEL, --erase LAYER and --smooth, with --along and --radius"
            )
        daub = _daub(options)
        daub.check_on(quilt.ground.size, tuple(x.name for x in quilt.layers), tuple(x.name for x in quilt.channels))
        click.echo(f"{path}: daub {append_daub(path, daub)} added; jquilt weigh {as_typed(quilt_file)} lays it on")
    elif any(value is not None for key, value in options.items() if key != "smooth"):
        raise RangeError("say what to do with that: --add LAYER, --channel CHANNEL, --erase LAYER or --smooth")
    else:
        _list(path, daubs)


def _daub(options: dict[str, Unchecked]) -> Daub:
    from jagged_quilt.foundation.errors import RangeError
    from jagged_quilt.weights.daub_file import daub_of

    try:
        path = [[float(at) for at in point.split(",")] for point in options["along"].split()]
    except ValueError:
        raise RangeError(f"--along is points 'X,Z X,Z', in metres; got {options['along']!r}") from None
    daub: dict[str, Unchecked] = {"path": path}
    if options["layer"]:
        daub["layers"] = [name.strip() for name in options["layer"].split("+")]
    elif options["erase"]:
        daub |= {"do": "erase"} | ({} if options["erase"] == "-" else {"layer": options["erase"]})
    elif options["channel"]:
        pass
    else:
        daub["do"] = "smooth"
    if options["channel"]:
        daub |= {"channel": options["channel"]}
    daub |= {key: options[key] for key in ("radius", "falloff", "strength", "ceiling", "reach") if options[key] is not None}
    daub |= {key: {"size": options[key]} for key in ("breakup", "between") if options[key] is not None}
    return daub_of(daub)


def _list(path: Path, daubs: Sequence[Daub]) -> None:
    import numpy as np
    from rich.table import Table

    click.echo(f"{path}: {len(daubs)} daubs, laid on in this order")
    table = Table("", "does", "layer", "from x, z", "path m", "radius m", "strength", "ceiling", box=None, header_style="bold")
    for column in (0, 4, 5, 6, 7):
        table.columns[column].justify = "right"
    for number, daub in enumerate(daubs, 1):
        steps = np.diff(np.array(daub.path), axis=0)
        table.add_row(
            str(number),
            daub.kind.value,
            f"channel {daub.channel}" if daub.channel else " + ".join(daub.layers) or "all",
            f"{daub.path[0][0]:g}, {daub.path[0][-1]:g}",
            f"{np.linalg.norm(steps, axis=1).sum():.1f}",
            f"{daub.radius:g}",
            f"{daub.strength:g}",
            f"{daub.ceiling:g}",
        )
    if daubs:
        print_table(table)
