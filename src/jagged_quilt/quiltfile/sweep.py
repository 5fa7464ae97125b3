"""Sweeps: one number of a quilt file, tried at several values, the way that people turn a knob and look."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass

from jagged_quilt.foundation.checks import number_in, whole_number_in
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.quiltfile.quilt import Quilt
from jagged_quilt.quiltfile.read import full_key


def plain_value(words: str) -> object:
    """Return what is written after KEY= as TOML would read it; bare words are text."""
    try:
        return tomllib.loads(f"value = {words}")["value"]
    except tomllib.TOMLDecodeError:
        return words.strip()


@dataclass(frozen=True)
class Sweep:
    """A number of a quilt file, by its key path, and the values to try."""

    key: str
    values: tuple[float | int, ...]

    @classmethod
    def of(cls, text: str) -> Sweep:
        """Read "KEY=FROM:TO:COUNT", or "KEY=A,B,C"; raise `RangeError` if it is neither."""
        key, _, span = text.partition("=")
        parts = span.split("," if "," in span else ":")
        try:
            ends = [float(each) for each in (parts if "," in span else parts[:2])]
            many = len(parts) if "," in span else int(parts[2])
            is_whole = all(each.strip().lstrip("-").isdigit() for each in parts)
            if len(parts) < 2 or ("," not in span and len(parts) != 3):
                raise ValueError
        except (ValueError, IndexError):
            said = "KEY=FROM:TO:COUNT or KEY=A,B,C, as layer[2].mask[1].threshold=0.2:0.8:9"
            raise RangeError(f"a sweep is {said}; got {text!r}") from None
        whole_number_in("the count of a sweep", many, 2, 25)
        for value in ends:
            number_in("the values of a sweep" if "," in span else "the ends of a sweep", value)
        low, high = ends[0], ends[-1]
        values = ends if "," in span else [low + (high - low) * step / (many - 1) for step in range(many)]
        whole = is_whole and all(value == int(value) for value in values)
        return cls(key.strip(), tuple(int(value) for value in values) if whole else tuple(round(v, 9) for v in values))

    def layer_of(self, quilt: Quilt) -> str:
        """Return the layer that the number belongs to (of a medley, the topmost that shows it); "" where it belongs to none."""
        key = full_key(quilt.table.model_dump(mode="json"), self.key)
        if key[0] not in ("layer", "medley") and key != ("weights", "time"):
            raise RangeError(f"a sweep turns numbers of layers, medleys, films, channels, and weights.time; got {self.key}")
        if key[0] == "layer" and isinstance(key[1], int):
            return quilt.layers[key[1]].name
        if key[0] == "medley" and isinstance(key[1], int):
            medley = quilt.table.medley[key[1]].name
            return next((layer.name for layer in reversed(quilt.layers) if layer.swatch == medley), "")
        return ""
