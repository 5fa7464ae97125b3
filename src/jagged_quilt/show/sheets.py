"""Sheets: many things side by side, each named, at the same scale."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from jagged_quilt.arrays.resize import resized
from jagged_quilt.blend.blend import Texels
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.light.lamps import Sun
from jagged_quilt.light.light import Lighting
from jagged_quilt.maps.image_files import read_image
from jagged_quilt.maps.roles import BLENDED_ROLES, OPTIONAL_ROLES, SURFACE_ROLES, MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.texture_map import TextureMap
from jagged_quilt.show.board import FAINT, Board, Picture, picture_of, picture_of_data
from jagged_quilt.show.ground_plan import key_plan
from jagged_quilt.show.key_colours import key_colours
from jagged_quilt.show.lit_view import surface_of
from jagged_quilt.show.map_pictures import map_picture, neutral_picture
from jagged_quilt.weights.weight_map import WeightMap

SWATCHES_ON_A_SHEET = 6
LAYERS_ON_A_SHEET = 9


def swatch_sheets(swatches: Sequence[Swatch]) -> list[Board]:
    """Draw the maps of each swatch in a row, behind a piece of it lit from the upper left.

    Examples
    --------
    >>> jq.show.swatch_sheets([clay, salt])
    [<Board 1280 x 800: Swatches>]
    """
    pages = [swatches[n : n + SWATCHES_ON_A_SHEET] for n in range(0, len(swatches), SWATCHES_ON_A_SHEET)]
    return [_swatch_sheet(page, number, len(pages)) for number, page in enumerate(pages, 1)]


def _swatch_sheet(swatches: Sequence[Swatch], number: int, pages: int) -> Board:
    board = Board("Swatches" + (f" {number} / {pages}" if pages > 1 else ""), "each picture shows the full width of its map")
    roles = (*SURFACE_ROLES, *(role for role in OPTIONAL_ROLES if any(role in swatch.maps for swatch in swatches)))
    left, top, down = 164, 78, 119
    across = (1263 - left) // (1 + len(roles))
    wide, high = across - 7, min(111, across - 7)
    for column, title in enumerate(["lit", *(role.key for role in roles)]):
        note = "" if column == 0 or len(roles) > len(SURFACE_ROLES) else roles[column - 1].value.note
        board.write(left + column * across, 66, title.replace("_", " "), size=13 if wide > 120 else 11, bold=True)
        board.write(left + column * across + wide, 66, note, size=10, ink=FAINT, side="right")
    for row, swatch in enumerate(swatches):
        y = top + row * down
        board.write(20, y + 36, swatch.name, size=13, bold=True)
        board.write(20, y + 58, f"tile {swatch.tile:g} m", size=12, ink=FAINT)
        board.write(20, y + 76, f"relief {100 * swatch.relief:g} cm", size=12, ink=FAINT)
        board.pin(_lit_swatch(swatch, wide)[:high], left, y)
        for column, role in enumerate(roles, 1):
            given = swatch.maps.get(role)
            x = left + column * across
            if given is None:
                board.pin(neutral_picture(role, high, wide), x, y)
                board.write(x + wide / 2, y + high / 2, "neutral", size=12, side="center", behind="#1e2024")
            else:
                rows = max(1, round(wide * given.shape[0] / given.shape[1]))
                board.pin(map_picture(given, rows, wide)[:high], x, y)
    return board


def _lit_swatch(swatch: Swatch, wide: int) -> Picture:
    """A piece of a swatch, flat on the ground, seen from above."""
    maps = {role: resized(each.values, wide, wide) for role, each in swatch.maps.items() if role in BLENDED_ROLES}
    count = wide * wide
    texels = Texels.of({role: values.reshape(count, -1) for role, values in maps.items()}, count)
    for role in (role for role in (MapRole.NORMAL, MapRole.COAT_NORMAL) if role in texels):
        own = texels[role]
        world = np.column_stack([own[:, 0], own[:, 2], -own[:, 1]])
        own[...] = world / np.maximum(np.linalg.norm(world, axis=1, keepdims=True), 1e-6)
    surface = surface_of(texels, np.broadcast_to(np.array([0, 1, 0], np.float32), (count, 3)))
    lighting = Lighting((Sun(315, 38),))
    light = lighting.leaving(surface, np.zeros((count, 3)), [np.ones(count, np.float32)])
    return picture_of(lighting.shown(light).reshape(wide, wide, 3), wide, wide)


def weight_sheets(weights: WeightMap, area: float) -> list[Board]:
    """Draw all layers together in a colour key with their shares, and each layer alone.

    Parameters
    ----------
    area : float
        Square metres of the surface, seen from above.

    Examples
    --------
    >>> jq.show.weight_sheets(jq.weigh(ground.canvas(32), layers), area=32.0 * 32.0)
    [<Board 1280 x 800: Weights>]
    """
    count = len(weights.names)
    pages = range(0, count, LAYERS_ON_A_SHEET)
    return [_weight_sheet(weights, area, first, min(first + LAYERS_ON_A_SHEET, count), len(pages)) for first in pages]


def _weight_sheet(weights: WeightMap, area: float, first: int, last: int, pages: int) -> Board:
    height, width = weights.layers.shape[:2]
    keep = weights.layers.shape[2]
    note = f"{width} x {height} texels, {keep} layers kept at each; cut: {percent(weights.lost_mean)} on average, "
    note += f"{percent(weights.lost_worst)} at worst"
    board = Board("Weights" + (f" {first // LAYERS_ON_A_SHEET + 1} / {pages}" if pages > 1 else ""), note)
    colours = key_colours(weights.names)
    shares = weights.shares()
    rows, columns = within(height, width, 520, 500)
    board.pin(key_plan(weights, colours, rows, columns), 20, 62)
    names = weights.names[first:last]
    line = min(24.0, 208 / max(1, len(names)))
    for index, name in enumerate(reversed(names)):
        which = last - 1 - index
        y = 62 + rows + 22 + index * line
        board.pin(np.broadcast_to(colours[which], (14, 22, 3)), 20, round(y) - 7)
        board.write(52, y, name, size=13)
        board.write(290, y, f"{100 * shares[name]:.1f} %", size=13, side="right")
        board.write(400, y, f"{area * shares[name]:,.0f} m²", size=13, ink=FAINT, side="right")
    side = 3 if len(names) > 4 else 2
    cell = (1280 - 544 - 10) // side
    lines = -(-len(names) // side)
    room = min(cell - 10, (800 - 62) // lines - 34)
    for index, name in enumerate(names):
        x, y = 544 + index % side * cell, 62 + index // side * (room + 34)
        rows, columns = within(height, width, room, room)
        board.pin(picture_of_data(weights.layer(first + index)[..., None], rows, columns), x, y)
        board.pin(np.broadcast_to(colours[first + index], (12, 12, 3)), x, y + rows + 10)
        board.write(x + 18, y + rows + 16, name, size=12 if 7 * len(name) < columns - 70 else 10)
        board.write(x + columns, y + rows + 16, f"{100 * shares[name]:.1f} %", size=12, ink=FAINT, side="right")
    return board


def percent(share: float) -> str:
    """Return a small share in words that do not pretend to more than it is."""
    return "nothing" if share == 0 else "below 0.01 %" if share < 1e-4 else f"{100 * share:.2g} %"


def maps_sheet(folder: Path, metres: tuple[float, float]) -> Board:
    """Draw baked maps whole, and one place of them at one pixel per texel and four times as large.

    Parameters
    ----------
    metres : (float, float)
        Size of the surface, east and south.
    """
    files = {role: folder / f"{role.key}.png" for role in BLENDED_ROLES}
    images = {role: read_image(file) for role, file in files.items() if role in SURFACE_ROLES or file.is_file()}
    height, width = images[MapRole.DIFFUSE].shape[:2]
    texel = metres[0] / width
    board = Board("Baked maps", f"{width} x {height} texels of {100 * texel:.3g} cm")
    cell = 1254 // len(images)
    side = min(195, cell - 14)
    row, column = _busiest(images[MapRole.DIFFUSE], side)
    zoom_side = -(-side // 4)
    down, right = _busiest(images[MapRole.DIFFUSE][row : row + side, column : column + side], zoom_side)
    for index, role in enumerate(images):
        x = 20 + index * cell
        shown = _eight_bits(images[role])
        rows, columns = within(height, width, side, side)
        plain = TextureMap(role=role, texels=images[role])
        board.write(x, 66, role.key.replace("_", " "), size=13 if side > 130 else 10, bold=True)
        board.write(x + side, 66, role.value.note if side > 130 else "", size=10, ink=FAINT, side="right")
        board.pin(map_picture(plain, rows, columns), x, 80)
        fx, fy = round(column * columns / width), round(row * rows / height)
        board.frame(
            x + fx - 1,
            80 + fy - 1,
            max(6, round(side * columns / width)) + 2,
            max(6, round(side * rows / height)) + 2,
            (255, 214, 64),
            1,
        )
        crop = shown[row : row + side, column : column + side]
        board.pin(crop, x, 316)
        close = crop[down : down + zoom_side, right : right + zoom_side]
        board.pin(close.repeat(4, axis=0).repeat(4, axis=1)[:side, :side], x, 556)
    board.write(20, 298, f"the marked place, one pixel per texel: {side * texel:.3g} m across", size=12, ink=FAINT)
    board.write(20, 538, f"its busiest part, four pixels per texel: {zoom_side * texel:.3g} m across", size=12, ink=FAINT)
    return board


def _busiest(diffuse: Picture, side: int) -> tuple[int, int]:
    """Where a square of the map has most contrast between its quarters: a place where layers meet."""
    height, width = diffuse.shape[:2]
    best, found = -1.0, (0, 0)
    for row in range(0, max(1, height - side), max(1, side // 2)):
        for column in range(0, max(1, width - side), max(1, side // 2)):
            patch = diffuse[row : row + side, column : column + side].astype(np.float32)
            quarter = max(1, side // 3)
            means = [
                patch[r : r + quarter, c : c + quarter].mean(axis=(0, 1))
                for r in (0, quarter, 2 * quarter)
                for c in (0, quarter, 2 * quarter)
                if patch[r : r + quarter, c : c + quarter].size
            ]
            spread = float(np.std(means, axis=0).sum())
            if spread > best:
                best, found = spread, (row, column)
    return found


def _eight_bits(image: Stored) -> Picture:
    bits = (image >> 8).astype(np.uint8) if image.dtype == np.uint16 else image.astype(np.uint8)
    return np.repeat(bits, 3, axis=2) if bits.shape[2] == 1 else bits


def within(height: int, width: int, rows: int, columns: int) -> tuple[int, int]:
    """Return the largest size of the same proportions that fits."""
    scale = min(rows / height, columns / width)
    return max(1, round(height * scale)), max(1, round(width * scale))
