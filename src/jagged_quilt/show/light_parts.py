"""The light of a view in its parts: each kind of light alone, each lamp alone."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import Block, go_over
from jagged_quilt.foundation.colour import srgb_from_linear
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.light.light import PARTS, hazed
from jagged_quilt.light.sky import Sky
from jagged_quilt.maps.roles import OPTIONAL_ROLES, MapRole
from jagged_quilt.show.board import FAINT, HEIGHT, WIDTH, Board, Picture
from jagged_quilt.show.lit_view import RAYS_AT_ONCE, haze_of, lit_surface, seen_behind
from jagged_quilt.show.scene import Scene
from jagged_quilt.show.thumbnails import free_of
from jagged_quilt.show.weight_pictures import heat
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.picture_canvas import PictureBlock

_MOST = 16  # pictures on the board
_COUNTS = {5: "five", 6: "six", 7: "seven"}
_TALL, _STOPS = HEIGHT - 52 - 66, 4

Light = NDArray[np.float32]
"""(rows, columns, 3), linear."""


@dataclass(frozen=True, slots=True, eq=False)
class LightParts:
    """What a camera sees, one ray a pixel, as sums of light before exposure and tone.

    Attributes
    ----------
    kinds : dict of str to (rows, columns, 3)
        `PARTS`, and the air and the sky that is seen; together, all light.
    shares : dict of str to (rows, columns)
        What the sums are made with, 0..1: how open a place is to the sky, a coat's Fresnel, and what it leaves of the base.
    lamps : list of (rows, columns, 3)
        What each lamp alone gives; together, the first two of `kinds`, and the coat's without its sky.
    free : list of (rows, columns)
        How free the way to each lamp is, 0 in shadow; 1 where nothing is seen.
    """

    kinds: dict[str, Light]
    shares: dict[str, NDArray[np.float32]]
    lamps: list[Light]
    free: list[NDArray[np.float32]]

    @property
    def whole(self) -> Light:
        """All light."""
        return np.asarray(sum(self.kinds.values()), np.float32)


def light_in_parts(scene: Scene, camera: Camera, *, width: int, height: int, work: Work = ANYHOW) -> LightParts:
    """Return the light that a camera sees, in its parts."""
    lighting, haze, count = scene.lighting, haze_of(scene), width * height
    reaches = [scene.shadows(light) for light in lighting.lights]
    alone = [replace(lighting, lights=(light,), sky=_DARK) for light in lighting.lights]
    kinds = np.zeros((len(PARTS) + 1, count, 3), np.float32)
    lamps, free = np.zeros((len(alone), count, 3), np.float32), np.ones((len(alone), count), np.float32)
    shares = {"occlusion": np.ones(count, np.float32), "coat's Fresnel": np.zeros(count, np.float32)}
    canvas = scene.canvas(camera, height, width)

    def look(block: Block) -> None:
        assert isinstance(block, PictureBlock)
        behind = seen_behind(block, lighting.sky, haze)
        for own, piece, ways in zip(block.rows_of, block.pieces, free_of(block, reaches), strict=True):
            part_seen = scene.parts[piece.part]
            positions, rows = piece.points.world, block.pixels[own]
            texels = part_seen.shade.at(piece.points, normals="world", eye=canvas.camera.position)
            surface = lit_surface(texels, piece.points.normal, -block.rays[own], open_sky=part_seen.open_sky(piece.points))
            away = np.linalg.norm(positions - canvas.camera.position, axis=1)
            each, dull = lighting.leaving(surface, positions, ways, in_parts=True), surface.without_glow()
            shares["occlusion"][rows], shares["coat's Fresnel"][rows] = surface.occlusion, surface.coat_share
            for part in range(len(PARTS)):
                kinds[part, rows] = hazed(each[:, part], away, haze, _DARK)
            behind[own] = hazed(np.zeros_like(each[:, 0]), away, haze, lighting.sky)
            for number, one in enumerate(alone):
                lamps[number, rows] = hazed(one.leaving(dull, positions, [ways[number]]), away, haze, _DARK)
                free[number, rows] = ways[number]
        kinds[-1, block.pixels] = behind

    go_over(canvas, look, most=RAYS_AT_ONCE, work=work, step="drawing light in parts")
    shape = (height, width, 3)
    return LightParts(
        {name: light.reshape(shape) for name, light in zip((*PARTS, "air and sky"), kinds, strict=True)},
        {name: share.reshape(height, width) for name, share in shares.items()},
        [light.reshape(shape) for light in lamps],
        [each.reshape(height, width) for each in free],
    )


def draw_light(scene: Scene, camera: Camera, *, work: Work = ANYHOW) -> Board:
    """Draw the light of a view in its parts: those of which it is the sum, what they are made with, and each lamp alone."""
    lights, coated = scene.lighting.lights, MapRole.COAT in scene.roles
    missing = {role.key for role in OPTIONAL_ROLES if role not in scene.roles}
    kinds = [name for name in (*PARTS, "air and sky") if name not in missing]
    count = min(2 + len(kinds) + 2 * coated + 2 * len(lights), _MOST)
    across, rows = (3, 3) if count <= 9 else (4, 3) if count <= 12 else (4, 4)
    wide, high = (1282 - 14) // across - 11, (800 - 56) // rows - 32
    parts = light_in_parts(scene, camera, width=wide, height=high, work=work)
    shown = [(name, _toned(scene, light)) for name, light in [("the view", parts.whole), *((n, parts.kinds[n]) for n in kinds)]]
    shown.append(("occlusion", _grey(parts.shares["occlusion"])))
    if coated:
        fresnel = parts.shares["coat's Fresnel"]
        shown += [("the coat's Fresnel", _grey(fresnel)), ("what the coat leaves of the base", _grey(1 - fresnel))]
    for number, (lamp, light, free) in enumerate(zip(lights, parts.lamps, parts.free, strict=True)):
        name = f"light[{number}], a {type(lamp).__name__.removesuffix('Light').lower()}"
        shown.append((f"{name}, alone", _toned(scene, light)))
        shown.append((f"{name}: what it reaches", _grey(free)))
    board = Board("Debug: light", f"the next {_COUNTS[len(kinds)]} pictures sum to the first, before tone")
    for index, (name, picture) in enumerate(shown[:count]):
        x, y = 14 + index % across * (wide + 11), 50 + index // across * (high + 32)
        board.write(x, y + 10, name, size=13 if across == 3 else 12, bold=True)
        board.pin(picture, x, y + 24)
    if len(shown) > count:
        left = (len(shown) - count + 1) // 2
        rest = f"{left} more {'light is' if left == 1 else 'lights are'} not drawn"
        board.write(1266, 790, rest, size=12, ink=FAINT, side="right")
    return board


def draw_white(scene: Scene, camera: Camera, *, work: Work = ANYHOW) -> Board:
    """Draw what is brighter than white before tone in false colours, by how many stops; the rest in grey."""
    parts = light_in_parts(scene, camera, width=WIDTH // 2, height=_TALL // 2, work=work)
    most = parts.whole.max(axis=2) * np.float32(2.0**scene.lighting.exposure)
    stops = np.log2(np.maximum(most, 1e-6))
    grey = np.rint(255 * srgb_from_linear(0.5 * np.minimum(most, 1)))
    bright = heat(0.25 + 0.75 * np.clip(stops / _STOPS, 0, 1))
    picture = np.where((stops > 0)[..., None], bright, grey[..., None]).astype(np.uint8)
    board = Board("Debug: white", "what is brighter than white after exposure and before tone, by stops")
    board.pin(picture.repeat(2, axis=0).repeat(2, axis=1), 0, 52)
    board.pin(heat(np.linspace(0.25, 1, 400)[None].repeat(14, axis=0)), 20, HEIGHT - 46)
    for index, step in enumerate((0, _STOPS // 2, _STOPS)):
        side = ("left", "center", "right")[index]
        board.write(20 + 200 * index, HEIGHT - 20, f"{step}{' stops or more' if index == 2 else ''}", size=12, side=side)  # type: ignore[arg-type]
    share = 100 * float((stops > 0).mean())
    board.write(480, HEIGHT - 38, f"{share:.2f} % of the picture is brighter than white", size=15, bold=True)
    if share:
        board.write(480, HEIGHT - 16, f"the brightest by {stops.max():.1f} stops", size=12, ink=FAINT)
    return board


def _grey(share: NDArray[np.float32]) -> Picture:
    return np.repeat(np.rint(255 * np.clip(share, 0, 1)).astype(np.uint8)[..., None], 3, axis=2)


def _toned(scene: Scene, light: Light) -> Picture:
    shown = scene.lighting.shown(light.reshape(-1, 3)).reshape(light.shape)
    return np.rint(srgb_from_linear(shown) * 255).astype(np.uint8)


_DARK = Sky.even(0.0)
