"""The page as files, for a web server that knows nothing of quilts."""

from __future__ import annotations

import gzip
import json
from pathlib import Path

from jagged_quilt.foundation.files import written_together
from jagged_quilt.live.session import PageSession
from jagged_quilt.live.static_files import FILES, page_file, policy

_SQUEEZED = 6  # of 9


def write_page(session: PageSession, folder: Path) -> list[Path]:
    """Write all that a page is sent; return the files.

    `state` and `programs` are JSON, and what the programs read lies beside them, each file squeezed by gzip.
    """
    state = session.state() | {"fixed": True, "changed": {}, "can_undo": False, "can_redo": False}
    state["data"] = {name: facts for name, facts in state["data"].items() if not name.endswith("_patch")}
    with written_together(folder) as stage:
        for name in FILES:
            (stage / name).write_bytes(page_file(name))
        head = f'<meta charset="utf-8">\n<meta http-equiv="Content-Security-Policy" content="{policy({})}">'
        index = page_file("index.html").decode().replace('<meta charset="utf-8">', head).replace("<body>", "<body data-fixed>")
        (stage / "index.html").write_text(index, encoding="utf-8")
        for name, said in (("state", state), ("programs", session.programs())):
            (stage / name).write_text(json.dumps(said, ensure_ascii=False), encoding="utf-8")
        (stage / "still.png").write_bytes(session.still())
        for name in state["data"]:
            (stage / f"data-{name}.gz").write_bytes(gzip.compress(session.data(name), _SQUEEZED, mtime=0))
        names = sorted(path.name for path in stage.iterdir())
    return [folder / name for name in names]
