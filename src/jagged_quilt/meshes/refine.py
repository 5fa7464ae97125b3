"""Triangles of a mesh cut finer, so that what its vertices carry is fine enough. Its shape stays as it was."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, positive
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.meshes.mesh import Mesh

_MOST = 60_000


def refined(mesh: Mesh, longest: float, *, most: int = _MOST) -> Mesh:
    """Return a mesh none of whose edges is longer than so much, cut in their middles; neighbours stay closed.

    What vertices carry (normals, tangents, uv, colours) is interpolated along the edges, as a renderer does inside of
    triangles, so that the mesh looks as before.

    Parameters
    ----------
    longest : float
        Metres.
    most : int
        Vertices, after which nothing more is cut.

    Examples
    --------
    >>> box = jq.shapes.box((1.0, 1.0, 1.0))
    >>> len(refined(box, 0.3).triangles) > len(box.triangles)
    True
    """
    positive("longest", longest, "m")
    names = ("position", "normal", "tangent", "uv", "colour", "layout", "layout_tangent")
    arrays = {name: getattr(mesh, name) for name in names if getattr(mesh, name) is not None}
    triangles, source = np.asarray(mesh.triangles), np.asarray(mesh.source)
    part = np.repeat(np.arange(len(mesh.parts)), [own.last - own.first for own in mesh.parts])
    while True:
        edges, lengths = _edges(triangles, arrays["position"])
        too_long = lengths > longest
        # of each triangle its longest edge alone, so that no sliver is cut across
        cut = np.unique(edges[np.arange(len(edges)), lengths.argmax(axis=1)][too_long.any(axis=1)])
        if not len(cut) or len(arrays["position"]) + len(cut) > most:
            break
        first, second = cut >> 32, cut & 0xFFFFFFFF
        middles = np.searchsorted(cut, edges)
        is_cut = cut[np.minimum(middles, len(cut) - 1)] == edges
        middles = np.where(is_cut, middles + len(arrays["position"]), -1)
        arrays = {name: np.concatenate([own, _between(name, own, first, second)]) for name, own in arrays.items()}
        source = np.concatenate([source, source[first]])
        triangles, part = _cut(triangles, middles, part)
    order = np.argsort(part, kind="stable")
    ends = np.cumsum(np.bincount(part, minlength=len(mesh.parts)))
    parts = tuple(
        replace(own, first=int(end - count), last=int(end))
        for own, end, count in zip(mesh.parts, ends, np.diff(ends, prepend=0), strict=True)
    )
    made: Facts = {name: frozen(own, np.float32) for name, own in arrays.items()}
    return replace(mesh, **made, triangles=frozen(triangles[order], np.int32), source=source, parts=parts)


def _edges(triangles: NDArray[np.int32], position: NDArray[np.float32]) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
    """Each triangle's edges 01, 12 and 20, (T, 3): both vertices in one number, the smaller first; and their metres."""
    a, b = triangles.astype(np.int64), np.roll(triangles, -1, axis=1).astype(np.int64)
    lengths = np.linalg.norm(position[a] - position[b], axis=2)
    return np.minimum(a, b) << 32 | np.maximum(a, b), lengths


def _between(
    name: str, values: NDArray[np.float32], first: NDArray[np.int64], second: NDArray[np.int64]
) -> NDArray[np.float32]:
    out = (values[first] + values[second]) * np.float32(0.5)
    if name == "normal" or "tangent" in name:  # of neighbours that face each other nothing is left: then it is the first's
        length = np.linalg.norm(out[:, :3], axis=1, keepdims=True)
        out[:, :3] = np.where(length > 1e-6, out[:, :3] / np.maximum(length, np.float32(1e-6)), values[first, :3])
    if "tangent" in name:
        out[:, 3] = values[first, 3]
    return out


def _cut(
    triangles: NDArray[np.int32], middles: NDArray[np.int64], part: NDArray[np.int64]
) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
    """Triangles, cut at the middles of edges where these are not -1, one edge after the other, and the part of each."""
    made, parts = [], []
    waiting = [(triangles.astype(np.int64), middles, part)]
    while waiting:
        corners, own, of = waiting.pop()
        has = (own >= 0).any(axis=1)
        made.append(corners[~has])
        parts.append(of[~has])
        if not has.any():
            continue
        corners, own, of = corners[has], own[has], of[has]
        turn = (own >= 0).argmax(axis=1)[:, None]  # so that its first edge is one that is cut
        around = (np.arange(3) + turn) % 3
        (a, b, c), (ab, bc, ca) = np.take_along_axis(corners, around, 1).T, np.take_along_axis(own, around, 1).T
        whole = np.full(len(a), -1)
        waiting.append((np.column_stack([a, ab, c]), np.column_stack([whole, whole, ca]), of))
        waiting.append((np.column_stack([ab, b, c]), np.column_stack([whole, bc, whole]), of))
    return np.concatenate(made).astype(np.int32), np.concatenate(parts)
