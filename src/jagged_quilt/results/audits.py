"""Examining all swatches of a quilt, or of a folder; what is known of files that did not change is kept."""

from __future__ import annotations

import contextlib
import dataclasses
from collections.abc import Sequence
from pathlib import Path

from jagged_quilt.audit.audit import SwatchAudit, audit_swatch
from jagged_quilt.audit.finding import Finding
from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.files import FileDigests, fingerprint, read_json, write_json
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.foundation.version import __version__
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.image_files import look_at
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.swatch import SIDE
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.quiltfile.packing import every_source
from jagged_quilt.quiltfile.quilt import Quilt

MEMO = Path("made", "check.json")
"""Where in a folder of results it is kept what was found."""
OWN_IMAGES = Path("made", "own")
"""And where the images lie that a mesh file holds within itself."""


def audit_quilt(quilt: Quilt, *, memo: Path | None = None, work: Work = ANYHOW) -> list[SwatchAudit]:
    """Examine every swatch of a quilt, as `audit_swatch` does; the own materials of meshes too."""
    out = quilt.folder / "out" if memo is None else memo.parent.parent
    return audit_sources(every_source(quilt, out / OWN_IMAGES), side=quilt.table.arrays.side, memo=memo, work=work)


def audit_sources(
    sources: Sequence[SwatchSource],
    *,
    side: int = SIDE,
    memo: Path | None = None,
    work: Work = ANYHOW,
) -> list[SwatchAudit]:
    """Examine some swatches.

    Parameters
    ----------
    memo : Path, optional
        A file that keeps what was found: a swatch whose files and rules are as they were is not examined again. It is written
        anew; where it cannot be, nothing is kept.
    """
    before = _remembered(memo)
    digests = FileDigests(before.get("files"))
    known = before.get("audits", {})
    stamps: list[str] = [""] * len(sources)
    audits: list[SwatchAudit | None] = [None] * len(sources)

    def examine(index: int) -> None:
        source = sources[index]
        stamps[index] = _stamp(source, side, digests) if memo else ""
        recorded = known.get(stamps[index]) if memo else None
        audits[index] = _audit_of(recorded, source) if recorded else audit_swatch(source, side=side)

    work.through(range(len(sources)), examine, step="examining maps")
    made = [each for each in audits if each is not None]
    if memo:
        kept = {stamp: _facts_of(each) for stamp, each in zip(stamps, made, strict=True)}
        with contextlib.suppress(QuiltError):
            write_json(memo, {"files": digests.records(), "audits": kept})
    return made


def broken_sources(sources: Sequence[SwatchSource]) -> dict[str, str]:
    """Return which swatches cannot be read as far as names and heads of files tell, and why; nothing is decoded."""
    found = {}
    for source in sources:
        try:
            for each in source.sources.values():
                look_at(each.file, source.limits)
            if not source.inputs(MapRole.DIFFUSE):
                raise FileError(f'{source.folder}: swatch "{source.name}" has no diffuse map')
        except QuiltError as error:
            found[source.name] = str(error)
    return found


def known_faults(sources: Sequence[SwatchSource], memo: Path, side: int) -> dict[str, int]:
    """Return how many faults are known of swatches that did not change since they were checked, where there are any."""
    before = _remembered(memo)
    digests, known = FileDigests(before.get("files")), before.get("audits", {})
    recorded = {source.name: known.get(_stamp(source, side, digests)) for source in sources if known}
    counts = {name: sum(each["level"] == "fault" for each in one["findings"]) for name, one in recorded.items() if one}
    return {name: count for name, count in counts.items() if count}


def _remembered(memo: Path | None) -> Facts:
    try:
        return read_json(memo, "memo") if memo and memo.is_file() else {}
    except QuiltError:
        return {}


def _stamp(source: SwatchSource, side: int, digests: FileDigests) -> str:
    """A hash of all that the findings on a swatch follow from."""
    said = (
        source.name,
        source.tile,
        source.aspect,
        source.relief,
        source.rules,
        source.seams,
        repr(source.grow),
        source.fit,
        source.names,
        source.words,
    )
    parts = [__version__, str(side), repr(said), str(source.limits), str(source.folder)]
    try:
        named = {source.folder / rule.file for rule in source.rules if rule.file}
        for path in sorted({*source.files, *named}):
            parts += [path.name, digests.digest(path, "image file")]
    except QuiltError as error:
        parts.append(str(error))
    return fingerprint(*parts)


def _facts_of(audit: SwatchAudit) -> Facts:
    return {
        "findings": [dataclasses.asdict(each) for each in audit.findings],
        "maps": audit.maps,
        "usable": audit.usable,
    }


def _audit_of(recorded: Facts, source: SwatchSource) -> SwatchAudit:
    found = tuple(Finding(**each) for each in recorded["findings"])
    return SwatchAudit(name=source.name, findings=found, maps=recorded["maps"], usable=recorded["usable"], source=source)
