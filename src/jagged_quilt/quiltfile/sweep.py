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
        """Read "KEY=FROM:TO:COUNT"; raise `RangeError` if it is not like that."""
        key, _, span = text.partition("=")
        try:
            start, end, count = span.split(":")
            low, high, many = float(start), float(end), int(count)
        except ValueError:
            raise RangeError(f"a sweep is KEY=FROM:TO:COUNT, as layer[2].mask[1].threshold=0.2:0.8:9; got {text!r}") from None
        whole_number_in("the count of a sweep", many, 2, 25)
        for end_value in (low, high):
            number_in("the ends of a sweep", end_value)
        values = [low + (high - low) * step / (many - 1) for step in range(many)]
        whole = start.lstrip("-").isdigit() and end.lstrip("-").isdigit() and all(value == int(value) for value in values)
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
