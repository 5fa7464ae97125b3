"""Where one map comes from: a file, which of its channels, and how they are to be understood."""

from __future__ import annotations

import warnings
from collections.abc import MutableMapping
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np

from jagged_quilt.foundation.errors import QuiltError, QuiltWarning, RangeError, ShapeError
from jagged_quilt.foundation.files import FileDigests, fingerprint
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.maps.image_files import read_channels
from jagged_quilt.maps.image_limits import LIMITS, ImageLimits
from jagged_quilt.maps.image_reader import Image
from jagged_quilt.maps.names import is_green_down
from jagged_quilt.maps.roles import MapRole, Transfer
from jagged_quilt.maps.stairs import without_stairs
from jagged_quilt.maps.texture_map import TextureMap

Green = Literal["up", "down"]
_NEAR = 1 / 512  # so little beyond 0 or 1 that no 8 bits show it


@dataclass(frozen=True, slots=True, kw_only=True)
class MapSource:
    """One map of a swatch, as it is to be read.

    Attributes
    ----------
    role : MapRole
    file : Path
    channel : str
        "r", "g", "b", "a", several of them ("rg"), or the name of a channel in the file; the usual ones where it is empty.
    green : "up", "down" or None
        Where the green of a normal map points in the image; None asks the file name, and is up where that says nothing.
    transfer : Transfer or None
        How stored values stand for what they mean; None is as the role has it.
    invert : bool
        Whether white and black change places first.
    upside_down : bool
        Whether the last row of the file is the top.
    smooth : bool
        Whether 8-bit stairs are smoothed, no texel by more than half a step.
    times : number, or one for each channel
        By how much what the map means is multiplied (colour in linear light), before it is cut to 0..1: of normals their
        slopes, of occlusion what it takes away.
    limits : ImageLimits
        The largest image that is decoded.
    """

    role: MapRole
    file: Path
    channel: str = ""
    green: Green | None = None
    transfer: Transfer | None = None
    invert: bool = False
    upside_down: bool = False
    smooth: bool = False
    times: float | tuple[float, ...] = 1.0
    limits: ImageLimits = LIMITS

    @property
    def is_green_down(self) -> bool:
        """Whether green is flipped on reading."""
        return self.role.value.direction and (self.green == "down" or (self.green is None and is_green_down(self.file)))

    def read(self, seen: MutableMapping[Path, Image] | None = None) -> TextureMap:
        """Read the map.

        Parameters
        ----------
        seen : mapping, optional
            Files that are decoded already; this one is added. For files that hold several maps.

        Raises
        ------
        ImageError, ShapeError, RangeError
            If the file cannot be read, has no such channel, or cannot play the role.
        """
        image = None if seen is None else seen.get(self.file)
        if image is None:
            image = read_channels(self.file, self.limits)
            if seen is not None:
                seen[self.file] = image
        texels = self._chosen(image)
        if self.upside_down:
            texels = np.ascontiguousarray(texels[::-1])
        if self.invert:
            texels = np.iinfo(texels.dtype).max - texels if texels.dtype.kind == "u" else np.float32(1) - texels
        if self.is_green_down:
            texels = texels.copy()
            turned = texels[..., 1]
            texels[..., 1] = np.iinfo(texels.dtype).max - turned if texels.dtype.kind == "u" else _turned(texels, turned)
        transfer = self.transfer
        texels.flags.writeable = False
        if self.smooth:
            if texels.dtype != np.uint8:
                raise ShapeError(f"{self.file}: smooth = true is for maps of 8 bits; this one has {texels.dtype.itemsize * 8}")
            steps = TextureMap(role=self.role, texels=texels, source=self.file, transfer=transfer).values
            texels, transfer = without_stairs(steps, step=1 / 255), Transfer.NONE
        return self._cut(self._multiplied(TextureMap(role=self.role, texels=texels, source=self.file, transfer=transfer)))

    def _multiplied(self, found: TextureMap) -> TextureMap:
        if self.times == 1:
            return found
        times = np.array(self.times, np.float32)
        if times.ndim and times.shape != (found.values.shape[2],):
            raise ShapeError(f"times must be one number, or one for each of {found.values.shape[2]} channels; got {self.times}")
        if not np.isfinite(times).all() or (times < 0).any():
            raise RangeError(f"times must be 0 or more; got {self.times}")
        values = found.values
        if self.role is MapRole.OCCLUSION:
            values = 1 - times * (1 - values)
        elif self.role.value.direction:
            values = values * np.array([times, times, 1], np.float32)
            values = values / np.linalg.norm(values, axis=2, keepdims=True)
        else:
            values = values * times
        low = -1 if self.role.value.direction else 0
        return TextureMap.of_values(self.role, np.clip(values, low, 1), found.source)

    def _cut(self, found: TextureMap) -> TextureMap:
        """Cut what a float file says to 0..1, and tell of it; vectors are made unit elsewhere."""
        texels = found.texels
        if texels.dtype != np.float32 or self.role.value.direction:
            return found
        low, high = float(texels.min()), float(texels.max())
        if low >= 0 and high <= 1:
            return found
        beyond = float(((texels < -_NEAR) | (texels > 1 + _NEAR)).mean())
        if beyond:
            warnings.warn(
                f"{self.file}: {100 * beyond:.2g} % of the {self.role.key} map lies below 0 or above 1 (it goes from {low:.3g} "
                f"to {high:.3g}), and is cut to that",
                QuiltWarning,
                stacklevel=2,
            )
        return TextureMap(role=self.role, texels=np.clip(texels, 0, 1), source=found.source, transfer=found.transfer)

    def stamp(self, digests: FileDigests) -> str:
        """Return a hash of the file's bytes and of how it is read."""
        how = (
            self.role.key,
            self.channel,
            self.is_green_down,
            self.transfer and str(self.transfer),
            self.invert,
            self.smooth,
            self.upside_down,
            *(() if self.times == 1 else (self.times,)),
        )
        return fingerprint(repr(how), digests.digest(self.file, "image file"))

    def _chosen(self, image: Image) -> Stored:
        names = [name.lower() for name in image.channels]
        if not self.channel:
            return _taken(image.texels, _usual(self.file, names))
        wanted = self.channel.lower()
        picks = [wanted] if wanted in names else list(wanted)
        if len(names) <= 2 and len(set(picks)) == 1 and picks[0] in "rgb":
            picks = names[:1] * len(picks)  # a grey image has the same in all
        missing = [pick for pick in picks if pick not in names]
        if missing:
            raise ShapeError(f'{self.file}: has no channel "{missing[0]}"; it holds {", ".join(image.channels)}')
        return _taken(image.texels, [names.index(pick) for pick in picks])


def _taken(texels: Stored, channels: list[int]) -> Stored:
    return texels if channels == list(range(texels.shape[2])) else np.take(texels, channels, axis=2)


def _usual(file: Path, names: list[str]) -> list[int]:
    """The channels to read where none are named: red, green, blue and alpha if they are there, else all of up to four."""
    for parts in (("r", "g", "b"), ("x", "y", "z")):
        for prefix in dict.fromkeys(name[: name.rfind(".") + 1] for name in names):
            found = [names.index(prefix + part) for part in parts if prefix + part in names]
            if len(found) == 3:
                return found + ([names.index(prefix + "a")] if parts[0] == "r" and prefix + "a" in names else [])
    if len(names) > 4:
        raise QuiltError(f'{file}: holds the channels {", ".join(names)}; say which with channel = "…"')
    return list(range(len(names)))


def _turned(texels: Stored, green: Stored) -> Stored:
    """Floats that go below 0 are vectors as they are; others are packed into 0..1."""
    return -green if float(texels.min()) < 0 else np.float32(1) - green
