"""A weigher: layers, an adopted weight map and daubs, made ready to say how much of each layer shows at any point."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.checks import frozen, known_name, wrong_kind
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.fields import Fields, HasFields, remembering
from jagged_quilt.foundation.kernels import kernels_of
from jagged_quilt.foundation.points import Points
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.daub_windows import DaubFile, WindowedDaubs
from jagged_quilt.weights.lay_daubs import DaubLayer, RegionGrid
from jagged_quilt.weights.medley import Stacked, shown_names
from jagged_quilt.weights.point_weights import PointWeights
from jagged_quilt.weights.settings import MOST_KEPT, Stacking, checked_keep
from jagged_quilt.weights.weight_map import WeightMap, index_type, keep_largest

_kernels = kernels_of("jagged_quilt.weights._kernels")


class Weigher:
    """Answers weights at points. In both ways of stacking the lowest layer takes what is left.

    Parameters
    ----------
    layers : sequence of Layer
        From the bottom up.
    surface : Terrain, Canvas or Fields, optional
        Where masks by curvature, hidden sky, distance or warp are measured.
    stacking : "cover" or "share"
    adopted : WeightMap, optional
        Layers that it names begin with their weight there, times their mask; what a mask takes goes to the lowest layer. The
        others are stacked upon that.
    daubs : sequence of Daub
        Laid on in order, on top of all that; of a `DaubFile` those are read that touch what is weighed.

    Raises
    ------
    ShapeError
        If there is no layer, or the lowest one has a mask (it would have no effect).
    RangeError
        If two layers have one name.
    NameNotFoundError
        If the adopted map or a daub names a layer that is not there.
    """

    def __init__(
        self,
        layers: Sequence[Stacked],
        surface: Fields | HasFields | None = None,
        *,
        stacking: Stacking | str = Stacking.COVER,
        adopted: WeightMap | None = None,
        daubs: Sequence[Daub] = (),
    ) -> None:
        self._check(layers, adopted)
        self.layers = tuple(layers)
        self.names = tuple(layer.name for layer in layers)
        self.shown = shown_names(layers)
        """The names of what comes out: one for each layer, or for each swatch of its medley."""
        self.stacking, self.adopted = Stacking.of(stacking, "way of stacking"), adopted
        known = None if surface is None else remembering(surface)
        self._known = known if known is not None and known.keeps_answers else None
        self.masks = [layer.mask if known is None or layer.mask is None else layer.mask.on(known) for layer in layers]
        self.medleys = [layer.medley if known is None else layer.medley and layer.medley.on(known) for layer in layers]
        self._adopted_rows = frozen([self.names.index(name) for name in adopted.names] if adopted else [], np.int32)
        self._is_adopted = frozen(np.isin(np.arange(len(layers)), self._adopted_rows), bool)
        self.daubs = WindowedDaubs(daubs, self.names) if isinstance(daubs, DaubFile) else DaubLayer(daubs, self.names)

    def __repr__(self) -> str:
        return f"<Weigher of {', '.join(self.names)}>"

    def stacked(self, points: Points) -> NDArray[np.float32]:
        """Return the weight of every layer before daubs and medleys, (L, N) float32, summing to 1 over the layers."""
        answers = np.ones((len(self.layers), len(points)), np.float32)
        if self.adopted is not None:
            answers[self._is_adopted] = 0
            found = self.adopted.at(points)
            _kernels.scatter(found.layers, found.weights, self._adopted_rows, answers)
        for row, mask in enumerate(self.masks):
            if mask is None:
                continue
            answer = mask.answer(points) if self._known is None else self._known.answered(mask, points, mask.answer)
            answers[row] = answers[row] * answer if self._is_adopted[row] else answer
        if self.stacking is Stacking.SHARE:
            _kernels.share(answers)
        elif self.adopted is not None:
            _kernels.cover_adopted(answers, self._is_adopted)
        else:
            _kernels.cover(answers, np.empty(len(points), np.float32))
        return answers

    def adopted_there(self, points: Points) -> NDArray[np.float32]:
        """Return the adopted weight of each layer at the first point, (L,); NaN for those that are not adopted."""
        found = np.full(len(self.layers), np.nan, np.float32)
        if self.adopted is not None:
            rows = np.zeros((len(self.layers), 1), np.float32)
            there = self.adopted.at(points[:1])
            _kernels.scatter(there.layers, there.weights, self._adopted_rows, rows)
            found[self._is_adopted] = rows[self._is_adopted, 0]
        return found

    def weights(self, points: Points, grid: RegionGrid | None = None) -> NDArray[np.float32]:
        """Return how much of everything in `shown` shows at every point, (S, N) float32, summing to 1.

        Parameters
        ----------
        grid : RegionGrid, optional
            What the points are where they are a region of a grid: daubs that smooth need it.
        """
        weights = self.daubs.laid(self.stacked(points), points, grid)
        if not any(self.medleys):
            return weights
        rows: list[NDArray[np.float32]] = []
        for weight, medley in zip(weights, self.medleys, strict=True):
            if medley is None:
                rows.append(weight)
            elif weight.any():
                turns = medley.turns(points) if self._known is None else self._known.answered(medley, points, medley.turns)
                rows.extend(weight * turns)
            else:
                rows.extend([weight] * len(medley.swatches))
        return np.stack(rows)

    def kept(self, points: Points, keep: int, grid: RegionGrid | None = None) -> PointWeights:
        """Return the `keep` largest weights, and what the cut lost."""
        keep = min(checked_keep(keep), len(self.shown))
        index = np.empty((len(points), keep), index_type(len(self.shown)))
        weight = np.empty((len(points), keep), np.float32)
        lost = np.empty(len(points), np.float32)
        keep_largest(self.weights(points, grid), index, weight, lost)
        return PointWeights(self.shown, index, weight, lost)

    def at(self, points: Points) -> PointWeights:
        """Return weights at points as `WeightMap.at` does, with as many layers kept as can be.

        Raises `RangeError` if a daub smooths: that needs what lies around the points.
        """
        if self.daubs.smooths:
            raise RangeError("daubs that smooth need a weight map; weigh first, and blend by that")
        return self.kept(points, MOST_KEPT)

    @staticmethod
    def _check(layers: Sequence[Stacked], adopted: WeightMap | None) -> None:
        if not isinstance(layers, Sequence) or isinstance(layers, str):
            raise wrong_kind("layers", layers, 'a list of layers, from the bottom up: [jq.Layer("clay"), …]')
        if not layers:
            raise ShapeError("there is no layer to weigh; name at least one")
        names = [layer.name for layer in layers]
        if len(set(names)) < len(names):
            raise RangeError(f"two layers have one name: {', '.join(names)}; give one of them another")
        for name in adopted.names if adopted else ():
            known_name("layer of the adopted weights", name, names)
        if layers[0].mask is not None and names[0] not in (adopted.names if adopted else ()):
            raise ShapeError(
                f'the lowest layer, "{names[0]}", takes what the others leave, so its mask has no effect; '
                "remove it, or put a layer below"
            )
