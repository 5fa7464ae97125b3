"""The kinds of noise, apart from what works them out, since quilt files name them."""

from __future__ import annotations

from jagged_quilt.foundation.choices import Choice


class NoiseKind(Choice):
    """What an octave of noise looks like."""

    SMOOTH = "smooth", 0
    BILLOWED = "billowed", 1
    RIDGED = "ridged", 2
    CELLULAR = "cellular", 3
