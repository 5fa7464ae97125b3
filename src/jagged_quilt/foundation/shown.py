"""Values that a notebook shows as pictures."""

from __future__ import annotations

from importlib import import_module


class Shown:
    """A value with a picture. What draws it stands in a room above, and is loaded only when a notebook asks."""

    __slots__ = ()

    def _repr_html_(self) -> str:
        html: str = import_module("jagged_quilt.results.notebook").html_of(self)
        return html
