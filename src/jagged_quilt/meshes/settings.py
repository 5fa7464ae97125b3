"""How a mesh is read where nothing else is said, apart from what reads it, since quilt files name it."""

from __future__ import annotations

from typing import Literal

SMOOTH = 60.0
"""Degrees between two faces up to which an edge without normals is smooth."""
UP: Literal["y", "z"] = "y"
METRES = 1.0
"""Which way is up in a file that does not say, and the metres of its unit."""
