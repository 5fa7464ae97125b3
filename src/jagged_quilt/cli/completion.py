"""`jquilt completion`"""

from __future__ import annotations

import click


@click.command("completion")
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def command(shell: str) -> None:
    """Give what completes commands, options and files in a shell: bash, zsh or fish.

    \b
    bash, zsh:  eval "$(jquilt completion bash)"   in ~/.bashrc or ~/.zshrc
    fish:       jquilt completion fish > ~/.config/fish/completions/jquilt.fish
    """
    from click.shell_completion import get_completion_class

    kind = get_completion_class(shell)
    assert kind is not None
    group = click.get_current_context().find_root().command
    click.echo(kind(group, {}, "jquilt", "_JQUILT_COMPLETE").source())
