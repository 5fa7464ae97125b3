"""Weights as shader source: masks that are worked out at the pixel where they can be, and read from sheets where not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.blend.layer import Layer
from jagged_quilt.export.shader_text import filled
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.noise import lattice_turn, noise_quantiles
from jagged_quilt.foundation.noise_kinds import NoiseKind
from jagged_quilt.foundation.short_repr import short_repr
from jagged_quilt.masks.mask import Combine, Combined, Constant, Cut, Inverted, Levels, Mask, Shared
from jagged_quilt.masks.noise_mask import Noise
from jagged_quilt.masks.shape_masks import Facing, HeightBand, Slope
from jagged_quilt.weights.medley import HARD, Heights, Medley, noises_of, shown_names, stops_of
from jagged_quilt.weights.settings import Stacking

_AT_ONCE = 4  # numbers in a sheet
WEIGHED = "WEIGHED"
"""What stands in the source for how many weights there are, until a blend says it."""
_KINDS = {NoiseKind.SMOOTH: 0, NoiseKind.BILLOWED: 1, NoiseKind.RIDGED: 2, NoiseKind.CELLULAR: 3}
_COMBINED = {
    Combine.MULTIPLY: "{0} * {1}",
    Combine.ADD: "min({0} + {1}, 1.0)",
    Combine.SUBTRACT: "max({0} - {1}, 0.0)",
    Combine.MAXIMUM: "max({0}, {1})",
    Combine.MINIMUM: "min({0}, {1})",
    Combine.DIFFERENCE: "abs({0} - {1})",
    Combine.MIX: "clamp({0} + {2} * ({1} - {0}), 0.0, 1.0)",
}


@dataclass(frozen=True, slots=True, eq=False)
class LiveWeights:
    """Weights as shader source.

    Attributes
    ----------
    source : str
        `weights_at(point, uv, weight)` and what it calls.
    names : tuple of str
        What it answers, in order: a layer each, or a swatch of its medley.
    sampled : tuple of Mask
        What the shader cannot work out: their answers stand in the sheets `sampled_0`, `sampled_1` …, four in each.
    adopted : tuple of str
        The layers whose adopted weights stand in the sheets `adopted_0` …, four in each.
    is_painted : bool
        Whether it reads `painted_weights`, where daubs lie, and the sheets of weights there.
    noise_quantiles : (K, S) float32
        Which share of space lies below a value of noise, a row for each kind; no rows where there is no noise.
    """

    __repr__ = short_repr

    source: str
    names: tuple[str, ...]
    sampled: tuple[Mask, ...]
    adopted: tuple[str, ...]
    is_painted: bool
    noise_quantiles: NDArray[np.float32]

    @property
    def sheets(self) -> int:
        """How many textures it reads."""
        own = _sheets(len(self.sampled)) + _sheets(len(self.adopted)) + bool(len(self.noise_quantiles))
        return own + (1 + _sheets(len(self.names)) if self.is_painted else 0)


def live_weights(
    layers: Sequence[Layer],
    *,
    stacking: Stacking | str = Stacking.COVER,
    adopted: Sequence[str] = (),
    painted: bool = False,
) -> LiveWeights:
    """Return the masks of layers as shader source.

    Worked out are height, slope, facing, noise, constants and what is combined of them; medleys too. The rest is read.

    Parameters
    ----------
    layers : sequence of Layer
        From the bottom up.
    adopted : sequence of str
        The layers that begin with adopted weights.
    painted : bool
        Whether daubs lie on them.

    Examples
    --------
    >>> live = jq.export.live_weights(layers)
    >>> live.names, live.sheets
    (('clay', 'salt'), 0)
    """
    return _MaskSource(layers, Stacking.of(stacking, "way of stacking"), tuple(adopted), painted).made()


@dataclass
class _MaskSource:
    """Weights while they are put together."""

    layers: Sequence[Layer]
    stacking: Stacking
    adopted: tuple[str, ...]
    painted: bool
    sampled: list[Mask] = field(default_factory=list)
    noises: list[tuple[Noise, bool]] = field(default_factory=list)
    tables: list[tuple[NoiseKind, int, int]] = field(default_factory=list)
    shared: dict[int, str] = field(default_factory=dict)
    lines: list[str] = field(default_factory=list)

    def made(self) -> LiveWeights:
        for number, layer in enumerate(self.layers):
            start = "1.0"
            if layer.name in self.adopted:
                index = self.adopted.index(layer.name)
                start = f"texture(adopted_{index // _AT_ONCE}, uv).{'rgba'[index % _AT_ONCE]}"
            answer = self._of(layer.mask) if layer.mask is not None and (number or layer.name in self.adopted) else ""
            value = f"{start} * {_closed(answer)}" if answer and start != "1.0" else answer or start
            self.lines.append(f"    answers[{number}] = {value};  // {layer.name}")
        shown = self._shown()
        names, sampled = shown_names(self.layers), tuple(self.sampled)
        tables = [noise_quantiles(*each) for each in self.tables]
        features = {
            "sampled": bool(sampled) or bool(self.adopted),
            "noise": bool(self.noises),
            "facing": any("facing_of" in line for line in [*self.lines, *shown]),
            "painted": self.painted,
        }
        samplers = [f"uniform sampler2D sampled_{n};" for n in range(_sheets(len(sampled)))]
        samplers += [f"uniform sampler2D adopted_{n};  // weights that were adopted" for n in range(_sheets(len(self.adopted)))]
        if self.painted:
            samplers.append("uniform sampler2D painted_weights;  // where daubs lie; and the weights there")
            samplers += [f"uniform sampler2D splat_{n};" for n in range(_sheets(len(names)))]
        features["sampled"] |= self.painted
        words = {
            "sampled_samplers": "\n".join(samplers),
            "sampled_count": str(max(1, len(sampled))),
            "sampled_reads": "\n".join(self._reads("sampled", "sampled_by_sheets", [mask.summary for mask in sampled])),
            "noises": str(len(self.noises)),
            "noise_rows": ",\n    ".join(self._noise_row(*each) for each in self.noises),
            "turn_2": _matrix(lattice_turn(2)),
            "turn_3": _matrix(lattice_turn(3)),
            "weighed": WEIGHED,
            "stacked": str(len(self.layers)),
            "answers": "\n".join(self.lines),
            "stacking": "\n".join(f"    {line}" for line in self._stacking()),
            "shown": "\n".join(f"    {line}" for line in shown),
            "painted_reads": "\n".join(self._painted(names)),
        }
        source = filled("masks.glsl", {name for name, there in features.items() if there}, words)
        quantiles = np.array([each[0] for each in tables], np.float32) if tables else np.zeros((0, 0), np.float32)
        return LiveWeights(source, names, sampled, self.adopted, self.painted, quantiles)

    def _of(self, mask: Mask) -> str:
        """What a mask says at a point, as source."""
        match mask:
            case Constant():
                return _number(mask.value)
            case Combined():
                parts = [_closed(self._of(each)) for each in (mask.below, mask.above)]
                return _COMBINED[mask.combine].format(*parts, _number(mask.amount))
            case Inverted():
                return f"1.0 - {_closed(self._of(mask.mask))}"
            case Cut():
                return self._stepped(self._of(mask.mask), mask.threshold, mask.range)
            case Levels():
                scale = _number(1 / (mask.white - mask.black))
                plain = f"clamp(({_closed(self._of(mask.mask))} - {_number(mask.black)}) * {scale}, 0.0, 1.0)"
                return plain if mask.gamma == 1 else f"pow({plain}, {_number(1 / mask.gamma)})"
            case Shared():
                return self._once(mask)
            case HeightBand():
                return f"banded(high, {_number(mask.low)}, {_number(mask.high)}, {_number(mask.fade)})"
            case Slope():
                return f"banded(slope, {_number(mask.low)}, {_number(mask.high)}, {_number(mask.fade)})"
            case Facing():
                sampled = ", ".join(_number(each) for each in (mask.bearing, mask.spread, mask.fade, mask.level))
                return f"facing_of(point.normal, {sampled})"
            case Noise():
                return self._stepped(self._noise(mask), mask.threshold, mask.range)
        if mask not in self.sampled:
            self.sampled.append(mask)
        return f"sampled_by_sheets[{self.sampled.index(mask)}]"

    def _once(self, mask: Shared) -> str:
        """A mask that stands in several places, worked out once."""
        if id(mask.mask) not in self.shared:
            value = self._of(mask.mask)
            self.shared[id(mask.mask)] = name = f"shared_{len(self.shared)}"
            self.lines.append(f"    float {name} = {value};  // {mask.name}")
        return self.shared[id(mask.mask)]

    @staticmethod
    def _stepped(value: str, threshold: float, over: float) -> str:
        return f"stepped({value}, {_number(threshold - over / 2)}, {_number(threshold + over / 2)})"

    def _noise(self, noise: Noise, *, even: bool = True) -> str:
        """The values of a noise, worked out once however often it stands there."""
        own = replace(noise, threshold=0.5, range=0.2)
        if (own, even) not in self.noises:
            self.noises.append((own, even))
            table = (own.kind, own.dimensions, own.octaves)
            if even and table not in self.tables:
                self.tables.append(table)
        return f"noises[{self.noises.index((own, even))}]"

    def _noise_row(self, noise: Noise, even: bool) -> str:
        table = (noise.kind, noise.dimensions, noise.octaves)
        row, low, steps = -1, 0.0, 0.0
        if even:
            quantiles, low, high = noise_quantiles(*table)
            row, steps = self.tables.index(table), (len(quantiles) - 1) / (high - low)
        how = f"ivec4({noise.octaves}, {noise.seed}, {noise.period}, {_KINDS[noise.kind]})"
        flat = int(noise.dimensions == 2)
        return f"Noise({_number(noise.size)}, {how}, ivec2({flat}, {row}), vec2({_number(low)}, {_number(steps)}))"

    def _stacking(self) -> list[str]:
        last = len(self.layers) - 1
        down, up = f"for (int which = {last}; which > 0; --which)", f"for (int which = 1; which <= {last}; ++which)"
        if self.stacking is Stacking.SHARE:
            less = f"{up} answers[which] *= total > 1.0 ? 1.0 / total : 1.0;"
            return ["float total = 0.0;", f"{up} total += answers[which];", less, "answers[0] = max(0.0, 1.0 - total);"]
        if not self.adopted:
            body = "{ answers[which] *= left; left -= answers[which]; }"
            return ["float left = 1.0;", f"{down} {body}", "answers[0] = max(left, 0.0);"]
        is_adopted = ", ".join(str(layer.name in self.adopted).lower() for layer in self.layers)
        return [  # adopted layers are ground that others cover
            f"bool is_adopted[{last + 1}] = bool[]({is_adopted});",
            "float ground = 1.0, left = 1.0;",
            f"{up} if (is_adopted[which]) ground -= answers[which];",
            "answers[0] = ground = max(ground, 0.0);",
            f"{up} if (is_adopted[which]) ground += answers[which];",
            f"{down} {{",
            "    if (is_adopted[which]) {",
            "        ground -= answers[which];",
            "        answers[which] *= left;",
            "    } else {",
            "        float mask = answers[which];",
            "        answers[which] = mask * max(ground, 0.0) * left;",
            "        left *= 1.0 - mask;",
            "    }",
            "}",
            "answers[0] *= left;",
        ]

    def _shown(self) -> list[str]:
        lines, at = [], 0
        for number, layer in enumerate(self.layers):
            if layer.medley is None:
                lines.append(f"weight[{at}] = answers[{number}];  // {layer.name}")
                at += 1
                continue
            lines += [f"{{  // {layer.name}", *(f"    {line}" for line in self._turns(layer.medley, number, at)), "}"]
            at += len(layer.medley.swatches)
        return lines

    def _turns(self, medley: Medley, number: int, at: int) -> list[str]:
        count = len(medley.swatches)
        each = f"for (int turn = 0; turn < {count}; ++turn)"
        if isinstance(medley.by, Noise):
            values = ", ".join(self._noise(noise) for noise in noises_of(medley.by, count))
            lines = [f"float turns[{count}] = float[]({values});", "float top = 0.0, sum = 0.0;"]
            lines.append(f"{each} top = max(top, turns[turn]);")
            if medley.softness < HARD:
                lines.append(f"{each} {{ turns[turn] = turns[turn] == top && sum == 0.0 ? 1.0 : 0.0; sum += turns[turn]; }}")
            else:
                body = f"turns[turn] = max({_number(medley.softness)} - top + turns[turn], 0.0); sum += turns[turn];"
                lines.append(f"{each} {{ {body} }}")
            return [*lines, f"{each} weight[{at} + turn] = answers[{number}] * turns[turn] / sum;"]
        if isinstance(medley.by, Heights):
            value = "high"
            if medley.by.wobble:
                noise = self._noise(Noise(size=medley.by.size, octaves=3), even=False)
                value = f"high + ({noise} - 0.5) * {_number(2 * medley.by.wobble)}"
        else:
            value = self._of(medley.by)
        stops = ", ".join(_number(float(stop)) for stop in stops_of(medley))
        over = "part >= 0.5 ? 1.0 : 0.0"
        if medley.softness >= HARD:
            over = f"clamp((part - 0.5) / {_number(medley.softness)} + 0.5, 0.0, 1.0)"
        return [
            f"float goes_by = {value}, stops[{count}] = float[]({stops});",
            "int upper = 1;",
            f"for (int stop = 1; stop < {count - 1}; ++stop) if (goes_by >= stops[stop]) upper = stop + 1;",
            "float part = (goes_by - stops[upper - 1]) / (stops[upper] - stops[upper - 1]);",
            f"float over = {over};",
            f"{each} weight[{at} + turn] = answers[{number}] * (turn == upper ? over : turn == upper - 1 ? 1.0 - over : 0.0);",
        ]

    @staticmethod
    def _reads(sheet: str, target: str, words: Sequence[str]) -> list[str]:
        lines = [f"    vec4 {sheet}_sheet_{n} = texture({sheet}_{n}, uv);" for n in range(_sheets(len(words)))]
        for number, said in enumerate(words):
            value = f"{sheet}_sheet_{number // _AT_ONCE}.{'rgba'[number % _AT_ONCE]}"
            lines.append(f"    {target}[{number}] = {value};  // {said}")
        return lines or [f"    {target}[0] = 0.0;"]

    @staticmethod
    def _painted(names: Sequence[str]) -> list[str]:
        lines = []
        for sheet in range(_sheets(len(names))):
            lines.append(f"    vec4 sheet_{sheet} = texture(splat_{sheet}, uv);")
            for index in range(_AT_ONCE * sheet, min(_AT_ONCE * (sheet + 1), len(names))):
                left = f"sheet_{sheet}.{'rgba'[index % _AT_ONCE]}"
                lines.append(f"    weight[{index}] = mix(weight[{index}], {left}, painted);  // {names[index]}")
        return lines


def _sheets(count: int) -> int:
    return -(-count // _AT_ONCE)


def _number(value: float) -> str:
    """A number as source has it."""
    if not np.isfinite(value):
        raise RangeError(f"a mask goes by {value}, which a shader does not take")
    text = str(np.float32(value))
    return text if "." in text or "e" in text else f"{text}.0"


def _closed(value: str) -> str:
    """Source within brackets where what stands around it would take it apart."""
    return f"({value})" if value.startswith("1.0 - ") else value


def _matrix(turn: NDArray[np.float64]) -> str:
    """A 3 x 3 matrix as source, by columns."""
    return f"mat3({', '.join(_number(float(each)) for each in turn.T.ravel())})"
