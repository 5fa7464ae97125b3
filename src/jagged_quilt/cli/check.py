"""`jquilt check`"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from jagged_quilt.cli.common import at_work, print_table, refuse_unknown_keys, with_option

if TYPE_CHECKING:
    from jagged_quilt.audit.audit import SwatchAudit
    from jagged_quilt.audit.finding import Finding
    from jagged_quilt.foundation.json_types import Facts
    from jagged_quilt.foundation.work import Work
    from jagged_quilt.maps.swatch_source import SwatchSource
    from jagged_quilt.meshes.mesh import Mesh
    from jagged_quilt.quiltfile.quilt import Quilt
    from jagged_quilt.results.quilt_notes import QuiltNote
    from jagged_quilt.surfaces.terrain import Terrain
    from jagged_quilt.weights.weight_map import WeightMap

_FEW = 10  # faults that are listed one by one without being asked to
_ROUNDS = 3  # of mending: what one mend uncovers, the next one mends


@click.command("check")
@with_option
@click.argument("quilt_file", metavar="FILE_OR_FOLDER", type=click.Path(path_type=Path))
@click.option("--details", is_flag=True, help="Tell every fault by itself, with its figure and its mend.")
@click.option("--notes", is_flag=True, help="Also list what is only worth knowing, and explain notes.")
@click.option("--mend", is_flag=True, help="Write the mends into the quilt file, and check it again.")
@click.option("--out", type=click.Path(path_type=Path), help="Folder for what is known; `out` beside the quilt file.")
@click.option("--json", "as_json", is_flag=True, help="Print all of it as JSON.")
@click.option("--threads", type=click.IntRange(1, 1024), help="How many; one per core where not given.")
def command(
    quilt_file: Path, details: bool, notes: bool, mend: bool, out: Path | None, as_json: bool, threads: int | None
) -> None:
    """Examine everything that a quilt file names: what is there, what is wrong, and how to mend it.

    Of a folder: the sets of maps that lie in it, as `gather` finds them. Exit code 1 when something is wrong.
    """
    if quilt_file.is_dir():
        if mend:
            raise click.UsageError("--mend writes into a quilt file; make one of this folder with: jquilt gather")
        with at_work(threads) as work:
            sources, audits = _audit_folder(quilt_file, work, as_json)
        title, quilt, wonders = str(quilt_file), None, []
    else:
        refuse_unknown_keys(quilt_file)
        from jagged_quilt.results.quilt_notes import notes_on

        with at_work(threads) as work:
            quilt, audits, written = _audit_file(quilt_file, mend, out, work)
            adopted, said = _adopted(quilt)
            beside = list(_words_on_quilt(quilt_file, quilt, said))
            wonders = notes_on(quilt, adopted)
        if not as_json:
            for line in beside:
                click.echo(line)
            for line in written:
                click.echo(click.style("written", fg="green") + f": {line}")
        from jagged_quilt.quiltfile.packing import every_source
        from jagged_quilt.results.audits import OWN_IMAGES

        title, sources = quilt.table.title, list(every_source(quilt, (out or quilt.folder / "out") / OWN_IMAGES))
    from jagged_quilt.audit.audit import audit_together

    findings = [each for audit in audits for each in audit.findings] + audit_together(audits)
    faults = [each for each in findings if each.level == "fault"]
    if as_json:
        import json

        click.echo(json.dumps(_as_json(title, audits, findings, wonders), indent=2, ensure_ascii=False))
    else:
        _tell_sets(sources, audits)
        _tell_faults(faults, one_by_one=details or len(faults) <= _FEW)
        rest = [each for each in findings if each.level == "note"]
        if notes:
            for each in rest:
                measured = f"; {each.measured}" if each.measured else ""
                click.echo(click.style("note", fg="yellow") + f': swatch "{each.swatch}": {each.what}{measured}')
        used = quilt.shown_swatches if quilt else set()
        idle = [audit.name for audit in audits if used and audit.name not in used]
        if idle:
            click.echo(f"note: no layer uses {_some([chr(34) + name + chr(34) for name in idle])}")
        from jagged_quilt.quiltfile.packing import not_carried

        for line in not_carried(quilt, audits) if quilt else ():
            click.echo(f"note: {line}")
        for wonder in wonders:
            click.echo(click.style("note", fg="yellow") + f": {wonder.key}: {wonder.what}")
            if notes:
                click.echo(f"  {wonder.explains}")
        counts = [f"{len(faults)} faults" if len(faults) != 1 else "1 fault"] if faults else ["Nothing is wrong"]
        noted = [f"{len(rest)} notes" if len(rest) != 1 else "1 note"] if rest else []
        click.echo(", ".join([*counts, *noted]) + (" (--notes lists them)." if rest and not notes else "."))
    if faults:
        raise SystemExit(1)


def _audit_file(quilt_file: Path, mend: bool, out: Path | None, work: Work) -> tuple[Quilt, list[SwatchAudit], list[str]]:
    from jagged_quilt.quiltfile.reading import read_quilt

    quilt = read_quilt(quilt_file)
    from jagged_quilt.quiltfile.mend import write_mends
    from jagged_quilt.results.audits import MEMO, audit_quilt

    memo = (out or quilt.folder / "out") / MEMO
    audits = audit_quilt(quilt, memo=memo, work=work)
    written: list[str] = []
    changed = {audit.name for audit in audits}
    for _ in range(_ROUNDS if mend else 0):
        faults = [each for audit in audits if audit.name in changed for each in audit.faults]
        new = write_mends(quilt_file, faults)
        changed = {each.swatch for each in faults if each.mend}
        if not new:
            break
        written += new
        quilt = read_quilt(quilt_file)
        audits = audit_quilt(quilt, memo=memo, work=work)
    return quilt, audits, written


def _audit_folder(folder: Path, work: Work, quiet: bool) -> tuple[list[SwatchSource], list[SwatchAudit]]:
    from jagged_quilt.audit.gather import gather
    from jagged_quilt.cli.gather import tell
    from jagged_quilt.foundation.errors import FileError
    from jagged_quilt.results.audits import audit_sources

    found = gather(folder, work=work)
    if not quiet:
        tell(found, found.sets, with_sets=False)
    if not found.sets:
        raise FileError(f"{folder}: there is no set of maps with a colour map in this folder")
    sources = [one.source() for one in found.sets]
    return sources, audit_sources(sources, work=work)


def _adopted(quilt: Quilt) -> tuple[WeightMap | None, list[str]]:
    """The weights that a quilt inherits, and a line or two on them."""
    from jagged_quilt.quiltfile.inherit import inherited_by, rehomed
    from jagged_quilt.weights.settle import sums_words

    table = quilt.table.adopt
    if table is None:
        return None, []
    inherited = inherited_by(quilt)
    adopted = rehomed(quilt, inherited)
    return adopted, [f"adopted: {', '.join(table.files)} for {', '.join(adopted.names)}", f"  {sums_words(inherited.sums)}"]


def _words_on_quilt(quilt_file: Path, quilt: Quilt, adopted: list[str]) -> Iterator[str]:
    """What there is beside swatches, a line each."""
    terrain = quilt.terrain if quilt.table.surface else None
    daubs, _ = quilt.daubs, quilt.layers_by_part
    yield f"{quilt_file}: {quilt.table.title or 'untitled'}"
    if terrain is not None:
        yield _terrain_words(terrain)
    if quilt.layers:
        yield "layers, from the bottom up: " + _some([layer.name for layer in quilt.layers], 24)
    yield from adopted
    if daubs:
        yield f"daubs: {len(daubs)} in {quilt.table.weights.daubs}"
    for table, mesh in zip(quilt.table.mesh, quilt.meshes, strict=True):
        yield _mesh_words(table.name, table.file, mesh)


def _tell_sets(sources: list[SwatchSource], audits: list[SwatchAudit]) -> None:
    from rich.table import Table

    from jagged_quilt.maps.roles import OPTIONAL_ROLES, SURFACE_ROLES

    table = Table("swatch", "tile", *(role.key for role in SURFACE_ROLES), "seam", "faults", box=None, header_style="bold")
    for audit, source in zip(audits, sources, strict=True):
        cells = [_map_words(audit, role.key) for role in SURFACE_ROLES]
        seams = [max(facts["seam"].values()) for facts in audit.maps.values() if "seam" in facts]
        table.add_row(audit.name, _tile_words(source), *cells, f"{max(seams):.2f}" if seams else "-", str(len(audit.faults)))
    print_table(table)
    for audit in audits:
        rare = [role.key.replace("_", " ") for role in OPTIONAL_ROLES if role.key in audit.maps]
        if rare:
            click.echo(f" {audit.name}: {', '.join(rare)} too")


def _tell_faults(faults: list[Finding], *, one_by_one: bool) -> None:
    """Tell every fault, or those of a kind together."""
    for each in faults if one_by_one else ():
        where = f'swatch "{each.swatch}"' + (f", {each.role}" if each.role else "") + (f" ({each.file})" if each.file else "")
        click.echo(click.style("fault", fg="red") + f": {where}: {each.what}")
        if each.measured:
            click.echo(f"  measured: {each.measured}")
        if each.mend:
            click.echo("  to mend it, write after the swatch's own keys:")
            click.echo("".join(click.style(f"    {line}\n", fg="green") for line in each.mend.splitlines()), nl=False)
    kinds: dict[str, list[Finding]] = defaultdict(list)
    for each in faults if not one_by_one else ():
        kinds[each.kind].append(each)
    for kind, found in sorted(kinds.items(), key=lambda each: -len(each[1])):
        mended = sum(bool(each.mend) for each in found)
        click.echo(
            click.style("fault", fg="red") + f": {kind}: {len(found)}, {mended} with a mend: {_some([f.swatch for f in found])}"
        )
    if kinds:
        click.echo("--details tells each with its figure; --mend writes the mends into the quilt file")


def _some(names: list[str], most: int = 6) -> str:
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")


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


def _tile_words(source: SwatchSource) -> str:
    """How much one repeat covers."""
    return f"{source.tile:g} m" if source.aspect == 1 else f"{source.tile:g} x {source.tile * source.aspect:g} m"


def _map_words(audit: SwatchAudit, role: str) -> str:
    facts = audit.maps.get(role)
    if facts is not None:
        width, height = facts["width"], facts["height"]
        size = f"{width}²" if width == height else f"{width} x {height}"
        return f"{size} {facts['bits']} bit"
    derived = any(each.kind == "derived" and each.role == role for each in audit.findings)
    if any(role == own.key for own in audit.source.constants):
        return "value"
    return "derived" if derived else "neutral" if audit.usable else "-"


def _as_json(title: str, audits: list[SwatchAudit], findings: list[Finding], wonders: list[QuiltNote]) -> Facts:
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
        "title": title,
        "faults": faults,
        "notes": len(findings) - faults,
        "swatches": swatches,
        "findings": [dataclasses.asdict(each) for each in findings],
        "quilt": [dataclasses.asdict(each) for each in wonders],
    }
