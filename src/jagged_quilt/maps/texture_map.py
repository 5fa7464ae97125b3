"""One texture map: texels as stored, and the role that says what they mean."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache, cached_property
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.colour import linear_from_srgb, srgb_from_linear
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.notebook import NotebookValue
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.maps.image_files import read_image
from jagged_quilt.maps.roles import MapRole, Transfer

_kernels = kernels_of("jagged_quilt.maps._kernels")

_SAME_GREY, _RARELY = 12 / 255, 0.005  # how far channels of a grey may lie apart, and the share of texels in which they may not


@dataclass(frozen=True, eq=False, kw_only=True)
class TextureMap(NotebookValue):
    """One texture map.

    Attributes
    ----------
    role : MapRole
    texels : (H, W, C) uint8, uint16 or float32
        As stored, with the channels that the role needs (a normal map may have two), row 0 on top. Read-only.
    source : Path or None
        The file it came from.
    transfer : Transfer or None
        How the stored values stand for what they mean; None is as the role has it, and float texels as they are.
    """

    __repr__ = short_repr

    role: MapRole
    texels: Stored
    source: Path | None = None
    transfer: Transfer | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "role", MapRole.of(self.role))
        texels = np.asarray(self.texels)
        if texels.flags.writeable:
            texels = texels.copy()
        wanted = self.role.value.channels
        if texels.ndim == 2:
            texels = texels[..., None]
        if texels.ndim != 3 or 0 in texels.shape or texels.dtype not in (np.uint8, np.uint16, np.float32):
            raise ShapeError(
                f"{self.where}: texels must be (H, W, C) of uint8, uint16 or float32; "
                f"got {texels.dtype} of shape {texels.shape}"
            )
        if texels.dtype == np.float32 and not np.isfinite(texels).all():
            raise RangeError(f"{self.where}: texels must be finite; got {int((~np.isfinite(texels)).sum())} that are not")
        texels = self._channels(texels, wanted)
        texels.flags.writeable = False
        object.__setattr__(self, "texels", texels)

    @classmethod
    def read(cls, path: Path | str, role: MapRole | str) -> TextureMap:
        """Read a map from an image file; raise `ImageError` if that fails, `ShapeError` if it cannot play the role."""
        path = Path(path)
        return cls(role=MapRole.of(role), texels=read_image(path), source=path)

    @classmethod
    def of_values(cls, role: MapRole | str, values: Stored, source: Path | None = None) -> TextureMap:
        """Make a map from what it is to mean, (H, W, C): linear light, unit normals (-1..1), or numbers 0..1."""
        plain, role = np.asarray(values, np.float32), MapRole.of(role)
        if role.value.direction:
            plain = plain * np.float32(0.5) + np.float32(0.5)
        return cls(role=role, texels=plain, source=source, transfer=Transfer.NONE)

    @property
    def where(self) -> str:
        """How an error names this map."""
        return str(self.source) if self.source else f"{self.role.key} map"

    @property
    def shape(self) -> tuple[int, int]:
        """(rows, columns)"""
        return int(self.texels.shape[0]), int(self.texels.shape[1])

    @property
    def values(self) -> NDArray[np.float32]:
        """What the texels mean, (H, W, C) float32: linear light, unit normals (-1..1), or plain numbers (0..1)."""
        if self.texels.dtype.kind == "f":
            return self._values_of_floats()
        table = self.meanings
        out = np.empty((*self.shape, self.role.value.channels), np.float32)
        if self.role.value.direction:
            given = self.texels.shape[2]
            loop = _kernels.unit_vectors if given == 3 else _kernels.raised_vectors
            loop(self.texels.reshape(-1, given), table, out.reshape(-1, 3))
        else:
            _kernels.look_up(self.texels.reshape(-1), table, out.reshape(-1))
        return out

    @cached_property
    def is_encoded(self) -> bool:
        """Whether the stored values are sRGB-encoded."""
        if self.transfer is None:
            return self.role.value.transfer is Transfer.SRGB and self.texels.dtype.kind == "u"
        return self.transfer is Transfer.SRGB

    @property
    def meanings(self) -> NDArray[np.float32]:
        """What each whole number that a texel can store means, before vectors are made unit."""
        return _table(self.texels.dtype.itemsize, self.is_encoded, self.role.value.direction)

    def _values_of_floats(self) -> NDArray[np.float32]:
        values = linear_from_srgb(self.texels) if self.is_encoded else np.asarray(self.texels, np.float32)
        if not self.role.value.direction:
            return values
        vectors = values if float(values.min()) < 0 else values * 2 - 1
        if vectors.shape[2] == 2:
            up = np.sqrt(np.maximum(0, 1 - (vectors**2).sum(axis=2, keepdims=True)))
            vectors = np.concatenate([vectors, up], axis=2)
        return (vectors / np.maximum(np.linalg.norm(vectors, axis=2, keepdims=True), 1e-12)).astype(np.float32)

    def _channels(self, texels: Stored, wanted: int) -> Stored:
        """Keep what the role needs: alpha is left out, grey spreads to colour, a colour image of one grey is grey."""
        given = texels.shape[2]
        if given == 2 and self.role.value.direction:
            return np.ascontiguousarray(texels)
        if given in (2, 4):
            texels = texels[..., : given - 1]
            given -= 1
        if given == wanted:
            return np.ascontiguousarray(texels)
        if wanted == 3 and given == 1 and not self.role.value.direction:
            return np.ascontiguousarray(np.repeat(texels, 3, axis=2))
        if wanted == 1 and given == 3:
            grey = grey_of(texels)
            if grey is not None:
                return grey
            raise ShapeError(
                f"{self.where}: a {self.role.key} map must be grey; this one has colour "
                '(channel = "r" takes one of its channels)'
            )
        raise ShapeError(f"{self.where}: a {self.role.key} map needs {wanted} channels; got {given}")


def stored_values(role: MapRole, values: NDArray[np.floating], bits: int = 8) -> Stored:
    """Return values (…, C) of a role, as `TextureMap.values` gives them, as they are stored: rounded, 8 or 16 bits."""
    plain = np.asarray(values, np.float32)
    if role.value.direction:
        plain = plain * np.float32(0.5) + np.float32(0.5)
    encoded = srgb_from_linear(plain) if role.is_colour else np.clip(plain, 0, 1)
    top = np.float32((1 << bits) - 1)
    return np.rint(encoded * top).astype(np.uint16 if bits == 16 else np.uint8)


def grey_of(texels: Stored) -> Stored | None:
    """Return the one grey of an image of three channels, (H, W, 1), or None if it has colour.

    Channels that differ by no more than lossy coding makes them are grey: their mean is taken.
    """
    if (texels == texels[..., :1]).all():
        return np.ascontiguousarray(texels[..., :1])
    whole = float(np.iinfo(texels.dtype).max) if texels.dtype.kind == "u" else 1.0
    apart = texels.max(axis=2) - texels.min(axis=2)
    if (apart > _SAME_GREY * whole).mean() > _RARELY:
        return None
    mean = texels.mean(axis=2, keepdims=True, dtype=np.float32)
    return (np.rint(mean) if texels.dtype.kind == "u" else mean).astype(texels.dtype)


@cache
def _table(size: int, encoded: bool, signed: bool) -> NDArray[np.float32]:
    """What each number of `size` bytes means."""
    top = (1 << 8 * size) - 1
    plain = np.arange(top + 1, dtype=np.float64) / top
    meant = linear_from_srgb(plain) if encoded else plain
    return (meant * 2 - 1 if signed else meant).astype(np.float32)
