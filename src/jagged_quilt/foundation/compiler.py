"""How our kernels are compiled: to native code, without the GIL, and kept on disk."""

from __future__ import annotations

import hashlib
import inspect
import re
from collections.abc import Callable
from functools import cache
from pathlib import Path

import numba
from llvmlite import ir
from llvmlite.binding import Linkage
from numba import types
from numba.core.compiler import Compiler
from numba.extending import intrinsic

from jagged_quilt.foundation.loose import Compiled

_njit: Compiled = numba.njit  # its annotations do not know all of its options

# No kernel allocates, so none needs to count references (`_nrt`): counting is slow, and threads wait in it.
# NaN and infinity are refused at the doors; the order of sums and the use of fused multiply-add are left to LLVM.
_FAST = {"reassoc", "nsz", "arcp", "contract", "nnan", "ninf"}


_LANES: set[str] = set()
"""The names of all loops in lanes, as they stand in the names of symbols."""


class _NoAliasCompiler(Compiler):
    """Tells LLVM that the array arguments of a function never overlap, so that it need not check before vectorising."""

    def __init__(self, *args: object, **kwargs: object) -> None:
        super().__init__(*args, **kwargs)
        self.state.flags.noalias = True


class _OwnCopiesCompiler(Compiler):
    """Gives a kernel copies of its helpers that are its alone.

    Numba leaves them as symbols that any other kernel may share, and whichever was loaded first serves all. Copies that were
    optimised among other code round differently, so the same call gave other bytes after compiling than from the cache.
    """

    def define_pipelines(self) -> Compiled:
        state = self.state
        state.library = library = state.targetctx.codegen().create_library(state.func_id.func_qualname)
        library.enable_object_caching()
        finish = library._finalize_final_module

        def finish_alone() -> None:
            module = library._final_module
            shared = [each for each in module.functions if not each.is_declaration and each.linkage == Linkage.linkonce_odr]
            for each in shared:
                each.linkage = Linkage.internal
                each.add_function_attribute("noinline" if any(name in each.name for name in _LANES) else "alwaysinline")
            finish()
            for each in shared:  # as they were, for a kernel that calls this one
                each.linkage = Linkage.linkonce_odr

        library._finalize_final_module = finish_alone
        return super().define_pipelines()


def kernel(function: Callable[..., object]) -> Compiled:
    """Compile a kernel on first use."""
    return _kept(
        _njit(cache=True, nogil=True, fastmath=_FAST, error_model="numpy", _nrt=False, pipeline_class=_OwnCopiesCompiler)(
            function
        )
    )


def check(function: Callable[..., object]) -> Compiled:
    """Compile a loop that a door runs: NaN and infinity are told apart from numbers."""
    return _kept(_njit(cache=True, nogil=True, error_model="numpy", _nrt=False, pipeline_class=_OwnCopiesCompiler)(function))


def lanes(function: Callable[..., object]) -> Compiled:
    """Compile a loop that is to run in vector lanes. Its array arguments must not overlap, and it reads no tables."""
    _LANES.add(f"{len(function.__name__)}{function.__name__}B")
    return _njit(nogil=True, fastmath=_FAST, error_model="numpy", _nrt=False, pipeline_class=_NoAliasCompiler)(function)


def inlined(function: Callable[..., object]) -> Compiled:
    """Compile a small helper of a kernel, which may stand in another file of loops."""
    return _njit(nogil=True, fastmath=_FAST, error_model="numpy", _nrt=False)(function)


KERNELS: list[Compiled] = []
"""Every kernel that is loaded, so that a test can look at what was compiled."""

_IMPORT = re.compile(r"^from jagged_quilt\.(\w+)(?:\.(_\w+))? import (.*)", re.MULTILINE)


def _kept(dispatcher: Compiled) -> Compiled:
    """Let the compiler's cache on disk go by what stands in the kernel's file and in all files of loops that it imports.

    By itself it goes by the time and size of the kernel's own file, and would run old code after a change in another.
    """
    KERNELS.append(dispatcher)
    file = getattr(getattr(dispatcher, "_cache", None), "_cache_file", None)
    if file is not None:
        file._source_stamp = _content_of(Path(inspect.getfile(dispatcher.py_func)))
    return dispatcher


@cache
def _content_of(file: Path) -> str:
    """A hash of a file of loops and of those that it imports."""
    digest = hashlib.blake2b(Path(__file__).read_bytes(), digest_size=16)
    for each in sorted(_files_of_loops(file)):
        digest.update(each.read_bytes())
    return digest.hexdigest()


def _files_of_loops(file: Path) -> set[Path]:
    known: set[Path] = set()
    waiting = [file]
    while waiting:
        one = waiting.pop()
        if one not in known and one.is_file():
            known.add(one)
            for room, module, names in _IMPORT.findall(one.read_text(encoding="utf-8")):
                modules = [module] if module else [name.strip() for name in names.split(",") if name.strip().startswith("_")]
                waiting += [one.parents[1] / room / f"{each}.py" for each in modules]
    return known


@intrinsic
def left_away(context: Compiled, x: Compiled) -> Compiled:  # fast maths would have it that nothing is
    """Return what rounding a float64 to float32 leaves away of it, as float32."""

    def build(context: Compiled, builder: Compiled, signature: Compiled, arguments: Compiled) -> Compiled:
        (whole,) = arguments
        single = ir.FloatType()
        rounded = builder.fpext(builder.fptrunc(whole, single), whole.type)
        return builder.fptrunc(builder.fsub(whole, rounded), single)

    return types.float32(types.float64), build
