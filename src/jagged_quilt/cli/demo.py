"""`jquilt demo`"""

from __future__ import annotations

import re
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import click

from jagged_quilt.cli.common import as_typed, at_work, print_table, ready_kernels

Result = TypeVar("Result")


@click.command("demo")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--threads", type=click.IntRange(1, 1024), help="How many; one per core where not given.")
@click.option("--texels", type=click.IntRange(8, 4096), default=512, show_default=True, help="Along the side of every map.")
def command(folder: Path, threads: int | None, texels: int) -> None:
    """Write an example project into FOLDER, then check, pack, weigh, bake and draw it."""
    from rich.table import Table

    from jagged_quilt.demo.project import write_project
    from jagged_quilt.quiltfile.reading import read_quilt
    from jagged_quilt.results.audits import MEMO, audit_quilt
    from jagged_quilt.results.results import Results

    steps: list[tuple[str, str, float]] = []

    def step(name: str, do: Callable[[], Result], tell: Callable[[Result], str]) -> Result:
        start = time.perf_counter()
        result = do()
        steps.append((name, tell(result), time.perf_counter() - start))
        return result

    with at_work(threads) as work:
        ready_kernels(None, (), work)
        quilt_file = step(
            "write",
            lambda: write_project(folder, texels=texels, work=work),
            lambda made: f"{made.name}, swatches/, ground/, things/, inherited/, daubs.jsonl",
        )
        quilt = read_quilt(quilt_file)
        results = Results(quilt, work=work)
        step(
            "check",
            lambda: (audit_quilt(quilt, memo=results.folder / MEMO, work=work), quilt.terrain),
            lambda seen: f"{len(seen[0])} swatches, 1 heightmap: {sum(len(each.faults) for each in seen[0])} faults",
        )
        step("pack", lambda: results.run("pack"), lambda made: _what(folder, made.folder, made.files))
        step("weigh", lambda: results.run("weigh"), lambda made: _what(folder, made.folder, made.files))
        step("bake", lambda: results.run("bake"), lambda made: _what(folder, made.folder, made.files))
        step(
            "bake meshes",
            lambda: [results.run(name) for name in results.mesh_steps],
            lambda made: f"out/meshes/: {', '.join(each.folder.name for each in made)}",
        )
        step(
            "show",
            lambda: results.draw(results.pictures),
            lambda made: _what(folder, made[0].folder, tuple(file for each in made for file in each.files)),
        )
        shares = results.weights.shares()

    table = Table("step", "what was written in " + str(folder), "seconds", box=None, header_style="bold")
    table.columns[2].justify = "right"
    for name, what, seconds in steps:
        table.add_row(name, what, f"{seconds:.1f}")
    print_table(table)
    cover = Table("layer", "share of the terrain", "", box=None, header_style="bold")
    cover.columns[1].justify = "right"
    for name, share in reversed(shares.items()):
        cover.add_row(name, f"{100 * share:.1f} %", "█" * round(60 * share))
    click.echo()
    print_table(cover)
    click.echo(f"\nNext: jquilt page {as_typed(quilt_file)}")
    click.echo('      shows it live in a browser (pip install "jagged-quilt[page]")')
    click.echo("      look at " + str(results.folder / "pictures" / "view.png"))
    click.echo(f"      jquilt look {as_typed(quilt_file)}")
    click.echo("      draws it again whenever you save a change to that file")
    click.echo("      jquilt --help tells the rest")


def _what(folder: Path, made: Path, files: tuple[Path, ...]) -> str:
    counts = Counter(re.sub(r"_[0-9]+$", "", path.stem) for path in files if path.suffix != ".json")
    names = [name if count == 1 else f"{name} x {count}" for name, count in counts.items()]
    return f"{made.relative_to(folder)}/: {', '.join(names)}"
