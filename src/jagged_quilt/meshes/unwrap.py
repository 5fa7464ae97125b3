"""Texture coordinates for a mesh, or for those of its faces that have none, by xatlas (the extra "unwrap")."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, known_name, whole_number_in
from jagged_quilt.foundation.errors import FileError, RangeError
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.meshes.complete import only_used
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshes.tangents import mesh_tangents

_kernels = kernels_of("jagged_quilt.meshes._kernels")

_LARGE, _PIECE = 16_384, 4_096  # triangles
_LEAST = 16  # texels of a place for pieces
_OUTSIDE = 1e-4  # of the layout


def unwrap(mesh: Mesh, *, texels: int = 1024, padding: int = 4, faces: str = "all", progress: Progress = silent) -> Mesh:
    """Return the mesh laid out anew, with no two triangles on each other.

    A mesh that has uv keeps them: its own textures go on lying by them, and the new ones are its `layout`, to bake into. One
    that has none gets them, and tangents along them.

    Parameters
    ----------
    texels : int
        Along the side of the image that it is to be baked into.
    padding : int
        Texels between pieces.
    faces : "all" or "bare"
        Whether all faces are laid out, or only those that have no uv: these then lie in the largest square that the others
        leave free, and the others stay where they are.

    Raises
    ------
    FileError
        If xatlas is not installed.
    RangeError
        If the others leave no room, or reach beyond 0 to 1.

    Examples
    --------
    >>> jq.shapes.unwrap(jq.shapes.box(), texels=64)
    <Mesh 12 triangles, 24 vertices, 1 part(s), 1 x 1 x 1 m, uv, layout>
    """
    known_name("way to choose faces", faces, ("all", "bare"))
    side = whole_number_in("texels", texels, _LEAST, 1 << 14)
    gap = whole_number_in("padding", padding, 0, 1024)
    progress(f"unwrapping {len(mesh.triangles):,} triangles", 0, 0)
    if faces == "bare" and mesh.uv is not None:
        return _with_the_rest(mesh, mesh.uv, side, gap) if mesh.bare.any() else mesh
    source, corners, uv = _atlas(mesh.position, mesh.triangles, mesh.normal, side, gap)
    laid = mesh.split(source, corners)
    return _along(laid, uv) if mesh.uv is None else laid.laid_out(uv)


def _atlas(
    position: NDArray[np.float32], corners: NDArray[np.int32], normal: NDArray[np.float32], texels: int, padding: int
) -> tuple[NDArray[np.int64], NDArray[np.int32], NDArray[np.float32]]:
    """Triangles laid flat: which vertex each new one was, the triangles by those, and their uv."""
    try:
        import xatlas
    except ImportError:
        raise FileError(
            'unwrapping needs xatlas: pip install "jagged-quilt[unwrap]"; or go without uv: triplanar, blended at the vertices'
        ) from None
    options = xatlas.PackOptions()
    options.resolution, options.padding = texels, padding
    atlas, pieces, used = xatlas.Atlas(), _pieces(position, corners), list[NDArray[np.int64]]()
    for own in pieces:
        vertices, local = only_used(corners[own], len(position))
        atlas.add_mesh(position[vertices], local.astype(np.uint32), normal[vertices])
        used.append(vertices)
    atlas.generate(xatlas.ChartOptions(), options)
    source, uvs, laid, count = list[NDArray[np.int64]](), list[NDArray[np.float32]](), np.empty_like(corners), 0
    for number, own in enumerate(pieces):
        taken, triangles, uv = atlas[number]
        source.append(used[number][np.asarray(taken, np.int64)])
        uvs.append(np.asarray(uv, np.float32))
        laid[own] = np.asarray(triangles).reshape(-1, 3).astype(np.int32) + count
        count += len(uv)
    return np.concatenate(source), laid, np.concatenate(uvs)


def _pieces(position: NDArray[np.float32], corners: NDArray[np.int32]) -> list[NDArray[np.intp]]:
    """Cut a large mesh into pieces of neighbouring triangles, by their numbers: charts grow more slowly the more there are.

    160,000 triangles take a sixth of the time, and get 15 % more charts. A mesh that is not large stays whole.
    """
    waiting, out = [np.arange(len(corners))], list[NDArray[np.intp]]()
    if len(corners) <= _LARGE:
        return waiting
    middles = position[corners].mean(axis=1)
    while waiting:
        some = waiting.pop()
        if len(some) <= _PIECE:
            out.append(some)
            continue
        order = some[np.argsort(middles[some, np.ptp(middles[some], axis=0).argmax()], kind="stable")]
        waiting += [order[: len(order) // 2], order[len(order) // 2 :]]
    return [np.sort(each) for each in out]


def _along(mesh: Mesh, uv: NDArray[np.float32]) -> Mesh:
    """The mesh with uv, and tangents along them."""
    tangent, corners, source = mesh_tangents(mesh.position, mesh.normal, uv, mesh.triangles)
    made = mesh.split(source, corners)
    return replace(made, uv=frozen(uv[source], np.float32), tangent=frozen(tangent, np.float32))


def _with_the_rest(mesh: Mesh, uv: NDArray[np.float32], texels: int, padding: int) -> Mesh:
    """The mesh with uv, and tangents along them, for the faces that had none: in the largest square that is free."""
    bare = mesh.bare
    kept, kept_corners = only_used(mesh.triangles[~bare], len(mesh.position))
    if len(kept) and (uv[kept].min() < -_OUTSIDE or uv[kept].max() > 1 + _OUTSIDE):
        raise RangeError("the uv of the other faces reach beyond 0 to 1, so nothing beside them is free; lay all faces out")
    row, column, side = _free_square(uv, mesh.triangles[~bare], texels, padding)
    if side < _LEAST:
        raise RangeError(f"the other faces leave a square of {side} texels free, too little; lay all faces out")
    used, own_corners = only_used(mesh.triangles[bare], len(mesh.position))
    rows, own_corners, uvs = _atlas(mesh.position[used], own_corners, mesh.normal[used], side, padding)
    uvs = ((column, row) + uvs * side) / np.float32(texels)
    own = used[rows]
    tangent, own_corners, again = mesh_tangents(mesh.position[own], mesh.normal[own], uvs, own_corners)
    triangles = np.empty_like(mesh.triangles)
    triangles[~bare], triangles[bare] = kept_corners, own_corners + len(kept)
    made = mesh.split(np.concatenate([kept, own[again]]), triangles)
    return replace(
        made,
        uv=frozen(np.concatenate([uv[kept], uvs[again]]), np.float32),
        tangent=frozen(np.concatenate([mesh.tangent[kept], tangent]), np.float32),
    )


def _free_square(uv: NDArray[np.float32], corners: NDArray[np.int32], texels: int, padding: int) -> tuple[int, int, int]:
    """The top, the left and the side of the largest square of texels that no triangle comes near."""
    from scipy.ndimage import binary_dilation, distance_transform_cdt

    taken = np.zeros((texels, texels), bool)
    _kernels.touch_texels(uv, corners, taken)
    taken = binary_dilation(taken, np.ones((3, 3), bool), iterations=padding) if padding else taken
    away = distance_transform_cdt(np.pad(~taken, 1), metric="chessboard")[1:-1, 1:-1]
    row, column = np.unravel_index(int(np.argmax(away)), away.shape)
    reach = int(away[row, column])
    return int(row) - reach + 1, int(column) - reach + 1, max(0, 2 * reach - 1)
