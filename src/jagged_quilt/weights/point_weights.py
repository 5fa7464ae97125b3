"""Weights at points: which layers show there, and how much."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.kernels import kernels_of

_kernels = kernels_of("jagged_quilt.weights._kernels")


@dataclass(frozen=True, slots=True, eq=False, repr=False)
class PointWeights:
    """How much of some layers shows at each of N points. Its arrays are read-only.

    Attributes
    ----------
    names : tuple of str
        The layers that were weighed, from the bottom up.
    layers : (N, K) uint8 or uint16
        Which of them; a layer stands once at a point.
    weights : (N, K) float32
        How much of each; they sum to 1 at every point, and 0 is no layer at all.
    lost : (N,) float32 or None
        How much weight, 0..1, was cut from layers that are not among the K; None where that is not known.
    """

    names: tuple[str, ...]
    layers: Stored
    weights: NDArray[np.float32]
    lost: NDArray[np.float32] | None = None

    def __post_init__(self) -> None:
        layers, weights = np.asarray(self.layers), np.asarray(self.weights)
        if layers.ndim != 2 or layers.shape != weights.shape or layers.dtype not in (np.uint8, np.uint16):
            raise ShapeError(
                f"weights at points are (N, K) layers of uint8 or uint16 and (N, K) weights; got {layers.dtype} "
                f"{layers.shape} and {weights.dtype} {weights.shape}"
            )
        object.__setattr__(self, "names", tuple(self.names))
        object.__setattr__(self, "layers", frozen(layers, layers.dtype))
        object.__setattr__(self, "weights", frozen(weights, np.float32))
        if self.lost is not None:
            object.__setattr__(self, "lost", frozen(self.lost, np.float32))

    @classmethod
    def all_of(cls, name: str, count: int) -> PointWeights:
        """Return one layer that shows alone at `count` points."""
        return cls((name,), np.zeros((count, 1), np.uint8), np.ones((count, 1), np.float32))

    def __len__(self) -> int:
        return int(self.layers.shape[0])

    def __getitem__(self, part: slice | NDArray[np.bool_] | NDArray[np.intp]) -> PointWeights:
        """Return those of some of the points."""
        own = {each.name: getattr(self, each.name) for each in fields(self)}
        return PointWeights(**{name: value if name == "names" or value is None else value[part] for name, value in own.items()})

    __iter__ = None  # it is no pair of arrays: ask for what is meant by name

    def __repr__(self) -> str:
        return f"<PointWeights {len(self)} points, {self.layers.shape[1]} of {len(self.names)} layers at each>"

    @property
    def dominant(self) -> Stored:
        """The layer that weighs most at each point, (N,)."""
        return np.take_along_axis(self.layers, np.argmax(self.weights, axis=1)[:, None], axis=1)[:, 0]

    def check(self, names: tuple[str, ...], points: int) -> None:
        """Raise `ShapeError` or `RangeError` unless they are weights of just these layers at so many points."""
        if self.names != names:
            raise ShapeError(f"the weights were made for the layers {list(self.names)}; got {list(names)}; weigh again")
        if len(self) != points:
            raise ShapeError(f"weights are needed for {points} points; got them for {len(self)}")
        bad = _kernels.first_bad_weights(self.layers, self.weights, len(names))
        if bad >= 0:
            raise RangeError(
                f"weights must be from 0 and sum to 1, of layers below {len(names)}, at every point; point {bad} "
                f"has {self.weights[bad].tolist()} of {self.layers[bad].tolist()}"
            )
