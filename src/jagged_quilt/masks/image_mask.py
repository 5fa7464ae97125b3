"""A mask from an image: any file and channel, laid on the ground in metres, or by uv."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import finite_array, number_in, positive
from jagged_quilt.foundation.choices import Choice
from jagged_quilt.foundation.errors import ImageError, RangeError, ShapeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points
from jagged_quilt.maps.image_files import read_channels
from jagged_quilt.maps.image_limits import LIMITS, ImageLimits
from jagged_quilt.masks.mask import Answers, Mask

_kernels = kernels_of("jagged_quilt.masks._kernels")


class ImageWrap(Choice):
    """What lies beyond the border of a mask's picture."""

    REPEAT = "repeat", 0
    MIRROR = "mirror", 1
    CLAMP = "clamp", 2
    NONE = "none", 3


@dataclass(frozen=True, eq=False, kw_only=True)
class ImageMask(Mask):
    """A picture's numbers, 0 black to 1 white, as they are stored: a mask is data, not colour.

    Attributes
    ----------
    values : (H, W) float32
        0..1, row 0 on top.
    size : (float, float) or None
        Metres that the picture covers, right and down; None lays it on by uv, once over the whole surface.
    corner : (float, float)
        x and z of its top left corner, in metres (by uv: u and v).
    rotation : float
        Degrees clockwise, seen from above, about that corner.
    wrap : "repeat", "mirror", "clamp" or "none"
        What lies beyond its border; "none" is 0.
    source : Path or None
    """

    values: NDArray[np.float32]
    size: tuple[float, float] | None = None
    corner: tuple[float, float] = (0.0, 0.0)
    rotation: float = 0.0
    wrap: ImageWrap = ImageWrap.NONE
    source: Path | None = None
    key: ClassVar[str] = "image"

    def __post_init__(self) -> None:
        values = finite_array("an image mask", self.values, ("H", "W"))
        if 0 in values.shape or values.min() < 0 or values.max() > 1:
            raise RangeError(
                "an image mask must hold numbers from 0 to 1" + (f"; {self.source} does not" if self.source else "")
            )
        object.__setattr__(self, "values", values)
        for name, metres in zip(("right", "down"), self.size or (1, 1), strict=True):
            positive(f"image mask: size {name}", metres, "m")
        for at in self.corner:
            number_in("image mask: corner", at, unit="m")
        number_in("image mask: rotation", self.rotation, unit="degrees")
        object.__setattr__(self, "wrap", ImageWrap.of(self.wrap, "wrap"))

    @classmethod
    def read(
        cls,
        path: Path | str,
        *,
        channel: str = "",
        size: tuple[float, float] | None = None,
        corner: tuple[float, float] = (0.0, 0.0),
        rotation: float = 0.0,
        wrap: ImageWrap | str = "none",
        limits: ImageLimits = LIMITS,
    ) -> ImageMask:
        """Read a mask from an image file.

        Parameters
        ----------
        channel : str
            r, g, b, a, or the name that the file has for it; may be left out where the file is grey.

        Raises
        ------
        ImageError
            If the file cannot be read, has colour and no channel is named, or has no such channel.
        """
        return cls(
            values=read_grey(path, channel, limits),
            size=size,
            corner=corner,
            rotation=rotation,
            wrap=ImageWrap.of(wrap),
            source=Path(path),
        )

    @property
    def summary(self) -> str:
        return f"image {self.source.name if self.source else 'in memory'}"

    def measured(self, points: Points) -> str:
        column, row = (float(at) for at in self._places(points)[0])
        return f"column {column * self.values.shape[1]:.1f}, row {row * self.values.shape[0]:.1f} of the picture"

    def answer(self, points: Points) -> Answers:
        texels, table = self._mips
        levels = np.zeros(len(points), np.float32)
        if self.size is not None:  # so that a fine picture does not flicker on coarse texels
            texel = max(self.size[0] / self.values.shape[1], self.size[1] / self.values.shape[0])
            levels = np.log2(np.maximum(np.maximum(*points.footprint.T) / np.float32(texel), np.float32(1)))
        out = np.empty(len(points), np.float32)
        _kernels.read_picture(self._places(points), levels, texels, table, self.wrap.code, out)
        return out

    def _places(self, points: Points) -> NDArray[np.float64]:
        """Where the points lie in the picture, (N, 2): 0..1 right and down."""
        if self.size is None:
            if points.uv is None:
                raise ShapeError("an image mask without a size is laid on by uv, and these points have none; give it a size")
            at = points.uv.astype(np.float64) - self.corner
        else:
            at = points.world[:, [0, 2]] - self.corner
        turn = math.radians(self.rotation)
        right, down = (math.cos(turn), math.sin(turn)), (-math.sin(turn), math.cos(turn))
        return np.ascontiguousarray(at @ np.array([right, down]).T / (self.size or (1.0, 1.0)))

    def __getstate__(self) -> dict[str, object]:
        """Its mips stay here: what is made of the same values is the same."""
        return {name: value for name, value in self.__dict__.items() if name != "_mips"}

    @cached_property
    def _mips(self) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
        """All levels in one flat array, each half as wide as the one before, and where each begins, its rows and columns."""
        levels = [self.values]
        while min(levels[-1].shape) > 1:
            last = levels[-1]
            even = np.pad(last, ((0, last.shape[0] % 2), (0, last.shape[1] % 2)), mode="edge")
            levels.append((even[::2, ::2] + even[1::2, ::2] + even[::2, 1::2] + even[1::2, 1::2]) * np.float32(0.25))
        starts = np.cumsum([0, *(level.size for level in levels)])
        table = [(start, *level.shape) for start, level in zip(starts, levels, strict=False)]
        return np.concatenate([level.ravel() for level in levels]), np.array(table, np.int64)


def read_grey(path: Path | str, channel: str = "", limits: ImageLimits = LIMITS) -> NDArray[np.float32]:
    """Return one channel of an image file as numbers, (H, W) float32, whole numbers scaled to 0..1.

    Raises
    ------
    ImageError
        If the file cannot be read, has no such channel, or has colour and none is named.
    """
    image = read_channels(path, limits)
    names = [name.lower() for name in image.channels]
    if channel and channel.lower() not in names and not (len(names) <= 2 and channel in ("r", "g", "b")):
        raise ImageError(f'{path}: has no channel "{channel}"; it holds {", ".join(image.channels)}')
    texels = image.texels
    colours = texels[..., : len(names) - 1] if len(names) in (2, 4) else texels
    if not channel and (colours != colours[..., :1]).any():
        raise ImageError(f'{path}: has colour, and a mask is one channel; say which with channel = "r" (or g, b, a)')
    one = texels[..., names.index(channel.lower()) if channel.lower() in names else 0]
    return fractions(one)


def fractions(stored: Stored) -> NDArray[np.float32]:
    """Return whole numbers scaled to 0..1, and floats as they are."""
    if stored.dtype.kind == "u":
        return np.asarray(stored * np.float32(1 / np.iinfo(stored.dtype).max), np.float32)
    return np.asarray(stored, np.float32)
