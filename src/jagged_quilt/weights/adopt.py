"""Adopting weights that another tool left: splat sheets, index maps, colour-keyed maps, a grey mask for each layer."""

from __future__ import annotations

import re
import warnings
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import bands
from jagged_quilt.foundation.checks import frozen, known_name, number_in, whole_number_in
from jagged_quilt.foundation.disk_store import MEMORY, ArrayStore
from jagged_quilt.foundation.errors import ImageError, QuiltWarning, RangeError, ShapeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.maps.image_limits import LIMITS, ImageLimits
from jagged_quilt.masks.image_mask import fractions
from jagged_quilt.weights.settings import IMPLIED_LAST, MOST_KEPT, NORMALISE, TOLERANCE
from jagged_quilt.weights.settle import RawWeights, SumReport, settled, sound
from jagged_quilt.weights.sheets import check_sizes, checked_sheet, is_grey, palette_numbers, read_sheet, step_of
from jagged_quilt.weights.weight_map import WeightMap, index_type, storage, unit_of

_kernels = kernels_of("jagged_quilt.weights._kernels")
_splat_kernels = kernels_of("jagged_quilt.weights._splat_kernels")

_AT_ONCE = 1 << 22  # texels
MOST_TOLERANCE = 64  # of 255


@dataclass(frozen=True, slots=True, eq=False)
class Adopted:
    """Weights as they were found, with their old names, how well they summed, and where such large arrays lie."""

    __repr__ = short_repr

    weights: WeightMap
    sums: SumReport
    room: ArrayStore = MEMORY

    def rehomed(self, to: Mapping[str, str], layers: Sequence[str]) -> WeightMap:
        """Return the weights by new layers.

        Parameters
        ----------
        to : mapping
            From each old name to a new layer; several may share one. An old name that is a new one too may be left out.
        layers : sequence of str
            The new layers.

        Raises
        ------
        NameNotFoundError
            If a name on either side is not known, or an old layer that shows anywhere has no home.
        """
        old = self.weights
        for name, home in to.items():
            known_name("layer in the adopted files", name, old.names)
            known_name("layer", home, layers)
        shares = old.shares()
        homes = {name: to.get(name, name) for name in old.names}
        for name, home in homes.items():
            if name not in to and shares[name] > 0:
                known_name(f'home of the old layer "{name}"', home, layers)
        used = [name for name in layers if name in homes.values()]
        home_of = np.array([used.index(home) if home in used else 0 for home in homes.values()], np.int64)
        keep = old.layers.shape[2]
        index = self.room.empty(old.layers.shape, index_type(len(used)))
        stored = self.room.empty(old.weights.shape, old.weights.dtype)
        _splat_kernels.rehome(
            old.layers.reshape(-1, keep),
            old.weights.reshape(-1, keep),
            home_of,
            index.reshape(-1, keep),
            stored.reshape(-1, keep),
        )
        return replace(old, names=tuple(used), layers=index, weights=stored)


def adopt_splat(
    files: Sequence[Path | str | Stored] | Stored,
    layers: Sequence[str],
    *,
    implied_last: bool = IMPLIED_LAST,
    sums: str = NORMALISE,
    keep: int = MOST_KEPT,
    bits: int = 8,
    limits: ImageLimits = LIMITS,
    room: ArrayStore = MEMORY,
) -> Adopted:
    """Adopt splat sheets: a layer in each channel, over as many files as there are.

    Parameters
    ----------
    files : sequence of paths or of arrays (H, W, C), or one array
        Of whole numbers or floats.
    layers : sequence of str
        In the order of the channels: red, green, blue and alpha of the first file, and so on. Channels beyond the last layer
        must be empty (or an alpha that is full everywhere).
    implied_last : bool
        The last layer has no channel: it is 1 minus the rest.
    sums : str
        What to do where weights do not sum to 1 within rounding: "normalise", "refuse", or the name of the layer that takes
        what is missing (what is too much is normalised).
    keep : int
        How many layers a texel keeps, 1 - 16.
    bits : 8 or 16
    room : ArrayStore
        Where images and weights lie: in memory, or on a `DiskStore` if they are more than can be held.

    Raises
    ------
    ImageError, ShapeError, RangeError
        If files cannot be read, differ in size, hold more or fewer channels than layers, or sums are to be refused.

    Examples
    --------
    >>> jq.adopt.splat(["splat.png"], ["clay", "salt", "gypsum", "brine"]).weights
    <WeightMap 8 x 8 texels, 4 of 4 layers at each: clay, salt, gypsum, brine>
    """
    _check_layers(layers)
    given = [files] if isinstance(files, np.ndarray | str | Path) else list(files)
    names = [Path(f"array {n}") if isinstance(each, np.ndarray) else Path(each) for n, each in enumerate(given)]
    images = [
        checked_sheet(str(name), each) if isinstance(each, np.ndarray) else read_sheet(name, limits, room)
        for name, each in zip(names, given, strict=True)
    ]
    if not images:
        raise ShapeError("there is no splat sheet to adopt; name at least one file")
    check_sizes(names, images)
    channels = [(name, image, c) for name, image in zip(names, images, strict=True) for c in range(image.shape[2])]
    wanted = len(layers) - implied_last
    if len(channels) < wanted:
        raise ShapeError(
            f"{len(layers)} layers need {wanted} channels; {', '.join(map(str, names))} hold {len(channels)}"
            + ("" if implied_last else " (implied_last = true if the last layer is 1 minus the rest)")
        )
    for file, image, c in channels[wanted:]:
        plane = image[..., c]
        low, high = plane.min(), plane.max()
        opaque = c == image.shape[2] - 1 and image.shape[2] in (2, 4) and low == high > 0
        if high > 0 and not opaque:
            raise ShapeError(
                f"{file}: channel {'RGBA'[c]} holds weights, and no layer is named for it; name {wanted + 1} or more"
            )

    def raw(rows: slice) -> NDArray[np.float32]:
        planes = [fractions(image[rows, :, c]).ravel() for _, image, c in channels[:wanted]]
        if implied_last:
            planes.append(np.maximum(0, 1 - np.sum(planes, axis=0), dtype=np.float32))
        return np.stack(planes)

    step = max(step_of(image) for image in images)
    return Adopted(
        *settled(RawWeights(raw, images[0].shape[:2], layers, step, str(names[0])), sums, keep=keep, bits=bits, room=room), room
    )


def adopt_masks(
    files: Mapping[str, Path | str],
    *,
    implied_last: str = "",
    sums: str = NORMALISE,
    keep: int = MOST_KEPT,
    bits: int = 8,
    limits: ImageLimits = LIMITS,
    room: ArrayStore = MEMORY,
) -> Adopted:
    """Adopt one grey mask for each layer; `implied_last` names one more that is 1 minus the rest. Else as `adopt_splat`.

    Examples
    --------
    >>> jq.adopt.masks({"salt": "mask.png"}, implied_last="clay").weights
    <WeightMap 8 x 8 texels, 2 of 2 layers at each: salt, clay>
    """
    _check_layers([*files])
    paths = [Path(file) for file in files.values()]
    images = [read_sheet(path, limits, room) for path in paths]
    check_sizes(paths, images)
    for path, image in zip(paths, images, strict=True):
        colour = image[..., : image.shape[2] - 1] if image.shape[2] in (2, 4) else image
        if not is_grey(colour):
            raise ImageError(f"{path}: has colour; a mask for one layer is grey (for a layer in each channel say splat)")
    names = [*files, implied_last] if implied_last else [*files]

    def raw(rows: slice) -> NDArray[np.float32]:
        planes = [fractions(image[rows, :, 0]).ravel() for image in images]
        if implied_last:
            planes.append(np.maximum(0, 1 - np.sum(planes, axis=0), dtype=np.float32))
        return np.stack(planes)

    step = max(map(step_of, images))
    return Adopted(
        *settled(RawWeights(raw, images[0].shape[:2], names, step, str(paths[0])), sums, keep=keep, bits=bits, room=room), room
    )


def adopt_index(
    file: Path | str,
    layers: Sequence[str],
    *,
    numbers: Sequence[int] = (),
    bits: int = 8,
    limits: ImageLimits = LIMITS,
    room: ArrayStore = MEMORY,
) -> Adopted:
    """Adopt an index map: the number of one layer at each texel; of an image with a palette, that of the palette's colour.

    Parameters
    ----------
    numbers : sequence of int
        The number of each layer in the file; 0, 1, 2 ... where it is not given.

    Raises
    ------
    ImageError, RangeError
        If the file has colour, is not of whole numbers, or holds a number that no layer has.

    Examples
    --------
    >>> jq.adopt.index("index.png", ["clay", "salt", "brine"]).weights
    <WeightMap 8 x 8 texels, 1 of 3 layers at each: clay, salt, brine>
    """
    _check_layers(layers)
    file = Path(file)
    palette = palette_numbers(file)
    stored = read_sheet(file, limits, room) if palette is None else palette
    if stored.dtype.kind != "u" or not is_grey(stored[..., : 3 if stored.shape[2] > 2 else 1]):
        raise ImageError(
            f"{file}: an index map is grey, of whole numbers, or has a palette; this image has colour or is float (adopt it by "
            "its colours)"
        )
    grey = stored[..., 0]
    given = list(numbers) or list(range(len(layers)))
    if len(given) != len(layers) or len(set(given)) < len(given):
        raise RangeError(f"{len(layers)} layers need {len(layers)} numbers, each once; got {given}")
    home = np.full(int(np.iinfo(grey.dtype).max) + 1, -1, np.int64)
    for index, number in enumerate(given):
        home[whole_number_in("index", number, 0, len(home) - 1)] = index
    which = room.empty((*grey.shape, 1), index_type(len(layers)))
    homeless, first = 0, (0, 0)
    for band in bands(grey.shape, _AT_ONCE):
        own = home[grey[band.top : band.bottom]]
        which[band.top : band.bottom, :, 0] = np.maximum(own, 0)
        if (bad := own < 0).any():
            row, column = (int(i) for i in np.argwhere(bad)[0])
            first = first if homeless else (band.top + row, column)
            homeless += int(bad.sum())
    if homeless:
        row, column = first
        raise RangeError(
            f"{file}: index {int(grey[row, column])} at row {row}, column {column} is none of the {len(layers)} "
            f"layers, which have {_span(given)}; {homeless} texels are like that"
        )
    full = room.empty(which.shape, storage(unit_of(bits)))
    full[...] = unit_of(bits)
    return Adopted(WeightMap(names=tuple(layers), layers=which, weights=full), sound(grey.size), room)


def adopt_colours(
    file: Path | str,
    colours: Mapping[str, str],
    *,
    tolerance: float = TOLERANCE,
    bits: int = 8,
    limits: ImageLimits = LIMITS,
    room: ArrayStore = MEMORY,
) -> Adopted:
    """Adopt a colour-keyed map: a colour for each layer, antialiased edges and all.

    Two neighbours that have exactly a colour of the key are that layer. An edge is a mixture of the two regions on its sides,
    even where one of its texels has the colour of a third layer; how many do is reported by a `QuiltWarning`.

    Parameters
    ----------
    colours : mapping
        From layers to colours as "#rrggbb", as stored in the file.
    tolerance : float
        How far a texel may be off its colour, or off a mixture of two, in 255ths of a channel.

    Raises
    ------
    ImageError, RangeError
        If two layers share a colour within the tolerance, or a texel is neither a colour of the key nor a mixture of those
        around it.

    Examples
    --------
    >>> jq.adopt.colours("keys.png", {"clay": "#ff0000", "brine": "#0000ff"}).weights
    <WeightMap 8 x 8 texels, 2 of 2 layers at each: clay, brine>
    """
    _check_layers([*colours])
    file = Path(file)
    off_by = np.float32(number_in("tolerance", tolerance, 0, MOST_TOLERANCE) / 255 + 1e-6)
    keys = np.array([_colour(name, text) for name, text in colours.items()], np.float32)
    for one in range(len(keys)):
        for two in range(one):
            if np.abs(keys[one] - keys[two]).max() <= off_by:
                names = list(colours)
                raise RangeError(f'the colours of "{names[two]}" and "{names[one]}" are alike within the tolerance')
    image = read_sheet(file, limits, room)
    size = image.shape[:2]
    layers = room.empty((*size, 3), index_type(len(colours)))
    shares = room.empty((*size, 3), storage(unit_of(bits)))
    strangers: list[_Strangers] = []
    exact = 0
    for band in bands(size, _AT_ONCE):
        first = max(0, band.top - _splat_kernels.MARGIN)
        around, own = image[first : band.bottom + _splat_kernels.MARGIN], slice(band.top - first, band.bottom - first)
        texels = fractions(around if around.shape[2] > 2 else np.repeat(around[..., :1], 3, axis=2))[..., :3]
        which, share, off, mixed = (each[own] for each in _unmixed(np.ascontiguousarray(texels), keys, off_by))
        exact += int(mixed.sum())
        if (bad := off > off_by).any():
            row, column = (int(i) for i in np.argwhere(bad)[0])
            lonely = np.abs(texels[own][bad][:, None] - keys).max(axis=2).min(axis=1)  # where nothing around it is in the key
            strangers.append(_Strangers(band.top + row, column, texels[own][row, column], np.minimum(off[bad], lonely)))
        layers[band.top : band.bottom] = which
        _kernels.quantise(
            frozen(share, np.float32).reshape(-1, 3), shares[band.top : band.bottom].reshape(-1, 3), unit_of(bits)
        )
    if strangers:
        found, away = strangers[0], np.concatenate([each.off for each in strangers])
        seen = "#" + "".join(f"{round(float(part) * 255):02x}" for part in found.colour)
        raise RangeError(
            f"{file}: the colour {seen} at row {found.row}, column {found.column} is not in the key, nor between two colours "
            f"around it; {_tolerance_words(away * 255, keys)}"
        )
    if exact:
        warnings.warn(
            f"{file}: {exact} texels on edges between two layers have exactly the colour of a third; read as edges, since none "
            "of their neighbours has it too",
            QuiltWarning,
            stacklevel=3,
        )
    weights = WeightMap(names=tuple(colours), layers=layers, weights=shares)
    return Adopted(weights, sound(size[0] * size[1]), room)


def adopt_pairs(
    numbers: Path | str,
    weights: Path | str,
    layers: Sequence[str],
    *,
    sums: str = NORMALISE,
    bits: int = 8,
    limits: ImageLimits = LIMITS,
    room: ArrayStore = MEMORY,
) -> Adopted:
    """Adopt index and weight pairs: up to four layer numbers in one image, and the weight of each in another.

    Examples
    --------
    >>> weights = jq.weigh(ground.canvas(32), layers, keep=2)
    >>> paths = jq.export.write_pairs(weights, "pairs")
    >>> jq.adopt.pairs(paths[0], paths[1], ["clay", "salt"]).weights
    <WeightMap 32 x 32 texels, 2 of 2 layers at each: clay, salt>
    """
    _check_layers(layers)
    files = [Path(numbers), Path(weights)]
    which, shares = (read_sheet(file, limits, room) for file in files)
    check_sizes(files, [which, shares])
    if which.shape != shares.shape or which.dtype.kind != "u":
        raise ShapeError(
            f"{files[0]} and {files[1]}: numbers and weights must have the same channels; got "
            f"{which.shape[2]} and {shares.shape[2]}"
        )
    for band in bands(which.shape[:2], _AT_ONCE):
        rows = slice(band.top, band.bottom)
        if (bad := (which[rows] >= len(layers)) & (shares[rows] > 0)).any():
            row, column, channel = (int(i) for i in np.argwhere(bad)[0])
            raise RangeError(
                f"{files[0]}: index {int(which[band.top + row, column, channel])} at row {band.top + row}, column {column} is "
                f"above the last of {len(layers)} layers"
            )

    def raw(rows: slice) -> NDArray[np.float32]:
        part, width = which[rows], which.shape[1]
        out = np.zeros((len(layers), part.shape[0] * width), np.float32)
        values = fractions(shares[rows]).reshape(-1, which.shape[2])
        _kernels.scatter(part.reshape(-1, which.shape[2]), values, np.arange(len(layers), dtype=np.int32), out)
        return out

    keep = min(MOST_KEPT, which.shape[2])
    return Adopted(
        *settled(
            RawWeights(raw, which.shape[:2], layers, step_of(shares), str(files[1])), sums, keep=keep, bits=bits, room=room
        ),
        room,
    )


def _tolerance_words(off: NDArray[np.float32], keys: NDArray[np.float32]) -> str:
    """What would have to be said so that texels that lie off the key, in 255ths, are taken."""
    count, farthest = len(off), float(off.max())
    message = f"{count:,} texel{'s' * (count > 1)} lie{'s' * (count == 1)} up to {farthest:.1f} away"
    apart = (
        min(float(np.abs(one - two).max()) for index, one in enumerate(keys) for two in keys[:index]) * 255
        if len(keys) > 1
        else 255
    )
    needed = int(np.ceil(round(farthest, 3)))
    if needed < min(apart, MOST_TOLERANCE):
        return f"{message}; tolerance = {needed} takes them, or name their layer"
    return f"{message}, farther than key colours lie apart; name their layer"


class _Strangers(NamedTuple):
    """Texels that are not in the key: where the first one lies, its colour, and how far off all are."""

    row: int
    column: int
    colour: NDArray[np.float32]
    off: NDArray[np.float32]


def _unmixed(
    texels: NDArray[np.float32], keys: NDArray[np.float32], off_by: np.float32
) -> tuple[NDArray[np.int64], NDArray[np.float32], NDArray[np.float32], NDArray[np.bool_]]:
    """Which colours of the key each texel mixes, their shares, how far off that is, and which have a colour of the key."""
    size = texels.shape[:2]
    label, inside = np.empty(size, np.int64), np.zeros(size, np.bool_)
    _splat_kernels.nearest_key(texels, keys, off_by, label)
    _splat_kernels.solid(label, inside)
    which, share, off = np.empty((*size, 3), np.int64), np.empty((*size, 3), np.float32), np.empty(size, np.float32)
    mixtures = _splat_kernels.Mixtures(which, share, off, np.zeros(size, np.bool_))
    _splat_kernels.unmix(texels, keys, label, inside, off_by, np.empty(8, np.int64), mixtures)
    return which, share, off, mixtures.mixed


def _check_layers(layers: Sequence[str]) -> None:
    if not layers:
        raise ShapeError("there is no layer to adopt; name at least one")
    if twice := [name for index, name in enumerate(layers) if name in layers[:index]]:
        raise RangeError(f'two old layers are called "{twice[0]}"; give one of them another name')


def _colour(name: str, text: str) -> tuple[float, ...]:
    if not re.fullmatch("#?[0-9a-fA-F]{6}", text):
        raise RangeError(f'the colour of "{name}" must be written "#rrggbb"; got {text!r}')
    return tuple(each / 255 for each in bytes.fromhex(text.removeprefix("#")))


def _span(numbers: Sequence[int]) -> str:
    ordered = sorted(numbers)
    return f"{ordered[0]} to {ordered[-1]}" if ordered == list(range(ordered[0], ordered[-1] + 1)) else str(ordered)
