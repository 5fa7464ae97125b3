"""From a quilt file to the objects that it names."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.foundation.reading import reads
from jagged_quilt.quiltfile.read import read_table

if TYPE_CHECKING:
    from jagged_quilt.quiltfile.quilt import Quilt


@reads("quilt file")
def read_quilt(path: Path | str, *, time: float | None = None, changes: Mapping[str, Unchecked] | None = None) -> Quilt:
    """Read a quilt file.

    Parameters
    ----------
    time : float, optional
        What formulas in masks read, in place of the file's own `weights.time`.
    changes : mapping, optional
        Key paths, as `layer[2].mask[0].threshold` or `layer[salt crust].softness`, and values to put there.

    Raises
    ------
    FileError
        If there is no such file.
    QuiltFileError
        If it says something that cannot be; the message names the line and the key path.
    NameNotFoundError
        If the key path of a change leads nowhere.

    Examples
    --------
    >>> quilt = jq.read_quilt("saltworks.quilt.toml")
    >>> [layer.name for layer in quilt.layers]
    ['clay', 'salt']
    """
    path = Path(path)
    table, text = read_table(path, time, changes)
    from jagged_quilt.quiltfile.quilt import Quilt  # errors in the file itself are reported without this import

    return Quilt.of(path, table, text, partial(read_quilt, path, time=time, changes=changes))
