"""A sky as an image of high range all around: what is seen of it, what it sheds, its mirror images, and its sun."""

from __future__ import annotations

import math
import threading
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, number_in
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.files import fingerprint
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.light import _rows as k
from jagged_quilt.light.lamps import Sun
from jagged_quilt.light.reflection import half_vectors

_kernels = kernels_of("jagged_quilt.light._sky_kernels")

Texels = NDArray[np.float32]

_SMOOTHED = ((64, 128), (32, 64), (16, 32), (8, 16), (8, 16), (8, 16))
"""Rows and columns of the mirror images, each rougher than the one before; the first is the sky itself."""
_SAMPLES = 128
_ALL = slice(None)
_SMALL = 256  # rows that are enough for harmonics
_KEPT, _ONE_AT_A_TIME = 4, threading.Lock()
_LAID_OUT: dict[str, k.SkyRows] = {}
"""Of the last few skies, by what is in them: it takes a second, and quilt files are read again and again."""
_AROUND = math.radians(4.0)  # how far from its middle a sun may reach
_BRIGHT = 0.2  # of the brightest: what belongs to the sun
_STANDS_OUT = 20  # times the median of the sky: glows and horizons come to 6


@dataclass(frozen=True, slots=True, eq=False)
class SkyImage:
    """Light from all around by an equirectangular image.

    Attributes
    ----------
    texels : (H, 2 H, 3) float32
        Linear light, Rec. 709. The top row is the zenith; the left border looks north, the first quarter ends in the east.
    bearing : float
        Degrees by which it is turned over east.
    exposure : float
        Stops.
    source : Path, optional
        The file that it was read from.
    """

    texels: Texels
    bearing: float = 0.0
    exposure: float = 0.0
    source: Path | None = field(default=None, repr=False)
    _key: str = field(init=False, repr=False)

    def __post_init__(self) -> None:
        number_in("the sky's bearing", self.bearing, -360, 360, "degrees")
        number_in("the sky's exposure", self.exposure, -30, 30, "stops")
        shape = np.shape(self.texels)
        if len(shape) != 3 or shape[2] < 3 or shape[0] < 4 or abs(shape[1] / shape[0] - 2) > 0.02:
            raise ShapeError(f"a sky image is twice as wide as high, of at least 8 x 4 texels of three channels; got {shape}")
        texels = np.asarray(self.texels, np.float32)[..., :3]
        odd = int((~np.isfinite(texels)).any(axis=2).sum())
        if odd:
            raise RangeError(f"a sky image must be numbers; {odd:,} of its texels are infinite or none")
        if texels.min() < 0:
            raise RangeError(f"a sky image must not be below 0; {int((texels < 0).any(axis=2).sum()):,} of its texels are")
        object.__setattr__(self, "texels", frozen(texels, np.float32))
        object.__setattr__(self, "_key", fingerprint(self.texels.tobytes(), f"{shape} {self.bearing} {self.exposure}"))

    def __repr__(self) -> str:
        rows, columns = self.texels.shape[:2]
        return f"<SkyImage {columns} x {rows}, bearing {self.bearing:g}, exposure {self.exposure:g}>"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, SkyImage) and self._key == other._key

    def __hash__(self) -> int:
        return hash(self._key)

    @property
    def is_flat(self) -> bool:
        """Whether nothing in it is brighter than white: then no sun in it lights as a sun does."""
        return bool(self.texels.max() <= 1.0)

    def seen(self, directions: NDArray[np.float32]) -> NDArray[np.float32]:
        """Return its light from directions (N, 3), unit."""
        out = np.empty((len(directions), 3), np.float32)
        _kernels.sky_seen(frozen(directions, np.float32), self.rows, out)
        return out

    @property
    def rows(self) -> k.SkyRows:
        """As the kernel reads it: harmonics, and a mirror image for each of some roughnesses."""
        with _ONE_AT_A_TIME:
            if self._key not in _LAID_OUT:
                if len(_LAID_OUT) >= _KEPT:
                    _LAID_OUT.pop(next(iter(_LAID_OUT)))
                _LAID_OUT[self._key] = self._laid_out()
            return _LAID_OUT[self._key]

    def _laid_out(self) -> k.SkyRows:
        light = self._turned()
        halves = _halved(light)
        small = next((each for each in halves if len(each) <= _SMALL), halves[-1])
        pictures = [light, *_mirror_images(halves)]
        sizes = [each.shape[:2] for each in pictures]
        starts = np.cumsum([0, *(rows * columns for rows, columns in sizes)])[:-1]
        level = np.abs(_ups(len(light))) < math.sin(math.radians(4))
        horizon = light[level].mean(axis=(0, 1)) if level.any() else light.mean(axis=(0, 1))
        return k.SkyRows(
            frozen(light[0].mean(axis=0), np.float32),
            frozen(horizon, np.float32),
            frozen(light[-1].mean(axis=0), np.float32),
            frozen(harmonics_of(small).reshape(-1), np.float32),
            frozen(np.concatenate([each.reshape(-1) for each in pictures]), np.float32),
            frozen([(start, *size) for start, size in zip(starts, sizes, strict=True)], np.int64),
        )

    def _turned(self) -> Texels:
        """Its light as it stands: turned over east, between texels, and as bright as it is exposed."""
        columns = self.texels.shape[1]
        whole, part = divmod(self.bearing / 360 * columns, 1)
        near, far = (np.roll(self.texels, int(whole) + more, axis=1) for more in (0, 1))
        return np.asarray((near + np.float32(part) * (far - near)) * np.float32(2.0**self.exposure), np.float32)

    def find_sun(self) -> tuple[Sun, SkyImage]:
        """Return its sun as a light that casts shadows, and the image without it: as bright there as around it.

        The sun is what stands out around the brightest place: its direction is the middle of that light, its strength the
        light that falls from there on a plate that faces it, its size the disc as large as those texels.

        Raises
        ------
        RangeError
            If nothing stands out above the horizon.
        """
        grey = self.texels @ np.array([0.2126, 0.7152, 0.0722], np.float32)
        above = _ups(len(grey)) > math.sin(math.radians(1))
        row, column = np.unravel_index(np.argmax(np.where(above[:, None], grey, -1)), grey.shape)
        most, usual = grey[row, column], np.median(grey[above])
        reach = math.ceil(2.5 * _AROUND / math.pi * len(grey))
        band = slice(max(int(row) - reach, 0), int(row) + reach + 1)
        light, grey = self.texels[band], grey[band]
        ways, shares = directions_of(self.texels.shape[:2], band), _solid_angles(self.texels.shape[:2], band)
        middle = ways[int(row) - band.start, column]
        for _ in range(4):  # the brightest texel may lie at its edge
            near = ways @ middle > math.cos(_AROUND)
            disc = near & (grey >= _BRIGHT * most)
            middle = np.einsum("hw,hwd->d", grey * disc * shares, ways)
            middle /= np.linalg.norm(middle)
        ring = near & ~disc
        if most < _STANDS_OUT * usual or not ring.any():
            raise RangeError("no sun stands out in the sky image above its horizon; say a [[light]] of its own")
        rest = np.median(light[ring], axis=0)
        more = np.maximum(light - rest, 0) * disc[..., None] * shares[..., None]
        fallen = more.sum(axis=(0, 1)).astype(np.float64)
        bearing = (math.degrees(math.atan2(middle[0], -middle[2])) + self.bearing) % 360
        strength = float(fallen.max())
        size = 2 * math.degrees(math.acos(max(1 - float(shares[disc].sum()) / (2 * math.pi), -1)))
        colour = tuple(float(each) for each in fallen / strength)
        found = Sun(
            bearing,
            max(1.0, math.degrees(math.asin(min(middle[1], 1.0)))),
            (colour[0], colour[1], colour[2]),
            strength * 2.0**self.exposure,
            min(size, 30.0),
        )
        without = self.texels.copy()
        without[band][disc] = np.minimum(light[disc], rest)
        return found, replace(self, texels=without)


def _ups(rows: int) -> NDArray[np.float64]:
    """How far up each row looks, -1..1."""
    return np.cos((np.arange(rows) + 0.5) * math.pi / rows)


def _solid_angles(size: tuple[int, int], band: slice = _ALL) -> NDArray[np.float64]:
    """The solid angle of every texel, (H, W); or of a band of rows."""
    rows, columns = size
    edges = np.cos(np.arange(rows + 1) * math.pi / rows)
    return np.repeat(((edges[:-1] - edges[1:]) * 2 * math.pi / columns)[band, None], columns, axis=1)


def directions_of(size: tuple[int, int], band: slice = _ALL) -> NDArray[np.float64]:
    """Return the unit vectors to the middles of the texels of an equirectangular image, (H, W, 3); or of a band of rows."""
    rows, columns = size
    up = _ups(rows)[band, None]
    level, turn = np.sqrt(1 - up**2), (np.arange(columns) + 0.5) * 2 * math.pi / columns
    return np.stack(np.broadcast_arrays(level * np.sin(turn), up, -level * np.cos(turn)), axis=-1)


def harmonics_of(light: Texels) -> NDArray[np.float64]:
    """Return what a sky sheds as nine spherical harmonics, (9, 3): irradiance / pi (Ramamoorthi and Hanrahan 2001)."""
    x, y, z = np.moveaxis(directions_of(light.shape[:2]), -1, 0)
    one = np.ones_like(x)
    basis = [one, y, z, x, x * y, y * z, 3 * z**2 - 1, x * z, x**2 - y**2]
    scale = np.sqrt(np.array([1 / 4, 3 / 4, 3 / 4, 3 / 4, 15 / 4, 15 / 4, 5 / 16, 15 / 4, 15 / 16]) / math.pi)
    widened = np.array([1, 2 / 3, 2 / 3, 2 / 3, 1 / 4, 1 / 4, 1 / 4, 1 / 4, 1 / 4])
    shares = _solid_angles(light.shape[:2])
    found = np.stack([np.einsum("hw,hwc->c", shares * each, light) for each in basis])
    return np.asarray(found * (scale**2 * widened)[:, None])


def _halved(light: Texels) -> list[Texels]:
    """Return a sky, and the same half as large again and again, down to eight rows."""
    out = [light]
    while min(out[-1].shape[:2]) >= 16 and not any(side % 2 for side in out[-1].shape[:2]):
        large = out[-1]
        out.append(large.reshape(large.shape[0] // 2, 2, large.shape[1] // 2, 2, 3).mean(axis=(1, 3)))
    return out


def _mirror_images(halves: list[Texels]) -> list[Texels]:
    """What rough mirrors show of a sky, where eye, normal and mirror image are one (Karis 2013).

    Samples fall as the GGX lobe has them, and each reads the sky about as wide as its share of the lobe.
    """
    light, out, count = halves[0], [], len(_SMOOTHED)
    starts = np.cumsum([0, *(each.shape[0] * each.shape[1] for each in halves)])[:-1]
    table = np.array([(start, *each.shape[:2]) for start, each in zip(starts, halves, strict=True)], np.int64)
    flat = np.concatenate([each.reshape(-1, 3) for each in halves])
    for step, size in enumerate(_SMOOTHED, 1):
        rough = step / count
        half = half_vectors(np.array([rough]), _SAMPLES)[0]
        ahead = 2 * half[:, 2] ** 2 - 1
        kept = ahead > 0
        half, ahead = half[kept], ahead[kept]
        square = rough**4
        density = square / (math.pi * (half[:, 2] ** 2 * (square - 1) + 1) ** 2) / 4
        texel = 2 * math.pi**2 / (light.shape[0] * light.shape[1])
        level = np.clip(0.5 * np.log2(4 / (_SAMPLES * density) / texel), 0, len(halves) - 1)
        normal = directions_of(size).reshape(-1, 3)
        side = np.cross(normal, np.where(np.abs(normal[:, 1:2]) < 0.9, [[0.0, 1.0, 0.0]], [[1.0, 0.0, 0.0]]))
        side /= np.linalg.norm(side, axis=1, keepdims=True)
        other = np.cross(normal, side)
        lobe = k.LobeRows(half, ahead / ahead.sum(), np.rint(level).astype(np.int64))
        frames = np.stack([side, other, normal], axis=1)
        total = np.empty((len(normal), 3), np.float32)
        _kernels.mirror_sky(frames, lobe, flat, table, total)
        out.append(total.reshape(*size, 3))
    return out
