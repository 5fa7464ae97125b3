"""The view in false colours: how textures lie on what is seen, and what that does to them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend.survey import Survey
from jagged_quilt.foundation.canvas import Block, Piece, go_over
from jagged_quilt.foundation.checks import known_name
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.show.board import FAINT, HEIGHT, WIDTH, Board, Picture
from jagged_quilt.show.flicker import draw_flicker
from jagged_quilt.show.labelled_grid import SQUARES, grids_like
from jagged_quilt.show.light_parts import draw_light, draw_white
from jagged_quilt.show.lit_view import CONTRAST, FINER, RAYS_AT_ONCE, contrast
from jagged_quilt.show.scene import Scene
from jagged_quilt.show.stage import Shade
from jagged_quilt.show.weight_pictures import heat
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.picture_canvas import PictureCanvas
from jagged_quilt.surfaces.terrain import Terrain

_TOP, _FOOT = 52, 66
_NOTHING = np.array([74, 80, 90], np.float32)
_PLANES = np.array([[226, 106, 90], [126, 196, 110], [96, 140, 224]], np.float32)  # X, Y, Z
_LINE, _FACE = np.array([236, 238, 240], np.float32), np.array([74, 82, 94], np.float32)

Numbers = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Scale:
    """A number as a colour: from `low` to `high`, by its logarithm or as it is."""

    low: float
    high: float
    by_ratio: bool
    unit: str

    def at(self, values: Numbers) -> Numbers:
        """Return where numbers lie between low and high, 0 and 1."""
        if self.by_ratio:
            values = np.log(np.maximum(values, 1e-12))
            low, high = np.log(self.low), np.log(self.high)
        else:
            low, high = self.low, self.high
        return np.asarray((values - low) / (high - low), np.float32)

    def ticks(self) -> list[float]:
        """Return five numbers to write below a colour bar."""
        if self.by_ratio:
            return [float(x) for x in np.geomspace(self.low, self.high, 5)]
        return [float(x) for x in np.linspace(self.low, self.high, 5)]


_MEASURES: dict[str, tuple[str, Callable[[Survey], Numbers]]] = {
    "density": ("texel density: texels of the full-size map for a metre of surface", lambda facts: facts.density),
    "stretch": ("stretch: how much longer than wide a texel lies on the surface", lambda facts: facts.stretch),
    "mip": ("mip: the level that is read; below 0 the texture is magnified", lambda facts: facts.mip),
}
DEBUG = ("grid", "uv", *_MEASURES, "tangent", "bitangent", "normal", "wireframe", "plane", "light", "white", "flicker")
_OWN = {"light": draw_light, "white": draw_white, "flicker": draw_flicker}
"""What is more than false colours, and draws itself."""
_WORDS = {
    "grid": "a labelled grid in place of every texture",
    "uv": "where each place lies in its tile: u as red, v as green",
    "tangent": "tangent as colour: x red, y green, z blue, from -1 (dark) to 1",
    "bitangent": "bitangent as colour: x red, y green, z blue, from -1 (dark) to 1",
    "normal": "blended normal as colour, world: x red, y green, z blue, from -1 (dark) to 1",
    "wireframe": "the triangles of meshes, the samples of terrains",
    "plane": "which plane of the projection counts most",
}

_AXES = ([(255, 128, 128), (128, 255, 128), (128, 128, 255)], ("+x: east", "+y: up", "+z: south"))
_KEYS: dict[str, tuple[Sequence[Sequence[float]], Sequence[str]]] = {
    "plane": (_PLANES.tolist(), ("X: from east or west", "Y: from above or below, or the only one", "Z: from north or south")),
    "uv": (
        [(0, 0, 40), (255, 0, 40), (0, 255, 40), (255, 255, 40)],
        ("top left of the tile", "top right", "bottom left", "bottom right"),
    ),
    "wireframe": (
        [_LINE.tolist(), _FACE.tolist()],
        ("edges of triangles and of cells of the ground", "between them; fainter edges where cells are narrow"),
    ),
    "normal": _AXES,
}


def draw_debug(scene: Scene, camera: Camera, kind: str, *, work: Work = ANYHOW) -> Board:
    """Draw what a camera sees in the false colours of one of `DEBUG`, with a key, and figures where it measures.

    Examples
    --------
    >>> scene = jq.Scene(arrays)
    >>> scene = scene.add(ground, layers)
    >>> jq.show.draw_debug(scene, scene.seen_whole(), "stretch")
    <Board 1280 x 800: Debug: stretch>
    """
    return draw_debugs(scene, camera, [kind], work=work)[kind]


def draw_debugs(
    scene: Scene,
    camera: Camera,
    kinds: Sequence[str],
    *,
    coarse: int = 1,
    work: Work = ANYHOW,
) -> dict[str, Board]:
    """Draw several of `DEBUG`, by kind; the rays are cast once for all, but for the grid, which is lit.

    coarse : how many times as large a pixel is drawn, for a first thumbnail.

    Examples
    --------
    >>> scene = jq.Scene(arrays).add(ground, layers)
    >>> list(jq.show.draw_debugs(scene, scene.seen_whole(), ["stretch", "mip"], coarse=8))
    ['stretch', 'mip']
    """
    for kind in kinds:
        known_name("kind of debug picture", kind, DEBUG)
    size = (WIDTH // coarse, (HEIGHT - _TOP - _FOOT) // coarse)
    seen = look(scene, camera, [kind for kind in kinds if kind not in ("grid", *_OWN)], size, work)
    out = {}
    for kind in kinds:
        if kind in _OWN:
            out[kind] = _OWN[kind](scene, camera, work=work)
            continue
        board = Board(f"Debug: {kind}", _MEASURES[kind][0] if kind in _MEASURES else _WORDS[kind])
        if kind == "grid":
            picture: Picture = gridded(scene).draw(camera, width=size[0], height=size[1], without=[MapRole.NORMAL], work=work)
            _grid_key(board, sorted(set(_arrays_of(scene).tiles)))
        elif kind in _MEASURES:
            values = seen[kind][..., 0]
            scale = scale_of(kind, values)
            picture = painted(values, scale, *size)
            _key(board, scale, values[np.isfinite(values)])
        else:
            picture = mean_of_rays(seen[kind], *size)
            _colour_key(board, kind)
        board.pin(picture.repeat(coarse, axis=0).repeat(coarse, axis=1), 0, _TOP)
        out[kind] = board
    return out


def _grid_key(board: Board, tiles: Sequence[float]) -> None:
    sizes = ", ".join(f"{tile / SQUARES:.3g}" for tile in tiles[:8])
    board.write(20, HEIGHT - 42, f"a square is {sizes} m, by the tile size of its swatch", size=13)
    board.write(
        20, HEIGHT - 20, "arrows point to the top of the texture: north on level ground, up on sides", size=12, ink=FAINT
    )


def _colour_key(board: Board, kind: str) -> None:
    """What the colours of a kind stand for."""
    colours, names = _KEYS.get(kind, _KEYS["normal"])
    for index, (colour, name) in enumerate(zip(colours, names, strict=True)):
        x = 20 + 1240 // len(names) * index
        board.pin(np.broadcast_to(np.array(colour, np.uint8), (14, 24, 3)), x, HEIGHT - 44)
        board.write(x + 34, HEIGHT - 37, name, size=13)
    if kind == "plane":
        board.write(20, HEIGHT - 16, "darker where planes share", size=12, ink=FAINT)


def gridded(scene: Scene) -> Scene:
    """Return a scene with a labelled grid in place of every texture, read as sharply as can be."""
    out = Scene(grids_like(_arrays_of(scene)), filter="anisotropic")
    out.lighting = scene.lighting
    for thing in scene.things:
        out.add(thing.surface, thing.layers, weights=thing.weights)
    return out


def _arrays_of(scene: Scene) -> TextureArrays:
    if not isinstance(scene.arrays, TextureArrays):
        raise ShapeError("a grid in place of the textures needs the scene's arrays, not pages that are opened already")
    return scene.arrays


def look(scene: Scene, camera: Camera, kinds: Sequence[str], size: tuple[int, int], work: Work) -> dict[str, Numbers]:
    """Return, for each kind, what every ray sees: a measure (rows, columns, 1), NaN where nothing is met, or a colour (..., 3).

    size : width and height in pixels, of 2 x 2 rays each; where pixels differ little from those beside them, one ray stands
    for all four.
    """
    if not kinds:
        return {}
    width, height = size
    out = _along(scene, scene.canvas(camera, height, width, footprint=1 / FINER), kinds, work)
    finer = lambda each: each.repeat(FINER, axis=0).repeat(FINER, axis=1)
    wanted = {kind: finer(contrast(_coloured(kind, each)) > CONTRAST) for kind, each in out.items()}
    out = {kind: finer(each) for kind, each in out.items()}
    only = np.any([*wanted.values()], axis=0)
    if only.any():
        fine = _along(scene, scene.canvas(camera, height * FINER, width * FINER, only=only), kinds, work)
        for kind, each in out.items():  # each by what it shows itself: the same alone as beside others
            each[wanted[kind]] = fine[kind][wanted[kind]]
    return out


def _coloured(kind: str, seen: Numbers) -> Picture:
    """What was seen as colours, a pixel for a ray."""
    if kind not in _MEASURES:
        return np.rint(seen).astype(np.uint8)
    known = np.isfinite(seen[..., 0])
    values = np.where(known, seen[..., 0], 0)
    scale = scale_of(kind, seen[..., 0])
    return np.where(known[..., None], heat(scale.at(np.where(known, values, scale.low))), _NOTHING).astype(np.uint8)


def _along(scene: Scene, canvas: PictureCanvas, kinds: Sequence[str], work: Work) -> dict[str, Numbers]:
    """Return what every ray of a canvas sees, for each kind, as `look` does."""
    rows, columns = canvas.texels
    out = {kind: np.full((rows * columns, 1), np.nan, np.float32) for kind in kinds if kind in _MEASURES}
    out |= {kind: np.tile(_NOTHING, (rows * columns, 1)) for kind in kinds if kind not in _MEASURES}
    is_surveyed = any(kind in _MEASURES or kind in ("uv", "plane") for kind in kinds)

    def look_at(block: Block) -> None:
        for piece in block.pieces:
            shade = scene.parts[piece.part].shade
            facts = shade.survey(piece.points, eye=canvas.camera.position) if is_surveyed else None
            for kind, target in out.items():
                if kind in _MEASURES:
                    assert facts is not None
                    piece.where.put(target, _MEASURES[kind][1](facts)[:, None])
                elif facts is not None and kind in ("uv", "plane"):
                    piece.where.put(target, _surveyed(kind, facts))
                else:
                    piece.where.put(target, _colour(kind, piece, shade, canvas))

    step = f"drawing {', '.join(kinds)}"
    go_over(canvas, look_at, most=RAYS_AT_ONCE, work=work, step=step)
    return {kind: target.reshape(rows, columns, -1) for kind, target in out.items()}


def _surveyed(kind: str, facts: Survey) -> Numbers:
    if kind == "plane":
        return np.asarray(_PLANES[facts.plane] * (0.45 + 0.55 * facts.share[:, None]), np.float32)
    turns = facts.tile_uv - np.floor(facts.tile_uv)
    return np.asarray(np.column_stack([turns * 255, np.full(len(turns), 40)]), np.float32)


def _colour(kind: str, piece: Piece, shade: Shade, canvas: PictureCanvas) -> Numbers:
    points, surface = piece.points, canvas.surface_of(piece.part)
    if kind == "tangent":
        return 127.5 * (points.tangent[:, :3] + 1)
    if kind == "bitangent":
        return 127.5 * (np.cross(points.normal, points.tangent[:, :3]) * points.tangent[:, 3:] + 1)
    if kind == "normal":
        return 127.5 * (shade.at(points, normals="world", eye=canvas.camera.position)[MapRole.NORMAL] + 1)
    if kind == "wireframe":
        away, width = _to_line(piece, surface)
        near = (np.clip(1.6 - away, 0, 1) * np.clip(width / 12, 0.12, 1))[:, None]
        facing = np.float32(0.55) + np.float32(0.45) * np.abs(points.normal @ np.array([0.35, 0.8, 0.48], np.float32))[:, None]
        return np.asarray(_FACE * facing * (1 - near) + _LINE * near, np.float32)
    raise AssertionError(kind)


def _to_line(piece: Piece, surface: Terrain | Mesh) -> tuple[Numbers, Numbers]:
    """How many rays away the nearest edge is, and how many its triangle (or cell) is wide where it is least so."""
    points = piece.points
    side = np.sqrt(points.footprint.prod(axis=1))
    if isinstance(surface, Terrain):
        away = []
        for axis, spacing in ((0, surface.spacing[0]), (2, surface.spacing[1])):
            turns = points.position[:, axis] / spacing
            away.append(np.abs(turns - np.rint(turns)) * spacing)
        return np.minimum(*away) / side, min(surface.spacing) / side
    corners = surface.world[surface.triangles[piece.triangles]]
    away, heights = [], []
    double = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    for a, b in ((0, 1), (1, 2), (2, 0)):
        heights.append(double / np.linalg.norm(corners[:, b] - corners[:, a], axis=1))
        way, own = corners[:, b] - corners[:, a], points.world - corners[:, a]
        along = np.einsum("nd,nd->n", own, way) / np.einsum("nd,nd->n", way, way)
        away.append(np.linalg.norm(own - way * along[:, None], axis=1))
    return np.min(away, axis=0) / side, np.min(heights, axis=0) / side


def painted(values: Numbers, scale: Scale, width: int, height: int) -> Picture:
    """Return measures of rays as a picture."""
    known = np.isfinite(values)
    colours = heat(np.where(known, scale.at(np.where(known, values, scale.low)), 0)).astype(np.float32)
    return mean_of_rays(np.where(known[..., None], colours, _NOTHING), width, height)


def mean_of_rays(colours: Numbers, width: int, height: int) -> Picture:
    """Return colours of rays, 0..255, as a picture."""
    rays = [colours[down::FINER, across::FINER] for down in range(FINER) for across in range(FINER)]
    mean = np.sum(rays, axis=0) / np.float32(len(rays))
    assert mean.shape == (height, width, 3)
    return np.rint(np.clip(mean, 0, 255)).astype(np.uint8)


def scale_of(kind: str, values: Numbers) -> Scale:
    """Return how a measure is painted: stretch from 1 to 8, others by what was found."""
    if kind == "stretch":
        return Scale(1.0, 8.0, True, "x")
    known = values[np.isfinite(values)]
    middle = float(np.median(known)) if known.size else 1.0
    if kind == "density":
        middle = 2.0 ** np.rint(np.log2(max(middle, 1e-6)))
        return Scale(middle / 8, middle * 8, True, "texels/m")
    low, high = (float(np.floor(known.min())), float(np.ceil(np.percentile(known, 99.9)))) if known.size else (0.0, 1.0)
    return Scale(low, max(high, low + 1), False, "")


def _key(board: Board, scale: Scale, known: Numbers) -> None:
    """The colour bar with its numbers, and the figures of what is seen."""
    wide, x, y = 460, 20, HEIGHT - 50
    bar = heat(np.linspace(0, 1, wide)[None].repeat(16, axis=0))
    board.pin(bar, x, y)
    for index, tick in enumerate(scale.ticks()):
        side = "left" if index == 0 else "right" if index == 4 else "center"
        board.write(x + wide * index / 4, y + 30, f"{tick:.3g}" + (f" {scale.unit}" if index == 4 else ""), size=12, side=side)  # type: ignore[arg-type]
    if known.size:
        median, high = np.percentile(known, [50, 99])
        board.write(560, y + 8, f"of what is seen: median {median:.3g}, 99th percentile {high:.3g}", size=15, bold=True)
        board.write(560, y + 32, f"lowest {known.min():.3g}, highest {known.max():.3g}", size=12, ink=FAINT)
