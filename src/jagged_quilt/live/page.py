"""A quilt as a live page in a browser."""

from __future__ import annotations

import html
import importlib.util
import threading
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.quiltfile.quilt import Quilt

if TYPE_CHECKING:
    from jagged_quilt.live.server import PageServer


@dataclass(frozen=True, eq=False)
class Page:
    """A quilt file in a browser: the ground drawn live, and its numbers to turn.

    Attributes
    ----------
    quilt : Quilt, or path of a quilt file
    out : Path, optional
        The folder of results; `out` beside the quilt file where it is not given.

    Examples
    --------
    >>> jq.Page("saltworks.quilt.toml").serve()  # until it is interrupted  # doctest: +SKIP
    """

    quilt: Quilt | Path | str
    out: Path | None = None
    work: Work = field(default=ANYHOW, repr=False)
    _begun: list[PageServer] = field(default_factory=list, init=False, repr=False)

    @property
    def path(self) -> Path:
        """The quilt file."""
        return self.quilt.path if isinstance(self.quilt, Quilt) else Path(self.quilt)

    def server(self, port: int = 0) -> PageServer:
        """Return a server of it on this machine, with its address; `serve()` on that begins.

        Raises
        ------
        FileError
            If the port is taken, or what serves pages is not installed.
        QuiltError
            What reading the quilt file refuses.
        """
        missing = [name for name in ("starlette", "uvicorn") if importlib.util.find_spec(name) is None]
        if missing:
            raise FileError(f'the page needs {" and ".join(missing)}: pip install "jagged-quilt[page]"')
        from jagged_quilt.live.server import PageServer
        from jagged_quilt.live.session import PageSession

        try:
            return PageServer(PageSession(self.path, out=self.out, work=self.work), port)
        except OSError as error:
            raise FileError(f"port {port} cannot be listened on: {error.strerror or error}; choose another, or 0") from error

    def write(self, folder: Path | str) -> list[Path]:
        """Write the page into a folder, as files that any web server can give away: to look at, without painting and saving.

        A browser reads them over HTTP only (`python -m http.server` in that folder will do), not from the folder itself.

        Raises
        ------
        QuiltError
            What reading the quilt file refuses, or if the folder holds something else.

        Examples
        --------
        >>> jq.Page("saltworks.quilt.toml").write("page")  # doctest: +SKIP
        """
        from jagged_quilt.live.session import PageSession
        from jagged_quilt.live.write_page import write_page

        return write_page(PageSession(self.path, out=self.out, work=self.work), Path(folder))

    def serve(self, port: int = 0) -> None:
        """Serve it until it is interrupted, and say where it is."""
        server = self.server(port)
        print(server.address)
        server.serve()

    def begin(self, port: int = 0) -> PageServer:
        """Serve it beside what goes on; `stop()` on what is returned ends it."""
        server = self.server(port)
        threading.Thread(target=server.serve, daemon=True).start()
        return server

    def _repr_html_(self) -> str:
        """In a notebook: the page in a frame, served until Python ends."""
        if not self._begun:
            self._begun.append(self.begin())
        address, title = html.escape(self._begun[0].address), html.escape(self.path.name)
        return f'<iframe src="{address}" title="{title}" width="100%" height="640" style="border: 0"></iframe>'
