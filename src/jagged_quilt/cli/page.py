"""`jquilt page`"""

from __future__ import annotations

import webbrowser
from pathlib import Path

import click

from jagged_quilt.cli.common import Named, at_work, quilt_options, ready_kernels


@click.command("page")
@quilt_options
@click.option("--port", type=click.IntRange(0, 65535), default=0, help="Of 127.0.0.1; a free one where not given.")
@click.option("--open", "opens", is_flag=True, help="Open it in a browser.")
@click.option("--into", type=click.Path(path_type=Path), help="Write it into this folder, to show: no painting, no saving.")
def command(named: Named, port: int, opens: bool, into: Path | None) -> None:
    """Show a quilt live in a browser, with its numbers under the mouse and a brush.

    The page draws by the exported shader: turn the camera, move the sun, see one map or one layer alone, compare left and
    right, click for why a place looks as it does, turn any number of layers, films, lights and sky, and save what is good
    into the quilt file. Strokes of the brush go into the quilt's file of daubs. It follows the file when an editor saves it.
    Only this machine can see it. Ctrl-C ends it.
    """
    from jagged_quilt.live.page import Page

    with at_work(named.threads) as work:
        results = named.open(work, alone=False)
        ready_kernels(results, ["pack", "weigh"], work)
        page = Page(named.quilt_file, out=named.out, work=work)
        if into is not None:
            files = page.write(into)
            size = sum(path.stat().st_size for path in files) / 1024**2
            click.echo(f"{into}: {len(files)} files, {size:.1f} MiB; any web server can give them away")
            return
        server = page.server(port)
        click.echo(f"{server.address}\nCtrl-C ends it")
        if opens:
            webbrowser.open(server.address)
        server.serve()
    click.echo("no longer served")
