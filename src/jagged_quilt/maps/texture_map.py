"""One texture map: texels as stored, and the role that says what they mean."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.colour import linear_from_srgb
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.maps.image_files import Stored, read_image
from jagged_quilt.maps.roles import MapRole, Transfer


@dataclass(frozen=True, eq=False, kw_only=True)
class TextureMap:
    """One texture map.

    Attributes
    ----------
    role : MapRole
    texels : (H, W, C) uint8, uint16 or float32
        As stored, with the channels that the role needs, row 0 on top. Read-only.
    source : Path or None
        The file it came from.
    """

    role: MapRole
    texels: Stored
    source: Path | None = None

    def __post_init__(self) -> None:
        texels = np.array(self.texels)
        wanted = self.role.value.channels
        if texels.ndim == 2:
            texels = texels[..., None]
        if texels.ndim != 3 or 0 in texels.shape or texels.dtype not in (np.uint8, np.uint16, np.float32):
            raise ShapeError(f"{self.place}: texels must be (H, W, C) of uint8, uint16 or float32; "
                             f"got {texels.dtype} of shape {texels.shape}")  # fmt: skip
        if texels.dtype == np.float32 and not np.isfinite(texels).all():
            raise RangeError(f"{self.place}: texels must be finite; got {int((~np.isfinite(texels)).sum())} that are not")
        texels = self._channels(texels, wanted)
        texels.flags.writeable = False
        object.__setattr__(self, "texels", texels)

    @classmethod
    def read(cls, path: Path | str, role: MapRole) -> TextureMap:
        """Read a map from an image file; raise `ImageError` if that fails, `ShapeError` if it cannot play the role."""
        path = Path(path)
        return cls(role=role, texels=read_image(path), source=path)

    @property
    def place(self) -> str:
        """How an error names this map."""
        return str(self.source) if self.source else f"{self.role.key} map"

    @property
    def size(self) -> tuple[int, int]:
        """(rows, columns)"""
        return int(self.texels.shape[0]), int(self.texels.shape[1])

    @cached_property
    def values(self) -> NDArray[np.float32]:
        """What the texels mean, (H, W, C) float32: linear light, unit normals (-1..1), or plain numbers (0..1)."""
        texels: NDArray[Any] = self.texels
        top = float(np.iinfo(texels.dtype).max) if texels.dtype.kind == "u" else 1.0
        if self.role is MapRole.NORMAL:
            if texels.dtype.kind == "f" and float(texels.min()) < 0:
                vectors = texels.astype(np.float32)
            else:
                vectors = (texels * np.float32(2 / top) - 1).astype(np.float32)
            return vectors / np.maximum(np.linalg.norm(vectors, axis=2, keepdims=True), 1e-12)
        plain = (texels / np.float32(top)).astype(np.float32)
        return linear_from_srgb(plain) if self.role.value.transfer is Transfer.SRGB and texels.dtype.kind == "u" else plain

    def _channels(self, texels: Stored, wanted: int) -> Stored:
        """Keep what the role needs: alpha is left out, grey spreads to colour, a colour image of one grey is grey."""
        given = texels.shape[2]
        if given in (2, 4):
            texels = texels[..., : given - 1]
            given -= 1
        if given == wanted:
            return np.ascontiguousarray(texels)
        if wanted == 3 and given == 1 and self.role is not MapRole.NORMAL:
            return np.ascontiguousarray(np.repeat(texels, 3, axis=2))
        if wanted == 1 and given == 3:
            if (texels == texels[..., :1]).all():
                return np.ascontiguousarray(texels[..., :1])
            raise ShapeError(f"{self.place}: a {self.role.key} map must be grey; this one has colour")
        raise ShapeError(f"{self.place}: a {self.role.key} map needs {wanted} channels; got {given}")
