"""How our kernels are compiled: to native code, without the GIL, kept on disk, and free of aliasing."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numba
from numba.core.compiler import Compiler


class _NoAliasCompiler(Compiler):  # type: ignore[misc]
    """Tells LLVM that the array arguments of a kernel never overlap, without which it will not vectorise gathers."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.state.flags.noalias = True


# NaN and infinity are refused at the doors; the order of sums and the use of fused multiply-add are left to LLVM.
_FAST = {"reassoc", "nsz", "arcp", "contract", "nnan", "ninf"}


def kernel(function: Callable[..., Any]) -> Any:
    """Compile `function` on first use. Its array arguments must not overlap."""
    return numba.njit(cache=True, nogil=True, fastmath=_FAST, error_model="numpy", pipeline_class=_NoAliasCompiler)(
        function
    )


def inlined(function: Callable[..., Any]) -> Any:
    """Compile a small helper of a kernel, which must stand in the same file (the cache does not see other files)."""
    return numba.njit(nogil=True, fastmath=_FAST, error_model="numpy")(function)
