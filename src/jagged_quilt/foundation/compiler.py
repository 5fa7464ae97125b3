"""How our kernels are compiled: to native code, without the GIL, and kept on disk."""

from __future__ import annotations

import ctypes
import hashlib
import inspect
import re
from collections.abc import Callable
from contextlib import suppress
from functools import cache
from pathlib import Path

import numba
import numpy as np
from llvmlite import ir
from llvmlite.binding import Linkage
from numba import types
from numba.core import event
from numba.core.caching import IndexDataCacheFile
from numba.core.codegen import JITCodeLibrary
from numba.core.compiler import Compiler
from numba.extending import intrinsic, overload

from jagged_quilt.foundation.json_types import Compiled
from jagged_quilt.foundation.kernels import WATCHES
from jagged_quilt.foundation.shipped_kernels import load_shipped

_njit: Compiled = numba.njit  # its annotations do not know all of its options

# No kernel allocates, so none needs to count references (`_nrt`): counting is slow, and threads wait in it.
# NaN and infinity are refused at the doors; the order of sums and the use of fused multiply-add are left to LLVM.
_FAST = {"reassoc", "nsz", "arcp", "contract", "nnan", "ninf"}


_LANES: set[str] = set()
"""The names of all loops in lanes, as they stand in the names of symbols."""


class _HelperLibrary(JITCodeLibrary):
    """Holds a helper as it was lowered: only the kernels that it goes into are optimised and made into native code.

    Numba would do both for every helper by itself, and optimise each again within all that call it.
    """

    @property
    def codegen(self) -> Compiled:
        return _NoEnvironment(self._codegen)

    def _optimize_final_module(self) -> None:
        """Leave that to the kernel."""

    def _finalize_final_module(self) -> None:
        self._finalize_dynamic_globals()
        self._finalized = True

    def get_pointer_to_function(self, name: str) -> int:
        """Return what Python calls if somebody calls a helper: it raises a TypeError and returns nothing."""
        address = ctypes.cast(ctypes.pythonapi.PyErr_BadArgument, ctypes.c_void_p).value
        assert address is not None
        return address


class _NoEnvironment:
    """A code generator for what is never native by itself: what it would raise errors with is not set."""

    def __init__(self, codegen: Compiled) -> None:
        self._codegen = codegen

    def __getattr__(self, name: str) -> Compiled:
        return getattr(self._codegen, name)

    def set_env(self, name: str, environment: object) -> None:
        """Do nothing."""


class _HelperCompiler(Compiler):
    """Compiles what only kernels call."""

    def define_pipelines(self) -> Compiled:
        state = self.state
        state.library = _HelperLibrary(state.targetctx.codegen(), state.func_id.func_qualname)
        state.library.enable_object_caching()
        return super().define_pipelines()


class _NoAliasCompiler(_HelperCompiler):
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
        optimise, finish = library._optimize_final_module, library._finalize_final_module
        shared: set[str] = set()

        def optimise_alone() -> None:
            for each in library._final_module.functions:
                if not each.is_declaration and each.linkage == Linkage.linkonce_odr:
                    shared.add(each.name)
                    each.linkage = Linkage.internal
                    each.add_function_attribute("noinline" if any(name in each.name for name in _LANES) else "alwaysinline")
            optimise()

        def finish_alone() -> None:
            finish()
            for each in library._final_module.functions:  # as they were, for a kernel that calls this one
                if each.name in shared:
                    each.linkage = Linkage.linkonce_odr

        library._optimize_final_module, library._finalize_final_module = optimise_alone, finish_alone
        return super().define_pipelines()


_KERNEL: dict[str, object] = {
    "nogil": True,
    "error_model": "numpy",
    "no_cfunc_wrapper": True,
    "_nrt": False,
    "pipeline_class": _OwnCopiesCompiler,
}
_HELPER: dict[str, object] = {
    "nogil": True,
    "fastmath": _FAST,
    "error_model": "numpy",
    "no_cpython_wrapper": True,
    "no_cfunc_wrapper": True,
    "_nrt": False,
}


def kernel(function: Callable[..., object]) -> Compiled:
    """Compile a kernel on first use."""
    return _kept(function, {"fastmath": _FAST, **_KERNEL})


def check(function: Callable[..., object]) -> Compiled:
    """Compile a loop that a door runs: NaN and infinity are distinguished from numbers."""
    return _kept(function, _KERNEL)


def lanes(function: Callable[..., object]) -> Compiled:
    """Compile a loop of a kernel that is to run in vector lanes. Its array arguments must not overlap; it reads no tables."""
    _LANES.add(f"{len(function.__name__)}{function.__name__}B")
    return _njit(pipeline_class=_NoAliasCompiler, **_HELPER)(function)


def inlined(function: Callable[..., object]) -> Compiled:
    """Compile a small helper of a kernel, which may stand in another file of loops; it cannot be called by itself."""
    return _njit(pipeline_class=_HelperCompiler, **_HELPER)(function)


KERNELS: list[Compiled] = []
"""Every kernel that is loaded, so that a test can look at what was compiled."""

_IMPORT = re.compile(r"^from jagged_quilt\.(\w+)(?:\.(\w+))? import (.*)", re.MULTILINE)


def _kept(function: Callable[..., object], options: dict[str, object]) -> Compiled:
    """Compile for the compiler's cache on disk, which goes by what stands in all files of loops that the kernel's own imports.

    By itself it goes by the time and size of the kernel's own file, and would run old code after a change in another. Where
    no folder can be written to, or its disk is full, kernels live as long as the process.
    """
    try:
        dispatcher = _njit(cache=True, **options)(function)
    except RuntimeError:  # there is no folder to keep it in
        dispatcher = _njit(**options)(function)
    KERNELS.append(dispatcher)
    kept: Compiled = getattr(dispatcher, "_cache", None)
    file = getattr(kept, "_cache_file", None)
    if file is not None:
        source = Path(inspect.getfile(dispatcher.py_func))
        file._source_stamp = stamp = content_of(source)
        if getattr(numba.config, "CACHE_DIR", ""):
            file = _shared_by_content(kept, source)
        save, load, load_own = kept.save_overload, file._load_index, kept._load_overload

        def save_if_possible(*what: object) -> None:
            with suppress(OSError):
                save(*what)

        def load_if_possible() -> Compiled:
            try:
                return load()
            except Exception:  # what another version of ours kept names types that are elsewhere now, or nowhere
                return {}

        def load_either(signature: Compiled, context: Compiled) -> Compiled:
            return load_own(signature, context) or load_shipped(kept, name_in_cache(source), stamp, signature, context)

        kept.save_overload, file._load_index, kept._load_overload = save_if_possible, load_if_possible, load_either
    return dispatcher


def _shared_by_content(kept: Compiled, source: Path) -> Compiled:
    """Keep kernels in a folder that is named for what stands in their source, so that every installation of it finds them.

    Numba names it for the path of the source: each new environment would compile all of them again.
    """
    stamp = content_of(source)
    folder = Path(getattr(numba.config, "CACHE_DIR", ""), name_in_cache(source))
    kept._impl._locator = _Folder(folder)
    kept._cache_path = str(folder)
    kept._cache_file = IndexDataCacheFile(str(folder), kept._impl.filename_base, stamp)
    return kept._cache_file


def name_in_cache(source: Path) -> str:
    """Return what the folder of the kernels of a file of loops is called."""
    return f"{source.parent.name}_{content_of(source)}"


class _Folder:
    """Where Numba is to keep kernels."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def get_cache_path(self) -> str:
        """Return the folder."""
        return str(self._folder)

    def ensure_cache_path(self) -> None:
        """Make the folder; raise `OSError` where that cannot be."""
        self._folder.mkdir(parents=True, exist_ok=True)


@cache
def content_of(file: Path) -> str:
    """A hash of a file of loops, of those that it imports, and of what these import beside: their constants come from there."""
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
            if not one.name.startswith("_"):
                continue
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


@intrinsic
def _fused(context: Compiled, a: Compiled, b: Compiled, c: Compiled) -> Compiled:
    def build(context: Compiled, builder: Compiled, signature: Compiled, arguments: Compiled) -> Compiled:
        return builder.fma(*arguments)

    return types.float32(types.float32, types.float32, types.float32), build


def fused(a: np.float32, b: np.float32, c: np.float32) -> np.float32:
    """Return a * b + c in float32, rounded once."""
    return np.float32(np.float64(a) * np.float64(b) + np.float64(c))


overload(fused)(lambda a, b, c: lambda a, b, c: _fused(a, b, c))  # type: ignore[call-arg]


class _Watch(event.Listener):
    """Tells those who watch (see `when_compiling`) of every kernel that is compiled and not loaded."""

    depth = 0

    def on_start(self, what: Compiled) -> None:
        self.depth += 1
        if self.depth == 1:  # what a kernel calls is compiled within
            for tell, _ in WATCHES:
                tell(what.data["dispatcher"].py_func.__name__)

    def on_end(self, what: Compiled) -> None:
        self.depth -= 1
        if self.depth == 0:
            for _, done in WATCHES:
                done()


event.register("numba:compile", _Watch())
