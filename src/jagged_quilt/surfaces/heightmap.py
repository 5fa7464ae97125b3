"""Reading heightmaps: grey images of any depth, heights packed into red, green and blue, raw 16-bit samples."""

from __future__ import annotations

import math
import warnings
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.canvas import bands
from jagged_quilt.foundation.checks import number_in, whole_number_in
from jagged_quilt.foundation.choices import Choice
from jagged_quilt.foundation.disk_store import mapped
from jagged_quilt.foundation.errors import FileError, ImageError, QuiltWarning, RangeError, ShapeError
from jagged_quilt.foundation.files import read_bytes
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.reading import reads
from jagged_quilt.maps.gaps import filled
from jagged_quilt.maps.image_files import NumberFacts, image_bands, image_size, number_facts, read_numbers
from jagged_quilt.maps.image_limits import LIMITS, ImageLimits
from jagged_quilt.maps.image_reader import Image
from jagged_quilt.maps.stairs import stairs_in, without_stairs
from jagged_quilt.maps.texture_map import grey_of

_AT_ONCE = 1 << 22  # samples
_FEW_LEVELS = 257  # of 8 bits, wherever they are stored
_MANY_SAMPLES = 1024
_LOWEST_STEP = 32  # of 65536: lower ones do not show
_TREADS = 0.3  # share of neighbours that are alike
_SHARE_ON_STAIRS = 0.05  # of the heights, from which they are reported
_DIGITS = 3.0  # times as fast as the first digits of a number the last ones change
_TRIED_SAMPLES = 1 << 16  # of a raw file, by which its width is judged
_NARROWEST = 8  # samples to a row
_JUMPS = 3.0  # times as much as with another width
_SEAM = 8.0  # times as much as between other columns
_RESTLESS = 8.0  # of 255, from sample to sample


class HeightForm(Choice):
    """How a file holds heights."""

    GREY = "grey"
    """A grey image: 8 or 16 bits from black to white, or floats."""
    RGB24 = "rgb24"
    """An image of 8 bits a channel: red counts most, then green, then blue."""
    RAW16 = "raw16"
    """Nothing but samples of 16 bits, row by row; without a sign unless `signed` is set."""


class ByteOrder(Choice):
    """Which byte of a raw sample comes first: the one that counts least, or most."""

    LITTLE = "little"
    BIG = "big"


@dataclass(frozen=True, kw_only=True)
class HeightStorage:
    """How a file holds heights.

    Attributes
    ----------
    form : "grey", "rgb24" or "raw16"
    channel : str
        Which channel of an image holds them, "r", "g", "b", "a" or by its name; where it is empty, an image must be grey.
    nothing : float or None
        The stored number that means "nothing here", beside what the file itself says and NaN: filled from around,
        with a warning.
    samples : (int, int) or None
        Of a raw file: how many from west to east, and from north to south.
    byte_order : "little" or "big"
        Of a raw file.
    signed : bool
        Whether the samples of a raw file have a sign.
    smooth : bool
        Take the stairs out of heights of few levels, moving none by more than half a step.

    Raises
    ------
    RangeError
        If something is given that a file of this form knows itself.
    """

    form: HeightForm = HeightForm.GREY
    channel: str = ""
    nothing: float | None = None
    samples: tuple[int, int] | None = None
    byte_order: ByteOrder = ByteOrder.LITTLE
    signed: bool = False
    smooth: bool = False

    def __post_init__(self) -> None:
        form = HeightForm.of(self.form, "form of heightmap")
        object.__setattr__(self, "form", form)
        object.__setattr__(self, "byte_order", ByteOrder.of(self.byte_order, "byte order"))
        if form is not HeightForm.RAW16 and self.samples is not None:
            raise RangeError(f'samples are said of raw files; an image knows its own (form = "{form}")')
        if form is not HeightForm.RAW16 and self.signed:
            raise RangeError(
                f'signed applies to raw files; other files know whether their numbers have a sign (form = "{form}")'
            )
        if form is not HeightForm.GREY and self.channel:
            raise RangeError(f'channel is said of images of one number a sample; form = "{form}" has its own')


@reads("heightmap", watched=True)
def read_heightmap(
    path: Path | str,
    heights: tuple[float, float] | None = None,
    *,
    storage: HeightStorage = HeightStorage(),
    limits: ImageLimits = LIMITS,
) -> NDArray[np.float32]:
    """Return heights in metres, (R, C) float32, row 0 north.

    Parameters
    ----------
    heights : (float, float), optional
        Metres at the smallest and at the largest number that can be stored (0.0 and 1.0 in a float file). May be left out
        for a file whose numbers are metres: floats, integers with a sign, of 32 bits, or a TIFF that says its scale and offset.
    storage : HeightStorage
        How the file holds them.
    limits : ImageLimits
        The largest image that is decoded.

    Raises
    ------
    FileError, ImageError, RangeError
        If the file cannot be read, does not fit its form, or heights are missing or upside down.
    """
    path, kind = Path(path), storage.form
    if kind is HeightForm.RAW16:
        stored, own = _read_raw(path, storage), NumberFacts()
    elif path.suffix.lower() == ".npy":
        stored, own = _read_array(path, kind), NumberFacts()
    else:
        image, own = read_numbers(path, limits)
        stored = _samples_in(path, image, kind, storage.channel)
    missing = _missing(stored, storage.nothing, own.nothing)
    metres, per_step = _in_metres(path, stored, _top(kind), heights, own)
    _note_scale(path, stored, heights, own)
    step = 0.0 if missing.any() else _stair(stored) * per_step
    if missing.any():
        metres = _filled(path, metres, missing)
    if step and storage.smooth:
        return without_stairs(metres, step=step, wraps=False)
    if step and (share := stairs_in(metres, step=step, wraps=False)) >= _SHARE_ON_STAIRS:
        warnings.warn(
            f"{path}: {100 * share:.0f} % of the heights lie on stairs of {step:.3g} m, as 8 bits leave them; use 16 bits or "
            "float, or smooth = true",
            QuiltWarning,
            stacklevel=3,
        )
    return metres


def _top(kind: HeightForm) -> int | None:
    """The largest number that a file of a form can hold, where its type does not say."""
    return (1 << 24) - 1 if kind is HeightForm.RGB24 else None


def _note_scale(path: Path, stored: Stored, heights: tuple[float, float] | None, own: NumberFacts) -> None:
    """Warn where heights are given beside what the file itself says of its numbers."""
    if heights is not None and own.is_scaled:
        low, high = (own.scale * float(each) + own.offset for each in (np.nanmin(stored), np.nanmax(stored)))
        warnings.warn(
            f"{path}: the file gives its own scale {own.scale:g} and offset {own.offset:g} ({low:.6g} to {high:.6g} m); "
            f"heights = {list(heights)} is used instead: leave heights out to use the file's",
            QuiltWarning,
            stacklevel=4,
        )


def _in_metres(
    path: Path, stored: Stored, top: int | None, heights: tuple[float, float] | None, own: NumberFacts
) -> tuple[NDArray[np.float32], float]:
    """Heights in metres, and how many of those one step of what is stored is."""
    if heights is None and own.is_scaled:
        with np.errstate(invalid="ignore", over="ignore"):
            return (stored.astype(np.float64) * own.scale + own.offset).astype(np.float32), abs(own.scale)
    if heights is None:
        if stored.dtype.kind == "u" and stored.dtype.itemsize < 4:
            raise RangeError(
                f"{path}: heights are needed, metres at black and at white (only numbers that are metres already, floats, with "
                "a sign or of 32 bits, go without)"
            )
        return stored.astype(np.float32), 1.0
    low, high = (number_in("heights", h, unit="m") for h in heights)
    if not low < high:
        raise RangeError(f"heights must be the lower one first: metres at black, metres at white; got {[low, high]}")
    kind = stored.dtype
    least, most = (0.0, 1.0) if kind.kind == "f" else (float(np.iinfo(kind).min), float(np.iinfo(kind).max))
    per_step = (high - low) / ((most if top is None else top) - least)
    with np.errstate(invalid="ignore", over="ignore"):
        return (low + per_step * (stored.astype(np.float64) - least)).astype(np.float32), per_step


def _missing(stored: Stored, nothing: float | None, own: float | None) -> NDArray[np.bool_]:
    """Where nothing is known: what is no number, what the file calls so, and what is called so outright."""
    missing = ~np.isfinite(stored) if stored.dtype.kind == "f" else np.zeros(stored.shape, bool)
    for value in (nothing, own):
        if value is not None and np.isfinite(value):
            missing |= stored == (np.float32(value) if stored.dtype == np.float32 else value)
    return missing


def _filled(path: Path, metres: NDArray[np.float32], missing: NDArray[np.bool_]) -> NDArray[np.float32]:
    """Heights with what is missing filled from around it, which is reported."""
    if missing.all():
        raise RangeError(f"{path}: holds nothing but samples that mean nothing")
    warnings.warn(
        f"{path}: {missing.sum():,} of {missing.size:,} samples ({100 * missing.mean():.3g} %) mean nothing; filled smoothly "
        "from around",
        QuiltWarning,
        stacklevel=4,
    )
    return filled(metres, missing)


@reads("heightmap", watched=True)
def size_of_heightmap(path: Path, storage: HeightStorage, limits: ImageLimits = LIMITS) -> tuple[int, int]:
    """Return how many rows and columns of samples a file holds, by its head; raise `QuiltError` as `read_heightmap` does."""
    if storage.form is HeightForm.RAW16:
        rows, columns = _map_raw(path, storage).shape
    elif path.suffix.lower() == ".npy":
        rows, columns = _read_array(path, storage.form).shape
    else:
        rows, columns = image_size(path, limits)
    return rows, columns


def heights_in_bands(
    path: Path | str,
    heights: tuple[float, float] | None = None,
    *,
    storage: HeightStorage = HeightStorage(),
    limits: ImageLimits = LIMITS,
) -> Iterator[tuple[int, NDArray[np.float32]]]:
    """Give the heights of a file that need not fit in memory, in bands of rows, each with the number of its first.

    The same as `read_heightmap` returns; what needs the whole is refused: samples that mean nothing are not filled from
    around, and stairs are not taken out.
    """
    path, kind = Path(path), storage.form
    own = NumberFacts()
    if storage.smooth:
        raise RangeError(
            f"{path}: smooth needs heights that are held as a whole; smooth the file first, or cut it into several"
        )
    if kind is HeightForm.RAW16:
        whole = _map_raw(path, storage)
        _note_width(path, whole)
        pieces = ((band.top, whole[band.top : band.bottom]) for band in bands(whole.shape, _AT_ONCE))
    elif path.suffix.lower() == ".npy":
        array = _read_array(path, kind)
        pieces = ((band.top, array[band.top : band.bottom]) for band in bands(array.shape, _AT_ONCE))
    else:
        own = number_facts(path)
        pieces = ((top, _samples_in(path, image, kind, storage.channel)) for top, image in image_bands(path, limits))
    for top, stored in pieces:
        if (missing := _missing(stored, storage.nothing, own.nothing)).any():
            raise RangeError(
                f"{path}: {missing.sum():,} samples of the rows {top} to {top + len(stored) - 1} mean nothing, and to fill "
                "them the file must be held as a whole; fill them first, or cut the file into several (terrain = [[…]])"
            )
        yield top, _in_metres(path, stored, _top(kind), heights, own)[0]


def _read_array(path: Path, kind: HeightForm) -> Stored:
    """The numbers of a .npy file, mapped, (R, C)."""
    array = mapped(path)
    if kind is not HeightForm.GREY:
        raise RangeError(f'{path}: an array holds one number a sample; form = "{kind}" is of other files')
    if array.ndim != 2 or array.dtype.kind not in "uif":
        raise ShapeError(f"{path}: heights must be an array (rows, columns) of numbers; this is {array.shape} of {array.dtype}")
    return array


def _samples_in(path: Path, image: Image, kind: HeightForm, channel: str) -> Stored:
    """Return the samples of an image, (R, C)."""
    texels = image.texels
    if channel:
        names = [name.lower() for name in image.channels]
        index = 0 if len(names) <= 2 and channel.lower() in ("r", "g", "b") else None
        if index is None and channel.lower() not in names:
            raise ImageError(f'{path}: has no channel "{channel}"; it holds {", ".join(image.channels)}')
        return texels[..., names.index(channel.lower()) if index is None else index]
    if kind is HeightForm.RGB24:
        if texels.dtype != np.uint8 or texels.shape[2] < 3:
            raise ImageError(
                f"{path}: heights of 24 bits need red, green and blue of 8 bits each; this image has "
                f"{texels.shape[2]} channels of {8 * texels.itemsize} bits"
            )
        return _packed(texels)
    if texels.shape[2] in (2, 4):
        texels = texels[..., :-1]
    one = texels if texels.shape[2] == 1 else grey_of(texels) if texels.shape[2] == 3 else None
    if one is None:
        raise ImageError(f"{path}: {_coloured_words(texels)}")
    with np.errstate(invalid="ignore"):
        apart = float(np.nanmax(texels.max(axis=2) - texels.min(axis=2))) if texels.shape[2] > 1 else 0.0
    if apart > 0:
        whole = float(np.iinfo(texels.dtype).max) if texels.dtype.kind == "u" else 1.0
        warnings.warn(
            f"{path}: its red, green and blue differ by up to {255 * apart / whole:.0f} of 255; their mean is taken",
            QuiltWarning,
            stacklevel=3,
        )
    return one[..., 0]


def _packed(texels: Stored) -> NDArray[np.uint32]:
    red, green, blue = (texels[..., c].astype(np.uint32) for c in range(3))
    return (red << 16) + (green << 8) + blue


def _coloured_words(texels: Stored) -> str:
    """What a coloured file is, by measuring: a number over three channels, or a picture; and what would be right for it."""
    if texels.shape[2] != 3:
        return f'holds {texels.shape[2]} channels; say which of them are heights with channel = "…"'
    apart = texels.max(axis=2).astype(float) - texels.min(axis=2)
    whole = float(np.iinfo(texels.dtype).max) if texels.dtype.kind in "iu" else 1.0
    message = f"a heightmap must be grey; red, green and blue differ by up to {255 * apart.max() / whole:.0f} of 255 here"
    if texels.dtype == np.uint8:
        red, green, blue = (np.abs(np.diff(texels[..., c].astype(float), axis=1)).mean() for c in range(3))
        if max(green, blue) > max(_DIGITS * red, _RESTLESS):
            return (
                f"{message}; from sample to sample red changes by {red:.2g}, green by {green:.2g} and blue by {blue:.2g} of "
                '255, as the digits of one number do: heights of 24 bits; write form = "rgb24"'
            )
    return f'{message}, as in a picture of the ground and not of its heights; if one channel holds them, write channel = "r"'


def _map_raw(path: Path, storage: HeightStorage) -> Stored:
    """The samples of a raw file as they lie, mapped, (R, C)."""
    try:
        size = path.stat().st_size
    except OSError:
        size = len(read_bytes(path, "heightmap"))  # which tells why not
    side = math.isqrt(size // 2)
    fits = f"; it would hold {side} x {side}" if side * side * 2 == size else ""
    if storage.samples is None:
        raise RangeError(f"{path}: a raw file does not tell its size; say how many samples east and south{fits}")
    across, down = (whole_number_in("samples", number, 2, 1 << 17) for number in storage.samples)
    if across * down * 2 != size:
        raise FileError(
            f"{path}: {across} x {down} samples of 16 bits are {across * down * 2} bytes; this file has {size}{fits}"
        )
    kind = ("<" if storage.byte_order is ByteOrder.LITTLE else ">") + ("i2" if storage.signed else "u2")
    try:
        return np.asarray(np.memmap(path, kind, "r", shape=(down, across)))
    except OSError as error:
        raise FileError(f"{path}: the heightmap cannot be read: {error.strerror or error}") from error


def _read_raw(path: Path, storage: HeightStorage) -> Stored:
    given = _map_raw(path, storage)
    if 8 * _unrest(given.byteswap()) < _unrest(given):
        other = "big" if storage.byte_order is ByteOrder.LITTLE else "little"
        warnings.warn(
            f'{path}: looks as if its bytes stood the other way round; try byte_order = "{other}"', QuiltWarning, stacklevel=4
        )
    else:
        _note_width(path, given)
        other_sign = given.view(given.dtype.str.replace("i" if storage.signed else "u", "u" if storage.signed else "i"))
        if 8 * _unrest(other_sign) < _unrest(given):
            warnings.warn(
                f"{path}: neighbouring samples jump from the lowest number to the highest; try signed = "
                f"{str(not storage.signed).lower()}",
                QuiltWarning,
                stacklevel=4,
            )
    return given.astype(np.int16 if storage.signed else np.uint16)


def _note_width(path: Path, given: Stored) -> None:
    """Warn where rows of another length would make a smoother ground: the samples of a raw file say nothing of its width."""
    across = given.shape[1]
    flat = given.reshape(-1)
    near = np.linspace(0, flat.size - 1, min(flat.size, _TRIED_SAMPLES)).astype(np.int64)
    some = flat[near].astype(np.float32)

    def jump(width: int) -> float:
        """How much a sample differs from that one row below, on average, were rows so long."""
        has_row_below = near + width < flat.size
        below = flat[near[has_row_below] + width].astype(np.float32)
        return float(np.abs(below - some[has_row_below]).mean())

    own, width = jump(across), across
    fitting = [each for each in _divisors(flat.size) if _NARROWEST <= each <= flat.size // _NARROWEST]
    if fitting:
        width = min(fitting, key=jump)
    joins = np.abs(np.diff(given[:: max(1, given.size >> 22)].astype(np.float32), axis=1)).mean(axis=0)
    worst = int(joins.argmax())
    if width != across and own > _JUMPS * jump(width):
        reason = f"a sample differs from the one below by {own:.3g} on average, and by {jump(width):.3g}"
    elif across % (worst + 1) == 0 and joins[worst] > _SEAM * max(float(np.median(joins)), 0.5):
        width = worst + 1
        reason = f"every row jumps by {joins[worst]:.3g} between columns {worst} and {worst + 1}, and by none"
    else:
        return
    warnings.warn(
        f"{path}: with {across} samples to a row {reason} with {width}; the width looks wrong: try samples = "
        f"[{width}, {flat.size // width}]",
        QuiltWarning,
        stacklevel=5,
    )


def _divisors(number: int) -> list[int]:
    low = [each for each in range(1, math.isqrt(number) + 1) if number % each == 0]
    return sorted({*low, *(number // each for each in low)})


def _unrest(samples: Stored) -> float:
    """How much neighbours differ, on average."""
    return float(np.abs(np.diff(samples.astype(np.float32), axis=1)).mean())


def _stair(stored: Stored) -> float:
    """The step between levels, in the unit of what is stored, where there are no more than 8 bits hold; else 0.

    Deeper files have stairs too if they were made from 8 bits: few levels, evenly apart, and treads between them.
    """
    if stored.dtype == np.uint8:
        return 1.0
    if stored.size < _MANY_SAMPLES or len(np.unique(stored.ravel()[:: max(1, stored.size // 65536)])) > _FEW_LEVELS:
        return 0.0
    levels = np.unique(stored).astype(np.float64)
    if not 2 <= len(levels) <= _FEW_LEVELS:
        return 0.0
    rises = np.diff(levels)
    step = float(np.median(rises[rises < 1.5 * rises.min() + 1e-30]))
    off = 1.0 if stored.dtype.kind != "f" else 1e-3 * step
    is_even = bool((np.abs(rises - np.rint(rises / step) * step) <= off * (1 + rises / step)).all())
    treads = [float((np.diff(stored.astype(np.float64), axis=axis) == 0).mean()) for axis in (0, 1)]
    is_seen = step >= _LOWEST_STEP or stored.dtype.kind == "f"
    return step if is_even and is_seen and max(treads) > _TREADS else 0.0
