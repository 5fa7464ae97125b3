"""Baking: a whole surface, or a region of it, into finished maps."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend.blender import Blender, EncodedTexels, NormalSpace
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.projection import Filter
from jagged_quilt.foundation.checks import whole_number_in
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.files import write_json, written_together
from jagged_quilt.foundation.points import Surface
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.maps.image_files import write_image
from jagged_quilt.maps.roles import SURFACE_ROLES, MapRole
from jagged_quilt.weights.medley import shown_names
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import WeightMap

_TEXELS_AT_ONCE = 1 << 15


@dataclass(frozen=True, eq=False, kw_only=True)
class BakedMaps:
    """The maps of a blended surface, (H, W) or (H, W, 3), row 0 on top, encoded by the convention of each role.

    Attributes
    ----------
    diffuse, specular : (H, W, 3) uint8
        sRGB.
    normal : (H, W, 3) uint8
        Unit, green up.
    roughness, occlusion : (H, W) uint8
    height : (H, W) uint16
        The blended relief of the layers; 65535 is `relief` metres.
    relief : float
        Metres.
    normals : "tangent" or "world"
        The space of the normals.
    """

    diffuse: NDArray[np.uint8]
    normal: NDArray[np.uint8]
    roughness: NDArray[np.uint8]
    specular: NDArray[np.uint8]
    occlusion: NDArray[np.uint8]
    height: NDArray[np.uint16]
    relief: float
    normals: NormalSpace

    def __getitem__(self, role: MapRole) -> NDArray[Any]:
        """Return the map of a role."""
        found: NDArray[Any] = getattr(self, role.key)
        return found

    @property
    def nbytes(self) -> int:
        """Bytes of all maps together."""
        return sum(self[role].nbytes for role in SURFACE_ROLES)

    def save(
        self, folder: Path | str, stamp: str = "", progress: Progress = silent, facts: dict[str, Any] | None = None
    ) -> list[Path]:  # fmt: skip
        """Write one PNG per role and a manifest, with any other `facts` in it; return the files."""
        folder = Path(folder)
        names = {role: f"{role.key}.png" for role in SURFACE_ROLES}
        manifest = {
            "stamp": stamp,
            "texels": list(self.roughness.shape),
            "relief_metres": self.relief,
            "normals": self.normals,
            "maps": {role.key: name for role, name in names.items()},
            **(facts or {}),
        }
        with written_together(folder) as stage:
            work_through(
                list(names), lambda role: write_image(stage / names[role], self[role]),
                step="writing maps", progress=progress,
            )  # fmt: skip
            write_json(stage / "bake.json", manifest)
        return [*(folder / name for name in names.values()), folder / "bake.json"]


def bake(
    surface: Surface,
    layers: Sequence[Layer],
    arrays: TextureArrays,
    weights: WeightMap | Weigher | None = None,
    *,
    texels: int = 1024,
    rows: tuple[int, int] | None = None,
    columns: tuple[int, int] | None = None,
    normals: NormalSpace = "tangent",
    filter: Filter = "trilinear",
    block: int = _TEXELS_AT_ONCE,
    threads: int | None = None,
    progress: Progress = silent,
) -> BakedMaps:
    """Blend layers over a surface.

    Parameters
    ----------
    layers : sequence of Layer
        From the bottom up.
    weights : WeightMap or Weigher, optional
        A map is read bilinearly, as an engine will; a weigher answers its masks and daubs at every texel, exactly. Where
        it is not given, the masks of the layers answer.
    texels : int
        Along the longer side of the surface.
    rows, columns : (int, int), optional
        First and one past the last of the region to bake; everything where not given.
    normals : "tangent" or "world"
    filter : "trilinear", "anisotropic", "bilinear" or "nearest"
        Of layers that do not say.
    block : int
        Texels per piece of work; the result does not depend on it, nor on the number of threads.

    Raises
    ------
    QuiltError
        If layers, arrays and weights do not fit each other, or the region lies outside.
    """
    blender = Blender(arrays, layers, filter=filter)
    check_names(layers, weights)
    source = Weigher(layers, surface) if weights is None else weights
    whole = surface.layout(texels)
    top, bottom = _part("rows", rows, whole[0])
    left, right = _part("columns", columns, whole[1])
    height, width = bottom - top, right - left
    out = BakedMaps(
        diffuse=np.empty((height, width, 3), np.uint8),
        normal=np.empty((height, width, 3), np.uint8),
        roughness=np.empty((height, width), np.uint8),
        specular=np.empty((height, width, 3), np.uint8),
        occlusion=np.empty((height, width), np.uint8),
        height=np.empty((height, width), np.uint16),
        relief=blender.tallest_relief,
        normals=normals,
    )

    def bake_piece(piece: tuple[int, int]) -> None:
        first, last = piece
        points = surface.points(whole, slice(first, last), slice(left, right))
        part = slice((first - top) * width, (last - top) * width)
        flat = (out[role].reshape(height * width, *out[role].shape[2:]) for role in _STORED)
        target = EncodedTexels(*(each[part] for each in flat))
        blender.blend_into(target, points, source.at(points), normals=normals, columns=width)

    step = max(1, whole_number_in("block", block, 1, 1 << 26) // width)
    pieces = [(first, min(first + step, bottom)) for first in range(top, bottom, step)]
    work_through(pieces, bake_piece, threads=threads, step="baking", progress=progress)
    return out


_STORED = (MapRole.DIFFUSE, MapRole.NORMAL, MapRole.ROUGHNESS, MapRole.SPECULAR, MapRole.OCCLUSION, MapRole.HEIGHT)


def check_names(layers: Sequence[Layer], weights: WeightMap | Weigher | None) -> None:
    """Raise `ShapeError` if weights were made for other layers."""
    if weights is None:
        return
    names, known = shown_names(layers), weights.names if isinstance(weights, WeightMap) else weights.shown
    if known != names:
        raise ShapeError(f"the weight map was made for the layers {list(known)}; got {list(names)}; weigh again")


def _part(axis: str, part: tuple[int, int] | None, whole: int) -> tuple[int, int]:
    if part is None:
        return 0, whole
    if not 0 <= part[0] < part[1] <= whole:
        raise RangeError(f"{axis} must be (first, one past the last) within 0 to {whole}; got {part}")
    return int(part[0]), int(part[1])
