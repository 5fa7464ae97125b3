"""`jquilt bake`"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import Named, anew_option, at_work, quilt_options, ready_kernels, report, time_option, timed

if TYPE_CHECKING:
    from jagged_quilt.foundation.json_types import Facts
    from jagged_quilt.results.step import Made


@click.command("bake")
@quilt_options
@anew_option
@time_option
@click.option("--texels", type=click.IntRange(1, 1 << 17), help="Along the longer side; the quilt file says it else.")
@click.option("--store", help="Bake into pages of this Zarr store: a folder, or an address that fsspec reaches.")
@click.option("--pages", "page", type=int, default=256, show_default=True, help="Texels along a page's side.")
@click.option("--border", type=int, default=4, show_default=True, help="Texels of its neighbours around a page.")
@click.option("--only", metavar="MIP:ROW:COLUMN", help="Make one page alone.")
@click.option("--textures", type=float, metavar="MIB", help="Hold so much of the textures, and read the rest when it shows.")
@click.option("--on", metavar="WHERE", help='"gpu": by the exported shader. With --store, a Dask scheduler or "local".')
def command(named: Named, force: bool, only: str | None, on: str | None, textures: float | None, **cut: int) -> None:
    """Blend the layers over the whole surface, and over every mesh by its uv, into finished maps; or into pages of a store,
    which may be larger than memory."""
    if named.store is not None:
        if on == "gpu":
            raise click.UsageError("--on gpu bakes whole maps; leave --store away")
        _bake_pages(named, named.store, {"only": _page_of(only), "on": on, "force": force, "textures": textures} | cut)
        return
    if only or textures or on not in (None, "gpu"):
        raise click.UsageError("--only, --textures and --on with an address are for pages; name their --store")
    with at_work(named.threads) as work, timed() as seconds:
        results = replace(named, on_gpu=on == "gpu").open(work)
        made = []
        steps = [*(["bake"] if "bake" in results.runner.steps else []), *results.mesh_steps]
        ready_kernels(results, steps, work)
        for name in steps or ["bake"]:
            start = seconds()
            made.append((results.run(name, force=force), seconds() - start))
    for each, taken in made:
        _report(each, taken)
    if results.device:
        click.echo(f"blended by the exported shader on {results.device}")


def _page_of(text: str | None) -> tuple[int, ...] | None:
    try:
        return None if text is None else tuple(int(each) for each in text.split(":"))
    except ValueError:
        raise click.UsageError(f"--only is MIP:ROW:COLUMN, as 0:12:7; got {text}") from None


def _bake_pages(named: Named, store: str, options: Facts) -> None:
    from jagged_quilt.results.paged import bake_into

    with at_work(named.threads) as work, timed() as seconds:
        results = named.open(work)
        ready_kernels(results, ["pages", *results.mesh_steps], work)
        made, cache = bake_into(results, store, **options)
        taken = seconds()
    for name, each in made.items():
        click.echo(f"{store}: {name}: {each}")
        if each.nbytes:
            rate = f"{each.made / each.seconds:.1f} pages and {each.nbytes / each.seconds / 2**20:.0f} MiB a second"
            click.echo(f"  {rate} in {each.seconds:.1f} s")
        for worker, (count, busy) in sorted(each.workers.items()):
            click.echo(f"  {worker}: {count} shards in {busy:.1f} s")
    if cache is not None and not options["on"]:
        click.echo(f"textures: {cache.slots} of {len(cache.names)} swatches held, {cache.figures()}")
    click.echo(f"in {taken:.1f} s")


def _report(made: Made, taken: float) -> None:
    from jagged_quilt.foundation.files import read_json
    from jagged_quilt.maps.roles import MapRole

    if "bake.json" not in [path.name for path in made.files]:
        report(made, taken, {"mesh": "colours and weights at its vertices"})
        return
    manifest = read_json(made.folder / "bake.json", "list of maps")
    rows, columns = manifest["texels"]
    notes = {
        MapRole.NORMAL: f"{manifest['normals']} space, green up",
        MapRole.HEIGHT: f"white is {manifest['relief_metres']:g} m",
    }
    what = {
        role.key: f"{columns} x {rows}, {role.value.bits} bit, {notes.get(role, 'sRGB' if role.is_colour else 'plain data')}"
        for role in MapRole
    }
    report(made, taken, what | {"bake": "what the maps are", "mesh": "the mesh as it was laid out"})
