"""What all commands share: the quilt file argument, --out, progress, warnings, the sentence on compiling, tables."""

from __future__ import annotations

import shlex
import sys
import threading
import time
import warnings
from collections.abc import Callable, Collection, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, fields
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from jagged_quilt.foundation.json_types import Facts, Unchecked
    from jagged_quilt.foundation.progress import Progress
    from jagged_quilt.foundation.work import Work
    from jagged_quilt.results.results import Results
    from jagged_quilt.results.step import Made


_WIDEST = 4096  # columns, where a terminal would fold nothing
_LOADED: list[str] = []  # modules, by --with
_WONDER = 2.0  # seconds of compiling one kernel, after which it is said


@dataclass(frozen=True)
class Named:
    """The quilt file that a command was given, and what was said of how to run it."""

    quilt_file: Path
    out: Path | None
    threads: int | None
    time: float | None = None
    texels: int | None = None
    store: str | None = None
    on_gpu: bool = False

    def open(self, work: Work, leave_out: Collection[str] = (), *, alone: bool = True) -> Results:
        """Read the quilt file and the folder of its results; refuse an --out that cannot be one.

        alone : whether no other process is to work with that folder until the command ends.
        """
        refuse_unknown_keys(self.quilt_file)
        from jagged_quilt.quiltfile.reading import read_quilt

        quilt = read_quilt(self.quilt_file, time=self.time)
        from jagged_quilt.foundation.files import make_folder
        from jagged_quilt.foundation.locks import take
        from jagged_quilt.results.results import Results

        how: Facts = {"texels": self.texels, "on_gpu": self.on_gpu, "leave_out": leave_out}
        results = Results(quilt, self.out, **how, work=work)
        make_folder(results.folder)
        if alone:
            click.get_current_context().call_on_close(take(results.folder).release)
        return results


class _Folder(click.Path):
    """A folder to write to, which has a name."""

    def convert(self, value: Unchecked, param: click.Parameter | None, ctx: click.Context | None) -> Unchecked:
        if value == "":
            self.fail("it must name a folder; got nothing", param, ctx)
        return super().convert(value, param, ctx)


def _load(_: click.Context, __: click.Parameter, names: tuple[str, ...]) -> None:
    for name in names:
        from jagged_quilt.foundation.modules import load_module

        load_module(name)
        _LOADED.append(name)


def refuse_unknown_keys(quilt_file: Path) -> None:
    """Raise `QuiltFileError` for keys that are not known, before anything is loaded that takes time."""
    from jagged_quilt.quiltfile.unknown_keys import unknown_keys

    if not _LOADED and (faults := unknown_keys(quilt_file)):  # masks of one's own have keys that only reading knows
        from jagged_quilt.foundation.errors import QuiltFileError

        raise QuiltFileError("\n".join(faults))


with_option = click.option(
    "--with",
    multiple=True,
    metavar="MODULE",
    expose_value=False,
    callback=_load,
    is_eager=True,
    help="Load a module or a .py file first: masks, projections and exporters that it defines are known. May be said again.",
)
_COMMON = (
    with_option,
    click.option("--threads", type=click.IntRange(1, 1024), help="How many; one per core where not given."),
    click.option(
        "--out", type=_Folder(path_type=Path), help="Folder for results; `out` beside the quilt file where not given."
    ),
    click.argument("quilt_file", type=click.Path(path_type=Path)),
)
time_option = click.option("--time", type=float, help="What formulas in masks read, in place of what the quilt file says.")
anew_option = click.option("--force", is_flag=True, help="Do it again even if nothing changed.")


def quilt_options(function: Callable[..., None]) -> Callable[..., None]:
    """Add the quilt file and the options that every step of it takes; the command gets them as one `Named`."""

    @wraps(function)
    def command(**given: object) -> None:
        said = {each.name: given.pop(each.name) for each in fields(Named) if each.name in given}
        function(Named(**said), **given)  # type: ignore[arg-type]  # click has checked them

    for option in _COMMON:
        command = option(command)
    return command


@contextmanager
def at_work(threads: int | None = None) -> Iterator[Work]:
    """Give work its threads, and a bar on a terminal or silence in a pipe. Warnings go to standard error, one line each."""
    from jagged_quilt.foundation.errors import QuiltWarning
    from jagged_quilt.foundation.reading import printable
    from jagged_quilt.foundation.work import Work

    with warnings.catch_warnings(record=True) as caught, _bar() as progress, _notice_of_compiling(progress):
        warnings.simplefilter("ignore")
        warnings.simplefilter("always", QuiltWarning)
        try:
            yield Work(threads, progress)
        finally:
            for line in dict.fromkeys(str(each.message) for each in caught):
                click.echo(f"warning: {printable(line)}", err=True)
            _tell_if_kernels_are_lost()


def _tell_if_kernels_are_lost() -> None:
    """Say so where what was compiled cannot be kept for the next run."""
    if "jagged_quilt.foundation.compiler" in sys.modules:
        from jagged_quilt.foundation.kernel_cache import cache_folder

        if cache_folder() is None:
            why = "no folder to keep compiled kernels in can be written to, so each run compiles what it needs"
            click.echo(f"warning: {why}; name one in NUMBA_CACHE_DIR", err=True)


@contextmanager
def _notice_of_compiling(progress: Progress) -> Iterator[None]:
    """Say when a kernel is compiled that was not compiled ahead, if that takes long enough to wonder."""
    from jagged_quilt.foundation.kernels import when_compiling

    waiting: list[threading.Timer] = []

    def tell(name: str) -> None:
        progress(f"compiling {name}", 0, 0)
        if not sys.stderr.isatty():
            notice = f"compiling one more kernel, {name}; only the first run needs this"
            waiting.append(threading.Timer(_WONDER, click.echo, [notice], {"err": True}))
            waiting[-1].daemon = True
            waiting[-1].start()

    def done() -> None:
        if waiting:
            waiting.pop().cancel()

    with when_compiling(tell, done):
        yield


@contextmanager
def _bar() -> Iterator[Progress]:
    if not sys.stderr.isatty():
        from jagged_quilt.foundation.progress import silent

        yield silent
        return
    from rich import progress as bars

    columns = (
        bars.TextColumn("{task.description:<18}"),
        bars.BarColumn(),
        bars.TextColumn("{task.percentage:>3.0f} %"),
        bars.TimeElapsedColumn(),
    )
    with bars.Progress(*columns, console=terminal(stderr=True), transient=True) as bar:
        tasks: dict[str, bars.TaskID] = {}
        lock = threading.Lock()

        def tell(step: str, done: int, whole: int) -> None:
            with lock:
                if step not in tasks or done == 0:
                    for old in tasks.values():
                        bar.update(old, visible=False)
                    tasks[step] = bar.add_task(step, total=max(1, whole))
                bar.update(tasks[step], completed=done)

        yield tell


def ready_kernels(results: Results | None, names: Collection[str], work: Work) -> None:
    """Compile the kernels that some steps of a quilt need (all where there is none), if that was not done yet, and say so."""
    from jagged_quilt.results.warm import cold, warm

    parts = results.kernels_for(names) if results else ()
    if not cold(parts):
        return
    if not sys.stderr.isatty():
        click.echo("compiling the kernels; only the first run needs this (about a minute)", err=True)
    warm(parts, work=work)


def terminal(stderr: bool = False) -> Console:
    """Return a console that does not fold lines in a pipe; what stands in brackets or between colons is text like any other."""
    from rich.console import Console

    console = Console(stderr=stderr, highlight=False, markup=False, emoji=False)
    if not console.is_terminal:
        console = Console(stderr=stderr, highlight=False, markup=False, emoji=False, width=200)
    return console


def print_table(table: Table) -> None:
    """Print a table; where its columns do not fit the terminal, each row as its name and a line of what there is of it."""
    from rich.measure import Measurement
    from rich.padding import Padding

    console = terminal()
    if Measurement.get(console, console.options.update(width=_WIDEST), table).maximum <= console.width:
        console.print(table)
        return
    for cells in zip(*(column.cells for column in table.columns), strict=True):
        first, *rest = map(str, cells)
        said = [f"{column.header} {cell}".strip() for column, cell in zip(table.columns[1:], rest, strict=True) if cell]
        if first:
            console.print(first, style="bold")
        console.print(Padding("; ".join(said), (0, 0, 0, 2), expand=False))


def as_typed(path: Path) -> str:
    """Return a path as it is typed in a shell: in quotes where it holds spaces, brackets and the like."""
    return shlex.quote(str(path))


def report(made: Made, seconds: float, what: Mapping[str, str] | None = None) -> None:
    """Say what a step did, a line for each file: where it lies, what is in it (by `what`, from its stem), and its size."""
    done = f"in {seconds:.1f} s" if made.fresh else "nothing changed; kept as it was"
    click.echo(f"{made.folder}: {done}" + (f"; {made.remark}" if made.remark else ""))
    wide = max([55, *map(len, (what or {}).values())]) + 3
    for path in made.files:
        kept, name = (what or {}).get(path.stem, ""), path.relative_to(made.folder).as_posix()
        line = f"{name:<34}{kept}" if kept else name
        click.echo(f"  {line:<{34 + wide}}{-(-path.stat().st_size // 1024):>8,} KiB")


@contextmanager
def timed() -> Iterator[Callable[[], float]]:
    """Give a clock that tells the seconds since the block began."""
    start = time.perf_counter()
    yield lambda: time.perf_counter() - start
