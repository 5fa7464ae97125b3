"""What stands before the camera of a quilt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.fields import remembering
from jagged_quilt.masks.image_mask import ImageMask
from jagged_quilt.masks.mask import Mask
from jagged_quilt.quiltfile.checks import GROUND
from jagged_quilt.results.mesh_weights import mesh_weights
from jagged_quilt.results.project import Project
from jagged_quilt.show.paged import PagedGround
from jagged_quilt.show.scene import Scene
from jagged_quilt.weights.weight_map import WeightMap


def scene_of(
    project: Project,
    weights: WeightMap | None = None,
    *,
    film_maps: Sequence[ImageMask] | None = None,
    pages: str | None = None,
) -> Scene:
    """Return the terrain and the meshes, with their layers, under the quilt's lights.

    Parameters
    ----------
    weights : WeightMap, optional
        Of the terrain; the project's weight map where they are not given.
    film_maps : sequence of ImageMask, optional
        How much there is of each film on the ground; those of the project where they are not given.
    pages : str, optional
        The store that holds the finished maps of the terrain, in place of its layers.
    """
    quilt, view = project.quilt, project.quilt.table.seen
    scene = Scene(project.arrays, haze=view.haze, cut_out=view.cut_out)
    quilt.loaded.check_lamps()
    scene.lighting = quilt.lighting
    if pages is not None:
        scene.add_pages(quilt.terrain, PagedGround(pages))
    elif "weigh" in project.runner.steps:
        of_map = project.weights if weights is None else weights
        maps = project.film_maps if film_maps is None else film_maps
        films = quilt.films_on(GROUND)
        films = tuple(replace(film, mask=own) for film, own in zip(films, maps, strict=True)) if maps else films
        scene.add(quilt.terrain, quilt.layers, weights=of_map, films=films)
    for number, (table, mesh) in enumerate(zip(quilt.table.mesh, quilt.meshes, strict=True)):
        layers = quilt.layers_by_part[number]
        scene.add(mesh, layers, weights=mesh_weights(project, number), films=quilt.films_on(table.name))
    if not scene.things:
        raise RangeError(f"{quilt.path}: nothing to look at; say a [surface] with [[layer]]s, or a [[mesh]]")
    return scene


def beside_layers(project: Project) -> list[tuple[str, str, Mask]]:
    """Return the masks of the films that lie on the ground, and the channels: kind, name, mask, on the ground."""
    quilt, known = project.quilt, remembering(project.quilt.terrain)
    named: list[tuple[str, str, Mask]] = [("film", each.name, each.mask) for each in reversed(quilt.films_on(GROUND))]
    named += [("channel", each.name, each) for each in quilt.channels]
    return [(kind, name, mask.on(known)) for kind, name, mask in named]
