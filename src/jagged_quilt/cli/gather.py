"""`jquilt gather`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import as_typed, at_work, print_table

if TYPE_CHECKING:
    from jagged_quilt.audit.gather import GatheredSet, Gathering
    from jagged_quilt.foundation.json_types import Facts

_ASKED = 12  # questions that are listed; all of them stand in the file
_MANY = 5  # files that end in the same word


class Pair(click.ParamType[tuple[float, float]]):
    """Two numbers, with a comma between."""

    name = "A,B"

    def convert(self, value: object, param: click.Parameter | None, context: click.Context | None) -> tuple[float, float]:
        """Read them."""
        try:
            one, other = (float(each) for each in str(value).split(","))
        except ValueError:
            self.fail(f"needs two numbers with a comma between, as 256,256; got {value!r}", param, context)
        return one, other


@click.command("gather")
@click.argument("folders", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--into", required=True, type=click.Path(path_type=Path), help="The quilt file to write, or to add new sets to.")
@click.option("--terrain", type=click.Path(path_type=Path), help="A heightmap to lay the sets on.")
@click.option("--size", type=Pair(), help="Metres that it covers, east and south.")
@click.option("--heights", type=Pair(), help="Metres of its black and of its white.")
@click.option("--layers", is_flag=True, help="Propose a layer for each new set, too; done of itself with --terrain.")
@click.option("--json", "as_json", is_flag=True, help="Print all of it as JSON.")
@click.option("--threads", type=click.IntRange(1, 1024), help="How many; one per core where not given.")
def command(
    folders: tuple[Path, ...],
    into: Path,
    terrain: Path | None,
    size: tuple[float, float] | None,
    heights: tuple[float, float] | None,
    layers: bool,
    as_json: bool,
    threads: int | None,
) -> None:
    """Look through folders for sets of maps, and write a quilt file that names every file and says why.

    Run it again on the same file to add what is new: what stands there stays.
    """
    from jagged_quilt.audit.gather import gather
    from jagged_quilt.foundation.errors import RangeError
    from jagged_quilt.quiltfile.gathered import GroundFile, files_known, quilt_at, write_gathered

    if (terrain is None) != (size is None) or (terrain is None) != (heights is None):
        raise click.UsageError("--terrain, --size and --heights go together")
    ground = (
        None if terrain is None or size is None or heights is None else GroundFile(file=terrain, size=size, heights=heights)
    )
    with at_work(threads) as work:
        quilt = quilt_at(into)
        known, gone = files_known(quilt) if quilt else ([], [])
        words = quilt.table.words() if quilt else {}
        if quilt and ground and quilt.table.surface:
            raise RangeError(f"{into}: has a ground already; leave --terrain away")
        found = gather(*folders, words=words, known=known, work=work)
        if not found.sets and quilt is None:
            raise RangeError(f"{', '.join(map(str, folders))}: {_why_nothing(found)}; nothing is written")
        added = write_gathered(into, found, ground=ground, layers=layers) if found.sets else ()
    if as_json:
        import json

        click.echo(json.dumps(as_facts(found, added, gone), indent=2, ensure_ascii=False))
        return
    tell(found, added)
    for name in gone:
        click.echo(click.style("gone", fg="yellow") + f': swatch "{name}": its files are not there any more')
    kept = f", beside {len(quilt.sources)} that stand there" if quilt else ""
    sets = "1 set" if len(added) == 1 else f"{len(added)} sets"
    click.echo(f"{into}: {sets} written{kept}." if added else f"{into}: nothing new; it stays as it is.")
    click.echo(f"next: jquilt check {as_typed(into)}")


def _why_nothing(found: Gathering) -> str:
    """Why there is no set."""
    if not found.left:
        return "no image files that can be read lie there"
    first = found.left[0]
    return f"of {len(found.left)} image files none makes a set with a colour map ({first.file.name}: {first.why})"


def tell(found: Gathering, sets: tuple[GatheredSet, ...], *, with_sets: bool = True) -> None:
    """Say what was found: a line for each set, then what was left out, by reason."""
    from rich.table import Table

    table = Table("set", "maps", "left out", box=None, header_style="bold")
    for one in sets:
        roles = ", ".join("+".join(role.key for role in each.roles if role) for each in one.maps)
        left = ", ".join(f"{each.file.name}{' (?)' if each.ask else ''}" for each in one.left)
        table.add_row(one.name, roles, left)
    if with_sets:
        print_table(table)
    asked = [(one.name, each) for one in sets for each in one.left if each.ask]
    for name, each in asked[:_ASKED]:
        click.echo(click.style("asked", fg="yellow") + f": {name}: {each.file.name}: {each.why}")
    if len(asked) > _ASKED:
        click.echo(f"and {len(asked) - _ASKED} more, each a comment in the file")
    reasons: dict[str, list[str]] = {}
    for each in found.left:
        reasons.setdefault(each.why, []).append(each.file.name)
    for why, names in sorted(reasons.items(), key=lambda each: -len(each[1])):
        shown = ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")
        click.echo(
            click.style("left", fg="yellow") + f": {shown}: {why}{_family(names) if why.startswith('fits no set') else ''}"
        )
    if found.unread:
        kinds = sorted({path.suffix.lower() for path in found.unread})
        files = "1 file" if len(found.unread) == 1 else f"{len(found.unread)} files"
        unread = f": {files} of formats that are not read: {', '.join(kinds)}"
        click.echo(click.style("left", fg="yellow") + unread)


def _family(names: list[str]) -> str:
    """What to write if many files that fit nothing end in the same word."""
    from collections import Counter

    ends = Counter(Path(name).stem.rpartition("_")[2] for name in names if "_" in Path(name).stem)
    word, count = ends.most_common(1)[0] if ends else ("", 0)
    return f'; {count} end in "_{word}": a table [names] can say what that is, "_{word}" = "…"' if count >= _MANY else ""


def as_facts(found: Gathering, sets: tuple[GatheredSet, ...], gone: list[str]) -> Facts:
    """All of it, as JSON has it."""
    left = lambda each: {"file": str(each.file), "why": each.why, "ask": each.ask}
    return {
        "sets": [
            {
                "name": one.name,
                "folder": str(one.folder),
                "maps": [
                    {"file": str(each.file), "roles": [role.key if role else "none" for role in each.roles], "why": each.why}
                    for each in one.maps
                ],
                "left": [left(each) for each in one.left],
            }
            for one in sets
        ],
        "left": [left(each) for each in found.left],
        "unread": [str(path) for path in found.unread],
        "gone": gone,
    }
