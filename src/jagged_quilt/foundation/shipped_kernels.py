"""Kernels that a wheel brings along, compiled for a family of processors; the compiler is not needed where they fit.

A family stands in a folder of its own in `compiled/`, which only a wheel has: what it was compiled for and what it needs of a
processor in `family.json`, beside kernels as the compiler's cache holds them.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import llvmlite.binding as llvm
import numba

from jagged_quilt.foundation.json_types import Compiled, Facts

SHIPPED = Path(__file__).parents[1] / "compiled"
RECORD = "family.json"

_V3 = ("avx", "avx2", "bmi", "bmi2", "f16c", "fma", "lzcnt", "movbe")
FAMILIES = {"x86-64-v4": (*_V3, "avx512f", "avx512bw", "avx512cd", "avx512dq", "avx512vl"), "x86-64-v3": _V3}
"""Processors as compilers group them, the most able first, with what each needs."""

HOST = "host"
"""The family of processors that are just like the one that compiled them."""


@dataclass(frozen=True)
class Family:
    """Kernels for a family of processors.

    Attributes
    ----------
    folder : Path
    target : tuple of str
        System, processor and features that they were compiled for, as the compiler's cache names them.
    of : str
        What they were made from; see `kernel_cache.source_key`.
    """

    folder: Path
    target: tuple[str, ...]
    of: str


def can_run(family: str) -> bool:
    """Return whether this processor has all that a family needs."""
    has = llvm.get_host_cpu_features()
    return all(has.get(each) for each in FAMILIES[family])


@cache
def family_here() -> Family | None:
    """Return the most able of the families that came along and that this processor runs; None where none does.

    None, too, where somebody says which processor to compile for.
    """
    if getattr(numba.config, "CPU_NAME", None) or getattr(numba.config, "CPU_FEATURES", None):
        return None
    for name in (HOST, *FAMILIES):
        record = SHIPPED / name / RECORD
        if record.is_file():
            facts: Facts = json.loads(record.read_text(encoding="utf-8"))
            family = Family(record.parent, tuple(facts["target"]), facts["of"])
            if family.target == target_here() if name == HOST else (family.target[0] == target_here()[0] and can_run(name)):
                return family
    return None


def target_here() -> tuple[str, ...]:
    """Return what this process compiles for: system, processor and its features."""
    from numba.core.registry import cpu_target

    return tuple(cpu_target.target_context.codegen().magic_tuple())


def load_shipped(kept: Compiled, name: str, stamp: str, signature: Compiled, context: Compiled) -> Compiled:
    """Return what a wheel brought for a kernel and the types that it is called with, ready to run; None where it has none.

    `kept` is the kernel's own cache, `name` and `stamp` say which file of loops it stands in, and what was in it.
    """
    from numba.core.caching import IndexDataCacheFile

    family = family_here()
    if family is None or not (family.folder / name).is_dir():
        return None
    file = IndexDataCacheFile(str(family.folder / name), kept._impl.filename_base, stamp)
    signature, _, code = kept._index_key(signature, context.codegen())
    try:
        held = file.load((signature, family.target, code))
    except Exception:  # of another version of what it names
        return None
    return None if held is None else kept._impl.rebuild(context, held)
