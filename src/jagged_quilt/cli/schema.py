"""`jquilt schema`"""

from __future__ import annotations

import json
from pathlib import Path

import click


@click.command("schema")
@click.option("--out", type=click.Path(dir_okay=False, path_type=Path), help="The file to write; standard output without it.")
def command(out: Path | None) -> None:
    """Give a JSON Schema of quilt files, by which editors complete keys, and check them while they are written.

    An editor finds it by a first line in the quilt file: #:schema quilt.schema.json
    """
    from jagged_quilt.foundation.files import write_bytes
    from jagged_quilt.quiltfile.json_schema import quilt_schema

    text = json.dumps(quilt_schema(), indent=1, ensure_ascii=False) + "\n"
    if out is None:
        click.echo(text, nl=False)
    else:
        write_bytes(out, text.encode())
        click.echo(f"{out}: begin a quilt file with the line: #:schema {out.name}")
