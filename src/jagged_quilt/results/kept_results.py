"""The results of a quilt file that is read again and again: what did not change is kept in memory."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from jagged_quilt.foundation.fields import Remembering
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.foundation.work import Work
from jagged_quilt.masks.image_mask import ImageMask, ImageWrap
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.quiltfile.reading import read_quilt
from jagged_quilt.results.results import Results
from jagged_quilt.results.weigh_steps import film_amounts, weigh_options
from jagged_quilt.surfaces.terrain import Terrain
from jagged_quilt.weights.weigh import weigh
from jagged_quilt.weights.weight_map import WeightMap


class KeptResults:
    """Reads a quilt file as often as it is asked to.

    Attributes
    ----------
    results : Results or None
        Of the file as it was last read without a fault.
    is_wrong : bool
        Whether the file, or what was made of it, was at fault last.
    """

    def __init__(self, path: Path, out: Path | None, work: Work) -> None:
        self.path, self.out, self._work = path, out, work
        self.results: Results | None = None
        self.is_wrong = False
        self._missed: set[Path] = set()  # what changed while the file could not be read
        self._fields: tuple[Terrain, Remembering] | None = None
        self._weights: tuple[tuple[str, int], WeightMap] | None = None
        self._film_maps: tuple[tuple[str, int], list[ImageMask]] | None = None

    def read(self, changed: set[Path] | None, changes: Mapping[str, Unchecked] | None = None) -> Results:
        """Read the file again, with changes to some of its keys; raise `QuiltError` if something is wrong with it.

        changed : the files that did since the last time; None takes everything for changed.
        """
        self._missed |= changed or set()
        self.is_wrong = True
        quilt = read_quilt(self.path, changes=changes)
        before = self.results
        results = Results(quilt, self.out, work=self._work)
        if before is not None and changed is not None:
            results.quilt.loaded.take_over(before.quilt.loaded, {each.resolve() for each in self._missed})
            results.take_over(before)
        self.results, self._missed, self.is_wrong = results, set(), False
        return results

    def turn_over(self) -> None:
        """Forget what masks answered that was not asked again since the last time."""
        if self._fields is not None:
            self._fields[1].turn_over()

    def weights(self, results: Results, texels: int) -> WeightMap:
        """The weights of the ground on so many texels along its longer side."""
        stamp = results.runner.stamp("weigh")
        if self._weights is None or self._weights[0] != (stamp, texels):
            quilt = results.quilt
            canvas = quilt.terrain.canvas(max(1, texels)).knowing(self._known(quilt))
            self._weights = (stamp, texels), weigh(canvas, results.layers, **weigh_options(results))
        return self._weights[1]

    def films(self, results: Results, texels: int) -> list[ImageMask]:
        """How much of each film there is, as maps of so many texels."""
        if "films" not in results.runner.steps:
            return []
        stamp, quilt = results.runner.stamp("films"), results.quilt
        if self._film_maps is None or self._film_maps[0] != (stamp, texels):
            canvas = quilt.terrain.canvas(max(1, texels)).knowing(self._known(quilt))
            own = [each.astype(np.float32) / np.float32(255) for each in film_amounts(results, canvas)]
            maps = [ImageMask(values=each, size=quilt.terrain.size, wrap=ImageWrap.CLAMP) for each in own]
            self._film_maps = (stamp, texels), maps
        return self._film_maps[1]

    def _known(self, quilt: Quilt) -> Remembering:
        """The fields of the ground, with all that was worked out, and answered, for earlier pictures."""
        if self._fields is None or self._fields[0] is not quilt.terrain:
            self._fields = quilt.terrain, Remembering(quilt.terrain.fields, answers=True)
        return self._fields[1]
