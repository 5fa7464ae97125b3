"""How our kernels are compiled: to native code, without the GIL, and kept on disk."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numba
from numba.core.compiler import Compiler

_njit: Any = numba.njit  # its annotations do not know all of its options

# No kernel allocates, so none needs to count references (`_nrt`): counting is slow, and threads wait in it.
# NaN and infinity are refused at the doors; the order of sums and the use of fused multiply-add are left to LLVM.
_FAST = {"reassoc", "nsz", "arcp", "contract", "nnan", "ninf"}


class _NoAliasCompiler(Compiler):
    """Tells LLVM that the array arguments of a function never overlap, so that it need not check before vectorising."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.state.flags.noalias = True


def kernel(function: Callable[..., Any]) -> Any:
    """Compile a kernel on first use."""
    return _njit(cache=True, nogil=True, fastmath=_FAST, error_model="numpy", _nrt=False)(function)


def check(function: Callable[..., Any]) -> Any:
    """Compile a loop that a door runs: NaN and infinity are told apart from numbers."""
    return _njit(cache=True, nogil=True, error_model="numpy", _nrt=False)(function)


def lanes(function: Callable[..., Any]) -> Any:
    """Compile a loop that is to run in vector lanes. Its array arguments must not overlap, and it reads no tables."""
    return _njit(nogil=True, fastmath=_FAST, error_model="numpy", _nrt=False, pipeline_class=_NoAliasCompiler)(function)


def inlined(function: Callable[..., Any]) -> Any:
    """Compile a small helper of a kernel, which must stand in the same file (the cache does not see other files)."""
    return _njit(nogil=True, fastmath=_FAST, error_model="numpy", _nrt=False)(function)
