"""How weights are worked out, kept and adopted where nothing else is said.

Apart from what does it, since quilt files name it.
"""

from __future__ import annotations

from typing import Literal

from jagged_quilt.foundation.checks import whole_number_in
from jagged_quilt.foundation.choices import Choice

KEEP, MOST_KEPT = 4, 16
"""Layers that a texel keeps, and the most."""
BITS: Literal[8, 16] = 8
TOLERANCE = 8.0  # of 255: how far a texel may be from a key's colour
IMPLIED_LAST = False
NORMALISE, REFUSE = "normalise", "refuse"
FORMS = {
    "splat": {"implied_last", "sums"},
    "index": {"numbers"},
    "colours": {"colours", "tolerance"},
    "masks": {"implied_last", "sums"},
    "pairs": {"sums"},
}
"""The forms of adopted weights, and what is said of each beside its files and layers."""


class Stacking(Choice):
    """How the masks of layers become weights that sum to 1."""

    COVER = "cover"
    """From the bottom up each layer covers what lies below it by its mask; no mask covers wholly."""
    SHARE = "share"
    """The masks are the weights, made less where they sum to more than 1; no mask asks for all."""


STACKING = Stacking.COVER


def checked_keep(keep: int) -> int:
    """Return how many layers a texel is to keep; raise `RangeError` if it cannot be so many."""
    return whole_number_in("keep", keep, 1, MOST_KEPT)
