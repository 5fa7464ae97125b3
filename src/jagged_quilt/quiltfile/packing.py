"""What is packed of a quilt: where its swatches come from, and into which arrays."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from jagged_quilt.arrays.layout import BLENDED, Layout, fine_layout, layouts_for, taking_fine
from jagged_quilt.audit.audit import SwatchAudit
from jagged_quilt.maps.roles import OPTIONAL_ROLES, MapRole
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.quiltfile.placed_mesh import own_sources
from jagged_quilt.quiltfile.quilt import Quilt


def every_source(quilt: Quilt, folder: Path) -> tuple[SwatchSource, ...]:
    """Return where all swatches come from: those of the file, and the meshes' own materials (see `material_sources`)."""
    return (*quilt.sources, *material_sources(quilt, folder))


def material_sources(quilt: Quilt, folder: Path) -> tuple[SwatchSource, ...]:
    """Return where the swatches of the meshes' own materials come from, of those that layers show.

    Images that lie within mesh files are written to `folder`.
    """
    out: list[SwatchSource] = []
    for number, table in enumerate(quilt.table.mesh):
        if any(layer.is_own for layer in table.layer):
            with quilt.of_mesh(number, "layer"):
                into = folder / table.name.replace(" ", "_")
                out += own_sources(table.name, quilt.meshes[number], into, quilt.layers_by_part[number])
    return tuple(out)


def layouts_of(quilt: Quilt, sources: Sequence[SwatchSource]) -> tuple[Layout, ...]:
    """Return the arrays to pack some swatches into: those that the file names, or those that the swatches need."""
    if quilt.table.arrays.layouts is not None:
        return quilt.layouts
    needed = [each.name for each in layouts_for({role for source in sources for role in source.roles})]
    idle = {each.name for each in BLENDED} - set(needed) - set(quilt.table.arrays.formats)
    kept = tuple(each for each in quilt.layouts if each.name not in idle)
    fine = taking_fine(kept).intersection(*[frozenset[MapRole]().union(*(source.fine_roles for source in sources))])
    return (*kept, fine_layout(fine)) if fine else kept


def not_carried(quilt: Quilt, audits: Sequence[SwatchAudit]) -> list[str]:
    """Return what swatches were found to have and none of the arrays that the file names holds, a line each."""
    out = []
    for role in OPTIONAL_ROLES:
        has = [audit.name for audit in audits if role.key in audit.maps]
        if has and not any(role in layout.roles for layout in quilt.layouts):
            names = ", ".join(f'"{name}"' for name in has[:6]) + (" …" if len(has) > 6 else "")
            out.append(f'{names}: no array holds the {role.key} map; add "{role.value.array}" to arrays.layouts')
    return out
