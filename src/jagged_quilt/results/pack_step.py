"""The step that packs swatches into texture arrays."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from functools import partial
from pathlib import Path

from jagged_quilt.arrays.open_arrays import open_arrays
from jagged_quilt.arrays.pack import pack_files
from jagged_quilt.arrays.texture_arrays import INPUTS, MANIFEST
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import FileDigests, read_json
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.maps.roles import SURFACE_ROLES
from jagged_quilt.quiltfile.packing import layouts_of
from jagged_quilt.results.project import Project
from jagged_quilt.results.step import Files, Step, kernels


def pack_steps(project: Project) -> list[Step]:
    """Return the step that packs the arrays."""
    inputs, make = partial(pack_inputs, project), partial(_pack, project)
    return [Step(name="pack", folder="arrays", inputs=inputs, make=make, kernels=kernels("pack"))]


def pack_inputs(project: Project) -> Iterator[str]:
    """Yield what the arrays depend on."""
    yield project.quilt.table.arrays.model_dump_json()
    known: Facts = {}
    with contextlib.suppress(FileError):
        known = read_json(project.folder / "arrays" / INPUTS, "list of inputs")
    digests = FileDigests(known)
    roles = {role for layout in project.quilt.layouts for role in layout.roles} | set(SURFACE_ROLES)
    for source in project.sources:
        yield from (source.name, f"{source.tile} {source.aspect} {source.relief}", source.stamp(roles, digests))


def _pack(project: Project, folder: Path, force: bool) -> Files:
    table = project.quilt.table.arrays
    made = pack_files(
        project.sources,
        folder,
        side=table.side,
        layouts=layouts_of(project.quilt, project.sources),
        mips=table.mips,
        zstd=table.compress == "zstd",
        force=force,
        work=project.work,
    )
    project.arrays = open_arrays(folder)
    files = [*(path for path in made.files if path.name != MANIFEST), folder / MANIFEST]
    if table.images:
        project.arrays.save_images(folder / "slices")
        files.append(folder / "slices" / "slices.json")
    return Files(tuple(files), f"{made.made} slices made, {made.kept} kept as they were" if made.kept else "")
