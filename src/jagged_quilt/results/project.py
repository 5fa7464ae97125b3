"""A quilt with the folder of its results: what of them is loaded, and how to have it made."""

from __future__ import annotations

import warnings
from collections.abc import Collection, Sequence
from functools import cached_property
from pathlib import Path

from jagged_quilt.arrays.open_arrays import open_arrays
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend.detail_mask import layers_seeing, reads_detail
from jagged_quilt.blend.layer import Layer
from jagged_quilt.foundation.cached import is_known
from jagged_quilt.foundation.disk_store import DiskStore
from jagged_quilt.foundation.errors import FileError, QuiltWarning
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.masks.image_mask import ImageMask
from jagged_quilt.quiltfile.inherit import inherited_by
from jagged_quilt.quiltfile.packing import every_source
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.results.audits import OWN_IMAGES
from jagged_quilt.results.step import Made, Runner
from jagged_quilt.weights.adopt import Adopted
from jagged_quilt.weights.weigher import Weigher
from jagged_quilt.weights.weight_map import OURS, WeightMap, open_weights


class Project:
    """What the steps of one quilt work on.

    Parameters
    ----------
    folder : Path, optional
        `out` beside the quilt file where it is not given.
    texels : int, optional
        Stands in for what the quilt file says of the bake.
    on_gpu : bool
        Whether maps are baked by the exported shader, on an OpenGL driver.
    leave_out : collection of str
        Swatches that are not packed.

    Attributes
    ----------
    runner : Runner
        Does the steps, which `Results` adds.
    device : str
        The device that baked last, if one did.
    """

    def __init__(
        self,
        quilt: Quilt,
        folder: Path | None = None,
        *,
        texels: int | None = None,
        on_gpu: bool = False,
        leave_out: Collection[str] = (),
        work: Work = ANYHOW,
    ) -> None:
        self.folder = quilt.folder / "out" if folder is None else Path(folder)
        self.work, self.on_gpu = work, on_gpu
        self.bake_texels = quilt.table.bake.texels if texels is None else texels
        self.device = ""
        self.runner = Runner(self.folder)
        self._leave_out = frozenset(leave_out)
        self._arrays: TextureArrays | None = None
        self.quilt = quilt.with_work(self.shelf, work.progress)

    @cached_property
    def sources(self) -> tuple[SwatchSource, ...]:
        """Where the swatches come from: those of the quilt file, and the meshes' own materials that layers show."""
        every = every_source(self.quilt, self.folder / OWN_IMAGES)
        return tuple(each for each in every if each.name not in self._leave_out)

    @property
    def arrays(self) -> TextureArrays:
        """The packed arrays; packed first if they are not there, and with a warning if they are damaged."""
        if self._arrays is None:
            made = self.runner.run("pack")
            if self._arrays is None:
                try:
                    self._arrays = open_arrays(made.folder)
                    self._arrays.check()
                except FileError as error:
                    warnings.warn(f"{error}; packed anew", QuiltWarning, stacklevel=2)
                    self._arrays = None
                    self.runner.run("pack", force=True)
                    return self.arrays
        return self._arrays

    @arrays.setter
    def arrays(self, packed: TextureArrays) -> None:
        self._arrays = packed

    @cached_property
    def layers(self) -> Sequence[Layer]:
        """The layers of the ground, their masks reading the packed textures where they read any."""
        return self.seeing(self.quilt.layers)

    def seeing(self, layers: Sequence[Layer]) -> Sequence[Layer]:
        """Return layers whose masks read the packed textures, where they read any."""
        return layers_seeing(layers, self.arrays) if any(reads_detail(layer.mask) for layer in layers) else layers

    @property
    def reads_detail(self) -> bool:
        """Whether the masks of the ground read textures."""
        return any(reads_detail(layer.mask) for layer in self.quilt.layers)

    @cached_property
    def inherited(self) -> Adopted:
        """The weights that the quilt file inherits, by their old names."""
        return inherited_by(self.quilt)

    @cached_property
    def adopted(self) -> WeightMap | None:
        """The adopted weights by the quilt's own layers, as `weights`; None where none are inherited."""
        return None if self.quilt.table.adopt is None else self._loaded("adopt", "adopted")

    @cached_property
    def weights(self) -> WeightMap:
        """The weight map; weighed first if it is not there, and with a warning if it is damaged."""
        return self._loaded("weigh", "weighed")

    @cached_property
    def film_maps(self) -> tuple[ImageMask, ...]:
        """How much of each film on the ground there is, as maps that views read; none where their masks have to answer."""
        if "films" not in self.runner.steps:
            return ()
        size, files = self.quilt.terrain.size, self.runner.run("films").files
        return tuple(ImageMask.read(file, size=size, wrap="clamp") for file in files)

    @cached_property
    def weigher(self) -> Weigher:
        """What answers weights at any point: masks, adopted weights and daubs together."""
        return Weigher(
            self.layers,
            self.quilt.terrain,
            adopted=self.adopted,
            daubs=self.quilt.ground_daubs,
            stacking=self.quilt.table.weights.stacking,
        )

    @property
    def shelf(self) -> DiskStore:
        """Where arrays lie that are more than can be held."""
        return DiskStore(self.folder / "held")

    def take_over(self, former: Project) -> None:
        """Keep the arrays of earlier results in memory where they would be packed the same; see `Loaded.take_over`."""
        if former._arrays is not None and former.runner.stamp("pack") == self.runner.stamp("pack"):
            self._arrays = former._arrays
        if is_known(former, "adopted") and all("adopt" in each.runner.steps for each in (self, former)):
            same = former.runner.stamp("adopt") == self.runner.stamp("adopt")
            self.adopted = former.adopted if same else self.adopted

    def _loaded(self, name: str, done: str) -> WeightMap:
        """Load the weights that a step leaves; do it anew, with a warning, where what it left before is damaged."""

        def left(made: Made) -> WeightMap:
            return open_weights(made.folder, self.quilt.loaded.room_for(made.folder / "weights_0.png", OURS))

        made: Made = self.runner.run(name)
        try:
            return left(made)
        except FileError as error:
            warnings.warn(f"{error}; {done} anew", QuiltWarning, stacklevel=3)
            return left(self.runner.run(name, force=True))
