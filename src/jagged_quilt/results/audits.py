"""Examining all swatches of a quilt."""

from __future__ import annotations

from jagged_quilt.audit.audit import SwatchAudit, audit_swatch
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.quiltfile.quilt import Quilt


def audit_quilt(quilt: Quilt, *, threads: int | None = None, progress: Progress = silent) -> list[SwatchAudit]:
    """Examine every swatch of a quilt, as `audit_swatch` does."""
    audits: list[SwatchAudit | None] = [None] * len(quilt.sources)

    def examine(place: int) -> None:
        audits[place] = audit_swatch(quilt.sources[place], side=quilt.table.arrays.side)

    work_through(range(len(audits)), examine, threads=threads, step="examining maps", progress=progress)
    return [each for each in audits if each is not None]
