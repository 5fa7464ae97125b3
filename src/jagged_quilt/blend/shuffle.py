"""A shuffled texture: it lies in patches, so that its repeat does not show."""

from __future__ import annotations

from dataclasses import dataclass

from jagged_quilt.blend import _rows as k
from jagged_quilt.foundation.checks import number_in, positive, whole_number_in
from jagged_quilt.foundation.choices import Choice
from jagged_quilt.foundation.short_repr import short_repr


class Turn(Choice):
    """How patches of a shuffled texture are turned: not at all, by quarters, or any way."""

    NONE = "none", 0
    QUARTER = "quarter", k.QUARTER
    ANY = "any", k.ANY


@dataclass(frozen=True, slots=True, kw_only=True)
class Shuffle:
    """Breaks the repeat of a texture: it lies in patches, each shifted, turned and mirrored at random, all maps together.

    Patches stand on a grid of equilateral triangles and fade into each other. Where they mix, the difference from the mean is
    spread again, so that mean and variance stay as they are (Heitz and Neyret 2018).

    Attributes
    ----------
    size : float
        Metres from patch to patch.
    border : float
        0.02 to 1: how wide they fade; 1 mixes everywhere, as noise by example does.
    turn : "none", "quarter" or "any"
    mirror, shift : bool
    seed : int
        0 to 2^20.
    """

    __repr__ = short_repr

    size: float
    border: float = 0.2
    turn: Turn = Turn.ANY
    mirror: bool = True
    shift: bool = True
    seed: int = 0

    def __post_init__(self) -> None:
        positive("shuffle size", self.size, "m")
        number_in("shuffle border", self.border, 0.02, 1)
        whole_number_in("shuffle seed", self.seed, 0, 1 << 20)
        object.__setattr__(self, "turn", Turn.of(self.turn, "way to turn patches"))

    @property
    def ways(self) -> int:
        """All of it but the size and the border, as the kernel knows it."""
        return self.turn.code + k.FLIPS * bool(self.mirror) + k.SHIFTS * bool(self.shift) + k.SEED * self.seed
