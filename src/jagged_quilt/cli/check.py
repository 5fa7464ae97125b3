"""`jquilt check`"""

from __future__ import annotations

from pathlib import Path

import click

from jagged_quilt.cli.common import at_work, terminal


@click.command("check")
@click.argument("quilt_file", type=click.Path(path_type=Path))
def command(quilt_file: Path) -> None:
    """Read everything that a quilt file names, and say what is there."""
    from rich.table import Table

    from jagged_quilt.maps.roles import SURFACE_ROLES
    from jagged_quilt.quiltfile.quilt import read_quilt

    with at_work():
        quilt = read_quilt(quilt_file)
        terrain = quilt.terrain
        swatches = quilt.swatches
    table = Table("swatch", "tile", "relief", *(role.key for role in SURFACE_ROLES), box=None, header_style="bold")
    remarks = []
    for swatch in swatches:
        maps = [swatch.maps.get(role) for role in SURFACE_ROLES]
        cells = [f"{m.size[1]} x {m.size[0]} {m.texels.dtype.itemsize * 8} bit" if m else "neutral" for m in maps]
        table.add_row(swatch.name, f"{swatch.tile:g} m", f"{swatch.relief:g} m", *cells)
        remarks += [f'swatch "{swatch.name}": {path.name} fits no role and is not used' for path in swatch.unused]
        remarks += [f'swatch "{swatch.name}": no {role.key} map; {_neutral(role)} stands in' for role in swatch.missing]
    used = {layer.swatch for layer in quilt.layers}
    remarks += [f'swatch "{swatch.name}": no layer uses it' for swatch in swatches if swatch.name not in used]
    rows, columns = terrain.heights.shape
    low, high = terrain.height_range
    click.echo(f"{quilt_file}: {quilt.table.title or 'untitled'}")
    click.echo(
        f"terrain: {columns} x {rows} samples over {terrain.size[0]:g} x {terrain.size[1]:g} m, {low:.2f} to {high:.2f} m high"
    )
    click.echo("layers, from the bottom up: " + ", ".join(layer.name for layer in quilt.layers))
    terminal().print(table)
    for remark in remarks:
        click.echo(f"note: {remark}")
    click.echo("Everything can be read." if not remarks else f"Everything can be read; {len(remarks)} notes above.")


def _neutral(role: object) -> str:
    from jagged_quilt.maps.roles import MapRole

    assert isinstance(role, MapRole)
    return " ".join(f"{value:g}" for value in role.value.neutral)
