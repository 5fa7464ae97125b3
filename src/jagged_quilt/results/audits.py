"""Examining all swatches of a quilt, or of a folder."""

from __future__ import annotations

from collections.abc import Sequence

from jagged_quilt.audit.audit import SwatchAudit, audit_swatch
from jagged_quilt.foundation.progress import Progress, silent
from jagged_quilt.foundation.threads import work_through
from jagged_quilt.maps.swatch import SIDE
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.quiltfile.quilt import Quilt


def audit_quilt(quilt: Quilt, *, threads: int | None = None, progress: Progress = silent) -> list[SwatchAudit]:
    """Examine every swatch of a quilt, as `audit_swatch` does."""
    return audit_sources(quilt.sources, side=quilt.table.arrays.side, threads=threads, progress=progress)


def audit_sources(
    sources: Sequence[SwatchSource], *, side: int = SIDE, threads: int | None = None, progress: Progress = silent
) -> list[SwatchAudit]:
    """Examine some swatches."""
    audits: list[SwatchAudit | None] = [None] * len(sources)

    def examine(place: int) -> None:
        audits[place] = audit_swatch(sources[place], side=side)

    work_through(range(len(sources)), examine, threads=threads, step="examining maps", progress=progress)
    return [each for each in audits if each is not None]
