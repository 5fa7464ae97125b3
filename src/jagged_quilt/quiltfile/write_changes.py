"""Changes to keys of a quilt file written into it, its comments and order kept."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import tomlkit

from jagged_quilt.foundation.files import read_bytes, write_bytes
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.quiltfile.read import full_key, put_at, read_table


def write_changes(path: Path, changes: Mapping[str, Unchecked]) -> list[str]:
    """Put values at key paths (`layer[2].mask[0].fade`) into a quilt file; return what was written, a line for each.

    A table that the file does not write, as the tuning of a layer, is written as one line.

    Raises
    ------
    NameNotFoundError
        If a key path leads nowhere.
    QuiltFileError
        If the file would be at fault; then nothing is written.
    """
    path = Path(path)
    read_table(path, changes=changes)
    file = tomlkit.parse(read_bytes(path, "quilt file").decode("utf-8"))
    lines = []
    for key, value in changes.items():
        document: Unchecked = file.unwrap()
        put_at(document, key, value)
        *way, last = full_key(document, key)
        table: Unchecked = file
        for step in way:
            if isinstance(table, dict) and step not in table:
                _put_before_tables(table, str(step), tomlkit.inline_table())
            table, document = table[step], document[step]
        table[last] = document[last]
        lines.append(f"{key} = {tomlkit.item(document[last]).as_string()}")
    if lines:
        write_bytes(path, tomlkit.dumps(file).encode())
    return lines


def _put_before_tables(table: Unchecked, key: str, value: Unchecked) -> None:
    """Put a key among a table's own, before the tables that follow them."""
    after = {name: table.pop(name) for name in list(table) if isinstance(table[name], (tomlkit.items.AoT, tomlkit.items.Table))}
    table[key] = value
    for name, own in after.items():
        table[name] = own
