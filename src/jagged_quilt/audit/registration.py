"""Whether the maps of a set lie upon each other: what they share is found by phase correlation, wherever it lies.

Two maps of one surface have edges at the same places, whatever they mean and whatever their sign. Their whitened
cross-correlation has one sharp peak, at the shift between them; maps of different surfaces have none. (Kuglin and Hines 1975.)
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.audit.measures import slopes_of
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.texture_map import TextureMap

SIDE = 128  # texels to which maps are brought
CLOSE = 4  # of those: a peak so near to no shift is none (light and blur move edges a little)
_FINE, _COARSE = 1.0, 6.0  # texels: forms between these sizes are compared
_OUTLIERS = 3.0  # standard deviations, beyond which forms are cut, so that no single one decides
_STRIDE = 7  # of the correlations that its noise is measured by
_MAD = 1.4826  # standard deviations of a normal distribution for one median absolute deviation

Image = NDArray[np.float32]
Spectrum = NDArray[np.complex128]
Turned = Callable[[Image], Image]

TURNS: Mapping[str, Turned] = {
    "turned by 90 degrees": lambda image: np.rot90(image, 1),
    "turned by 180 degrees": lambda image: np.rot90(image, 2),
    "turned by 270 degrees": lambda image: np.rot90(image, 3),
    "upside down": lambda image: image[::-1],
    "mirrored": lambda image: image[:, ::-1],
    "mirrored and turned by 90 degrees": lambda image: np.rot90(image[:, ::-1], 1),
    "mirrored and turned by 270 degrees": lambda image: np.rot90(image[:, ::-1], 3),
}
"""What takes an image back that was changed in such a way, or, of quarter turns, the other quarter's way."""


class Match(NamedTuple):
    """How well two maps fit: peaks in standard deviations of the correlation elsewhere. Chance gives 4 to 8.

    Attributes
    ----------
    here : float
        The peak as the maps lie.
    best : float
        The highest peak at any shift.
    shift : (float, float)
        Where that is, right and down, as shares of the map, -0.5 to 0.5.
    """

    here: float
    best: float
    shift: tuple[float, float]

    def back(self) -> Match:
        """Return how the second map fits the first one."""
        return self._replace(shift=(-self.shift[0], -self.shift[1]))


def small_copy(given: TextureMap, side: int = SIDE) -> Image:
    """Return the stored texels of a map as numbers from 0 to 1, averaged to (side, side, C)."""
    texels = given.texels
    rows, columns = (max(1, each // side) for each in texels.shape[:2])
    if rows * columns > 1:
        whole: Stored = texels[: texels.shape[0] // rows * rows, : texels.shape[1] // columns * columns]
        high, wide = whole.shape[0] // rows, whole.shape[1] // columns
        sums = whole.reshape(high, rows, -1).sum(axis=1, dtype=np.float32)
        texels = sums.reshape(high, wide, columns, -1).sum(axis=2) / np.float32(rows * columns)
    scale = float(np.iinfo(given.texels.dtype).max) if given.texels.dtype.kind == "u" else 1.0
    values = np.asarray(texels, np.float32) / np.float32(scale)
    if values.shape[:2] == (side, side):
        return values
    from scipy.ndimage import zoom

    by = (side / values.shape[0], side / values.shape[1], 1)
    return np.asarray(zoom(values, by, order=1, mode="grid-wrap", grid_mode=True), np.float32)


def forms_of(role: MapRole, image: Image) -> list[Image]:
    """Return what can be compared of a small copy: its forms, and how much changes where; each of mean 0 and variance 1.

    How much changes is measured in two ways: by the forms, and for normals by their steepness, which does not depend on which
    way their channels point.
    """
    slopes = _slopes(image) if role.value.direction else None
    height = image[..., :3].mean(axis=2) if slopes is None else _relief(*slopes)
    change = _standard(np.hypot(*np.gradient(_blurred(height, 0.7))))
    return [_standard(height), change, change if slopes is None else _standard(np.hypot(*slopes))]


def spectra_of(forms: Sequence[Image]) -> list[Spectrum]:
    """Return the spectra of forms, as `match` takes them."""
    return [np.fft.rfft2(each) for each in forms]


def match(one: Sequence[Spectrum], other: Sequence[Spectrum]) -> Match:
    """Return how the forms of one map fit those of another of the same size, by their spectra; the better kind counts."""
    peaks = [_peaks(a, b) for a, b in zip(one, other, strict=True)]
    score = np.maximum(np.abs(peaks[0]), np.maximum(peaks[1], peaks[2]))  # what is bright may be high or low; edges are edges
    rows, columns = score.shape
    down, across = (int(each) for each in np.unravel_index(score.argmax(), score.shape))
    near = np.roll(score, (CLOSE, CLOSE), axis=(0, 1))[: 2 * CLOSE + 1, : 2 * CLOSE + 1]
    signed = [(each + size // 2) % size - size // 2 for each, size in ((across, columns), (down, rows))]
    return Match(float(near.max()), float(score.max()), (signed[0] / columns, signed[1] / rows))


def enlarged_match(large: Sequence[Image], small: Sequence[Image]) -> float:
    """Return the highest peak of forms of a whole map, at twice the size, and of a part of it that fills the other map."""
    padded = [np.zeros_like(each) for each in large]
    for room, each in zip(padded, small, strict=True):
        room[: each.shape[0], : each.shape[1]] = each
    return match(spectra_of(large), spectra_of(padded)).best


def _slopes(image: Image) -> tuple[Image, Image]:
    """The slopes along u and along v of the mean normals of a small copy."""
    vectors = image[..., :2] * 2 - 1
    z = np.sqrt(np.maximum(0, 1 - (vectors**2).sum(axis=2, keepdims=True)))
    return slopes_of(np.concatenate([vectors, z], axis=2).astype(np.float32))


def _relief(along_u: Image, along_v: Image) -> Image:
    """The height that slopes tell, by integrating them over a map that repeats (Frankot and Chellappa 1988)."""
    rows, columns = along_u.shape
    down, across = 2j * np.pi * np.fft.fftfreq(rows)[:, None], 2j * np.pi * np.fft.fftfreq(columns)[None]
    power = np.abs(down) ** 2 + np.abs(across) ** 2
    power[0, 0] = 1
    whole = (np.conj(across) * np.fft.fft2(along_u) + np.conj(down) * np.fft.fft2(along_v)) / power
    whole[0, 0] = 0
    return np.fft.ifft2(whole).real.astype(np.float32)


def _blurred(image: Image, sigma: float) -> Image:
    from scipy.ndimage import gaussian_filter

    return np.asarray(gaussian_filter(image, sigma, mode="wrap"), np.float32)


def _standard(image: Image) -> Image:
    band = _blurred(image, _FINE) - _blurred(image, _COARSE)
    band = band - band.mean()
    spread = float(band.std())
    return np.clip(band / spread, -_OUTLIERS, _OUTLIERS) if spread > 1e-6 else np.zeros_like(band)


def _peaks(a: Spectrum, b: Spectrum) -> NDArray[np.float64]:
    """The half-whitened cross-correlation, in standard deviations of its own noise."""
    size = len(a)
    power = np.sqrt(np.abs(a) * np.abs(b))
    if not power.any():
        return np.zeros((size, size))
    found = np.fft.irfft2(a * np.conj(b) / (power + 1e-6 * power.max()), (size, size))
    some = found.reshape(-1)[::_STRIDE]
    middle = float(np.median(some))
    found -= middle
    noise = _MAD * float(np.median(np.abs(some - middle)))
    return found / noise if noise > 0 else np.zeros((size, size))
