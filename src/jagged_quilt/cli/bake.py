"""`jquilt bake`"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import Named, anew_option, at_work, quilt_options, ready_kernels, report, time_option, timed

if TYPE_CHECKING:
    from jagged_quilt.results.step import Made


@click.command("bake")
@quilt_options
@anew_option
@time_option
@click.option("--texels", type=click.IntRange(1, 1 << 17), help="Along the longer side; the quilt file says it else.")
def command(named: Named, anew: bool) -> None:
    """Blend the layers over the whole surface, and over every mesh by its uv, into finished maps."""
    with at_work() as progress, timed() as seconds:
        results = named.open(progress)
        made = []
        steps = [*(["bake"] if "bake" in results.runner.steps else []), *results.mesh_steps]
        ready_kernels(results, steps, progress)
        for name in steps or ["bake"]:
            start = seconds()
            made.append((results.run(name, anew=anew), seconds() - start))
    for each, taken in made:
        _report(each, taken)


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
