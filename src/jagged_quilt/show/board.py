"""A board to pin pictures and words on, exact to the pixel."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.resize import resized
from jagged_quilt.foundation.colour import srgb_from_linear
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.maps.image_writing import write_image

Picture = NDArray[np.uint8]
"""(H, W, 3) sRGB, row 0 on top."""

WIDTH, HEIGHT = 1280, 800
GROUND = (30, 32, 36)
INK, FAINT = "#eceef0", "#a3a9b1"


class Board(NotebookValue):
    """A picture in the making; x runs right and y down, in pixels."""

    def __init__(self, title: str, note: str = "", *, width: int = WIDTH, height: int = HEIGHT) -> None:
        self.width, self.height = width, height
        self._pixels = np.full((height, width, 3), GROUND, np.uint8)
        self._words: list[tuple[float, float, str, float, str, str, bool, str | None]] = []
        if title:
            self.write(20, 27, title, size=17, bold=True)
        if note:
            self.write(width - 20, 27, note, size=12, ink=FAINT, side="right")

        self.title = title

    def __repr__(self) -> str:
        return f"<Board {self.width} x {self.height}{f': {self.title}' if self.title else ''}>"

    def pin(self, picture: Picture, x: int, y: int) -> None:
        """Put a picture with its top left corner at x, y; what would lie outside is cut."""
        part = picture[: max(0, self.height - y), : max(0, self.width - x)]
        self._pixels[y : y + part.shape[0], x : x + part.shape[1]] = part

    def frame(self, x: int, y: int, width: int, height: int, colour: tuple[int, int, int], thick: int = 2) -> None:
        """Draw the outline of a rectangle, inside of its bounds."""
        block = self._pixels[y : y + height, x : x + width]
        inner = block[thick:-thick, thick:-thick].copy()
        block[:] = colour
        block[thick:-thick, thick:-thick] = inner

    def write(
        self,
        x: float,
        y: float,
        text: str,
        *,
        size: float = 13,
        ink: str = INK,
        side: Literal["left", "center", "right"] = "left",
        bold: bool = False,
        behind: str | None = None,
    ) -> None:
        """Write a line with its middle at height y; `side` says which end of it lies at x."""
        self._words.append((x, y, text, size, ink, side, bold, behind))

    def save(self, path: Path) -> Path:
        """Write the board as an image file and return its path."""
        write_image(path, self.pixels())
        return path

    def pixels(self) -> Picture:
        """Return the board with its words drawn, (H, W, 3) uint8."""
        if not self._words:
            return self._pixels.copy()
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure

        figure = Figure(figsize=(self.width / 100, self.height / 100), dpi=100, facecolor="none")
        canvas = FigureCanvasAgg(figure)
        for x, y, text, size, ink, side, bold, behind in self._words:
            back = {"facecolor": behind, "edgecolor": "none", "pad": 4, "alpha": 0.72} if behind else None
            figure.text(
                x / self.width,
                1 - y / self.height,
                text,
                fontsize=size * 0.72,
                color=ink,
                ha=side,
                va="center",
                fontweight="bold" if bold else "normal",
                bbox=back,
                parse_math=False,
            )
        canvas.draw()
        words = np.asarray(canvas.buffer_rgba())
        out, at = self._pixels.copy(), np.nonzero(words[..., 3])
        colour, cover = words[at][:, :3].astype(np.float32), words[at][:, 3:].astype(np.float32) / np.float32(255)
        out[at] = np.rint(out[at] * (np.float32(1) - cover) + colour * cover).astype(np.uint8)
        return out


def picture_of(values: NDArray[np.float32], rows: int, columns: int) -> Picture:
    """Return linear colour or plain grey (H, W, C), 0..1, as sRGB pixels of a given size."""
    return _pixels(srgb_from_linear(resized(np.asarray(values, np.float32), rows, columns, edge="clamp")))


def picture_of_data(values: NDArray[np.float32], rows: int, columns: int) -> Picture:
    """Return plain numbers (H, W, C), 0..1, as pixels of a given size whose stored value is the number."""
    return _pixels(np.clip(resized(np.asarray(values, np.float32), rows, columns, edge="clamp"), 0, 1))


def _pixels(values: NDArray[np.float32]) -> Picture:
    stored = np.rint(values * 255).astype(np.uint8)
    return np.repeat(stored, 3, axis=2) if stored.shape[2] == 1 else stored
