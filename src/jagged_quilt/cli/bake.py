"""`jquilt bake`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import anew_option, at_work, open_results, quilt_options, ready_kernels, report, time_option, timed

if TYPE_CHECKING:
    from jagged_quilt.quiltfile.results import Made


@click.command("bake")
@quilt_options
@anew_option
@time_option
@click.option("--texels", type=click.IntRange(1, 1 << 17), help="Along the longer side; the quilt file says it else.")
def command(
    quilt_file: Path, out: Path | None, threads: int | None, anew: bool, texels: int | None, time: float | None
) -> None:
    """Blend the layers over the whole surface, and over every mesh by its uv, into finished maps."""
    with at_work() as progress, timed() as seconds:
        results = open_results(quilt_file, out, threads, progress, time)
        ready_kernels()
        made = [(results.bake(texels, anew=anew), seconds())]
        for number in range(len(results.quilt.table.mesh)):
            start = seconds()
            made.append((results.bake_mesh(number, anew=anew), seconds() - start))
    for each, taken in made:
        _report(each, taken)


def _report(made: Made, taken: float) -> None:
    from jagged_quilt.foundation.files import read_json
    from jagged_quilt.maps.roles import SURFACE_ROLES, MapRole

    manifest = read_json(made.folder / "bake.json", "list of maps")
    rows, columns = manifest["texels"]
    space = f"{manifest['normals']} space, green up"
    notes = {"diffuse": "sRGB", "specular": "sRGB", "normal": space, "height": f"white is {manifest['relief_metres']:g} m"}
    what = {
        role.key: f"{columns} x {rows}, {16 if role is MapRole.HEIGHT else 8} bit, {notes.get(role.key, 'plain data')}"
        for role in SURFACE_ROLES
    }
    report(made, taken, what | {"bake": "what the maps are"})
