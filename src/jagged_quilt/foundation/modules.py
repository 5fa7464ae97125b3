"""A user's own modules, whose masks, projections and readers are known once they are loaded."""

from __future__ import annotations

import importlib
import importlib.util
import sys
from pathlib import Path
from types import ModuleType

from jagged_quilt.foundation.errors import FileError


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
