"""`jquilt`: finds commands, and turns errors into one clear line and an exit code."""

from __future__ import annotations

import importlib
import io
import os
import sys

import click

COMMANDS = (
    *("demo", "new", "gather", "check", "pack", "adopt", "daub", "weigh", "bake", "show", "look", "page", "export", "warm"),
    *("schema", "completion", "manual"),
)


class _Commands(click.Group):
    """Loads a command's file when it is called for; what a command needs it imports itself, when it runs."""

    def list_commands(self, context: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, context: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        command: click.Command = importlib.import_module(f"jagged_quilt.cli.{name}").command
        return command

    def resolve_command(self, context: click.Context, args: list[str]) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] == "help":  # as people ask elsewhere
            args = [*(args[1:2] or []), "--help"]
            if len(args) == 1:
                click.echo(self.get_help(context))
                context.exit()
        if args and args[0] not in COMMANDS:
            import difflib

            near = difflib.get_close_matches(args[0], COMMANDS, n=1)
            hint = f"did you mean {near[0]}?" if near else f"there are: {', '.join(COMMANDS)}"
            context.fail(f"no command {args[0]!r}; {hint}")
        return super().resolve_command(context, args)


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.option("--debug", is_flag=True, expose_value=False, help="Show where in the code an error came from.")
@click.option("--wide", is_flag=True, help="Use vectors of 512 bits where the processor has them; measure whether it gains.")
@click.version_option(None, "-V", "--version", package_name="jagged-quilt", message="Jagged Quilt %(version)s")
def jquilt(wide: bool) -> None:
    """Blend the texture maps of many materials over a terrain, and see every step.

    Begin with `jquilt demo saltworks`: it writes an example project and runs all of it.
    """
    if wide:
        from jagged_quilt.foundation.avx512 import wide_vectors

        if not wide_vectors():
            click.echo("warning: --wide does nothing here: this processor has no vectors of 512 bits", err=True)


def main() -> None:
    """Run the command line. Exit code 0 done, 1 the check found faults, 2 the input was refused, 3 our own failure."""
    command = next((index for index, word in enumerate(sys.argv) if word in COMMANDS), len(sys.argv))
    debug = "--debug" in sys.argv[:command]  # after a command it may be that command's own
    if not debug:
        _keep_libraries_quiet()
    _print_anything()
    try:
        jquilt.main(prog_name="jquilt", standalone_mode=False, color=False if os.environ.get("NO_COLOR") else None)
        _flush()
    except click.exceptions.Exit as stop:
        sys.exit(stop.exit_code)
    except click.Abort:
        _say("stopped; what was there before is untouched")
        sys.exit(130)
    except click.ClickException as error:
        error.show()
        sys.exit(2)
    except BrokenPipeError:
        _print_nothing()
        sys.exit(0)
    except Exception as error:
        from jagged_quilt.foundation.errors import QuiltError

        if debug:
            raise
        if isinstance(error, QuiltError):
            _say(str(error))
            sys.exit(2)
        if isinstance(error, OSError):
            _print_nothing()
            what = error.filename or "standard output, or a file"
            _say(f"{what}: the system says: {error.strerror or error}; what was there before is untouched")
            sys.exit(2)
        _say(f"a fault of our own, not of your input: {type(error).__name__}: {error} (run with --debug to see where)")
        sys.exit(3)


def _keep_libraries_quiet() -> None:
    """Image libraries write to the standard error file of the process by themselves; what they say is in our errors too."""
    try:
        own = os.dup(2)
        sys.stderr = os.fdopen(own, "w", buffering=1, encoding="utf-8", errors="backslashreplace")
        os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
    except OSError:  # no standard error at all: nothing to keep quiet
        return


def _print_anything() -> None:
    """Where standard output has no place for a letter, print a question mark."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper) and stream.encoding.lower().replace("-", "") != "utf8":
            stream.reconfigure(errors="replace")


def _flush() -> None:
    if sys.stdout is not None:
        sys.stdout.flush()


def _print_nothing() -> None:
    """Give up standard output, so that Python does not stumble over it again when it ends."""
    if sys.stdout is not None:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _say(message: str) -> None:
    """One line for each of a message, without what would steer a terminal: some of it stood in files."""
    from jagged_quilt.foundation.reading import printable

    lines = [printable(line) for line in message.splitlines()]
    click.echo("\n".join(f"jquilt: {line}" for line in lines or [""]), err=True)
