"""What answers the weights of the meshes of a quilt where strokes are painted on them."""

from __future__ import annotations

from collections.abc import Sequence

from jagged_quilt.blend.detail_mask import layers_seeing, reads_detail
from jagged_quilt.foundation.fields import Fields
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.results.project import Project
from jagged_quilt.surfaces.mesh_fields import MeshFields
from jagged_quilt.weights.daub import Daub, DaubKind
from jagged_quilt.weights.daub_windows import DaubFile
from jagged_quilt.weights.weigher import Weigher


def daubs_on_mesh(quilt: Quilt, number: int, more: Sequence[Daub] = ()) -> list[Daub]:
    """Return the daubs that may touch a mesh: those in space that come near enough, and do not smooth.

    more : daubs on top of those of the quilt.
    """
    if isinstance(quilt.daubs, DaubFile) or not (quilt.daubs or more):
        return []
    low, high = quilt.meshes[number].bounds
    out = []
    for daub in (*quilt.daubs, *more):
        if not daub.in_space or daub.channel or daub.kind is DaubKind.SMOOTH:
            continue
        ends = [[point[k] for point in daub.path] for k in range(3)]
        if all(min(own) - daub.radius <= high[k] and max(own) + daub.radius >= low[k] for k, own in enumerate(ends)):
            out.append(daub)
    return out


def mesh_weights(
    project: Project, number: int, *, fields: Fields | None = None, more: Sequence[Daub] = ()
) -> dict[str, Weigher] | None:
    """Return what answers the weights of each part of a mesh, strokes among it; None where none touches it, and masks do.

    fields : those of the mesh, where they were made before.
    """
    quilt = project.quilt
    daubs = daubs_on_mesh(quilt, number, more)
    if not daubs:
        return None
    fields, out = MeshFields(quilt.meshes[number]) if fields is None else fields, {}
    for part, layers in quilt.layers_by_part[number].items():
        names = {layer.name for layer in layers}
        seeing = layers_seeing(layers, project.arrays) if any(reads_detail(each.mask) for each in layers) else layers
        out[part] = Weigher(seeing, fields, daubs=[daub for daub in daubs if names.issuperset(daub.layers)])
    return out
