"""Vectors of 512 bits, on request."""

from __future__ import annotations

import os
import sys

from jagged_quilt.foundation.errors import RangeError


def wide_vectors() -> bool:
    """Let kernels use vectors of 512 bits, in this process and those that it starts; return whether the processor has them.

    Compilers hold back from them, since processors that clock down for them lose more than they gain: measure. All that Numba
    compiles from now on follows, whoever's it is. Call it right after importing this package. Kernels for wide vectors are kept
    apart in the compiler's cache.

    Raises
    ------
    RangeError
        If Numba has set itself up in this process already, as it does when the first kernel is loaded.

    Examples
    --------
    >>> jq.wide_vectors()  # right after the import; says whether they are used  # doctest: +SKIP
    """
    import llvmlite.binding as llvm

    features = llvm.get_host_cpu_features()
    if not features.get("avx512f"):
        return False
    features["prefer-256-bit"] = False
    settings = {"CPU_NAME": llvm.get_host_cpu_name(), "CPU_FEATURES": features.flatten()}
    if "numba" in sys.modules:
        import numba
        from numba.core.registry import cpu_target

        if "_toplevel_target_context" in cpu_target.__dict__:
            raise RangeError(
                "wide vectors must be asked for before kernels are loaded; call jq.wide_vectors() right after the import"
            )
        for name, value in settings.items():
            setattr(numba.config, name, value)
    os.environ.update({f"NUMBA_{name}": value for name, value in settings.items()})
    return True
