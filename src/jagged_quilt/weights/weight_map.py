"""A weight map: at every texel the layers that show most, and how much."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.errors import FileError, RangeError, ShapeError
from jagged_quilt.foundation.files import read_json, write_json, written_together
from jagged_quilt.foundation.points import Points
from jagged_quilt.maps.image_files import read_image, write_image
from jagged_quilt.weights import _kernels

Kept = tuple[NDArray[Any], NDArray[np.float32]]
"""(N, K) uint8 or uint16 layers and (N, K) float32 weights that sum to 1; a weight of 0 is no layer at all."""


def index_type(layers: int) -> type[np.uint8] | type[np.uint16]:
    """Return the smallest type that numbers so many layers."""
    return np.uint8 if layers <= 256 else np.uint16


@dataclass(frozen=True, eq=False, kw_only=True)
class WeightMap:
    """The K layers that show most at every texel, with weights that sum to exactly 255.

    Attributes
    ----------
    names : tuple of str
        The layers, from the bottom up.
    layers : (H, W, K) uint8 or uint16
        Which layers.
    weights : (H, W, K) uint8
        How much of each; they sum to 255, and 0 is no layer at all.
    lost_mean, lost_worst : float
        How much weight, 0..1, was cut from the layers that were not among the K: over all texels and at the worst one.
    """

    names: tuple[str, ...]
    layers: NDArray[Any]
    weights: NDArray[np.uint8]
    lost_mean: float = 0.0
    lost_worst: float = 0.0

    def __post_init__(self) -> None:
        if self.layers.ndim != 3 or self.layers.shape != self.weights.shape or 0 in self.layers.shape:
            raise ShapeError(f"layers and weights must both be (H, W, K); got {self.layers.shape} and {self.weights.shape}")
        if self.weights.dtype != np.uint8 or self.layers.dtype.kind != "u":
            raise ShapeError(f"layers must be unsigned and weights uint8; got {self.layers.dtype} and {self.weights.dtype}")
        if int(self.layers.max()) >= len(self.names):
            raise RangeError(f"layer {int(self.layers.max())} is above the last of {len(self.names)} layers")
        sums = self.weights.sum(axis=2, dtype=np.uint32)
        if (sums != 255).any():
            row, column = (int(i) for i in np.argwhere(sums != 255)[0])
            raise RangeError(f"weights must sum to 255; row {row}, column {column} sums to {int(sums[row, column])}")
        self.layers.flags.writeable = False
        self.weights.flags.writeable = False

    def at(self, points: Points) -> Kept:
        """Return the weights at points, bilinear between texels, clamped at the border (what an engine will do).

        Raises
        ------
        ShapeError
            If the points have no uv.
        """
        if points.uv is None:
            raise ShapeError("a weight map is read by uv, and these points have none")
        keep = self.layers.shape[2]
        most = min(4 * keep, len(self.names))
        index = np.empty((len(points), most), self.layers.dtype)
        weight = np.empty((len(points), most), np.float32)
        _kernels.read_between(
            points.uv, self.layers.reshape(-1, keep), self.weights.reshape(-1, keep), self.layers.shape[1],
            np.zeros(len(self.names), np.float32), index, weight,
        )  # fmt: skip
        return index, weight

    def layer(self, name: str | int) -> NDArray[np.float32]:
        """Return how much of one layer shows, (H, W) float32, 0..1."""
        which = name if isinstance(name, int) else self.names.index(name)
        return np.where(self.layers == which, self.weights, 0).sum(axis=2, dtype=np.float32) / np.float32(255)

    def shares(self) -> dict[str, float]:
        """Return the share of the surface that each layer covers; they sum to 1."""
        sums = np.bincount(self.layers.ravel(), self.weights.ravel(), minlength=len(self.names))
        return {name: float(s / sums.sum()) for name, s in zip(self.names, sums, strict=True)}

    def save(self, folder: Path | str, stamp: str = "") -> list[Path]:
        """Write PNG files of four channels each (layer numbers, and their weights) and a manifest; return the files."""
        folder = Path(folder)
        height, width, keep = self.layers.shape
        lost = {"mean": self.lost_mean, "worst": self.lost_worst}
        manifest = {"stamp": stamp, "layers": list(self.names), "keep": keep, "lost": lost, "shares": self.shares()}
        names = []
        with written_together(folder) as stage:
            for first in range(0, keep, 4):
                for kind, texels in (("layers", self.layers), ("weights", self.weights)):
                    four = np.zeros((height, width, 4), texels.dtype)
                    part = texels[..., first : first + 4]
                    four[..., : part.shape[2]] = part
                    names.append(f"{kind}_{first // 4}.png")
                    write_image(stage / names[-1], four)
            write_json(stage / "weights.json", manifest)
        return [folder / name for name in [*names, "weights.json"]]

    @classmethod
    def load(cls, folder: Path | str) -> WeightMap:
        """Read what `save` wrote, to the byte; raise `FileError` if something is missing or does not fit together."""
        folder = Path(folder)
        manifest = read_json(folder / "weights.json", "list of weights")
        try:
            keep = int(manifest["keep"])
            sheets = {
                kind: [read_image(folder / f"{kind}_{n}.png") for n in range(-(-keep // 4))] for kind in ("layers", "weights")
            }
            return cls(
                names=tuple(manifest["layers"]),
                layers=np.ascontiguousarray(np.concatenate(sheets["layers"], axis=2)[..., :keep]),
                weights=np.ascontiguousarray(np.concatenate(sheets["weights"], axis=2)[..., :keep]),
                lost_mean=float(manifest["lost"]["mean"]),
                lost_worst=float(manifest["lost"]["worst"]),
            )
        except (KeyError, TypeError, ValueError) as error:
            raise FileError(f"{folder}: these weights do not fit together ({error}); weigh again") from error
