"""`jquilt look`"""

from __future__ import annotations

import time
from pathlib import Path

import click

from jagged_quilt.cli.common import Named, at_work, quilt_options, ready_kernels
from jagged_quilt.cli.pictures import Asked, PictureCommand


@click.command("look", cls=PictureCommand)
@quilt_options
@click.argument("words", nargs=-1, metavar="[PICTURE]...")
def command(named: Named, words: tuple[str, ...]) -> None:
    """Draw pictures, and draw them again whenever the quilt file, or what it names, is saved.

    The view comes small and coarse first, then whole, into the same file: open it in a picture viewer that reloads. Errors
    in the quilt file are reported, and the last good picture stays. Ctrl-C ends it. Pictures are those of `jquilt show`: view
    (where none is named), swatches, balls, weights, masks, maps, meshes, riser, and debug KIND...
    """
    from jagged_quilt.foundation.errors import QuiltError, RangeError
    from jagged_quilt.results.look import Look
    from jagged_quilt.results.pictures import PICTURES
    from jagged_quilt.show.debug import DEBUG

    asked = Asked.of(words, PICTURES, DEBUG)
    if asked.compared or asked.without or asked.swing or asked.sweep:
        raise RangeError("compare, without, swing and sweep are drawn once, by jquilt show")
    kinds = tuple(asked.debug)
    names = tuple(asked.pictures) or (() if kinds else ("view",))
    with at_work(named.threads) as work:
        results = named.open(work)
        for name in names:
            results.picture_named(name)
        ready_kernels(results, [*names, *(["debug"] if kinds else [])], work)
        look = Look(named.quilt_file, names, kinds, out=named.out, work=work)
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
