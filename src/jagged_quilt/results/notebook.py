"""What a notebook shows of a value: a line on it, and its pictures with a word below each."""

from __future__ import annotations

import base64
import html
import tempfile
from collections.abc import Sequence
from functools import singledispatch
from pathlib import Path
from typing import TypeAlias

import numpy as np

from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.audit.content_check import thumbnail
from jagged_quilt.audit.gather import Gathering
from jagged_quilt.baking.baked_maps import BakedMaps
from jagged_quilt.blend.flat_projections import Triplanar, Uv
from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.foundation.files import read_bytes
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.texture_map import TextureMap
from jagged_quilt.masks.mask import Mask
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.quiltfile.beginning import hills
from jagged_quilt.show.board import Board, Picture, picture_of
from jagged_quilt.show.ground_plan import key_plan, shading
from jagged_quilt.show.key_colours import key_colours
from jagged_quilt.show.labelled_grid import grid_arrays
from jagged_quilt.show.map_pictures import map_picture
from jagged_quilt.show.scene import Scene
from jagged_quilt.show.sheets import within
from jagged_quilt.show.weight_pictures import heat
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.weights.explain import Explanation
from jagged_quilt.weights.weight_map import WeightMap

Figures: TypeAlias = list[tuple[str, Picture]]
_SMALL, _LARGE = 140, 360  # pixels
_MOST = 12  # pictures of one value
_HILLS, _HILLS_HIGH = 64.0, 12.0  # metres: where a mask is shown that has no ground


def html_of(value: object) -> str:
    """Return the line and the pictures of a value."""
    try:
        table, figures = table_of(value), figures_of(value)
    except QuiltError as error:  # it is shown, and no traceback of what draws it
        return f"<p><code>{html.escape(repr(value))}</code></p><p>{html.escape(str(error))}</p>"
    cells = "".join(_cell(words, picture) for words, picture in figures[:_MOST])
    more = f"<p>and {len(figures) - _MOST} more</p>" if len(figures) > _MOST else ""
    shown = f'<div style="display:flex;flex-wrap:wrap;gap:8px">{cells}</div>{more}'
    return f"<p><code>{html.escape(repr(value))}</code></p>{table}{shown}"


def _cell(words: str, picture: Picture) -> str:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "picture.png"
        write_image(path, np.ascontiguousarray(picture))
        data = base64.b64encode(read_bytes(path)).decode()
    image = f'<img src="data:image/png;base64,{data}" width="{picture.shape[1]}">'
    return f'<figure style="margin:0">{image}<figcaption>{html.escape(words)}</figcaption></figure>'


@singledispatch
def table_of(value: object) -> str:
    """Return what there is of a value in rows, as HTML."""
    return ""


@table_of.register
def _(value: Explanation) -> str:
    rows = []
    for each in reversed(value.layers):
        rows.append((each.name, "", "", "", "", f"{each.weight:.3f}"))
        for step in each.steps:
            reading = step.reading
            rows.append(("", step.combine, reading.summary, reading.measured, f"{reading.answer:.3f}", f"{step.result:.3f}"))
    rows += [(f"daub {number}", "", what, "", f"{cover:.3f}", "") for number, what, cover in value.daubs]
    return _table(("layer", "step", "goes by", "there", "answer", "weight or so far"), rows)


@table_of.register
def _(value: Gathering) -> str:
    names = [
        (one.name, ", ".join("+".join(role.key for role in each.roles if role) for each in one.maps)) for one in value.sets
    ]
    return _table(("set", "maps"), [*names, *((each.file.name, f"left out: {each.why}") for each in value.left)])


def _table(heads: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    cell = lambda tag, words: f'<{tag} style="text-align:left">{html.escape(words)}</{tag}>'
    lines = ["".join(cell("th", each) for each in heads), *("".join(cell("td", each) for each in row) for row in rows)]
    return f"<table>{''.join(f'<tr>{line}</tr>' for line in lines)}</table>"


@singledispatch
def figures_of(value: object) -> Figures:
    """Return the pictures of a value, each with a word on it."""
    return []


@figures_of.register
def _(value: TextureMap) -> Figures:
    rows, columns = _fit(value.shape, _LARGE)
    return [(value.role.key, map_picture(value, rows, columns))]


@figures_of.register
def _(value: Swatch) -> Figures:
    return [(role.key, map_picture(each, *_fit(each.shape, _SMALL))) for role, each in value.maps.items()]


@figures_of.register
def _(value: TextureArrays) -> Figures:
    texels = ((name, value.values(name, MapRole.DIFFUSE)) for name in value.names)
    return [(name, picture_of(each, *_fit(each.shape, _SMALL))) for name, each in texels]


@figures_of.register
def _(value: BakedMaps) -> Figures:
    size = _fit(value.texels, _SMALL)
    return [(role.key, map_picture(TextureMap(role=role, texels=texels), *size)) for role, texels in value.items()]


@figures_of.register
def _(value: WeightMap) -> Figures:
    rows, columns = _fit(value.layers.shape, _LARGE)
    colours = key_colours(value.names)
    key = [
        (f"{name} {100 * share:.1f} %", np.broadcast_to(colour, (20, 60, 3)))
        for (name, share), colour in zip(value.shares().items(), colours, strict=True)
    ]
    return [("all layers", key_plan(value, colours, rows, columns)), *key]


@figures_of.register
def _(value: Terrain) -> Figures:
    rows, columns = within(round(value.size[1]), round(value.size[0]), _LARGE, _LARGE)
    return [("from above", picture_of(shading(value, rows, columns)[..., None], rows, columns))]


@figures_of.register
def _(value: Mesh) -> Figures:
    layer = Layer("grid", Uv() if value.uv is not None else Triplanar())
    scene = Scene(grid_arrays(float(np.ptp(value.position, axis=0).max()) / 4), filter="anisotropic")
    return [("in a labelled grid", _seen(scene.add(value, [layer])))]


@figures_of.register
def _(value: Scene) -> Figures:
    return [("as it lies before the camera", _seen(value))] if value.things else []


@figures_of.register
def _(value: Mask) -> Figures:
    """What it answers on made-up hills, dark 0 to bright 1, and the hills beside it."""
    ground = Terrain(_HILLS_HIGH * hills(), size=(_HILLS, _HILLS))
    points = ground.points((_LARGE, _LARGE))
    answer = value.on(ground).answer(points).reshape(_LARGE, _LARGE)
    words = f"on made-up hills of {_HILLS:g} m, 0 to {_HILLS_HIGH:g} m high; dark 0, bright 1"
    return [(words, heat(answer)), ("the hills, from above", figures_of(ground)[0][1])]


@figures_of.register
def _(value: Layer) -> Figures:
    return figures_of(value.mask) if value.mask is not None else []


@figures_of.register
def _(value: Gathering) -> Figures:
    out: Figures = []
    for one in value.sets[:_MOST]:
        texels = thumbnail(next(each.file for each in one.maps if MapRole.DIFFUSE in each.roles)).texels
        out.append((one.name, np.rint(255 * np.broadcast_to(texels, (*texels.shape[:2], 3))).astype(np.uint8)))
    return out


@figures_of.register
def _(value: Board) -> Figures:
    return [("", value.pixels())]


def _fit(shape: tuple[int, ...], most: int) -> tuple[int, int]:
    return within(shape[0], shape[1], most, most)


def _seen(scene: Scene) -> Picture:
    boxes = [each.bounds for each in scene.meshes]
    for each in scene.terrains:
        low, high = each.height_range
        boxes.append((np.array([0.0, low, 0.0]), np.array([each.size[0], high, each.size[1]])))
    low_corner, high_corner = np.min([low for low, _ in boxes], axis=0), np.max([high for _, high in boxes], axis=0)
    return scene.draw(Camera.before(low_corner, high_corner, 1.5), width=480, height=320)
