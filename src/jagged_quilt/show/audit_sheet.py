"""A sheet for each swatch that was examined: its maps, a lit sphere, how it repeats, and what was found."""

from __future__ import annotations

import textwrap
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.resize import resized
from jagged_quilt.audit.audit import SwatchAudit
from jagged_quilt.audit.finding import Finding
from jagged_quilt.audit.set_faults import SEAM_SEEN
from jagged_quilt.foundation.colour import srgb_from_linear
from jagged_quilt.light.lamps import Sun
from jagged_quilt.light.light import Lighting, LitSurface
from jagged_quilt.maps.roles import SURFACE_ROLES, MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.show.board import FAINT, INK, Board, Picture
from jagged_quilt.show.map_pictures import map_picture, neutral_picture

_CELL, _ACROSS = 126, 134
_LARGE = 393
_FAULT, _GOOD, _BORDER = "#ff8d7a", "#9ddb9a", (255, 214, 64)
_WRAP = 58
_OVERSAMPLED = 2
_SAMPLED = 256  # texels along the side of a map on a ball


def audit_sheet(audit: SwatchAudit) -> Board:
    """Draw one sheet."""
    faults, swatch = len(audit.faults), audit.read()
    board = Board(f"Audit: {audit.name}", "no faults" if not faults else "1 fault" if faults == 1 else f"{faults} faults")
    for column, role in enumerate(SURFACE_ROLES):
        _map_cell(board, audit, swatch, role, 20 + column * _ACROSS, 66)
    if swatch is not None:
        board.write(20, 288, "lit from the upper left, repeating 3 x 2 times", size=12, ink=FAINT)
        board.pin(lit_ball(swatch, _LARGE), 20, 310)
        _repeat(board, audit, swatch, 20 + _LARGE + 20, 310)
        words = "seam: how visible the border is where left meets right, and where top meets bottom; 0 unseen, 1 glaring"
        board.write(20, 310 + _LARGE + 30, words, size=11, ink=FAINT)
    _findings(board, audit, 856, 66)
    return board


def _map_cell(board: Board, audit: SwatchAudit, swatch: Swatch | None, role: MapRole, x: int, y: int) -> None:
    facts = audit.maps.get(role.key)
    faulty = any(each.role == role.key for each in audit.faults)
    board.write(x, y, role.key, size=13, bold=True, ink=_FAULT if faulty else INK)
    given = None if swatch is None else swatch.maps.get(role)
    if given is not None:
        rows = max(1, round(_CELL * given.shape[0] / given.shape[1]))
        board.pin(map_picture(given, rows, _CELL)[:_CELL], x, y + 14)
    else:
        board.pin(neutral_picture(role, _CELL, _CELL), x, y + 14)
        board.write(
            x + _CELL / 2, y + 14 + _CELL / 2, "not read" if facts else "neutral", size=12, side="center", behind="#1e2024"
        )
    if faulty:
        board.frame(x, y + 14, _CELL, _CELL, (255, 141, 122), 3)
    if facts is not None:
        board.write(x, y + _CELL + 26, f"{facts['width']} x {facts['height']}", size=11, ink=FAINT)
        board.write(x, y + _CELL + 41, f"{facts['bits']} bit", size=11, ink=FAINT)
        if "seam" in facts:
            sides, ends = facts["seam"]["sides"], facts["seam"]["ends"]
            ink = _FAULT if max(sides, ends) > SEAM_SEEN else FAINT
            board.write(x, y + _CELL + 56, f"seam {sides:.2f} | {ends:.2f}", size=11, ink=ink)
    elif swatch is not None and role in swatch.derived:
        board.write(x, y + _CELL + 26, "derived", size=11, ink=FAINT)


def _repeat(board: Board, audit: SwatchAudit, swatch: Swatch, x: int, y: int) -> None:
    """Two by two repeats of the map with the most visible border, with marks outside where the borders lie."""
    role = worst_seam(audit, swatch)
    board.write(x, y - 22, f"{role.key}, repeated 2 x 2; ticks mark the borders", size=12, ink=FAINT)
    given = swatch.maps[role]
    one = map_picture(given, _LARGE // 2, _LARGE // 2)
    board.pin(np.tile(one, (2, 2, 1)), x, y)
    middle = _LARGE // 2
    tick = np.broadcast_to(np.array(_BORDER, np.uint8), (9, 2, 3))
    for across, down, mark in ((middle - 1, -10, tick), (middle - 1, _LARGE + 1, tick)):
        board.pin(mark, x + across, y + down)
    for across in (-10, _LARGE + 1):
        board.pin(tick.transpose(1, 0, 2), x + across, y + middle - 1)


def _findings(board: Board, audit: SwatchAudit, x: int, y: int) -> None:
    board.write(x, y, "what was found", size=13, bold=True)
    line = y + 24
    if not audit.findings:
        board.write(x, line, "Nothing is wrong.", size=13, ink=_GOOD)
    for each in audit.findings:
        rows = _lines_of(each)
        if line + 15 * len(rows) > 780:
            board.write(x, line, "more: jquilt check tells all", size=11, ink=FAINT)
            return
        for text, ink, fixed in rows:
            board.write(x + (12 if fixed else 0), line, text, size=11, ink=ink)
            line += 15
        line += 7


def _lines_of(finding: Finding) -> list[tuple[str, str, bool]]:
    """A finding as lines: (text, ink, whether it is to be typed)."""
    ink = _FAULT if finding.level == "fault" else FAINT
    head = f"{finding.level}: " + (f"{finding.role}: " if finding.role else "") + finding.what
    out = [(text, ink, False) for text in textwrap.wrap(head, _WRAP)]
    out += [(text, INK if finding.level == "fault" else FAINT, False) for text in textwrap.wrap(finding.measured, _WRAP)]
    if finding.mend and finding.level == "fault":
        out += [(text, _GOOD, True) for text in finding.mend.strip().splitlines()]
    return out


def worst_seam(audit: SwatchAudit, swatch: Swatch) -> MapRole:
    """The role of a swatch whose border is most visible; diffuse where none is."""
    seen = {role: max(facts["seam"].values()) for role, facts in audit.maps.items() if "seam" in facts}
    roles = [role for role in SURFACE_ROLES if seen.get(role.key, 0) > 0.05 and role in swatch.maps]
    return max(roles, key=lambda role: seen[role.key], default=MapRole.DIFFUSE)


def lit_ball(swatch: Swatch, side: int, *, repeats: tuple[float, float] = (3.0, 2.0)) -> Picture:
    """Draw a sphere in the swatch, seen straight on and lit from the upper left, (side, side, 3) uint8, sRGB.

    Longitude runs along u and latitude along v; normals turn with the sphere's own tangents.

    Parameters
    ----------
    repeats : (float, float)
        How often the maps repeat over the half of the sphere that is seen, across and down.
    """
    ball = _ball(side * _OVERSAMPLED, repeats)
    flat = {role: _sampled(swatch, role, ball.texels) for role in SURFACE_ROLES}
    own = flat[MapRole.NORMAL]
    bumpy = own[:, :1] * ball.east + own[:, 1:2] * ball.north + own[:, 2:] * ball.normal
    bumpy /= np.sqrt(np.einsum("nd,nd->n", bumpy, bumpy))[:, None]
    sun = Sun(315, 34)
    surface = LitSurface(
        flat[MapRole.DIFFUSE],
        flat[MapRole.SPECULAR],
        flat[MapRole.ROUGHNESS][:, 0],
        flat[MapRole.OCCLUSION][:, 0],
        bumpy,
        np.broadcast_to(np.array([0, 1, 0], np.float32), bumpy.shape),
    )
    lighting, free = Lighting((sun,)), np.clip((ball.normal @ sun.towards.astype(np.float32)) * 8, 0, 1)
    light = lighting.leaving(surface, np.zeros((len(bumpy), 3)), [free])
    whole = np.full((side * _OVERSAMPLED, side * _OVERSAMPLED, 3), 0.0125, np.float32)
    whole[ball.inside] = lighting.shown(light)
    mean = sum(whole[down::_OVERSAMPLED, across::_OVERSAMPLED] for down in (0, 1) for across in (0, 1)) / np.float32(4)
    return np.rint(srgb_from_linear(mean) * 255).astype(np.uint8)


class _Ball(NamedTuple):
    """The half of a sphere that is seen: which pixels, their vectors, and the texels that they show, by number.

    It lies in a world where up is towards the eye: x right, y to the eye, z down the picture.
    """

    inside: NDArray[np.bool_]
    normal: NDArray[np.float32]
    east: NDArray[np.float32]
    north: NDArray[np.float32]
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


def _sampled(swatch: Swatch, role: MapRole, texels: NDArray[np.int32]) -> NDArray[np.float32]:
    """The values of a map at texels of a mip near the size of the sphere's own pixels."""
    given = swatch.maps.get(role)
    if given is None:
        return np.broadcast_to(np.array(role.value.neutral, np.float32), (len(texels), role.value.channels))
    values = resized(given.values, _SAMPLED, _SAMPLED)
    return values.reshape(-1, values.shape[2]).take(texels, axis=0)
