"""A ground that is seen from pages of a store: first which pages a view needs, then those, and no others."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.held_pages import HeldPages, Seen, pages_of, seen_of
from jagged_quilt.arrays.page_grid import PageAt, PageGrid
from jagged_quilt.arrays.page_store import PageStore
from jagged_quilt.blend.blend import Texels
from jagged_quilt.blend.settings import NormalSpace
from jagged_quilt.blend.survey import Survey
from jagged_quilt.foundation.canvas import Block, go_over
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.show.board import FAINT, HEIGHT, WIDTH, Board
from jagged_quilt.show.key_colours import key_colours
from jagged_quilt.show.stage import Stage
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.picture_canvas import PictureBlock
from jagged_quilt.surfaces.terrain import Terrain

_COARSE = 4  # pixels along each side, of which one ray asks for pages
_NARROW = 0.5  # of a pixel: the narrowest ray of a view
_LABELS, _ENOUGH = 70, 900  # pages that are numbered at most, and the pixels of them that are seen at least
_SKY = np.array([74, 80, 90], np.float32)


class PagedGround:
    """The finished maps of a ground in pages, in place of a blend of its layers.

    Parameters
    ----------
    store : str or Path
        What `bake_pages` wrote.
    """

    def __init__(self, store: str | Path, group: str = "ground") -> None:
        found = PageStore.open(str(store), group)
        if found.facts().get("normals") != str(NormalSpace.TANGENT):
            raise RangeError(f"{store}: a view needs normals in tangent space, and these pages hold them in the world")
        optional = any(not role.value.always for role in found.roles)
        self._blank = Texels.of({} if not optional else {MapRole.COAT: np.zeros((1, 1), np.float32)}, 1)
        self.pages = HeldPages(found, {role: self._blank.columns(role) for role in found.roles})
        self.roles = set(found.roles)

    def room_for(self, count: int) -> Texels:
        """Return neutral texels, as wide as what is in the pages."""
        return Texels(np.repeat(self._blank.values, count, axis=0))

    def at(
        self,
        points: Points,
        *,
        normals: NormalSpace | str = NormalSpace.WORLD,
        eye: Sequence[float] | None = None,
    ) -> Texels:
        """Return what the pages tell at points, as a blend would; where a page is missing, the next coarser stands in."""
        texels = self.room_for(len(points))
        self.pages.read(points, texels.values)
        bitangent = np.cross(points.normal, points.tangent[:, :3]) * points.tangent[:, 3:]
        for role in (role for role in (MapRole.NORMAL, MapRole.COAT_NORMAL) if role in texels):
            own = texels[role]
            if NormalSpace.of(normals) is NormalSpace.WORLD:
                own[...] = own[:, :1] * points.tangent[:, :3] + own[:, 1:2] * bitangent + own[:, 2:] * points.normal
            own /= np.maximum(np.sqrt(np.einsum("nd,nd->n", own, own)), 1e-12)[:, None]
        return texels

    def survey(self, points: Points, *, eye: Sequence[float] | None = None) -> Survey:
        """Raise `RangeError`: finished maps have no textures that lie on them."""
        raise RangeError("a ground that is seen from pages has no layers to survey; draw it without --pages")

    def hold_for(self, scene: Stage, camera: Camera, *, width: int = WIDTH, height: int = HEIGHT, work: Work = ANYHOW) -> None:
        """Hold the pages that a view of a scene needs of its ground, and no others."""
        grid, metres = self.pages.grid, self.pages.metres
        self.pages.hold(pages_needed(scene, camera, grid, metres, width=width, height=height, work=work))


def pages_needed(
    scene: Stage,
    camera: Camera,
    grid: PageGrid,
    metres: tuple[float, float],
    *,
    width: int = WIDTH,
    height: int = HEIGHT,
    work: Work = ANYHOW,
) -> set[PageAt]:
    """Return the pages that a view needs of its ground, cut by a grid: by a ray for each 4 x 4 pixels, as narrow as the view's.

    metres : what the ground spans, east and south.

    Examples
    --------
    >>> pages = jq.show.pages_needed(scene, camera, grid, metres=(256.0, 256.0))  # doctest: +SKIP
    """
    canvas = scene.uncut().canvas(camera, height // _COARSE, width // _COARSE, footprint=_NARROW / _COARSE)
    found: list[set[PageAt]] = []
    grounds = [number for number, surface in enumerate(scene.surfaces_of_parts) if isinstance(surface, Terrain)]

    def look(block: Block) -> None:
        for piece in block.pieces:
            if piece.part in grounds:
                found.append(pages_of(seen_of(piece.points, grid, metres), grid))

    go_over(canvas, look, work=work, step="asking for pages")
    return set().union(*found)


def draw_pages(scene: Stage, camera: Camera, ground: PagedGround, *, work: Work = ANYHOW) -> Board:
    """Draw which page is seen where: tinted by mip, with its border and its number, and how many are held.

    Examples
    --------
    >>> board = jq.show.draw_pages(scene, camera, jq.PagedGround("store"))  # doctest: +SKIP
    """
    ground.hold_for(scene, camera, work=work)
    pages, top, foot = ground.pages, 52, 58
    high = HEIGHT - top - foot
    shown = np.tile(_SKY, (high * WIDTH, 1))
    numbers = np.full(high * WIDTH, -1, np.int64)
    grid, tints = pages.grid, key_colours([str(mip) for mip in range(pages.grid.mips)]).astype(np.float32)
    starts = np.cumsum([0, *(np.prod(grid.pages(mip)) for mip in range(grid.mips))])
    canvas = scene.canvas(camera, high, WIDTH, footprint=0.7)
    grounds = [number for number, surface in enumerate(scene.surfaces_of_parts) if isinstance(surface, Terrain)]

    def look(block: Block) -> None:
        assert isinstance(block, PictureBlock)
        for own, piece in zip(block.rows_of, block.pieces, strict=True):
            rows = block.pixels[own]
            if piece.part not in grounds:
                shown[rows] = 0.6 * _SKY
                continue
            seen, used = pages.read(piece.points, ground.room_for(len(piece.points)).values)
            x, y, row, column = _places(seen, used, pages)
            edge = np.minimum.reduce([x, grid.page - x, y, grid.page - y]) < 1.5
            light = 0.55 + 0.45 * np.clip(piece.points.normal[:, 1:2], 0, 1)
            shown[rows] = np.where(edge[:, None], 20, tints[used] * light)
            across = np.array([grid.pages(mip)[1] for mip in range(grid.mips)])
            numbers[rows] = starts[used] + row * across[used] + column

    go_over(canvas, look, work=work, step="drawing pages")
    board = Board("Debug: pages", "the page that is read at each pixel, by mip, with its border and its number")
    board.pin(np.clip(shown, 0, 255).astype(np.uint8).reshape(high, WIDTH, 3), 0, top)
    middles = np.stack(np.divmod(np.arange(high * WIDTH), WIDTH), axis=1)
    for number, count in Counter(numbers[numbers >= 0].tolist()).most_common(_LABELS):
        if count < _ENOUGH:
            break
        own = middles[numbers == number]
        y, x = own[np.argmin(np.abs(own - np.median(own, axis=0)).sum(axis=1))]
        mip = int(np.searchsorted(starts, number, side="right")) - 1
        row, column = divmod(number - int(starts[mip]), grid.pages(mip)[1])
        board.write(float(x), top + float(y), f"{mip}:{row}:{column}", size=10, side="center", behind="#14161a")
    for index, mip in enumerate(range(grid.mips)):
        board.pin(np.broadcast_to(tints[mip].astype(np.uint8), (14, 14, 3)), 20 + 74 * index, HEIGHT - 44)
        board.write(40 + 74 * index, HEIGHT - 36, f"mip {mip}", size=12)
    missing = f", {len(pages.missing)} missing: coarser ones stand in" if pages.missing else ""
    summary = f"{len(pages.held)} of {grid.page_count:,} pages are held, {pages.nbytes / 2**20:.0f} MiB{missing}"
    board.write(1260, HEIGHT - 36, summary, size=13, bold=True, side="right")
    rows, columns = grid.texels
    board.write(20, HEIGHT - 12, f"{columns:,} x {rows:,} texels in pages of {grid.page}", size=11, ink=FAINT)
    return board


def _places(
    seen: Seen, mip: NDArray[np.int32], pages: HeldPages
) -> tuple[NDArray[np.floating], NDArray[np.floating], NDArray[np.int64], NDArray[np.int64]]:
    """Where points lie in the page of a mip, in texels, and its row and column."""
    grid = pages.grid
    scale = np.ldexp(1.0, -mip)
    x, y = seen.uv[:, 0] * grid.texels[1] * scale, seen.uv[:, 1] * grid.texels[0] * scale
    column, row = (x // grid.page).astype(np.int64), (y // grid.page).astype(np.int64)
    return x - column * grid.page, y - row * grid.page, row, column
