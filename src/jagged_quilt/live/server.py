"""The page over HTTP: on loopback alone, behind a token, with what the session answers and the files of the page."""

from __future__ import annotations

import asyncio
import contextlib
import gzip
import json
import secrets
import socket
import threading
from collections.abc import AsyncIterator, Awaitable, Callable

from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from jagged_quilt.foundation.errors import NameNotFoundError, QuiltError
from jagged_quilt.foundation.json_types import Facts, Unchecked
from jagged_quilt.live.session import PageSession
from jagged_quilt.live.static_files import FILES, page_file, policy

HOST = "127.0.0.1"
_AROUND = "'self' http://127.0.0.1:* http://localhost:* https://localhost:*"  # a notebook on this machine may frame it
_MOST = 1024 * 1024  # bytes of what a page says at once
_WAIT = 20.0  # seconds that a question for changes stays open

Handler = Callable[[Request], Awaitable[Response]]


class PageServer:
    """Serves one session.

    Attributes
    ----------
    token : str
        Without which nothing is answered; it is part of the address.
    port : int
        0 until it is served, if none was asked for.
    """

    def __init__(self, session: PageSession, port: int = 0) -> None:
        self.session, self.token = session, secrets.token_urlsafe(12)
        self._socket = socket.create_server((HOST, port))
        self.port: int = self._socket.getsockname()[1]
        self._stop = threading.Event()

    @property
    def address(self) -> str:
        """Where the page is, token and all."""
        return f"http://{HOST}:{self.port}/{self.token}/"

    def serve(self) -> None:
        """Answer until it is stopped, or Ctrl-C comes."""
        import uvicorn

        config = uvicorn.Config(self.app(), log_level="error", lifespan="off", timeout_graceful_shutdown=1)
        server = uvicorn.Server(config)
        follower = threading.Thread(target=self._follow, daemon=True)
        follower.start()

        def end() -> None:
            self._stop.wait()
            server.should_exit = True

        threading.Thread(target=end, daemon=True).start()
        try:
            with contextlib.suppress(KeyboardInterrupt):
                server.run(sockets=[self._socket])
        finally:
            self._stop.set()

    def stop(self) -> None:
        """End `serve`, from another thread."""
        self._stop.set()

    def app(self) -> Starlette:
        """The application, to be served by whatever serves such."""
        get = {
            "state": self._state,
            "programs": self._programs,
            "changes": self._changes,
            "at": self._at,
            "still.png": self._still,
        }
        post = {"turn": self._turn, "undo": self._undo, "redo": self._redo, "save": self._save, "paint": self._paint}
        routes = [Route(f"/{{token}}/{name}", self._guarded(each)) for name, each in get.items()]
        routes += [Route(f"/{{token}}/{name}", self._guarded(each), methods=["POST"]) for name, each in post.items()]
        routes += [
            Route("/{token}/data/{name}", self._guarded(self._data)),
            Route("/{token}/", self._guarded(self._file)),
            Route("/{token}/{name}", self._guarded(self._file)),
        ]
        return Starlette(routes=routes)

    def _guarded(self, handler: Handler) -> Handler:
        """Answer only what comes from this page: by its token, to this host, and from no other origin."""

        async def answer(request: Request) -> Response:
            own = f"{HOST}:{self.port}"
            origin = request.headers.get("origin")
            if not secrets.compare_digest(request.path_params["token"].encode(), self.token.encode()):
                return _plain("there is nothing here", 404)
            if request.headers.get("host") != own or origin not in (None, f"http://{own}"):
                return _plain("this page answers to itself alone", 403)
            try:
                response = await handler(request)
            except NameNotFoundError as error:
                response = _plain(str(error), 404)
            except QuiltError as error:
                response = _json({"error": str(error)}, 409)
            response.headers["content-security-policy"] = policy({"frame-ancestors": _AROUND})
            response.headers["x-content-type-options"] = "nosniff"
            response.headers["referrer-policy"] = "no-referrer"
            response.headers["cross-origin-resource-policy"] = "same-origin"
            return response

        return answer

    async def _file(self, request: Request) -> Response:
        name = request.path_params.get("name") or "index.html"
        if name not in FILES:
            return _plain("there is nothing here", 404)
        return Response(page_file(name), media_type=FILES[name], headers={"cache-control": "no-cache"})

    async def _state(self, request: Request) -> Response:
        return _json(await run_in_threadpool(self.session.state))

    async def _programs(self, request: Request) -> Response:
        return _json(await run_in_threadpool(self.session.programs))

    async def _data(self, request: Request) -> Response:
        name, wanted = request.path_params["name"], request.query_params.get("stamp", "")
        try:
            stamp, data = await run_in_threadpool(self.session.stamped, name)
        except NameNotFoundError:
            if not name.endswith("_patch"):
                raise
            stamp, data = "", b""  # there was one when the page was told
        kept = {"cache-control": "private, max-age=31536000, immutable" if stamp == wanted else "no-store"}
        return Response(data, media_type="application/octet-stream", headers=kept | {"x-stamp": stamp})

    async def _changes(self, request: Request) -> Response:
        """Answer when there is another revision than the one that the page knows, or after a while."""
        known = _number(request.query_params.get("revision", "-1"))
        for _ in range(int(_WAIT / 0.1)):
            if self.session.revision != known or self._stop.is_set():
                break
            await asyncio.sleep(0.1)
        return _json({"revision": self.session.revision})

    async def _still(self, request: Request) -> Response:
        return Response(await run_in_threadpool(self.session.still), media_type="image/png")

    async def _at(self, request: Request) -> Response:
        x, z = (_number(request.query_params.get(each, "nan")) for each in "xz")
        return _json(await run_in_threadpool(self.session.explained, x, z))

    async def _turn(self, request: Request) -> Response:
        said = await _said(request)
        changes, moving = said.get("changes"), bool(said.get("moving"))
        if not isinstance(changes, dict):
            return _plain("say changes: values by their keys", 400)
        await run_in_threadpool(lambda: self.session.turn(changes, moving=moving))
        return _json(await run_in_threadpool(self.session.state))

    async def _paint(self, request: Request) -> Response:
        said = await _said(request)
        name, moving = str(said.get("name", "")), bool(said.get("moving"))
        await run_in_threadpool(lambda: self.session.paint(said.get("daub"), name, moving=moving))
        return _json(await run_in_threadpool(self.session.state))

    async def _undo(self, request: Request) -> Response:
        await run_in_threadpool(self.session.undo)
        return _json(await run_in_threadpool(self.session.state))

    async def _redo(self, request: Request) -> Response:
        await run_in_threadpool(self.session.redo)
        return _json(await run_in_threadpool(self.session.state))

    async def _save(self, request: Request) -> Response:
        lines = await run_in_threadpool(self.session.save)
        return _json(await run_in_threadpool(self.session.state) | {"saved": lines})

    def _follow(self) -> None:
        with contextlib.suppress(OSError, RuntimeError):  # then it is served all the same
            self.session.follow(self._stop)


async def _said(request: Request) -> Facts:
    """What a page says, as JSON; nothing where it is too much or none."""
    body = b""
    async for part in _parts(request):
        body += part
        if len(body) > _MOST:
            return {}
    try:
        said: Unchecked = json.loads(body)
    except ValueError:
        return {}
    return said if isinstance(said, dict) else {}


async def _parts(request: Request) -> AsyncIterator[bytes]:
    async for part in request.stream():
        yield part


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return float("nan")


def _plain(text: str, status: int) -> Response:
    return Response(text + "\n", status, media_type="text/plain")


def _json(facts: Facts, status: int = 200) -> Response:
    body = gzip.compress(json.dumps(facts, ensure_ascii=False).encode(), 1)
    return Response(
        body, status, media_type="application/json", headers={"content-encoding": "gzip", "cache-control": "no-store"}
    )
