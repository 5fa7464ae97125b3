"""`jquilt new`"""

from __future__ import annotations

from pathlib import Path

import click

from jagged_quilt.cli.common import as_typed, at_work
from jagged_quilt.cli.gather import Pair, tell


@click.command("new")
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False))
@click.option(
    "--from",
    "textures",
    multiple=True,
    type=click.Path(path_type=Path),
    help="A folder of textures to make swatches of; they stay where they are. May be said again.",
)
@click.option("--terrain", type=click.Path(path_type=Path), help="A heightmap for the ground; hills are made up without it.")
@click.option("--size", type=Pair(), help="Metres that it covers, east and south; a metre a sample where not given.")
@click.option("--heights", type=Pair(), help="Metres of its black and of its white.")
def command(
    folder: Path,
    textures: tuple[Path, ...],
    terrain: Path | None,
    size: tuple[float, float] | None,
    heights: tuple[float, float] | None,
) -> None:
    """Begin a project: a folder with a quilt file that bakes as it is.

    Of textures each set becomes a swatch, and a layer where it would lie on the ground: by a word of its name, or else by
    its colour. Every line says why.
    """
    from jagged_quilt.audit.gather import gather
    from jagged_quilt.foundation.errors import RangeError
    from jagged_quilt.quiltfile.beginning import begin, guessed_ground

    if terrain is None and (size or heights):
        raise click.UsageError("--size and --heights say how large a heightmap is; name it with --terrain")
    with at_work() as work:
        found = gather(*textures, work=work) if textures else None
        if found is not None and not found.sets:
            raise RangeError(f"{', '.join(map(str, textures))}: holds no set of maps with a colour map; nothing is written")
        ground = guessed_ground(terrain, size, heights) if terrain is not None else None
        begun = begin(folder, ground=ground, found=found)
    if found is not None:
        tell(found, found.sets)
    click.echo(f"{begun.quilt_file}: written, with {', '.join(path.name for path in begun.files[1:])}.")
    for key in ground.guessed if ground is not None else ():
        click.echo(f"guessed: [surface] {key}; write what is right")
    click.echo(f"next: jquilt show {as_typed(begun.quilt_file)} view")
