"""A picture that saves itself, and shows itself in a notebook."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.show.board import Picture


class Drawn(np.ndarray):
    """An array (height, width, 3) uint8, sRGB, that can be saved.

    Examples
    --------
    >>> Drawn.of(np.zeros((2, 3, 3), np.uint8)).shape
    (2, 3, 3)
    """

    @classmethod
    def of(cls, picture: Picture) -> Drawn:
        """Return a picture as one that saves itself; its memory is shared."""
        return picture.view(cls)

    def save(self, path: Path | str) -> Path:
        """Write it as an image file, by its suffix, and return the path; raise `FileError` if that fails."""
        path = Path(path)
        write_image(path, np.asarray(self))
        return path

    def png(self) -> bytes:
        """Return it as the bytes of a PNG file."""
        with tempfile.TemporaryDirectory() as folder:
            return self.save(Path(folder) / "picture.png").read_bytes()

    def _repr_png_(self) -> bytes | None:
        return self.png() if self.ndim == 3 and self.dtype == np.uint8 else None
