"""A mesh that carries its blend itself: colours and weights at its vertices."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.baking.bake import Layers, bake, layers_of_parts
from jagged_quilt.blend.detail_mask import layers_seeing
from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.colour import linear_from_srgb
from jagged_quilt.foundation.files import write_json, written_together
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshfiles.write import write_mesh
from jagged_quilt.surfaces.uv_canvas import VertexCanvas
from jagged_quilt.weights.medley import shown_names
from jagged_quilt.weights.weigher import Weigher

_AT_ONCE = 4  # weights in one attribute


def write_vertices(mesh: Mesh, layers: Layers, arrays: TextureArrays, folder: Path | str, **how: Any) -> list[Path]:
    """Write `mesh.glb` with what layers blend to at its vertices, and `mesh.json` that says which weight is where.

    Colours are those of the diffuse map, linear, as glTF has it; weights are attributes `_WEIGHTS_0`, `_WEIGHTS_1` ... of up
    to four layers each. What a vertex stands for decides which mips are read.

    Parameters
    ----------
    layers : sequence of Layer, or mapping of part to such
    how
        As for `bake`: weights (by part), filter, work.

    Raises
    ------
    QuiltError
        If layers, arrays and parts do not fit each other.
    """
    canvas = VertexCanvas(mesh)
    by_part = [layers_seeing(own, arrays) for own in layers_of_parts(canvas, layers)]
    names, weights = _weights(canvas, by_part, how.get("weights"))
    more = {
        f"_WEIGHTS_{number}": weights[:, first : first + _AT_ONCE]
        for number, first in enumerate(range(0, len(names), _AT_ONCE))
    }
    coloured = coloured_mesh(mesh, layers, arrays, **how)
    folder = Path(folder)
    with written_together(folder) as stage:
        write_mesh(coloured, stage / "mesh.glb", more=more)
        write_json(
            stage / "mesh.json",
            {
                "vertices": len(mesh.position),
                "colour": "COLOR_0, linear",
                "weights": {
                    name: f"_WEIGHTS_{index // _AT_ONCE}.{'xyzw'[index % _AT_ONCE]}" for index, name in enumerate(names)
                },
            },
        )
    return [folder / "mesh.glb", folder / "mesh.json"]


def coloured_mesh(mesh: Mesh, layers: Layers, arrays: TextureArrays, **how: Any) -> Mesh:
    """Return a mesh whose vertices have the diffuse colours that layers blend to there, linear; see `write_vertices`."""
    blended = bake(VertexCanvas(mesh), layers, arrays, **how)["diffuse"][:, 0]
    alpha = np.ones((len(blended), 1)) if mesh.colour is None else mesh.colour[:, 3:]
    return replace(mesh, colour=frozen(np.column_stack([linear_from_srgb(blended / 255), alpha]), np.float32))


def _weights(
    canvas: VertexCanvas, by_part: Sequence[Sequence[Layer]], given: Mapping[str, Weigher] | None
) -> tuple[list[str], NDArray[np.float32]]:
    """The names of all layers of all parts, and how much of each every vertex shows, (V, L)."""
    names = list(dict.fromkeys(name for layers in by_part for name in shown_names(layers)))
    out = np.zeros((canvas.texels[0], len(names)), np.float32)
    sources = [
        (given or {}).get(part.name) or Weigher(layers, canvas.fields)
        for part, layers in zip(canvas.parts, by_part, strict=True)
    ]
    for region in canvas.blocks(canvas.texels[0]):
        for piece in canvas.block(region).pieces:
            weighed = sources[piece.part].at(piece.points)
            own = np.array([names.index(name) for name in weighed.names])
            assert piece.where.each is not None
            np.add.at(out, (piece.where.each[:, None], own[weighed.layers]), weighed.weights)
    return names, out
