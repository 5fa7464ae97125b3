"""`jquilt warm`"""

from __future__ import annotations

import click

from jagged_quilt.cli.common import at_work, timed


@click.command("warm")
@click.option("--threads", type=click.IntRange(1, 1024), help="How many processes; one per core where not given.")
@click.option("--force", is_flag=True, help="Go through all kernels even if they are known to be compiled.")
def command(threads: int | None, force: bool) -> None:
    """Compile all kernels now, so that no first run has to: once after installing, or into the image of a container."""
    from jagged_quilt.foundation.kernel_cache import cache_folder
    from jagged_quilt.results.warm import warm

    with at_work(threads) as work, timed() as seconds:
        parts = warm(work=work, force=force)
    folder = cache_folder()
    where = f"; they are kept in {folder.parent}" if folder else ", and none can be kept: name a folder in NUMBA_CACHE_DIR"
    if parts:
        click.echo(f"compiled in {seconds():.0f} s: the kernels to {', '.join(parts)}{where}")
    else:
        click.echo(f"nothing to do: all kernels are compiled{where}")
