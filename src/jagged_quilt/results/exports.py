"""Exports as steps: one that would come out as it lies there is not written again."""

from __future__ import annotations

from collections.abc import Iterator
from importlib import import_module
from pathlib import Path
from pkgutil import iter_modules

from jagged_quilt.masks.mask import stamps_of
from jagged_quilt.results.exporter import EXPORTERS, Exporter
from jagged_quilt.results.pictures import named_inputs
from jagged_quilt.results.results import Results
from jagged_quilt.results.step import Files, Made, Step
from jagged_quilt.results.weigh_steps import weigh_inputs

__all__ = ["EXPORTERS", "export"]

for _each in iter_modules([str(Path(__file__).parent)]):
    if _each.name.startswith("export_"):  # each makes its exporters known
        import_module(f"jagged_quilt.results.{_each.name}")


def export(results: Results, exporter: Exporter, *, force: bool = False) -> Made:
    """Write what an exporter writes of a quilt, unless that is there already.

    Its `notes` are what the exporter notes, then what is lost.
    """
    if exporter.into is not None:
        written = exporter.write(results, exporter.into)
        return Made(exporter.into, written.files, fresh=True, remark=written.remark, notes=_notes(written.notes, written.lost))

    def make(folder: Path, _anew: bool) -> Files:
        written = exporter.write(results, folder)
        return Files(written.files, written.remark, _notes(written.notes, written.lost))

    def inputs() -> Iterator[bytes | str]:
        yield repr(exporter)
        yield from stamps_of(exporter)
        yield from named_inputs(results)
        if results.quilt.table.surface is not None:
            yield from weigh_inputs(results)
            yield str(results.bake_texels)

    needs = tuple(name for name in exporter.steps(results) if name in results.runner.steps)
    step = Step(name=exporter.name, folder=exporter.folder, inputs=inputs, make=make, needs=needs)
    return results.runner.run_alone(step, force=force)


def _notes(notes: tuple[str, ...], lost: tuple[str, ...]) -> tuple[str, ...]:
    return (*notes, *(f"left out: {line}" for line in lost))
