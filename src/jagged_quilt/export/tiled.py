"""Parts of a mesh that show one swatch by their uv and nothing else: such need no bake, but the swatch's own maps, laid on."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.projection import Uv, Wrap
from jagged_quilt.blend.tuning import AS_IT_IS
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.meshes.mesh import Mesh


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Tiled:
    """A swatch laid on by uv: it is read at `scale` times these, plus `offset`."""

    swatch: Swatch
    scale: tuple[float, float]
    offset: tuple[float, float]


def tiled_parts(mesh: Mesh, layers: Mapping[str, Sequence[Layer]], swatches: Mapping[str, Swatch]) -> dict[str, Tiled]:
    """Return the parts of a mesh that need no bake: one layer, by uv, unturned, as its swatch is.

    Turned patterns are left to the bake, since readers do not turn the tangents of a mesh with its textures; and so is what was
    laid out anew, which has uv of its own to be baked into.
    """
    out = {}
    for part in mesh.parts if mesh.layout is None and mesh.uv is not None else ():
        own = layers[part.name]
        if len(own) == 1 and _is_plain(own[0]) and own[0].swatch in swatches:
            swatch, lie = swatches[own[0].swatch], own[0].projection
            assert isinstance(lie, Uv)
            metres = mesh.metres_of(part) if lie.metres is None else lie.metres
            per_metre = np.diag(lie.turned) / (swatch.tile, swatch.tile * swatch.aspect)
            (u, v), (left, down) = per_metre * metres, -per_metre * np.array(lie.offset)
            out[part.name] = Tiled(swatch=swatch, scale=(float(u), float(v)), offset=(float(left), float(down)))
    return out


def _is_plain(layer: Layer) -> bool:
    """Whether a layer shows its swatch by uv and as it is."""
    lie = layer.projection
    if not isinstance(lie, Uv) or layer.mask is not None or layer.medley is not None or layer.far is not None:
        return False
    turned = np.asarray(lie.turned)
    unturned = abs(turned[0, 1]) + abs(turned[1, 0]) < 1e-12 and turned[0, 0] > 0 and turned[1, 1] > 0
    repeats = lie.wraps == (Wrap.REPEAT, Wrap.REPEAT)
    return unturned and repeats and lie.warp is None and lie.shuffle is None and layer.tuning == AS_IT_IS and not layer.apart
