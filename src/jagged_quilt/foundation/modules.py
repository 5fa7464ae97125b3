"""A user's own modules: what they define is known once they are loaded, and a hash stands for their code."""

from __future__ import annotations

import importlib
import importlib.util
import inspect
import linecache
import sys
from contextlib import suppress
from pathlib import Path
from types import ModuleType

from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.files import fingerprint


def load_module(name: str) -> ModuleType:
    """Load a module by its name, or from its file where that ends in .py.

    Raises
    ------
    FileError
        If there is no such module, or it fails while it is loaded.
    """
    try:
        if not name.endswith(".py"):
            return importlib.import_module(name)
        path = Path(name)
        if not path.is_file():
            raise FileError(f"{name}: there is no such file; name a module, or a file of Python")
        spec = importlib.util.spec_from_file_location(path.stem, path)
        assert spec is not None
        assert spec.loader is not None
        module = importlib.util.module_from_spec(spec)
        sys.modules[path.stem] = module  # so that what it defines can be pickled
        spec.loader.exec_module(module)
        return module
    except FileError:
        raise
    except ModuleNotFoundError as error:
        raise FileError(f"{name}: there is no module {error.name}; install it, or name a file that ends in .py") from error
    except Exception as error:
        raise FileError(f"{name}: fails while it is loaded: {type(error).__name__}: {error}") from error


def is_ours(kind: type) -> bool:
    """Whether a class is of this library."""
    return kind.__module__.startswith("jagged_quilt.")


def source_stamp(kind: type) -> str | None:
    """Return a hash of the source of the module of a class, or of the class alone where the module is no file; else None."""
    linecache.checkcache()
    for each in (sys.modules.get(kind.__module__), kind):
        with suppress(OSError, TypeError):
            if each is not None:
                return fingerprint(inspect.getsource(each))
    return None
