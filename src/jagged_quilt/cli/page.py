"""`jquilt page`"""

from __future__ import annotations

import webbrowser

import click

from jagged_quilt.cli.common import Named, at_work, quilt_options, ready_kernels


@click.command("page")
@quilt_options
@click.option("--port", type=click.IntRange(0, 65535), default=0, help="Of 127.0.0.1; a free one where not given.")
@click.option("--open", "opens", is_flag=True, help="Open it in a browser.")
def command(named: Named, port: int, opens: bool) -> None:
    """Show the ground live in a browser, with its numbers under the mouse.

    The page draws by the exported shader: turn the camera, move the sun, see one map or one layer alone, compare left and
    right, click for why a place looks as it does, turn any number of layers, films, lights and sky, and save what is good
    into the quilt file. It follows the file when an editor saves it. Only this machine can see it. Ctrl-C ends it.
    """
    from jagged_quilt.live.page import Page

    with at_work(named.threads) as work:
        results = named.open(work, alone=False)
        ready_kernels(results, ["pack", "weigh"], work)
        page = Page(named.quilt_file, out=named.out, work=work)
        server = page.server(port)
        click.echo(f"{server.address}\nCtrl-C ends it")
        if opens:
            webbrowser.open(server.address)
        server.serve()
    click.echo("no longer served")
