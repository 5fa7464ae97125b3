"""Which array, as it lies in its file, a shader reads each map from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from jagged_quilt.arrays.layout import BLENDED, Layout
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend.plan import BlendPlan, Output
from jagged_quilt.codecs.pixel_formats import PixelFormat
from jagged_quilt.export.file_names import stems_of
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.maps.roles import MapRole


@dataclass(frozen=True, slots=True)
class FileArray:
    """An array as it lies in a file, and what its sampler is called."""

    name: str
    layout: Layout

    def value(self, output: Output) -> str:
        """What a texel of it says of an output, as source: 0..1 as stored, but for directions in half floats, -1..1."""
        letters = "".join("rgba"[channel] for channel in output.channels)
        text, flips = f"texel.{self.name}.{letters}", [self.layout.channels[each].inverted for each in output.channels]
        if any(flips) and self.is_signed(output.role):
            text = f"{text} * vec{len(flips)}({', '.join('-1.0' if each else '1.0' for each in flips)})"
        elif any(flips) and all(flips):
            text = f"1.0 - {text}"
        elif any(flips):
            text = f"abs(vec{len(flips)}({', '.join('1.0' if each else '0.0' for each in flips)}) - {text})"
        beside = "".join("rgba"[channel] for channel in output.fine)
        return f"({text} + (texel.fine.{beside} - 128.0 / 255.0) / 257.0)" if beside else text

    def is_signed(self, role: MapRole) -> bool:
        """Whether it holds vectors as they are."""
        return role.value.direction and self.layout.pixels is PixelFormat.HALF

    @property
    def words(self) -> str:
        """What it holds, in words."""
        return ", ".join(map(str, self.layout.channels)) + ("; sRGB" if self.layout.srgb else "")


def by_files(plan: BlendPlan, arrays: TextureArrays) -> tuple[BlendPlan, tuple[FileArray, ...]]:
    """Return a plan whose outputs are read from the arrays as they were packed (a blend opens them as it wants them), and those
    that it reads, in the order of their files.

    Raises
    ------
    RangeError
        If no one array holds all channels of a map.
    """
    stems, own = stems_of([each.name for each in arrays.layouts]), {*(each.name for each in BLENDED), "fine"}
    every = tuple(FileArray(each.name if each.name in own else f"array_{stems[each.name]}", each) for each in arrays.layouts)
    outputs = tuple(_of_file(output, every) if output.array else output for output in plan.outputs)
    read = {each.array for each in outputs} | {"fine" for each in outputs if each.fine}
    return replace(plan, outputs=outputs), tuple(each for each in every if each.name in read)


def _of_file(output: Output, every: Sequence[FileArray]) -> Output:
    """Where an output lies."""
    for each in every:
        channels = {
            channel.component: index
            for index, channel in enumerate(each.layout.channels)
            if channel.role is output.role and not channel.fine
        }
        if set(channels) >= set(range(output.role.value.packed)):
            fine = output.fine if any(one.layout.is_fine for one in every) else ()  # else the array itself has more than 8 bits
            return Output(output.role, each.name, tuple(channels[n] for n in range(output.role.value.packed)), fine)
    raise RangeError(
        f"the shader reads all channels of a map from one array, and none holds those of {output.role.key}; pack them together"
    )
