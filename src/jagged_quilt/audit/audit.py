"""The audit: what is wrong with the maps of a swatch, how that was measured, and what to write to mend it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from jagged_quilt.audit.finding import SMALL, Bench, Finding, leave_out, map_rule
from jagged_quilt.audit.map_faults import MAP_CHECKS
from jagged_quilt.audit.set_faults import NAME_CHECKS, SET_CHECKS
from jagged_quilt.foundation.checks import instance_of
from jagged_quilt.foundation.errors import QuiltError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.maps.image_files import read_channels
from jagged_quilt.maps.roles import SURFACE_ROLES
from jagged_quilt.maps.swatch import SIDE, Swatch
from jagged_quilt.maps.swatch_source import SwatchSource


@dataclass(frozen=True, eq=False, kw_only=True)
class SwatchAudit:
    """All that was found about one swatch.

    Attributes
    ----------
    name : str
    findings : tuple of Finding
    maps : dict of role to what is known of its map: file, width, height, bits, channels, seam
    usable : bool
        Whether it can be read as a whole.
    source : SwatchSource
    """

    name: str
    findings: tuple[Finding, ...]
    maps: dict[str, Facts]
    usable: bool
    source: SwatchSource

    def read(self) -> Swatch | None:
        """Return the swatch, or None if it cannot be read."""
        return self.source.read() if self.usable else None

    @property
    def faults(self) -> tuple[Finding, ...]:
        """Only what is wrong."""
        return tuple(each for each in self.findings if each.level == "fault")


def audit_swatch(source: SwatchSource, *, side: int = SIDE) -> SwatchAudit:
    """Examine the maps of one swatch. Nothing is raised: what cannot be read is a finding.

    Parameters
    ----------
    side : int
        Along the side of a slice, to tell what packing would enlarge.

    Examples
    --------
    >>> jq.audit.audit_swatch(jq.SwatchSource(name="clay", folder="swatches/clay", tile=2.0)).name
    'clay'
    """
    instance_of("source", source, SwatchSource, "where a swatch comes from, jq.SwatchSource(name=…, folder=…, tile=…)")
    bench, usable = Bench(source, side), False
    try:
        sources = source.sources
    except QuiltError as error:
        twice = "look like the" in str(error)
        bench.found.append(
            Finding(
                level="fault",
                kind="two files" if twice else "no files",
                swatch=source.name,
                what=str(error).split("; move one away")[0],
                mend=choice_of(str(error)) if twice else "",
            )
        )
        for path in source.files if twice else ():
            _try_reading(bench, path)
        return SwatchAudit(name=source.name, findings=tuple(bench.found), maps={}, usable=False, source=source)
    for role, each in sources.items():
        try:
            bench.maps[role] = each.read(bench.images)
            bench.forget_image(each.file)
        except QuiltError as error:
            grey = "must be grey" in str(error)
            mend = map_rule(role, channel="r") if grey else leave_out(each.file.name)
            bench.fault("colour in a grey map" if grey else "cannot be read", str(error), role, mend=mend)
    for check in (*NAME_CHECKS, *MAP_CHECKS, *SET_CHECKS):
        check(bench)
    if not any(each.kind in ("cannot be read", "colour in a grey map") for each in bench.found):
        try:
            source.check(bench.maps)
            usable = True
        except QuiltError as error:
            bench.fault("cannot be used", str(error))
        for role in SURFACE_ROLES if usable else ():
            words = source.words_on(role)
            if words:
                bench.note("derived", f"no {role.key} map; made {words}", role, file=Path())
            elif not source.inputs(role):
                neutral = " ".join(f"{value:g}" for value in role.value.neutral)
                bench.note("neutral", f"no {role.key} map; {neutral} stands in", role, file=Path())
    order = {"fault": 0, "note": 1}
    found = tuple(sorted(bench.found, key=lambda each: order[each.level]))
    return SwatchAudit(name=source.name, findings=found, maps=dict(_known(bench)), usable=usable, source=source)


def _try_reading(bench: Bench, path: Path) -> None:
    """Where roles are not clear yet, tell at least which files are broken."""
    try:
        read_channels(path)
    except QuiltError as error:
        bench.fault("cannot be read", str(error), file=path, mend=leave_out(path.name))


def audit_together(audits: Sequence[SwatchAudit]) -> list[Finding]:
    """Tell which swatches hold the same map.

    Examples
    --------
    >>> sources = [jq.SwatchSource(name=name, folder=f"swatches/{name}", tile=2.0) for name in ("clay", "salt")]
    >>> jq.audit.audit_together([jq.audit.audit_swatch(each) for each in sources])
    []
    """
    seen: dict[str, tuple[str, str]] = {}
    found = []
    for audit in audits:
        for role, facts in audit.maps.items():
            key = role + facts["content"]
            if key in seen and max(facts["width"], facts["height"]) > SMALL:
                found.append(
                    Finding(
                        level="note",
                        kind="shared map",
                        swatch=audit.name,
                        role=role,
                        file=facts["file"],
                        what=f'the same {role} map as in swatch "{seen[key][0]}"; the arrays hold it once where '
                        "all maps of a slice are the same",
                        measured=seen[key][1],
                    )
                )
            seen.setdefault(key, (audit.name, facts["file"]))
    return found


def _known(bench: Bench) -> Iterator[tuple[str, Facts]]:
    for role, given in bench.maps.items():
        stored = given.texels
        facts = {
            "file": bench.source.sources[role].file.name,
            "width": given.shape[1],
            "height": given.shape[0],
            "bits": stored.dtype.itemsize * 8,
            "channels": stored.shape[2],
            "content": fingerprint(str(stored.shape), np.ascontiguousarray(stored).data.cast("B")),
        }
        if role in bench.seams:
            facts["seam"] = {each: round(score, 4) for each, score in bench.seams[role]._asdict().items()}
        yield role.key, facts


def choice_of(message: str) -> str:
    """What the error for two files of one role says to write."""
    role, file = message.split('role = "')[1].split('"')[0], message.split('file = "')[1].split('"')[0]
    return f'[[swatch.map]]\nrole = "{role}"\nfile = "{file}"\n'
