"""Texture coordinates for a mesh that has none, by xatlas (the extra "unwrap")."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jagged_quilt.foundation.checks import whole_number_in
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.meshes.mesh import Mesh


def unwrap(mesh: Mesh, *, texels: int = 1024, padding: int = 4) -> Mesh:
    """Return the mesh with uv in which no two triangles lie on each other, and tangents to them.

    Parameters
    ----------
    texels : int
        Along the side of the image that it is to be baked into.
    padding : int
        Texels between pieces.

    Raises
    ------
    FileError
        If xatlas is not installed.
    """
    try:
        import xatlas
    except ImportError:
        raise FileError(
            'unwrapping needs xatlas: pip install "jagged-quilt[unwrap]"; or go without uv: triplanar, blended at the vertices'
        ) from None
    options = xatlas.PackOptions()
    options.resolution = whole_number_in("texels", texels, 16, 1 << 14)
    options.padding = whole_number_in("padding", padding, 0, 1024)
    atlas = xatlas.Atlas()
    atlas.add_mesh(mesh.position, mesh.triangles.astype(np.uint32), mesh.normal)
    atlas.generate(xatlas.ChartOptions(), options)
    source, corners, uv = atlas[0]
    made = Mesh.of(
        mesh.position[source],
        np.asarray(corners).reshape(-1, 3).astype(np.int64),
        normal=mesh.normal[source],
        uv=uv,
        colour=None if mesh.colour is None else mesh.colour[source],
        parts=mesh.parts,
        materials=mesh.materials,
    )
    return replace(made, source=mesh.source[np.asarray(source)[made.source]], repairs=mesh.repairs)
