"""`jquilt check`"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import at_work, terminal

if TYPE_CHECKING:
    from jagged_quilt.audit.audit import SwatchAudit
    from jagged_quilt.audit.finding import Finding
    from jagged_quilt.foundation.loose import Facts
    from jagged_quilt.meshes.mesh import Mesh
    from jagged_quilt.quiltfile.quilt import Quilt
    from jagged_quilt.surfaces.terrain import Terrain


@click.command("check")
@click.argument("quilt_file", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Print all of it as JSON.")
@click.option("--threads", type=click.IntRange(1, 1024), help="How many; one per core where not given.")
def command(quilt_file: Path, as_json: bool, threads: int | None) -> None:
    """Examine everything that a quilt file names: what is there, what is wrong, and how to mend it.

    Exit code 1 when something is wrong.
    """
    from jagged_quilt.audit.audit import audit_together
    from jagged_quilt.quiltfile.quilt import read_quilt
    from jagged_quilt.results.audits import audit_quilt
    from jagged_quilt.weights.settle import sums_words

    with at_work() as progress:
        quilt = read_quilt(quilt_file)
        audits = audit_quilt(quilt, threads=threads, progress=progress)
        terrain = quilt.terrain if quilt.table.surface else None
        daubs, _ = quilt.daubs, quilt.layers_by_part
        inherited = quilt.inherited() if quilt.table.adopt else None
        adopted = quilt.rehomed(inherited) if inherited else None
    findings = [each for audit in audits for each in audit.findings] + audit_together(audits)
    faults = [each for each in findings if each.level == "fault"]
    if as_json:
        import json

        click.echo(json.dumps(_as_json(quilt, audits, findings), indent=2, ensure_ascii=False))
    else:
        click.echo(f"{quilt_file}: {quilt.table.title or 'untitled'}")
        if terrain is not None:
            click.echo(_terrain_words(terrain))
        if quilt.layers:
            click.echo("layers, from the bottom up: " + ", ".join(layer.name for layer in quilt.layers))
        if inherited and adopted and quilt.table.adopt:
            click.echo(f"adopted: {', '.join(quilt.table.adopt.files)} for {', '.join(adopted.names)}")
            click.echo(f"  {sums_words(inherited.sums)}")
        if daubs:
            click.echo(f"daubs: {len(daubs)} in {quilt.table.weights.daubs}")
        for told_of, mesh in zip(quilt.table.mesh, quilt.meshes, strict=True):
            click.echo(_mesh_words(told_of.name, told_of.file, mesh))
        _tell(quilt, audits, findings)
        used = quilt.shown_swatches
        for audit in audits:
            if used and audit.name not in used:
                click.echo(f'note: swatch "{audit.name}": no layer uses it')
        notes = len(findings) - len(faults)
        told = [f"{len(faults)} faults" if len(faults) != 1 else "1 fault"] if faults else ["Nothing is wrong"]
        click.echo(", ".join([*told, *([f"{notes} notes" if notes != 1 else "1 note"] if notes else [])]) + ".")
    if faults:
        raise SystemExit(1)


def _tell(quilt: Quilt, audits: list[SwatchAudit], findings: list[Finding]) -> None:
    from rich.table import Table

    from jagged_quilt.maps.roles import SURFACE_ROLES

    table = Table("swatch", "tile", *(role.key for role in SURFACE_ROLES), "seam", "faults", box=None, header_style="bold")
    for audit, source in zip(audits, quilt.sources, strict=True):
        cells = [_map_words(audit, role.key) for role in SURFACE_ROLES]
        seams = [max(facts["seam"].values()) for facts in audit.maps.values() if "seam" in facts]
        table.add_row(audit.name, f"{source.tile:g} m", *cells, f"{max(seams):.2f}" if seams else "-", str(len(audit.faults)))
    terminal().print(table)
    for each in findings:
        fault = each.level == "fault"
        where = f'swatch "{each.swatch}"'
        if fault:
            where += (f", {each.role}" if each.role else "") + (f" ({each.file})" if each.file else "")
        click.echo(
            click.style(each.level, fg="red" if fault else "yellow")
            + f": {where}: {each.what}"
            + (f"; {each.measured}" if each.measured and not fault else "")
        )
        if fault and each.measured:
            click.echo(f"  measured: {each.measured}")
        if fault and each.mend:
            click.echo("  to mend it, write after the swatch's own keys:")
            click.echo("".join(click.style(f"    {line}\n", fg="green") for line in each.mend.splitlines()), nl=False)


def _terrain_words(terrain: Terrain) -> str:
    (rows, columns), (low, high) = terrain.heights.shape, terrain.height_range
    return (
        f"terrain: {columns} x {rows} samples over {terrain.size[0]:g} x {terrain.size[1]:g} m, {low:.2f} to {high:.2f} m high"
    )


def _mesh_words(name: str, file: str, mesh: Mesh) -> str:
    """A line on a mesh: what is in it, how large it is, and what was mended."""
    low, high = mesh.bounds
    size = " x ".join(f"{side:.2f}" for side in high - low)
    there = " and ".join(word for word, array in (("uv", mesh.uv), ("colours", mesh.colour)) if array is not None)
    parts = ", ".join(mesh.part_names) if len(mesh.parts) > 1 else "one part"
    mended = f"; {'; '.join(mesh.repairs)}" if mesh.repairs else ""
    return f'mesh "{name}": {file}, {len(mesh.triangles):,} triangles, {size} m, {there or "no uv"}; {parts}{mended}'


def _map_words(audit: SwatchAudit, role: str) -> str:
    facts = audit.maps.get(role)
    if facts is not None:
        width, height = facts["width"], facts["height"]
        size = f"{width}²" if width == height else f"{width} x {height}"
        return f"{size} {facts['bits']} bit"
    derived = any(each.kind == "derived" and each.role == role for each in audit.findings)
    return "derived" if derived else "neutral" if audit.swatch is not None else "-"


def _as_json(quilt: Quilt, audits: list[SwatchAudit], findings: list[Finding]) -> Facts:
    import dataclasses

    swatches = [
        {
            "name": audit.name,
            "maps": {role: {k: v for k, v in facts.items() if k != "content"} for role, facts in audit.maps.items()},
        }
        for audit in audits
    ]
    faults = sum(each.level == "fault" for each in findings)
    return {
        "title": quilt.table.title,
        "faults": faults,
        "notes": len(findings) - faults,
        "swatches": swatches,
        "findings": [dataclasses.asdict(each) for each in findings],
    }
