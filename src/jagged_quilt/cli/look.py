"""`jquilt look`"""

from __future__ import annotations

import time
from pathlib import Path

import click

from jagged_quilt.cli.common import Named, at_work, quilt_options, ready_kernels


@click.command("look")
@quilt_options
@click.option("--swatches", "chosen", flag_value="swatches", multiple=True, help="The maps of every swatch.")
@click.option("--balls", "chosen", flag_value="balls", multiple=True, help="Every swatch as balls, beside controls.")
@click.option("--weights", "chosen", flag_value="weights", multiple=True, help="Where each layer shows, and how much.")
@click.option("--masks", "chosen", flag_value="masks", multiple=True, help="Every mask step of every layer.")
@click.option("--maps", "chosen", flag_value="maps", multiple=True, help="The baked maps.")
@click.option("--view", "chosen", flag_value="view", multiple=True, help="The lit terrain; this where nothing is chosen.")
@click.option("--meshes", "chosen", flag_value="meshes", multiple=True, help="Each mesh.")
@click.option("--riser", "chosen", flag_value="riser", multiple=True, help="A cliff with planar and with triplanar.")
@click.option("--debug", "kinds", multiple=True, metavar="KIND", help="The view in false colours, as `jquilt show` says.")
def command(named: Named, chosen: tuple[str, ...], kinds: tuple[str, ...]) -> None:
    """Draw pictures, and draw them again whenever the quilt file, or what it names, is saved.

    The view comes small and coarse first, then whole, into the same file: open it in a picture viewer that reloads. A quilt
    file that is wrong is told, and the last good picture stays. Ctrl-C ends it.
    """
    from jagged_quilt.foundation.checks import known_name
    from jagged_quilt.foundation.errors import QuiltError
    from jagged_quilt.results.look import Look
    from jagged_quilt.show.debug import DEBUG

    for kind in kinds:
        known_name("kind of debug picture", kind, DEBUG)
    names = chosen or (() if kinds else ("view",))
    with at_work() as progress:
        results = named.open(progress)
        for name in names:
            results.picture_named(name)
        ready_kernels(results, [*names, *(["debug"] if kinds else [])], progress)
        look = Look(named.quilt_file, names, kinds, out=named.out, threads=named.threads, progress=progress)
        click.echo(f"looking at {named.quilt_file}; Ctrl-C ends it")
        try:
            for seen in look.watch():
                now = time.strftime("%H:%M:%S")
                if isinstance(seen, QuiltError):
                    click.echo(f"{now} {seen}\n{now} the last good picture stays", err=True)
                    continue
                files = ", ".join(str(_near(path)) for path in seen.files)
                click.echo(f"{now} {'whole' if seen.is_whole else 'small'} after {seen.seconds:.1f} s: {files}")
        except KeyboardInterrupt:
            click.echo("no longer looking")


def _near(path: Path) -> Path:
    """The path from where one stands, if it lies below."""
    here = Path.cwd()
    return path.resolve().relative_to(here) if here in path.resolve().parents else path
