"""How far the names in a file may lead: into its own folder, and into folders that somebody allowed."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from jagged_quilt.foundation.errors import FileError


@dataclass(frozen=True, slots=True)
class PathGuard:
    """A folder, and others, outside of which nothing is read; links are followed to where they lead.

    Parameters
    ----------
    home : Path
        The folder of the file that names others.
    allowed : tuple of Path
        What it may lead into besides.
    """

    home: Path
    allowed: tuple[Path, ...] = ()

    def holds(self, path: Path) -> bool:
        """Tell whether a path, which need not be there, leads to one of the folders or into it."""
        if path.parent == self.home and path.name != ".." and not path.is_symlink():
            return True
        real = _real(path)
        return any(real.is_relative_to(_real(each)) for each in (self.home, *self.allowed))

    def check(self, path: Path) -> Path:
        """Return a path; raise `FileError` if it leads outside."""
        if not self.holds(path):
            real = _real(path)
            folder = real if path.is_dir() else real.parent
            shown = Path(os.path.relpath(folder, _real(self.home))).as_posix()
            raise FileError(f'{path}: lies outside of {self.home}; to read it all the same, allow = ["{shown}"]')
        return path


def _real(path: Path) -> Path:
    try:
        return path.resolve()
    except (OSError, RuntimeError, ValueError) as error:  # a loop of links; a character that no path holds
        raise FileError(f"{str(path)!r}: leads nowhere ({error})") from error
