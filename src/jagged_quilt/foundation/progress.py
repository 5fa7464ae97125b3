"""How the core tells what it is doing, without knowing who listens."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[str, int, int], None]
"""Called as `progress(step, done, whole)`: the step's name and how many of its parts are done; whole 0 is a remark."""


def silent(step: str, done: int, whole: int) -> None:
    """Tell nobody."""
