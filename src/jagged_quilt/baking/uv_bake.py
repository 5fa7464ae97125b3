"""Baking into the texture layout of a mesh."""

from __future__ import annotations

import warnings
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.baking.bake import BakedMaps, check_names
from jagged_quilt.blend.blender import Blender, EncodedTexels, NormalSpace
from jagged_quilt.blend.layer import Layer, one_each
from jagged_quilt.blend.projection import Filter
from jagged_quilt.foundation.checks import whole_number_in
from jagged_quilt.foundation.errors import QuiltWarning, ShapeError
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.surface import MeshSurface
from jagged_quilt.meshes.uv_layout import Padding, UvLayout
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import WeightMap

_TEXELS_AT_ONCE = 1 << 15
Weights = Weigher | WeightMap
_STORED = (MapRole.DIFFUSE, MapRole.NORMAL, MapRole.ROUGHNESS, MapRole.SPECULAR, MapRole.OCCLUSION, MapRole.HEIGHT)


@dataclass(frozen=True, eq=False, kw_only=True)
class MeshBake:
    """The maps of a mesh, and what became of its layout.

    Attributes
    ----------
    maps : BakedMaps
    covered : (H, W) bool
        The texels that a triangle touches.
    overlaps : int
        How many texels have their centre in more than one triangle: the first part, and its first triangle, is baked.
    overlap_parts : tuple of (str, str)
        Pairs of parts that lie on each other.
    without_extent : int
        Triangles without extent in uv, which have no texel.
    padding : int
        Texels that the covered ones were grown by.
    """

    maps: BakedMaps
    covered: NDArray[np.bool_]
    overlaps: int
    overlap_parts: tuple[tuple[str, str], ...]
    without_extent: int
    padding: int

    def save(self, folder: Path | str, stamp: str = "", progress: Progress = silent) -> list[Path]:
        """Write one PNG per role and a manifest with what became of the layout; return the files."""
        facts = {"covered": round(float(self.covered.mean()), 6), "overlaps": self.overlaps,
                 "overlap_parts": [list(pair) for pair in self.overlap_parts], "without_extent": self.without_extent,
                 "padding": self.padding}  # fmt: skip
        return self.maps.save(folder, stamp, progress, facts)


def bake_mesh(
    mesh: Mesh,
    layers: Sequence[Layer] | Mapping[str, Sequence[Layer]],
    arrays: TextureArrays,
    weights: Weights | Mapping[str, Weights] | None = None,
    *,
    texels: int | tuple[int, int] = 1024,
    padding: int = 16,
    normals: NormalSpace = "tangent",
    filter: Filter = "trilinear",
    threads: int | None = None,
    progress: Progress = silent,
) -> MeshBake:
    """Blend layers over a mesh into one set of images by its uv; for several images bake `mesh.part(name)` each.

    Parameters
    ----------
    layers : sequence of Layer, or mapping of part to such
        From the bottom up; each part may have its own.
    weights : Weigher or WeightMap, or mapping of part to such, optional
        A map is read by the mesh's uv (see `weigh_mesh`); the masks of the layers answer where nothing is given.
    texels : int or (int, int)
        Along each side, or rows and columns.
    padding : int
        Texels by which covered ones are grown outwards, so that no background bleeds in; 2^m keeps it out of m mips.
    normals : "tangent" or "world"
        Against the mesh's own tangents (interpolated, made square to the normal), or in the world.

    Raises
    ------
    QuiltError
        If the uv cannot be baked into, or layers, arrays and parts do not fit each other.
    """
    padding = whole_number_in("padding", padding, 0, 1 << 14)
    by_part = _by_part(mesh, layers)
    shown = [one for own in by_part.values() for one in one_each(own)]
    tallest = max(arrays.reliefs[arrays.place_of(layer.swatch)] for layer in shown)
    surface = MeshSurface(mesh)
    layout = UvLayout(mesh, texels)
    height, width = layout.texels
    stored = EncodedTexels.empty(height * width)
    covered = np.zeros((height, width), bool)
    lasts = np.array([part.last for part in mesh.parts])
    blenders = [Blender(arrays, by_part[part.name], filter=filter, frame=part.frame, relief=tallest) for part in mesh.parts]
    weighers = [_weigher(part.name, by_part[part.name], weights, surface) for part in mesh.parts]
    needs_uv, needs_steps = (any(getattr(each, name) for each in blenders) for name in ("needs_uv", "needs_true_steps"))
    found: list[tuple[int, tuple[int, int]]] = []

    def bake_rows(first: int) -> None:
        piece = layout.piece(first, min(first + step, height))
        covered.reshape(-1)[piece.texels] = True
        if piece.clash is not None:
            found.append((piece.overlaps, piece.clash))
        points = layout.points(piece, gradients=needs_uv, steps=needs_steps)
        part_of = np.searchsorted(lasts, piece.triangles, side="right") if len(lasts) > 1 else np.zeros(0, np.int64)
        for number in np.flatnonzero(np.bincount(part_of, minlength=1)) if len(part_of) else (0,):
            own = np.flatnonzero(part_of == number) if len(part_of) else slice(None)
            mine, texels_of_part = points[own], piece.texels[own]
            if len(mine):
                blenders[number].blend_into(stored, mine, weighers[number].at(mine), normals=normals, where=texels_of_part)

    step = max(1, _TEXELS_AT_ONCE // width)
    work_through(range(0, height, step), bake_rows, threads=threads, step="baking the mesh", progress=progress)
    overlaps, without_extent = sum(count for count, _ in found), layout.without_extent
    names = mesh.part_names
    clashes = {(names[int(np.searchsorted(lasts, a, side="right"))], names[int(np.searchsorted(lasts, b, side="right"))])
               for _, (a, b) in found}  # fmt: skip
    around = Padding(covered)
    for role in _STORED:
        around.grow(getattr(stored, role.key), padding)
    _tell(overlaps, clashes, without_extent)
    shaped = {
        role.key: getattr(stored, role.key).reshape(height, width, *getattr(stored, role.key).shape[1:]) for role in _STORED
    }
    maps = BakedMaps(**shaped, relief=tallest, normals=normals)
    return MeshBake(maps=maps, covered=covered, overlaps=overlaps, overlap_parts=tuple(sorted(clashes)),
                    without_extent=without_extent, padding=padding)  # fmt: skip


def _by_part(mesh: Mesh, layers: Sequence[Layer] | Mapping[str, Sequence[Layer]]) -> dict[str, Sequence[Layer]]:
    if not isinstance(layers, Mapping):
        return dict.fromkeys(mesh.part_names, layers)
    if set(layers) != set(mesh.part_names):
        raise ShapeError(f"layers are needed for each of the parts {list(mesh.part_names)}; got them for {list(layers)}")
    return dict(layers)


def _weigher(
    part: str, layers: Sequence[Layer], weights: Weights | Mapping[str, Weights] | None, surface: MeshSurface
) -> Weights:
    if weights is None:
        return Weigher(layers, surface)
    own = weights[part] if isinstance(weights, Mapping) else weights
    check_names(layers, own)
    return own


def _tell(overlaps: int, clashes: set[tuple[str, str]], without_extent: int) -> None:
    if overlaps:
        pairs = ", ".join(f'"{a}" on "{b}"' if a != b else f'"{a}" on itself' for a, b in sorted(clashes))
        warnings.warn(f"{overlaps} texels lie in more than one triangle of the layout ({pairs}); the first is baked",
                      QuiltWarning, stacklevel=3)  # fmt: skip
    if without_extent:
        warnings.warn(f"{without_extent} triangles have no extent in uv, and so no texel", QuiltWarning, stacklevel=3)
