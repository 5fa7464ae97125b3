"""Kernels where they are called: loaded, and the compiler with them, when the first of them is needed.

A value is made, printed, checked and pickled without any kernel; so nothing that defines values imports them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from importlib import import_module

from jagged_quilt.foundation.json_types import Compiled


class LazyKernels:
    """A module of kernels that is imported when one of its names is first asked for."""

    __slots__ = ("module",)

    def __init__(self, module: str) -> None:
        self.module = module

    def __getattr__(self, name: str) -> Compiled:
        return getattr(import_module(self.module), name)

    def __repr__(self) -> str:
        return f"<kernels of {self.module}>"


def kernels_of(module: str) -> LazyKernels:
    """Return the kernels of a module by its full name."""
    return LazyKernels(module)


WATCHES: list[tuple[Callable[[str], None], Callable[[], None]]] = []
"""Who watches the compiler, which is one for the whole process."""


@contextmanager
def when_compiling(tell: Callable[[str], None], done: Callable[[], None] = lambda: None) -> Iterator[None]:
    """Call `tell` with the name of each kernel that is compiled and not loaded meanwhile, and `done` when it is."""
    watch = (tell, done)
    WATCHES.append(watch)
    try:
        yield
    finally:
        WATCHES.remove(watch)
