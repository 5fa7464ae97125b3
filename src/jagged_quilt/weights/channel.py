"""A channel: something of one's own that lies over a surface beside the layers (wetness, snow, flow), painted by daubs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Self

import numpy as np

from jagged_quilt.foundation.canvas import Block, go_over
from jagged_quilt.foundation.fields import Fields, HasFields
from jagged_quilt.foundation.json_types import Stored
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.masks.mask import Answers, Mask
from jagged_quilt.weights.daub import Daub
from jagged_quilt.weights.daub_windows import DaubFile, WindowedDaubs
from jagged_quilt.weights.lay_daubs import DaubLayer
from jagged_quilt.weights.weigh import Weighable
from jagged_quilt.weights.weight_map import storage, unit_of


@dataclass(frozen=True, slots=True)
class Channel(Mask):
    """How much of something there is, 0..1: what a mask says, and the daubs of this channel on top of that.

    It is a mask itself: layers and films ask it as any other.

    Attributes
    ----------
    name : str
        What daubs call it.
    mask : Mask or None
        What is there before any daub; None is nothing at all.
    daubs : sequence of Daub
        Laid on in order; those of other channels, and of layers, are passed by.
    """

    name: str
    mask: Mask | None = None
    daubs: Sequence[Daub] = ()

    @property
    def summary(self) -> str:
        own = len([daub for daub in self.daubs if daub.channel == self.name]) if not isinstance(self.daubs, DaubFile) else 0
        return f'channel "{self.name}"' + (f", {own} daub" + "s" * (own > 1) if own else "")

    def on(self, surface: Fields | HasFields) -> Self:
        return replace(self, mask=None if self.mask is None else self.mask.on(surface))

    def answer(self, points: Points) -> Answers:
        own = np.zeros(len(points), np.float32) if self.mask is None else self.mask.answer(points)
        both = np.stack([np.float32(1) - own, own])
        return laid_on(self.name, self.daubs).laid(both, points)[1]


def laid_on(channel: str, daubs: Sequence[Daub]) -> DaubLayer | WindowedDaubs:
    """Return the daubs of a channel ready to be laid on what is not of it, and what is, (2, N)."""
    if isinstance(daubs, DaubFile):
        return WindowedDaubs(daubs, ("", channel), channel)
    return DaubLayer(daubs, ("", channel), channel)


def mask_map(canvas: Weighable, mask: Mask, *, bits: int = 8, work: Work = ANYHOW) -> Stored:
    """Return what a mask or a channel says over a canvas, (H, W) uint8 or uint16; 0 where nothing lies."""
    unit, known = unit_of(bits), mask.on(canvas.fields)
    out = np.zeros(canvas.texels, storage(unit))

    def answer(block: Block) -> None:
        for piece in block.pieces:
            piece.where.put(out.reshape(-1), np.rint(known.answer(piece.points) * np.float32(unit)).astype(out.dtype))

    go_over(canvas, answer, work=work, step="asking masks")
    return out


def write_channel(folder: Path, canvas: Weighable, channel: Channel, bits: int = 8, *, work: Work = ANYHOW) -> Path:
    """Write how much there is of a channel over a canvas as a grey PNG, `channel_NAME.png`."""
    path = folder / f"channel_{channel.name.replace(' ', '_')}.png"
    write_image(path, mask_map(canvas, channel, bits=bits, work=work)[..., None])
    return path
