"""Baking a canvas into pages of a store, and one page alone."""

from __future__ import annotations

import pickle
from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from functools import partial
from pathlib import Path
from typing import Any

from jagged_quilt.arrays.page_grid import BORDER, PAGE, PageAt, PageGrid
from jagged_quilt.arrays.page_store import PageStore
from jagged_quilt.baking.bake import Baker
from jagged_quilt.baking.baked_maps import BakedMaps
from jagged_quilt.baking.page_bake import PagesMade, Runs, make_one, make_pages, on_threads
from jagged_quilt.baking.page_stamps import GroundStamps, PageStamps, SameStamp
from jagged_quilt.baking.page_texels import Finest, GroundTexels, WholeTexels, page_alone
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.surfaces.grid_canvas import GridCanvas


def bake_pages(
    baker: Baker,
    store: str | Path,
    *,
    group: str = "ground",
    page: int = PAGE,
    border: int = BORDER,
    only: Sequence[int] | None = None,
    on: str | None = None,
    force: bool = False,
    work: Work = ANYHOW,
) -> PagesMade:
    """Bake a canvas into pages of a Zarr store, with all mips: only those that are missing, damaged or made of something else.

    What is held does not grow with the canvas, if that is a terrain's; a mesh is baked as a whole and then cut. Stopped at any
    moment, the next call goes on.

    Parameters
    ----------
    baker : Baker
        The canvas, its layers, arrays and weights.
    store : str or Path
        A folder, or any address that fsspec reaches.
    group : str
        What the surface is called in the store.
    page, border : int
        Texels along a page's side, a power of two, and texels of its neighbours that it has around itself.
    only : (mip, row, column), optional
        Make that page alone.
    on : str, optional
        The address of a Dask scheduler whose workers make the pages, or "local" for a process for each core.
    force : bool
        Make all pages, and cut them otherwise than those that are there, if that is asked for.

    Raises
    ------
    FileError
        If the store cannot be written, or holds pages that are cut otherwise.

    Examples
    --------
    >>> baker = jq.Baker(ground.canvas(64), layers, arrays)
    >>> made = jq.bake_pages(baker, "store", page=32)
    >>> made.made, made.kept
    (5, 0)
    """
    finest, stamps = _ways(baker, work)
    grid = PageGrid(baker.canvas.texels, page, border)
    facts: Facts = {"relief metres": baker.relief, "normals": str(baker.normals)}
    if isinstance(baker.canvas, GridCanvas):
        facts["metres"] = list(baker.canvas.size)
    at = None if only is None else grid.checked(_page_at(only))
    pages = PageStore.create(str(store), group, grid, baker.roles, facts, force=force and at is None)
    if at is not None:
        make_one(finest, pages, stamps, at)
        return PagesMade(1, grid.page_count - 1, {"asked for": 1}, 0.0, 0)
    with _runs(on, work) as runs:
        return make_pages(finest, pages, stamps, force=force, runs=runs, progress=work.progress)


def page(baker: Baker, at: Sequence[int], *, page: int = PAGE, border: int = BORDER) -> BakedMaps:
    """Return one page of a canvas with its border, by (mip, row, column): the same texels as `bake_pages` stores.

    Only what it needs is baked, piece by piece.

    Examples
    --------
    >>> baker = jq.Baker(ground.canvas(64), layers, arrays)
    >>> jq.page(baker, (0, 0, 1), page=32)
    <BakedMaps 40 x 40: diffuse, normal, roughness, specular, height, occlusion; height to 0.05 m>
    """
    finest, _ = _ways(baker, ANYHOW)
    grid = PageGrid(baker.canvas.texels, page, border)
    texels = page_alone(finest, grid, grid.checked(_page_at(at)))
    maps = {role: each[..., 0] if each.shape[2] == 1 else each for role, each in texels.items()}
    return BakedMaps(maps, relief=baker.relief, normals=baker.normals)


def open_pages(store: str | Path, group: str = "ground") -> PageStore:
    """Open the pages of a surface to read them; raise `FileError` if there are none.

    Examples
    --------
    >>> made = jq.bake_pages(jq.Baker(ground.canvas(64), layers, arrays), "pages", page=32)
    >>> jq.open_pages("pages")
    <PageStore pages ground: 64 x 64 in pages of 32>
    """
    return PageStore.open(str(store), group)


def _page_at(address: Sequence[int]) -> PageAt:
    if len(address) != 3:
        raise RangeError(f"a page is named by mip, row and column; got {tuple(address)}")
    return PageAt(*(int(each) for each in address))


def _ways(baker: Baker, work: Work) -> tuple[Finest, PageStamps]:
    """What gives a canvas's texels, and what its pages depend on."""
    if isinstance(baker.canvas, GridCanvas):
        return GroundTexels(baker), GroundStamps(baker)
    stamp = baker.stamp
    if stamp is None:
        canvas: Any = baker.canvas
        settings = (canvas.texels, canvas.padding, baker.normals, baker.filter)
        looks = [look for part in range(len(baker.layers)) for look in baker.looks(part)]
        stamp = fingerprint(pickle.dumps((canvas.mesh, baker.sources)), repr(settings), *looks)
    return WholeTexels(partial(baker.over, baker.canvas, work=work)), SameStamp(stamp)


def _runs(on: str | None, work: Work) -> AbstractContextManager[Runs]:
    if on is None:
        return nullcontext(on_threads(work))
    from jagged_quilt.baking.cluster import on_cluster

    return on_cluster(on, work=work)
