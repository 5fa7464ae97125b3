"""Mends written into a quilt file: what a finding says to write, put where the file speaks of that map, comments kept."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

import tomlkit

from jagged_quilt.audit.finding import Finding
from jagged_quilt.foundation.files import read_bytes, write_bytes
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.maps.roles import PACKED

_ONLY_WITH_A_FILE = ("file", "channel", "green", "transfer", "invert", "upside_down", "smooth", "made_from")


def write_mends(path: Path, findings: Iterable[Finding]) -> list[str]:
    """Write the mends of some findings into a quilt file; return what was written, a line for each.

    A mend changes the block that already speaks of that map, and is a new block only where there is none.
    """
    path = Path(path)
    file = tomlkit.parse(read_bytes(path, "quilt file").decode("utf-8"))
    roles_said: set[tuple[str, str]] = set()
    lines = [line for each in findings if each.mend for line in _mend(file, each, roles_said)]
    if lines:
        write_bytes(path, tomlkit.dumps(file).encode())
    return lines


def _mend(file: tomlkit.TOMLDocument, finding: Finding, roles_said: set[tuple[str, str]]) -> Iterator[str]:
    """Write one mend; of several that give one file another role only the first, since the next check tells the rest."""
    swatch: Unchecked = next((each for each in file.get("swatch", ()) if each.get("name") == finding.swatch), None)
    if swatch is None:
        return
    said: Unchecked = tomlkit.parse(finding.mend)
    for block in said.pop("swatch", {}).get("map", ()):
        plain = block.unwrap()
        if "file" in plain and (finding.swatch, plain["file"]) in roles_said:
            continue
        if "file" in plain:
            roles_said.add((finding.swatch, plain["file"]))
        if _put_block(swatch, plain):
            keys = ", ".join(f"{key} = {tomlkit.item(value).as_string()}" for key, value in plain.items())
            yield f'swatch "{finding.swatch}": {keys}  ({finding.kind})'
    for key, value in said.unwrap().items():
        if isinstance(value, dict):
            continue
        _put_key(swatch, key, value)
        yield f'swatch "{finding.swatch}": {key} = {tomlkit.item(value).as_string()}  ({finding.kind})'


def _put_key(swatch: Unchecked, key: str, value: Unchecked) -> None:
    """Put a key before the blocks that follow the swatch's own keys."""
    if key in swatch:
        swatch[key] = value
        return
    blocks = swatch.pop("map") if "map" in swatch else None
    swatch[key] = value
    if blocks is not None:
        swatch["map"] = blocks


def _put_block(swatch: Unchecked, said: dict[str, Unchecked]) -> bool:
    """Bring one block into those of a swatch; return whether that was possible."""
    blocks = swatch.get("map")
    role, file = said.get("role"), said.get("file")
    for block in blocks or ():
        held = block.get("roles") or [each.key for each in PACKED.get(block.get("packed"), ())]
        if role != "none" and role in held:
            return False  # one channel of several: the block speaks of them all
    own = next((each for each in blocks or () if file is not None and each.get("file") == file), None)
    if own is None and role not in (None, "none"):
        own = next((each for each in blocks or () if each.get("role") == role), None)
    if own is None:
        new = tomlkit.table()
        for key, value in said.items():
            new.add(key, value)
        if blocks is None:
            swatch["map"] = tomlkit.aot()
        swatch["map"].append(new)
        return True
    if role == "none" or "value" in said or "roles" in said:
        for key in (*_ONLY_WITH_A_FILE, "role"):
            if key in own and key not in said:
                del own[key]
    for key, value in said.items():
        own[key] = value
    return True
