"""A package's window: its names, loaded when they are asked for, and the nearest one for a name that it has not."""

from __future__ import annotations

from collections.abc import Callable

import lazy_loader


def window(package: str, file: str) -> tuple[Callable[[str], object], Callable[[], list[str]], list[str]]:
    """Return `__getattr__`, `__dir__` and `__all__` of a package whose names stand in the stub beside its file."""
    found, listed, names = lazy_loader.attach_stub(package, file)

    def get(name: str) -> object:
        if name in names:
            return found(name)
        import difflib

        near = difflib.get_close_matches(name, names, n=1, cutoff=0.6)
        said = f'; did you mean "{near[0]}"?' if near else ""
        raise AttributeError(f'{package} has no "{name}"{said}', name=name)

    return get, listed, names
