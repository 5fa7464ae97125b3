"""Parts of a mesh that show one swatch by their uv and nothing else: such need no bake, but the swatch's own maps, laid on."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.tuning import AS_IT_IS
from jagged_quilt.foundation.choices import Wrap
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.meshes.mesh import Mesh


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Tiled:
    """A swatch laid on by uv: it is read at `scale` times these, plus `offset`."""

    swatch: Swatch
    scale: tuple[float, float]
    offset: tuple[float, float]


def tiled_parts(mesh: Mesh, layers: Mapping[str, Sequence[Layer]], swatches: Mapping[str, Swatch]) -> dict[str, Tiled]:
    """Return the parts of a mesh that need no bake: one layer, by uv, unturned, as its swatch is (see `why_baked`).

    Examples
    --------
    >>> plane = jq.shapes.plane()
    >>> list(jq.export.tiled_parts(plane, {name: [jq.Layer("clay", jq.Uv())] for name in plane.part_names}, {"clay": clay}))
    ['plane']
    """
    out, baked = {}, why_baked(mesh, layers)
    for part in mesh.parts:
        own = layers[part.name]
        if part.name not in baked and own[0].swatch in swatches:
            swatch, projection = swatches[own[0].swatch], own[0].projection
            metres = projection.unit(mesh.metres_of(part))
            per_metre = np.diag(projection.turned) / (swatch.tile, swatch.tile * swatch.aspect)
            (u, v), (left, down) = per_metre * metres, -per_metre * np.array(projection.offset)
            out[part.name] = Tiled(swatch=swatch, scale=(float(u), float(v)), offset=(float(left), float(down)))
    return out


def why_baked(mesh: Mesh, layers: Mapping[str, Sequence[Layer]]) -> dict[str, str]:
    """Return the parts of a mesh that need baked maps, and why.

    Turned patterns are baked, since readers do not turn the tangents of a mesh with its textures; and so is what was laid out
    anew, which has uv of its own to be baked into.
    """
    if mesh.uv is None or mesh.layout is not None:
        why = "it has no uv" if mesh.uv is None else "it is baked into a layout of its own"
        return {part.name: why for part in mesh.parts}
    found = {part.name: _against(layers[part.name]) for part in mesh.parts}
    return {name: why for name, why in found.items() if why}


def _against(layers: Sequence[Layer]) -> str:
    """Why layers are more than one swatch by uv, as it is; empty where they are that."""
    if len(layers) > 1:
        return f"it has {len(layers)} layers"
    layer, projection = layers[0], layers[0].projection
    if not projection.uses_uv:
        return f"its layer is not laid on by uv (projection = {projection.key!r})"
    turned = np.asarray(projection.turned)
    said = {
        "mask": layer.mask is not None,
        "medley": layer.medley is not None,
        "far": layer.far is not None,
        "rotation or mirror": abs(turned[0, 1]) + abs(turned[1, 0]) > 1e-12 or turned[0, 0] <= 0 or turned[1, 1] <= 0,
        "wrap": projection.wraps != (Wrap.REPEAT, Wrap.REPEAT),
        "warp": projection.warp is not None,
        "shuffle": projection.shuffle is not None,
        "tuning": layer.tuning != AS_IT_IS,
        "per_map": bool(layer.per_map),
    }
    there = [key for key, is_there in said.items() if is_there]
    return f"its layer has {', '.join(there)}" if there else ""
