"""A blend as shader source: from its plan, and only what the plan uses.

The source stands in `shaders/` (see `shader_text.filled`).
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.mips import level_count
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend import _rows as k
from jagged_quilt.blend.film import Film
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.plan import BlendPlan, opened
from jagged_quilt.blend.projection import Filter
from jagged_quilt.export.mask_shader import WEIGHED, LiveWeights
from jagged_quilt.export.shader_arrays import FileArray, by_files
from jagged_quilt.export.shader_block import blend_block
from jagged_quilt.export.shader_lines import (
    COSTS_NOTHING,
    SLOPES,
    add_texel,
    cost,
    far_lines,
    finish,
    from_pairs,
    from_sheets,
    height_of,
    mix_look,
    output_of,
)
from jagged_quilt.export.shader_text import filled
from jagged_quilt.foundation.choices import Choice, Wrap
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.files import written_together
from jagged_quilt.maps.roles import MapRole

_TYPES = {1: "float", 3: "vec3"}
_BY_NUMBER = 256  # layers that eight bits tell apart
_UNITS = 16  # textures that a fragment shader of OpenGL ES 3.0 may bind at least


class Dialect(Choice):
    """The dialects of shader source: OpenGL 3.30, and OpenGL ES 3.00."""

    GLSL = "glsl"
    ESSL = "essl"


_HIGH = "".join(f"precision highp {each};\n" for each in ("float", "int", "sampler2D", "sampler2DArray"))
HEADS = {Dialect.GLSL: "#version 330 core\n", Dialect.ESSL: f"#version 300 es\n{_HIGH}"}
"""How a file of each dialect begins."""


class Weights(Choice):
    """Where the shader has weights from: sheets of four layers, four numbers and four weights, or masks that it works out."""

    SPLAT = "splat"
    PAIRS = "pairs"
    LIVE = "live"


class Filtering(Choice):
    """Who filters texels: the sampler, or the shader itself, exactly (for tests and for pictures to compare by)."""

    SAMPLER = "sampler"
    EXACT = "exact"


@dataclass(frozen=True, slots=True, eq=False)
class BlendShader:
    """A blend as shader source, with what its uniform block holds.

    Attributes
    ----------
    source : str
        Functions, after the dialect's first lines: `blend(point, weight)`, `weights_at(uv, weight)`, and all below them.
    vertex, fragment : str
        A small program that draws the ground with them.
    block : bytes
        The uniform block `Blend`, by the rules of std140.
    samplers : tuple of str
        What the samplers of the arrays are called.
    arrays : tuple of str
        The array that each of them is bound to.
    layers : tuple of str
        What the weights name, in order.
    left_out : tuple of str
        What the blend has and the shader has not, and what stands in, a line each.
    cost : tuple of str
        How many samples a pixel takes, and what is bound, a line each; the source says it too.
    members : tuple of (str, int, str)
        What lies where in the block: a path, bytes from its beginning, and its type.
    outputs : tuple of MapRole
        What `blend` answers.
    parts : (set of str, dict of str)
        What the blend has, and what is filled in where its source says so: for programs around it.
    """

    source: str
    vertex: str
    fragment: str
    block: bytes
    samplers: tuple[str, ...]
    arrays: tuple[str, ...]
    layers: tuple[str, ...]
    left_out: tuple[str, ...]
    cost: tuple[str, ...]
    members: tuple[tuple[str, int, str], ...] = field(repr=False)
    outputs: tuple[MapRole, ...]
    parts: tuple[frozenset[str], dict[str, str]] = field(repr=False)

    def averaging(self, planes: float) -> BlendShader:
        """Return the same that also says how many planes of layers a pixel reads on average, as a survey counts them."""
        said = lambda text: text.replace(COSTS_NOTHING, f"{COSTS_NOTHING}: {planes:.1f} on average over the ground")
        return replace(self, source=said(self.source), cost=tuple(map(said, self.cost)))


def blend_shader(
    arrays: TextureArrays,
    layers: Sequence[Layer] | BlendPlan,
    *,
    dialect: Dialect | str = Dialect.GLSL,
    filtering: Filtering | str = Filtering.SAMPLER,
    weights: Weights | LiveWeights | str = Weights.SPLAT,
    filter: Filter | str = Filter.TRILINEAR,
    films: Sequence[Film] = (),
    title: str = "A blend",
) -> BlendShader:
    """Return a blend as shader source.

    Parameters
    ----------
    arrays, layers, films, filter
        As for `Blend`; in place of layers a plan may stand, which tells films and filter too.
    dialect : "glsl" or "essl"
        OpenGL 3.30, or OpenGL ES 3.00.
    filtering : "sampler" or "exact"
    weights : "splat", "pairs" or LiveWeights
        Which of the exports of weights it reads: a texture for four layers, or two for any number up to 256; or masks.

    Raises
    ------
    RangeError
        If it binds more textures than the dialect promises.
    QuiltError
        What `Blend` refuses.

    Examples
    --------
    >>> shader = jq.export.blend_shader(arrays, layers)
    >>> "vec3" in shader.source
    True
    """
    if not isinstance(layers, BlendPlan):
        layers = BlendPlan.of(layers, opened(arrays, layers), filter=filter, films=films)
    plan, held = by_files(layers, arrays)
    live = weights if isinstance(weights, LiveWeights) else None
    form = Weights.LIVE if live else Weights.of(str(weights), "form of weights")
    if form is Weights.LIVE and live is None:
        raise RangeError("for masks that the shader works out give it jq.export.live_weights(layers)")
    choices = Dialect.of(dialect, "dialect"), Filtering.of(filtering, "way to filter"), form, live
    return _ShaderSource(plan, arrays, held, *choices, title).made()


def write_shader(shader: BlendShader, folder: Path | str) -> list[Path]:
    """Write `blend.glsl`, `ground.vert` and `ground.frag` that draw the ground with it, the uniform block `blend.bin`, and
    `blend.json` that tells what lies where in it.

    Examples
    --------
    >>> [path.name for path in jq.export.write_shader(jq.export.blend_shader(arrays, layers), "shader")]
    ['blend.glsl', 'ground.vert', 'ground.frag', 'blend.bin', 'blend.json']
    """
    folder = Path(folder)
    manifest = {
        "layers": list(shader.layers),
        "samplers": {name: f"{array}.ktx2" for name, array in zip(shader.samplers, shader.arrays, strict=True)},
        "block": "Blend",
        "bytes": len(shader.block),
        "members": [{"name": name, "offset": offset, "type": kind} for name, offset, kind in shader.members],
        "left_out": list(shader.left_out),
    }
    with written_together(folder) as stage:
        for name, text in (("blend.glsl", shader.source), ("ground.vert", shader.vertex), ("ground.frag", shader.fragment)):
            (stage / name).write_text(text, encoding="utf-8")
        (stage / "blend.bin").write_bytes(shader.block)
        (stage / "blend.json").write_text(json.dumps(manifest, indent=2, ensure_ascii=False) + "\n", encoding="utf-8")
    return [folder / name for name in ("blend.glsl", "ground.vert", "ground.frag", "blend.bin", "blend.json")]


@dataclass
class _ShaderSource:
    """A shader while it is put together."""

    plan: BlendPlan
    arrays: TextureArrays
    held: tuple[FileArray, ...]
    dialect: Dialect
    filtering: Filtering
    weights: Weights
    live: LiveWeights | None
    title: str
    left_out: list[str] = field(default_factory=list)

    def made(self) -> BlendShader:
        near = self.layers[: len(self.plan.names)]
        for layer in near:
            lie = layer.projection
            if lie.warp is not None:
                self.left_out.append(f'layer "{layer.name}": its warp; it lies unbent')
            if layer.tuning.vertex_colour:
                self.left_out.append(f'layer "{layer.name}": vertex colours, which would multiply its diffuse')
        held = self.held
        bound = len(held) + self.sheets + len(self.plan.films)
        if bound > _UNITS and self.dialect is Dialect.ESSL:
            raise RangeError(
                f"the shader binds {len(held)} arrays, {self.sheets} sheets of weights and {len(self.plan.films)} films; "
                f'OpenGL ES promises {_UNITS} textures: take weights = "pairs" (--weights pairs), merge layers, or choose GLSL'
            )
        if self.weights is Weights.PAIRS and len(near) > _BY_NUMBER:
            raise RangeError(f"pairs of more than {_BY_NUMBER} layers have numbers of 16 bits, which the shader does not read")
        block, members = blend_block(self.plan, self.arrays, self.features, held)
        words = self._words()
        words["point"] = filled("point.glsl", self.features, words)
        source = HEADS[self.dialect] + filled("blend.glsl", self.features, words)
        return BlendShader(
            source=source,
            vertex=HEADS[self.dialect] + filled("ground.vert", self.features, words),
            fragment=source + "\n" + filled("ground.frag", self.features, words),
            outputs=tuple(each.role for each in self.plan.outputs),
            parts=(self.features, words),
            block=block,
            samplers=tuple(each.name for each in held),
            arrays=tuple(each.layout.name for each in held),
            layers=self.plan.names,
            left_out=tuple(self.left_out),
            cost=tuple(self._cost()),
            members=members,
        )

    def _weights_source(self, count: str) -> str:
        """Where weights come from, as source."""
        if self.live is not None:
            return self.live.source.replace(WEIGHED, count)
        return (from_pairs if self.weights is Weights.PAIRS else from_sheets)(self.plan.names, count)

    @property
    def sheets(self) -> int:
        """How many textures hold weights."""
        if self.live is not None:
            return self.live.sheets
        return 2 if self.weights is Weights.PAIRS else -(-len(self.plan.names) // 4)

    @property
    def layers(self) -> tuple[Layer, ...]:
        """Those that weights name, then what stands for some of them far away."""
        return self.plan.layers

    @property
    def rows(self) -> NDArray[np.void]:
        return self.plan.layer_rows

    @cached_property
    def features(self) -> frozenset[str]:
        """What the blend has, by the words of the source."""
        rows, mappings = self.rows, self.plan.mapping_rows
        flat, uv = mappings["kind"] == k.FLAT, mappings["kind"] == k.BY_UV
        exact = self.filtering is Filtering.EXACT
        folds = any(each.projection.wraps != (Wrap.REPEAT, Wrap.REPEAT) for each in self.layers)
        has = {
            "exact": exact,
            "sampler": not exact,
            "folds": folds,
            "fine": not exact and bool((rows["filter"] == k.ANISOTROPIC).any()),
            "nearest": bool((rows["filter"] == k.NEAREST).any()),
            "flat": bool(flat.any()),
            "uv": bool(uv.any()),
            "round": bool((~flat & ~uv).any()),
            "ways": bool((uv & (mappings["cheap"] > 0)).any()),
            "box": bool((rows["planes"] == k.FACED_MOST).any()),
            "limited": bool((mappings["slope_from"] <= 1).any() or (mappings["far"] > 0).any()),
            "cheap": bool((mappings["cheap"] > 0).any()),
            "shuffle": bool((rows["patch_size"] > 0).any()),
            "per_map": bool(len(self.plan.groups)),
            "together": not self.plan.groups,
            "many": len(self.held) > 4,
            "whole": not (rows["patch_size"] > 0).any(),
            "meets": any(layer.meets for layer in self.layers),
            "films": bool(self.plan.films),
            "far": bool((self.plan.far >= 0).any()),
            "coat_normal": output_of(self.plan, MapRole.COAT_NORMAL) is not None,
        }
        return frozenset(name for name, there in has.items() if there)

    def _cost(self) -> list[str]:
        return cost(self.plan, self.arrays, self.held, self.sheets)

    def _words(self) -> dict[str, str]:
        """What is filled in."""
        held = self.held
        plan, count, has_far = self.plan, len(self.plan.layers), "far" in self.features
        outputs = plan.outputs
        looks = [
            (SLOPES.get(o.role) or o.role.key, 3 if o.role in SLOPES else o.role.value.channels) for o in outputs if o.array
        ]
        zero = lambda names: ", ".join("vec3(0.0)" if size == 3 else "0.0" for _, size in names)
        sizes = [(each.role.key, each.role.value.channels) for each in outputs]
        film, steps = bool(plan.films), ", steps" if "fine" in self.features else ""
        return {
            "title": f"{self.title}: {len(plan.names)} layers as a shader",
            "named": str(len(plan.names)),
            "steps_parameter": ", vec4 steps" if "fine" in self.features else "",
            "steps_argument": ", steps" if "fine" in self.features else "",
            "weighed": "NAMED" if has_far else "LAYERS",
            "given": "given" if has_far else "weight",
            "far_lines": far_lines(plan),
            "film_argument": ", film" if film else "",
            "film_parameter": ", float film[FILMS]" if film else "",
            "films": str(len(plan.films)),
            "film_samplers": "\n".join(
                f"uniform sampler2D film_{n};  // how much there is of it" for n in range(len(plan.films))
            ),
            "film_reads": "\n".join(f"    film[{n}] = texture(film_{n}, uv).r;" for n in range(len(plan.films))),
            "cost": "\n".join(f"// {line}" for line in self._cost()),
            "layers": str(count),
            "charts": str(len(plan.mapping_rows)),
            "samplers": "\n".join(f"uniform sampler2DArray {each.name};  // {each.words}" for each in held),
            "means": "\n".join(f"    vec4 mean_{each.name};" for each in held),
            "pair_rows": str(-(-count // 4)),
            "outputs": "\n".join(f"    {_TYPES[size]} {name};" for name, size in sizes),
            "texel_fields": "\n".join(f"    vec4 {each.name};" for each in held),
            "look_fields": "\n".join(f"    {_TYPES[size]} {name};" for name, size in looks),
            "no_look": f"Look({zero(looks)})",
            "nothing": f"Blended({zero(sizes)})",
            "last_level": str(level_count(self.arrays.side) - 1),
            "lower_level": str(max(0, level_count(self.arrays.side) - 2)),
            "side": str(self.arrays.side),
            "levels": str(level_count(self.arrays.side)),
            "texel_reads": "\n".join(
                f"    texel.{each.name} = read({each.name}, {str(each.layout.srgb).lower()}, layer, "
                f"layers[layer].{'slices' if number < 4 else 'more_slices'}[{number % 4}], uv, level{steps});"
                for number, each in enumerate(held)
            ),
            "only_y": str(k.ONLY_Y),
            "only_z": str(k.ONLY_Z),
            "faced_most": str(k.FACED_MOST),
            "plane_cut": f"{k.PLANE_CUT:g}",
            "add_texel": add_texel(plan, held),
            "seed": str(k.SEED),
            "any_turn": str(k.ANY),
            "quarter_turn": str(k.QUARTER),
            "flips": str(k.FLIPS),
            "shifts": str(k.SHIFTS),
            "mean_texel": "\n".join(f"            mean.{each.name} = layers[layer].mean_{each.name};" for each in held),
            "uv_kind": str(k.BY_UV),
            "flat_kind": str(k.FLAT),
            "sphere_kind": str(k.SPHERE),
            "disc_kind": str(k.DISC),
            "groups": str(len(plan.groups)),
            "height_of": height_of(plan),
            "mix_look": mix_look(plan),
            "finish": finish(plan),
            "weights_at": "weights_at(point, uv, weight)" if self.live else "weights_at(uv, weight)",
            "weights": self._weights_source("NAMED" if has_far else "LAYERS"),
        }
