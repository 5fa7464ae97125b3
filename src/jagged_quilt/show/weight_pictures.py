"""Sheets of weights: what shows where, what dominates, what was cut, what each mask step does, what a knob does."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from functools import cache

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.colour import linear_from_srgb
from jagged_quilt.foundation.ground import Ground
from jagged_quilt.masks.mask import Combined, Mask
from jagged_quilt.show.board import FAINT, Board, Picture, picture_of, picture_of_data
from jagged_quilt.show.ground_plan import key_plan, laid_over, shading
from jagged_quilt.show.key_colours import colours_at_home, key_colours
from jagged_quilt.show.sheets import percent, within
from jagged_quilt.weights.explain import ExplainedStep, steps_of
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import WeightMap

_HEAT = np.array([(24, 26, 30), (58, 62, 120), (150, 60, 120), (230, 110, 70), (250, 210, 90), (255, 252, 220)], np.float64)
_HEAT_STEPS = 2048
_LAYERS_ON_A_SHEET = 4
_STEPS_ON_A_SHEET = 4
_SO_FAR, _SWEPT = np.array([(120, 220, 140), (255, 176, 64)], np.uint8)
_BESIDE = np.array((90, 150, 240), np.uint8)  # of films and channels


def heat(values: NDArray[np.floating]) -> NDArray[np.uint8]:
    """Return dark to bright colours, (..., 3) sRGB, for numbers 0..1."""
    return _heat_table()[np.rint(np.clip(values, 0, 1) * (_HEAT_STEPS - 1)).astype(np.intp)]


@cache
def _heat_table() -> NDArray[np.uint8]:
    at = np.linspace(0, len(_HEAT) - 1, _HEAT_STEPS)
    columns = [np.interp(at, np.arange(len(_HEAT)), _HEAT[:, channel]) for channel in range(3)]
    return np.rint(np.column_stack(columns)).astype(np.uint8)


def draw_weight_facts(weights: WeightMap, ground: Ground) -> Board:
    """Draw which layer shows most, how many show at a texel, and where keeping the largest cost most; and the coverage."""
    height, width, keep = weights.layers.shape
    board = Board("Weights: which, how many, what was cut", f"{width} x {height} texels, up to {keep} layers at each")
    rows, columns = within(height, width, 406, 406)
    colours = key_colours(weights.names)
    pick = _nearest(height, width, rows, columns)
    board.write(20, 66, "the layer that shows most", size=13, bold=True)
    board.pin(picture_of(linear_from_srgb(colours / np.float32(255))[weights.dominant()], rows, columns), 20, 80)
    counts = weights.layers_per_texel()
    board.write(437, 66, "layers at a texel", size=13, bold=True)
    board.pin(heat((counts[pick] - 0.5) / keep), 437, 80)
    _draw_cut(board, weights, 854, rows, columns)
    y = 80 + rows + 24
    for index, count in enumerate(range(1, keep + 1)):
        x = 437 + index % 4 * 102
        board.pin(np.broadcast_to(heat(np.array((count - 0.5) / keep)), (12, 20, 3)), x, round(y) - 6 + index // 4 * 22)
        share = 100 * float((counts == count).mean())
        board.write(x + 26, y + index // 4 * 22, f"{count}: {share:.1f} %", size=12)
    _draw_coverage(board, weights, ground, y)
    return board


def _draw_cut(board: Board, weights: WeightMap, x: int, rows: int, columns: int) -> None:
    board.write(x, 66, "weight cut at a texel", size=13, bold=True)
    if weights.lost is None:
        board.write(x, 100, "not known", size=13, ink=FAINT)
        return
    height, width = weights.lost.shape
    worst = max(int(weights.lost.max()), 1)
    board.pin(heat(_most(weights.lost, rows, columns) / worst), x, 80)
    y = 80 + rows + 24
    strip = heat(np.linspace(0, 1, 160))[None].repeat(12, axis=0)
    board.pin(strip, x, y - 6)
    board.write(
        x + 168, y, f"0 to {100 * weights.lost_worst:.1f} %" if weights.lost_worst > 1e-4 else "nothing anywhere", size=12
    )
    row, column = np.unravel_index(int(weights.lost.argmax()), (height, width))
    mean = f"{percent(weights.lost_mean)} on average"
    if weights.lost_worst > 1e-4:
        fx, fy = round(int(column) * columns / width), round(int(row) * rows / height)
        board.frame(x + min(max(fx - 9, 0), columns - 19), 80 + min(max(fy - 9, 0), rows - 19), 19, 19, (120, 235, 255), 2)
        mean += f"; worst at column {column}, row {row} (marked)"
    board.write(x, y + 22, mean, size=12, ink=FAINT)


def _draw_coverage(board: Board, weights: WeightMap, ground: Ground, y: float) -> None:
    covered, colours = weights.covered(ground.size[0] * ground.size[1]), key_colours(weights.names)
    line = min(22.0, (770 - y) / max(1, len(weights.names)))
    for index, (which, name) in enumerate(reversed(list(enumerate(weights.names)))):
        at = y + index * line
        board.pin(np.broadcast_to(colours[which], (12, 20, 3)), 20, round(at) - 6)
        board.write(48, at, name, size=12)
        board.write(325, at, f"{covered['percent'][which]:.1f} %", size=12, side="right")
        board.write(420, at, f"{covered['square_metres'][which]:,.0f} m²", size=12, side="right", ink=FAINT)


def draw_masks(weigher: Weigher, ground: Ground, more: Sequence[tuple[str, Mask]] = ()) -> list[Board]:
    """Draw each layer's mask steps, each alone and what comes of it with those before, and the weight that they make.

    more : names and masks that are no layer's, on the ground, to be drawn too.
    """
    masked: list[int | tuple[str, Mask]] = [row for row, mask in enumerate(weigher.masks) if mask is not None]
    masked += more
    each = _LAYERS_ON_A_SHEET + (len(masked) % _LAYERS_ON_A_SHEET == 1)  # no sheet for a single one
    pages = [masked[n : n + each] for n in range(0, len(masked), each)]
    return [_mask_sheet(weigher, ground, page, number, len(pages)) for number, page in enumerate(pages, 1)]


def _mask_sheet(weigher: Weigher, ground: Ground, layers: Sequence[int | tuple[str, Mask]], number: int, pages: int) -> Board:
    board = Board(
        "Masks, step by step" + (f" {number} / {pages}" if pages > 1 else ""),
        "grey: each step alone, white is 1; green: it and the steps before; colour: the layer's weight",
    )
    cell = 732 // len(layers)
    chains = [_chain(row[1] if isinstance(row, tuple) else weigher.masks[row]) for row in layers]
    steps_there = min(_STEPS_ON_A_SHEET, max(map(len, chains)))
    cut = max(map(len, chains)) > _STEPS_ON_A_SHEET  # then the first that is shown has a picture beside it too
    widest = (1230 - 22 * steps_there) // (2 * steps_there + cut)
    rows, columns = within(round(ground.size[1]), round(ground.size[0]), cell - 44, widest)
    points = ground.points((rows, columns), slice(0, rows), slice(0, columns))
    shade = shading(ground, rows, columns)
    stacked = weigher.daubs.laid(weigher.stacked(points), points) if not weigher.daubs.smooths else weigher.stacked(points)
    colours = colours_at_home(weigher.names, {}, weigher.shown)
    for index, (row, chain) in enumerate(zip(layers, chains, strict=True)):
        y = 62 + index * cell
        if isinstance(row, tuple):
            (name, mask), colour = row, _BESIDE
            shown_there = mask.answer(points)
        else:
            name, found, colour, shown_there = weigher.names[row], weigher.masks[row], colours[row], stacked[row]
            assert found is not None
            mask = found
        board.write(20, y + 16, name, size=13, bold=True)
        steps = steps_of(mask.reading(points))
        shown = list(zip(chain, steps, strict=True))[-_STEPS_ON_A_SHEET:]
        if len(chain) > len(shown):
            board.write(20, y + rows + 44, f"the last {len(shown)} of {len(chain)} steps", size=11, ink=FAINT)
        board.pin(laid_over(shade, shown_there.reshape(rows, columns), colour), 20, y + 30)
        at = 20 + columns + 10
        for step, ((own, so_far), link) in enumerate(shown):
            is_pair = step > 0 or len(chain) > len(shown)
            room = board.width - 20 - at if step == len(shown) - 1 else (1 + is_pair) * columns
            for line, words in enumerate(textwrap.wrap(_words_of(link), max(16, room // 6), max_lines=2, placeholder=" …")):
                board.write(at, y + 6 + 14 * line, words, size=11, ink=FAINT)
            board.pin(_grey(own.answer(points), rows, columns), at, y + 30)
            if is_pair:
                so_far_there = so_far.answer(points).reshape(rows, columns)
                board.pin(laid_over(shade, so_far_there, _SO_FAR), at + columns + 4, y + 30)
            at += (1 + is_pair) * columns + 22
    return board


def _chain(mask: Mask | None) -> list[tuple[Mask, Mask]]:
    """Each step of a chain of combined masks, and what it makes with those before."""
    if mask is None:
        return []
    if isinstance(mask, Combined):
        return [*_chain(mask.below), (mask.above, mask)]
    return [(mask, mask)]


def _grey(answers: NDArray[np.float32], rows: int, columns: int) -> Picture:
    return picture_of_data(answers.reshape(rows, columns, 1), rows, columns)


def _words_of(step: ExplainedStep) -> str:
    return f"{step.combine}: {step.reading.summary}" if step.combine else step.reading.summary


def draw_adopted(old: WeightMap, new: WeightMap, homes: Sequence[tuple[str, str]], changed: str, ground: Ground) -> Board:
    """Draw inherited weights and what became of them, side by side, with the share of each layer before and after.

    Parameters
    ----------
    homes : sequence of (old, new)
    changed : str
        What was repaired, in words.
    """
    board = Board("Adopted weights, before and after", changed)
    area = ground.size[0] * ground.size[1]
    for x, title, weights in ((20, "as inherited", old), (650, "by the new layers, with masks and daubs", new)):
        height, width = weights.layers.shape[:2]
        rows, columns = within(height, width, 520, 610)
        colours = colours_at_home(weights.names, dict(homes) if weights is old else {}, new.names)
        board.write(x, 66, f"{title}: {width} x {height} texels", size=13, bold=True)
        board.pin(key_plan(weights, colours, rows, columns), x, 80)
        shares = weights.shares()
        line = min(22.0, 2 * 170 / max(1, len(shares)))
        half = -(-len(shares) // 2) if len(shares) > 7 else len(shares)
        for index, (name, share) in enumerate(shares.items()):
            left, y = x + index // half * 305, 80 + rows + 22 + index % half * line
            home = [to for was, to in homes if was == name] if weights is old else []
            words = name + (f"  →  {home[0]}" if home and home[0] != name else "")
            board.pin(np.broadcast_to(colours[index], (12, 20, 3)), left, round(y) - 6)
            board.write(left + 28, y, words, size=12)
            wide = 285 if half < len(shares) else 600
            figures = f"{100 * share:.1f} %" + ("" if half < len(shares) else f"   {area * share:,.0f} m²")
            board.write(left + wide, y, figures, size=12, side="right", ink=FAINT)
    return board


def draw_sweep(key: str, layer: str, maps: Sequence[tuple[str, WeightMap]], ground: Ground) -> Board:
    """Draw one layer's weight, or all layers in colour where it is "", a picture for each value of a parameter.

    Parameters
    ----------
    maps : sequence of (value, WeightMap)
    """
    board = Board(f"What {key} does", f"how much of {layer} shows, over the bare ground" if layer else "all layers in colour")
    shape = maps[0][1].layers.shape
    rows, columns, across = max(_fit_on_a_board(shape, len(maps), across) for across in range(1, len(maps) + 1))
    width, shade = 1254 // across - 14, shading(ground, rows, columns)
    for index, (value, weights) in enumerate(maps):
        x, y = 20 + index % across * (width + 14), 56 + index // across * (rows + 34)
        board.write(x, y + rows + 14, value, size=13, bold=True)
        if layer:
            names = [name for name in weights.names if name == layer or name.startswith(f"{layer}: ")]
            shown = np.sum([weights.layer(name) for name in names], axis=0)
            board.pin(laid_over(shade, shown, _SWEPT), x, y)
            board.write(x + columns, y + rows + 14, f"{100 * float(shown.mean()):.1f} %", size=12, ink=FAINT, side="right")
        else:
            board.pin(key_plan(weights, key_colours(weights.names), rows, columns), x, y)
    return board


def _fit_on_a_board(shape: tuple[int, ...], count: int, across: int) -> tuple[int, int, int]:
    """The size of a picture if so many stand side by side, and that number."""
    down = -(-count // across)
    return (*within(shape[0], shape[1], 738 // down - 34, 1254 // across - 14), across)


def _most(values: NDArray[np.uint8], rows: int, columns: int) -> NDArray[np.uint8]:
    """Return the largest number of each part of a map, so that nothing is lost that is only a texel wide."""
    height, width = values.shape
    if rows > height or columns > width:
        return values[_nearest(height, width, rows, columns)]
    by_row = np.maximum.reduceat(values, np.arange(rows) * height // rows, axis=0)
    most: NDArray[np.uint8] = np.maximum.reduceat(by_row, np.arange(columns) * width // columns, axis=1)
    return most


def _nearest(height: int, width: int, rows: int, columns: int) -> tuple[NDArray[np.intp], ...]:
    """Index a map so that it becomes rows x columns without mixing."""
    r = ((np.arange(rows) + 0.5) * height / rows).astype(np.intp)
    c = ((np.arange(columns) + 0.5) * width / columns).astype(np.intp)
    return np.ix_(r, c)
