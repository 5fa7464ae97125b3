"""`jquilt export`: a word for each exporter, with its own options."""

from __future__ import annotations

import ast
import sys
import typing
from pathlib import Path
from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import Named, anew_option, at_work, quilt_options, ready_kernels, report, timed, with_option

if TYPE_CHECKING:
    from jagged_quilt.foundation.json_types import Facts
    from jagged_quilt.results.exporter import Choice, Exporter


_OWN = "own_"  # before the names of an exporter's options, which may be those that all commands have


class _Exporters(click.Group):
    """Lists the exporters that there are, and makes a command of each: its options are the exporter's own fields."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted(_summaries())

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(sorted(_summaries().items()))

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        from jagged_quilt.results.exports import EXPORTERS

        return _command_of(name, EXPORTERS[name]) if name in EXPORTERS else None

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in self.list_commands(ctx) and not args[0].startswith("-"):
            known = ", ".join(self.list_commands(ctx))
            ctx.fail(f"say what to write before the quilt file: jquilt export weights {args[0]}; there are: {known}")
        return super().resolve_command(ctx, args)


def _summaries() -> dict[str, str]:
    """What each exporter writes, by its word: those of the library as their files say it, without loading them, and those of
    modules that are loaded."""
    out: dict[str, str] = {}
    for path in sorted((Path(__file__).parents[1] / "results").glob("export_*.py")):
        for kind in (each for each in ast.parse(path.read_text(encoding="utf-8")).body if isinstance(each, ast.ClassDef)):
            said = [line for line in kind.body if isinstance(line, ast.AnnAssign) and ast.unparse(line.target) == "key"]
            if said and isinstance(said[0].value, ast.Constant):
                out[str(said[0].value.value)] = (ast.get_docstring(kind) or "").partition("\n")[0]
    known = sys.modules.get("jagged_quilt.results.exporter")
    kinds: dict[str, type[Exporter]] = known.EXPORTERS if known else {}
    return out | {key: (kind.__doc__ or "").partition("\n")[0] for key, kind in kinds.items()}


@click.command("export", cls=_Exporters)
@with_option
def command() -> None:
    """Write for other programs: weights, maps, meshes, scenes, materials, shader source, or a bundle of all of it."""


def _command_of(name: str, kind: type[Exporter]) -> click.Command:
    from jagged_quilt.results.exporter import choices_of

    @quilt_options
    @anew_option
    def run(named: Named, force: bool, **said: object) -> None:
        from jagged_quilt.results.exports import export

        exporter = kind(**{key.removeprefix(_OWN): value for key, value in said.items() if value is not None})
        with at_work(named.threads) as work, timed() as seconds:
            results = named.open(work)
            ready_kernels(results, exporter.steps(results), work)
            made = export(results, exporter, force=force)
            report(made, seconds(), kind.what)
        for line in made.notes:
            click.echo(f"  {line}")

    for field, choice in reversed(list(choices_of(kind))):
        run = _option_of(kind, field, choice)(run)
    return click.command(name, help=kind.__doc__, short_help=(kind.__doc__ or "").partition("\n")[0])(run)


def _option_of(kind: type[Exporter], field: str, choice: Choice) -> typing.Callable[..., typing.Any]:
    """A field of an exporter as an option."""
    default, hint = kind.__dataclass_fields__[field].default, typing.get_type_hints(kind)[field]
    flag = f"--{(choice.flag or field).replace('_', '-')}"
    how: Facts = {"help": choice.help}
    if isinstance(default, bool):
        if default:
            return click.option(
                f"--no-{field.replace('_', '-')}", _OWN + field, flag_value=False, default=True, help=choice.help
            )
        return click.option(flag, _OWN + field, is_flag=True, **how)
    if choice.metavar:
        how["metavar"] = choice.metavar
    if choice.words:
        words = [str(word) for word in choice.words]
        how["type"] = click.Choice(words)
        if isinstance(default, int):
            how |= {"default": str(default), "callback": lambda _, __, value: int(value)}
        elif isinstance(default, str):
            how["default"] = default
        how["show_default"] = isinstance(default, (int, str))
    elif hint in (int, int | None):
        how["type"] = click.IntRange(1, 1 << 15)
    elif hint in (float, float | None):
        how |= {"type": float, "default": default, "show_default": default is not None}
    elif hint in (Path, Path | None):
        how["type"] = click.Path(path_type=Path)
    if isinstance(default, tuple):
        how |= {"multiple": True, "callback": lambda _, __, value: value or default}
    return click.option(flag, _OWN + field, **how)
