"""Weights and channels, as other programs read them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from jagged_quilt.export.splat_sheets import write_masks, write_pairs, write_splat
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.results.exporter import Exporter, Written, option
from jagged_quilt.results.results import Results
from jagged_quilt.results.weigh_steps import write_channels

WEIGHT_FORMS = {"splat": write_splat, "pairs": write_pairs, "masks": write_masks}
BITS = (8, 16)


@dataclass(frozen=True, kw_only=True)
class WeightFiles(Exporter):
    """The weights of the ground's layers: RGBA sheets, layer numbers and weights, or a grey image each."""

    key: ClassVar[str] = "weights"
    forms: tuple[str, ...] = option(
        ("splat",),
        "RGBA sheets, a layer in each channel; four numbers and weights; or grey images.",
        flag="as",
        words=WEIGHT_FORMS,
    )
    bits: int = option(8, "Of each channel.", words=BITS)

    def steps(self, results: Results) -> list[str]:
        return ["weigh"]

    def write(self, results: Results, folder: Path) -> Written:
        files = [file for form in self.forms for file in WEIGHT_FORMS[form](results.weights, folder, bits=self.bits)]
        return Written(tuple(files), notes=tuple(self._layers(results)))

    def _layers(self, results: Results) -> list[str]:
        """Which layer is where."""
        lines, names = ["which layer is where:"], results.weights.names
        if "splat" in self.forms:
            for first in range(0, len(names), 4):
                four = [f"{channel} {name}" for channel, name in zip("RGBA", names[first : first + 4], strict=False)]
                lines.append(f"splat_{first // 4}.png: {', '.join(four)}")
        if "pairs" in self.forms:
            lines.append("pairs: " + ", ".join(f"{number} {name}" for number, name in enumerate(names)))
        return lines


@dataclass(frozen=True, kw_only=True)
class ChannelFiles(Exporter):
    """How much there is of each channel over the ground, a grey image each."""

    key: ClassVar[str] = "channels"
    bits: int = option(8, "Of each image.", words=BITS)

    def steps(self, results: Results) -> list[str]:
        return ["weigh"]

    def write(self, results: Results, folder: Path) -> Written:
        if not results.quilt.channels:
            raise RangeError(f"{results.quilt.path}: there is no channel; write a [[channel]]")
        return Written(tuple(write_channels(results, folder, self.bits)))
