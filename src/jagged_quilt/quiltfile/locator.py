"""Where in a quilt file something stands: what is refused is reported with its line and its key path."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from jagged_quilt.foundation.errors import QuiltError, QuiltFileError
from jagged_quilt.foundation.json_types import Model
from jagged_quilt.quiltfile.key_paths import Path as KeyPath
from jagged_quilt.quiltfile.schema import QuiltTable
from jagged_quilt.quiltfile.unknown_keys import fault_at


@dataclass(frozen=True, slots=True)
class Locator:
    """Adds the place in a quilt file to errors.

    Attributes
    ----------
    path : Path
    table : QuiltTable
        What the file says.
    text : str
        The file itself.
    """

    path: Path
    table: QuiltTable
    text: str

    @contextmanager
    def at(self, *key: str | int) -> Iterator[None]:
        """Add the place of a key path to what is refused inside."""
        try:
            yield
        except QuiltFileError:
            raise
        except QuiltError as error:
            closer = self._closer(key, str(error))
            message = str(error).removeprefix(f"{closer[-1]}: ") if closer else str(error)
            raise QuiltFileError(fault_at(self.path, self.text, closer, message)) from error

    def _closer(self, key: KeyPath, message: str) -> KeyPath:
        """The key, of the table at a path, that a message names before it says what it must be; else the path itself."""
        table: Model = self.table
        for part in key:
            table = table[int(part)] if isinstance(table, list) else getattr(table, str(part), None)
        known = getattr(type(table), "model_fields", {})
        before, must, _ = message.partition(" must ")
        words = re.findall(r"\w+", before if must else message.partition(" ")[0])
        return next(((*key, word) for word in reversed(words) if word in known), key)
