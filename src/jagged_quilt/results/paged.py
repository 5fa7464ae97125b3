"""The surfaces of a quilt baked into pages of a store."""

from __future__ import annotations

from collections.abc import Sequence

from jagged_quilt.arrays.page_grid import BORDER, PAGE
from jagged_quilt.arrays.texel_cache import TexelCache
from jagged_quilt.baking.bake import Baker
from jagged_quilt.baking.page_bake import PagesMade
from jagged_quilt.baking.pages import bake_pages
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.quiltfile.checks import GROUND
from jagged_quilt.results.results import Results
from jagged_quilt.results.weigh_steps import weigh_options, weigh_stamp
from jagged_quilt.surfaces.uv_canvas import UvCanvas
from jagged_quilt.weights.weight_map import WeightMap
from jagged_quilt.weights.weight_windows import WeightWindows, weigh_into

_HELD = 8192  # texels along the longer side of a weight map that is held in memory


def bake_into(
    results: Results,
    store: str,
    *,
    page: int = PAGE,
    border: int = BORDER,
    only: Sequence[int] | None = None,
    on: str | None = None,
    force: bool = False,
    textures: float | None = None,
) -> tuple[dict[str, PagesMade], TexelCache | None]:
    """Bake the ground and every mesh of a quilt into pages of a store; see `bake_pages`. Return also what held its textures.

    With `only` one page of the ground is made; of the first mesh where there is no ground. Meshes are baked here in any case.

    Parameters
    ----------
    textures : float, optional
        MiB of textures that are held at most; all that are shown where it is not given.
    """
    quilt, made = results.quilt, {}
    options: Facts = {"page": page, "border": border, "only": only, "force": force, "work": results.work}
    how: Facts = {"normals": quilt.table.bake.normals, "filter": quilt.table.bake.filter, "eye": quilt.table.bake.eye}
    cache = None if textures is None else results.arrays.cached(textures, sorted(quilt.shown_swatches))
    arrays = results.arrays if cache is None else cache
    if "bake" in results.runner.steps:
        by_map = quilt.table.bake.weights == "map"
        answers: Facts = {"weights": _weights(results, store) if by_map else results.weigher}
        canvas = quilt.terrain.canvas(results.bake_texels)
        baker = Baker(canvas, quilt.layers, arrays, films=quilt.films_on(GROUND), **answers, **how)
        baker = baker.stamped(None if by_map else weigh_stamp(results))
        made["ground"] = bake_pages(baker, store, on=on, **options)
    for number, (table, step) in enumerate(zip(quilt.table.mesh, results.mesh_steps, strict=True)):
        if table.into == "vertices" or (only is not None and made):
            continue
        with quilt.of_mesh(number, "unwrap"):
            layout = UvCanvas(quilt.meshes[number], table.texels, padding=table.padding)
        stamp = results.runner.stamp(step)
        baker = Baker(layout, quilt.layers_by_part[number], arrays, films=quilt.films_on(table.name), **how).stamped(stamp)
        made[table.name] = bake_pages(baker, store, group=f"meshes/{table.name.replace(' ', '_')}", **options)
    return made, cache


def _weights(results: Results, store: str) -> WeightMap | WeightWindows:
    """The weight map; a large one is weighed into the store, and read by windows."""
    quilt, table = results.quilt, results.quilt.table.weights
    if table.texels <= _HELD:
        return results.weights
    canvas = quilt.terrain.canvas(table.texels)
    return weigh_into(canvas, results.layers, store, stamp=weigh_stamp(results), **weigh_options(results))
