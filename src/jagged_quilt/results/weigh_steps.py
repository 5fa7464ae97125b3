"""The steps that adopt the weights of another program, and weigh the layers of the ground."""

from __future__ import annotations

import json
from collections.abc import Iterator
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.files import digest_of_file, fingerprint, written_together
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.quiltfile.checks import GROUND
from jagged_quilt.quiltfile.inherit import rehomed
from jagged_quilt.results import inputs
from jagged_quilt.results.project import Project
from jagged_quilt.results.step import Files, Step, kernels
from jagged_quilt.surfaces.grid_canvas import GridCanvas
from jagged_quilt.weights.channel import mask_map, write_channel
from jagged_quilt.weights.weigh import weigh

LARGEST_FILMS = 8192
"""Texels along a weight map up to which views read films from maps; their masks answer beyond."""


def weigh_steps(project: Project) -> list[Step]:
    """Return the steps that give weights, those that the quilt file says enough for."""
    table, steps = project.quilt.table, list[Step]()
    if table.adopt is not None:
        given, make = partial(adopt_inputs, project), partial(_adopt, project)
        steps.append(Step(name="adopt", folder="adopted", inputs=given, make=make, kernels=kernels("weigh")))
    if table.surface is not None and table.layer:
        given_too, make = partial(weigh_inputs, project), partial(_weigh, project)
        needs = before_weighing(project)
        steps.append(Step(name="weigh", folder="weights", inputs=given_too, make=make, needs=needs, kernels=kernels("weigh")))
        if project.quilt.films_on(GROUND) and table.weights.texels <= LARGEST_FILMS:
            films, make = partial(film_inputs, project), partial(_films, project)
            steps.append(Step(name="films", folder="films", inputs=films, make=make, needs=needs, kernels=kernels("weigh")))
    return steps


def film_inputs(project: Project) -> Iterator[bytes | str]:
    """Yield what the amounts of the films on the ground depend on: masks, not what daubs make of layers."""
    yield from mask_inputs(project)
    yield from inputs.films(project.quilt, GROUND)


def before_weighing(project: Project) -> tuple[str, ...]:
    """Return the steps that masks wait for."""
    adopts = ("adopt",) if project.quilt.table.adopt is not None else ()
    return (*adopts, *(("pack",) if project.reads_detail else ()))


def adopt_inputs(project: Project) -> Iterator[bytes | str]:
    """Yield what the adopted weights depend on."""
    quilt = project.quilt
    assert quilt.table.adopt is not None
    yield from (quilt.table.adopt.model_dump_json(), json.dumps([layer.name for layer in quilt.layers]))
    yield from (digest_of_file(quilt.folder / file, "inherited file") for file in quilt.table.adopt.files)


def weigh_inputs(project: Project) -> Iterator[bytes | str]:
    """Yield what the weights depend on."""
    yield from mask_inputs(project)
    yield inputs.daubs(project.quilt)


def mask_inputs(project: Project) -> Iterator[bytes | str]:
    """Yield what the weights depend on beside daubs on layers."""
    quilt, table = project.quilt, project.quilt.table
    assert table.surface is not None
    masks = [(layer.label, layer.swatch, [step.model_dump(mode="json") for step in layer.mask]) for layer in table.layer]
    if table.channel:
        yield json.dumps([each.model_dump(mode="json") for each in table.channel])
        yield inputs.channel_daubs(quilt)
    if project.reads_detail:
        yield from (project.runner.stamp("pack"), inputs.layers_said(quilt))
    yield from (repr(table.surface), table.weights.model_dump_json(), json.dumps(masks), inputs.medleys(quilt))
    yield from (digest_of_file(quilt.folder / file, "heightmap") for file in table.surface.files)
    yield from inputs.mask_files(quilt)
    yield from inputs.own_kinds(quilt)


def weigh_stamp(project: Project) -> str:
    """Return what stands for all masks, daubs and adopted weights."""
    return fingerprint(*weigh_inputs(project), *(adopt_inputs(project) if project.quilt.table.adopt else ()))


def weigh_options(project: Project) -> Facts:
    """Return what the quilt file says of weighing, as options of `weigh`."""
    table = project.quilt.table.weights
    said: Facts = {"keep": table.keep, "bits": table.bits, "stacking": table.stacking}
    said |= {"adopted": project.adopted, "daubs": project.quilt.ground_daubs}
    return said | {"work": project.work}


def write_channels(project: Project, folder: Path, bits: int) -> list[Path]:
    """Write how much there is of each channel over the ground, a grey image each."""
    canvas = project.quilt.terrain.canvas(project.quilt.table.weights.texels)
    with written_together(folder) as stage:
        names = [write_channel(stage, canvas, channel, bits, work=project.work).name for channel in project.quilt.channels]
    return [folder / name for name in names]


def film_amounts(project: Project, canvas: GridCanvas) -> list[NDArray[np.uint8]]:
    """Return how much of each film on the ground there is over a canvas of it, (H, W) uint8 each."""
    return [mask_map(canvas, film.mask, work=project.work) for film in project.quilt.films_on(GROUND)]


def _films(project: Project, folder: Path, force: bool) -> Files:
    made = film_amounts(project, project.quilt.terrain.canvas(project.quilt.table.weights.texels))
    with written_together(folder) as stage:
        names = [f"film_{number}.png" for number in range(len(made))]
        for name, amounts in zip(names, made, strict=True):
            write_image(stage / name, amounts[..., None])
    return Files(tuple(folder / name for name in names))


def _adopt(project: Project, folder: Path, force: bool) -> Files:
    return Files(tuple(rehomed(project.quilt, project.inherited).save(folder)))


def _weigh(project: Project, folder: Path, force: bool) -> Files:
    canvas = project.quilt.terrain.canvas(project.quilt.table.weights.texels)
    files = weigh(canvas, project.layers, **weigh_options(project)).save(folder)
    return Files((*files, *write_channels(project, folder, project.quilt.table.weights.bits)))
