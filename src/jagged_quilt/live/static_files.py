"""The files of the page, as they are shipped."""

from __future__ import annotations

from importlib import resources

_SCRIPTS = ("brush", "camera", "ground", "matrices", "meshes", "page", "panels", "picture", "programs")
FILES = {"index.html": "text/html", "page.css": "text/css"} | {f"{name}.js": "text/javascript" for name in _SCRIPTS}
"""The files of the page, and the type of each; a request names one of them or nothing."""
POLICY = {
    "default-src": "'none'",
    "script-src": "'self'",
    "style-src": "'self'",
    "img-src": "'self' blob: data:",
    "connect-src": "'self'",
    "base-uri": "'none'",
    "form-action": "'none'",
}
"""What the page may load, and from where."""


def page_file(name: str) -> bytes:
    """Return one of `FILES`."""
    return resources.files("jagged_quilt.live").joinpath(f"static/{name}").read_bytes()


def policy(more: dict[str, str]) -> str:
    """Return the content security policy, with more said of what."""
    return "; ".join(f"{what} {whence}" for what, whence in (POLICY | more).items())
