"""`jquilt manual`"""

from __future__ import annotations

import re

import click


@click.command("manual")
def command() -> None:
    """Give a man page of all commands, made of the texts of their --help.

    \b
    jquilt manual | man -l -
    jquilt manual > ~/.local/share/man/man1/jquilt.1
    """
    from jagged_quilt.foundation.version import __version__

    root = click.get_current_context().find_root()
    group = root.command
    assert isinstance(group, click.Group)
    lines = [f'.TH JQUILT 1 "" "Jagged Quilt {__version__}"', ".SH NAME", f"jquilt \\- {_plain(group.get_short_help_str(200))}"]
    lines += [".SH SYNOPSIS", ".B jquilt", "[OPTIONS] COMMAND [ARGS]...", ".SH DESCRIPTION", *_text(group), ".SH OPTIONS"]
    lines += _options(group, root)
    for name in group.list_commands(root):
        own = group.get_command(root, name)
        assert own is not None
        lines += _command(own, f"jquilt {name}", root)
    click.echo("\n".join(lines))


def _command(command: click.Command, name: str, parent: click.Context) -> list[str]:
    context = click.Context(command, info_name=name, parent=None)
    lines = [
        f'.SH "{name.upper()}"',
        f".B {name}",
        _plain(" ".join(command.collect_usage_pieces(context))),
        ".PP",
        *_text(command),
    ]
    lines += _options(command, context)
    if isinstance(command, click.Group):
        for each in command.list_commands(context):
            own = command.get_command(context, each)
            lines += _command(own, f"{name} {each}", context) if own is not None else []
    return lines


def _text(command: click.Command) -> list[str]:
    """The help of a command, a paragraph each; those marked with \\b as they are written."""
    out: list[str] = []
    for block in (command.help or "").split("\n\n"):
        if block.lstrip().startswith("\b"):
            out += [".PP", ".nf", *map(_plain, block.lstrip()[1:].strip("\n").splitlines()), ".fi"]
        else:
            out += [".PP", _plain(" ".join(block.split()))]
    return out[1:]


def _options(command: click.Command, context: click.Context) -> list[str]:
    records = [each.get_help_record(context) for each in command.get_params(context)]
    return [line for each in records if each and each[1] for line in (".TP", f".B {_plain(each[0])}", _plain(each[1]))]


def _plain(text: str) -> str:
    """Text without what roff reads as a command."""
    return re.sub(r"^(?=[.'])", "\\\\&", text.replace("\\", "\\\\").replace("-", "\\-"))
