"""From light to what a screen shows: exposure, and what becomes of what is brighter than white."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.foundation.choices import Choice

_FROM = 0.7  # light up to there is left as it is


class Tone(Choice):
    """What becomes of bright light."""

    SOFT = "soft"
    """It is bent to stay below white."""
    NONE = "none"
    """It is cut off at white."""


def toned(light: NDArray[np.float32], *, exposure: float = 0.0, tone: Tone | str = Tone.SOFT) -> NDArray[np.float32]:
    """Return light (N, 3) as a screen shows it, 0..1, linear.

    All three channels are bent alike, by the brightest: so a colour keeps its hue however bright it is.

    exposure : stops; 1 is twice as bright.
    """
    out = light * np.float32(2.0**exposure) if exposure else light.astype(np.float32)
    if Tone.of(tone, "tone") is Tone.NONE:
        return np.minimum(out, np.float32(1))
    most = np.maximum(np.maximum(out[:, 0], out[:, 1]), out[:, 2])
    bright = most > _FROM
    bent = 1 - (1 - _FROM) * np.exp(-(most[bright] - _FROM) / (1 - _FROM))
    out[bright] *= (bent / most[bright])[:, None]
    return out
