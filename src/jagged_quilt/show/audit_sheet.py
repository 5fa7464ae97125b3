"""A sheet for each swatch that was examined: its maps, a lit sphere, how it repeats, and what was found."""

from __future__ import annotations

import textwrap

import numpy as np

from jagged_quilt.audit.audit import SwatchAudit
from jagged_quilt.audit.finding import Finding
from jagged_quilt.audit.set_faults import SEAM_SEEN
from jagged_quilt.maps.roles import SURFACE_ROLES, MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.show.balls import lit_ball
from jagged_quilt.show.board import FAINT, INK, Board
from jagged_quilt.show.map_pictures import map_picture, neutral_picture

_CELL, _ACROSS = 126, 134
_LARGE = 393
_FAULT, _GOOD, _BORDER = "#ff8d7a", "#9ddb9a", (255, 214, 64)
_WRAP = 58


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
