"""Reading the weights that an [adopt] table inherits."""

from __future__ import annotations

from pathlib import Path

from jagged_quilt.foundation.disk_store import MEMORY, ArrayStore
from jagged_quilt.foundation.errors import ShapeError
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.maps.image_limits import ImageLimits
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.quiltfile.schema import AdoptTable
from jagged_quilt.weights.adopt import Adopted, adopt_colours, adopt_index, adopt_masks, adopt_pairs, adopt_splat
from jagged_quilt.weights.weight_map import WeightMap

_BITS = 16  # so that what normalising and antialiasing leave is not rounded twice


def inherit(table: AdoptTable, folder: Path, limits: ImageLimits, room: ArrayStore = MEMORY) -> Adopted:
    """Return the weights by their old names, in 16 bits.

    Parameters
    ----------
    folder : Path
        What the table's files are relative to.
    room : ArrayStore
        Where images and weights lie.

    Raises
    ------
    QuiltError
        If the files do not fit the form, the layers, or each other.
    """
    table.check_keys()
    layers, sums = table.layers, table.sums
    how: Facts = {"bits": _BITS, "limits": limits, "room": room}
    files = [folder / file for file in table.files]
    wanted = {"index": 1, "colours": 1, "pairs": 2, "masks": len(layers) - table.implied_last}.get(table.form)
    if wanted is not None and len(files) != wanted:
        raise ShapeError(f'form = "{table.form}" with {len(layers)} layers needs {wanted} files; got {len(files)}')
    match table.form:
        case "splat":
            return adopt_splat(files, layers, implied_last=table.implied_last, sums=sums, **how)
        case "index":
            return adopt_index(files[0], layers, numbers=table.numbers, **how)
        case "pairs":
            return adopt_pairs(files[0], files[1], layers, sums=sums, **how)
        case "masks":
            last = layers[-1] if table.implied_last else ""
            return adopt_masks(dict(zip(layers, files, strict=False)), implied_last=last, sums=sums, **how)
    if len(table.colours) != len(layers):
        raise ShapeError(f"{len(layers)} layers need as many colours; got {len(table.colours)}")
    return adopt_colours(files[0], dict(zip(layers, table.colours, strict=True)), tolerance=table.tolerance, **how)


def inherited_by(quilt: Quilt) -> Adopted:
    """Return the weights that the [adopt] table of a quilt inherits, by their old names."""
    table = quilt.table.adopt
    assert table is not None
    limits = quilt.table.images
    with quilt.where.at("adopt", "files"):
        room = quilt.loaded.room_for(quilt.folder / "".join(table.files[:1]), limits)
        return inherit(table, quilt.folder, limits, room)


def rehomed(quilt: Quilt, found: Adopted) -> WeightMap:
    """Return inherited weights by the quilt's own layers."""
    with quilt.where.at("adopt", "to"):
        return found.rehomed(quilt.table.adopt.to if quilt.table.adopt else {}, [layer.name for layer in quilt.layers])
