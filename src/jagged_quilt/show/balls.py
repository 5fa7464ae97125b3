"""Swatches as balls under the quilt's own lights, beside controls, whole and with a map left out."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.resize import resized
from jagged_quilt.blend.blend import Texels
from jagged_quilt.foundation.colour import linear_from_srgb, srgb_from_linear
from jagged_quilt.light.lamps import Sun
from jagged_quilt.light.light import Lighting
from jagged_quilt.maps.roles import BLENDED_ROLES, MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.texture_map import TextureMap
from jagged_quilt.show.board import FAINT, GROUND, INK, Board, Picture
from jagged_quilt.show.lit_view import surface_of
from jagged_quilt.surfaces.camera import Camera

_OVERSAMPLED = 2
REPEATS = (3.0, 2.0)
_SAMPLED = 256  # texels along the side of a map on a ball
_ON_SHEET, _SIDE, _ACROSS, _ROOM, _LEFT, _TOP = 6, 138, 167, 722, 112, 78
_R = MapRole

Values = NDArray[np.float32]

VARIATIONS: dict[str, tuple[MapRole, ...]] = {
    "all maps": (),
    "without normal": (_R.NORMAL,),
    "without roughness": (_R.ROUGHNESS,),
    "without specular": (_R.SPECULAR,),
}
"""What is left out in each row of the sheet; then what few have; in the last row a checker stands in for the specular map."""
_RARE = {"without coat": (_R.COAT,), "without emission": (_R.EMISSION,)}
_CHECKER = "checker as specular"


class BallView(NamedTuple):
    """From where a ball is seen: unit vectors in the world to the right, to the eye and down, and its middle, metres."""

    right: Values
    eye: Values
    down: Values
    middle: tuple[float, float, float]

    @classmethod
    def of(cls, camera: Camera) -> BallView:
        """Return how a ball is seen that hangs where a camera looks."""
        ahead, right, up = (each.astype(np.float32) for each in camera.axes())
        return cls(right, -ahead, -up, camera.target)


_X, _Y, _Z = np.eye(3, dtype=np.float32)
LYING = BallView(_X, _Y, _Z, (0.0, 0.0, 0.0))
"""Seen from above, so that a sun in the north-west lights from the upper left."""
ABOVE_LEFT = Lighting((Sun(315, 34),))


def lit_ball(
    swatch: Swatch,
    side: int,
    *,
    repeats: tuple[float, float] = REPEATS,
    lighting: Lighting = ABOVE_LEFT,
    look: BallView = LYING,
    without: Collection[MapRole] = (),
) -> Picture:
    """Draw a sphere in the swatch, seen straight on, (side, side, 3) uint8, sRGB; lit from the upper left unless said.

    Longitude runs along u and latitude along v; normals turn with the sphere's own tangents. It has a radius of 1 m, and
    its own shadow on its far side.

    Parameters
    ----------
    repeats : (float, float)
        How often the maps repeat over the half of the sphere that is seen, across and down.
    without : roles
        Whose maps are left out: their neutral value stands in.

    Examples
    --------
    >>> jq.show.lit_ball(clay, 64).shape
    (64, 64, 3)
    """
    ball = _ball(side * _OVERSAMPLED, repeats)
    return _lit(ball, _sampled(swatch, ball.texels), side, lighting, look, without)


def _lit(
    ball: _Ball,
    flat: Mapping[MapRole, Values],
    side: int,
    lighting: Lighting,
    look: BallView,
    without: Collection[MapRole] = (),
) -> Picture:
    """Draw a ball of which the texels that it shows are known."""
    flat = {role: values for role, values in flat.items() if role not in without}
    axes = np.stack([look.right, look.eye, look.down]).astype(np.float32)
    frame = np.stack([ball.east @ axes, ball.north @ axes, ball.normal @ axes], axis=1)
    texels, normal = Texels.of(flat, len(ball.normal)), frame[:, 2]
    for role in (role for role in (_R.NORMAL, _R.COAT_NORMAL) if role in texels):
        bumpy = np.einsum("nk,nkd->nd", texels[role], frame)
        texels[role][...] = bumpy / np.sqrt(np.einsum("nd,nd->n", bumpy, bumpy))[:, None]
    surface = surface_of(texels, np.broadcast_to(look.eye, normal.shape))
    positions = np.array(look.middle) + normal.astype(np.float64)
    ways = [light.reach_at(positions)[0] for light in lighting.lights]
    free = [np.clip(np.einsum("nd,nd->n", normal, np.broadcast_to(way, normal.shape)) * 8, 0, 1) for way in ways]
    light = lighting.leaving(surface, positions, free)
    whole = np.tile(linear_from_srgb(np.array(GROUND) / 255), (side * _OVERSAMPLED, side * _OVERSAMPLED, 1))
    whole[ball.inside] = lighting.shown(light)
    mean = sum(whole[down::_OVERSAMPLED, across::_OVERSAMPLED] for down in (0, 1) for across in (0, 1)) / np.float32(4)
    return np.rint(srgb_from_linear(mean) * 255).astype(np.uint8)


def controls() -> dict[str, Swatch]:
    """Return plain swatches to hold others against."""
    plain = {
        "grey, rough": (0.5, 0.04, 1.0),
        "grey, half rough": (0.5, 0.04, 0.5),
        "mirror": (0.0, 1.0, 0.0),
        "rough mirror": (0.0, 1.0, 0.4),
        "white, rough": (1.0, 0.0, 1.0),
    }
    return {name: _plain(name, *values) for name, values in plain.items()}


def draw_balls(swatches: Sequence[Swatch], lighting: Lighting, camera: Camera) -> list[Board]:
    """Draw each swatch as balls, whole, with a map left out and with a checker as its specular map, beside controls.

    Examples
    --------
    >>> camera = jq.Camera(position=(0.0, 1.0, 4.0), target=(0.0, 0.0, 0.0))
    >>> jq.show.draw_balls([clay, salt], jq.Scene(arrays).lighting, camera)
    [<Board 1280 x 800: Balls>]
    """
    return [
        _sheet(swatches[first : first + _ON_SHEET], lighting, BallView.of(camera), page, -(-len(swatches) // _ON_SHEET))
        for page, first in enumerate(range(0, len(swatches), _ON_SHEET), 1)
    ]


def _sheet(swatches: Sequence[Swatch], lighting: Lighting, look: BallView, page: int, pages: int) -> Board:
    lights = f"{len(lighting.lights)} light{'s' * (len(lighting.lights) != 1)} and the sky of the quilt"
    board = Board("Balls" + (f", sheet {page} of {pages}" if pages > 1 else ""), f"{lights}, seen as its camera looks")
    rare = {name: roles for name, roles in _RARE.items() if any(roles[0] in swatch.maps for swatch in swatches)}
    rows = {**VARIATIONS, **rare, _CHECKER: ()}
    cells = _Cells(_ROOM // len(rows))
    board.write(cells.middle(0), 60, "controls", size=13, bold=True, side="center")
    for row, (name, plain) in enumerate(controls().items()):
        board.pin(lit_ball(plain, cells.side, lighting=lighting, look=look), *cells.corner(0, row))
        foot = cells.corner(0, row)[1] + cells.side - 6
        board.write(cells.middle(0), foot, name, size=11, side="center", behind="#1e2024")
    for row, name in enumerate(rows):
        for line, words in enumerate(name.split(" ", 1)):
            y = cells.corner(0, row)[1] + cells.side / 2 - 9 + 18 * line
            board.write(16, y, words, size=12, ink=FAINT if line else INK)
    ball = _ball(cells.side * _OVERSAMPLED, REPEATS)
    for column, swatch in enumerate(swatches, 1):
        board.write(cells.middle(column), 60, swatch.name, size=13, bold=True, side="center")
        flat = _sampled(swatch, ball.texels)
        for row, (name, without) in enumerate(rows.items()):
            if without and without[0] not in swatch.maps:
                y = cells.corner(column, row)[1] + cells.side / 2
                board.write(cells.middle(column), y, "has none", size=12, ink=FAINT, side="center")
                continue
            shown = flat if name != _CHECKER else {**flat, _R.SPECULAR: _checker(ball.texels)}
            board.pin(_lit(ball, shown, cells.side, lighting, look, without), *cells.corner(column, row))
    return board


class _Cells(NamedTuple):
    """Where balls lie on a sheet whose rows are so far apart."""

    down: int

    @property
    def side(self) -> int:
        """Pixels across a ball."""
        return min(_SIDE, self.down - 6)

    def corner(self, column: int, row: int) -> tuple[int, int]:
        """Return the upper left corner of a ball."""
        return _LEFT + column * _ACROSS + (_SIDE - self.side) // 2, _TOP + row * self.down

    def middle(self, column: int) -> float:
        """Return the middle of a column."""
        return _LEFT + column * _ACROSS + _SIDE / 2


def _plain(name: str, diffuse: float, specular: float, roughness: float) -> Swatch:
    values = {_R.DIFFUSE: [diffuse] * 3, _R.SPECULAR: [specular] * 3, _R.ROUGHNESS: [roughness]}
    maps = {role: TextureMap.of_values(role, np.array(each, np.float32)[None, None]) for role, each in values.items()}
    return Swatch(name=name, tile=1.0, relief=0.01, maps=maps)


def _checker(texels: NDArray[np.int32]) -> Values:
    """A specular map of 16 x 16 squares that throw back 0.02 and 0.6, at texels of a ball."""
    squares = texels // _SAMPLED // (_SAMPLED // 16) + texels % _SAMPLED // (_SAMPLED // 16)
    return np.repeat(np.where(squares % 2, np.float32(0.6), np.float32(0.02))[:, None], 3, axis=1)


class _Ball(NamedTuple):
    """The half of a sphere that is seen: which pixels, their vectors, and the texels that they show, by number.

    Vectors are along: to the right, to the eye, down the picture.
    """

    inside: NDArray[np.bool_]
    normal: Values
    east: Values
    north: Values
    texels: NDArray[np.int32]


@lru_cache(maxsize=4)
def _ball(fine: int, repeats: tuple[float, float]) -> _Ball:
    y, x = (np.mgrid[:fine, :fine] + 0.5) / fine * 2.12 - 1.06
    inside = x**2 + y**2 < 1
    right, down = x[inside], y[inside]
    ahead = np.sqrt(1 - right**2 - down**2)
    longitude, latitude = np.arctan2(right, ahead), np.arcsin(np.clip(-down, -1, 1))
    u, v = longitude / np.pi * repeats[0], 0.5 - latitude / np.pi * repeats[1]
    normal = np.column_stack([right, ahead, down])
    east = np.column_stack([np.cos(longitude), -np.sin(longitude), np.zeros_like(longitude)])
    row, column = (np.floor(at * _SAMPLED % _SAMPLED).astype(np.int32) for at in (v, u))
    normals, easts, norths = (each.astype(np.float32) for each in (normal, east, np.cross(east, normal)))
    return _Ball(inside, normals, easts, norths, row * _SAMPLED + column)


def _sampled(swatch: Swatch, texels: NDArray[np.int32]) -> dict[MapRole, Values]:
    """The values of its maps at texels of a mip near the size of the sphere's own pixels."""
    flat = {role: resized(each.values, _SAMPLED, _SAMPLED) for role, each in swatch.maps.items() if role in BLENDED_ROLES}
    return {role: values.reshape(-1, values.shape[2]).take(texels, axis=0) for role, values in flat.items()}
