"""A blend as shader source: from its plan, and only what the plan uses.

The source stands in `shaders/`. Lines between `//?word` and `//.` are kept if the blend has the feature of that word; what
stands in double braces is filled in here.
"""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from importlib import resources
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.layout import Layout
from jagged_quilt.arrays.mips import level_count
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend import _rows as k
from jagged_quilt.blend import _seat_kernels as seats
from jagged_quilt.blend._chart_kernels import DISC_CHART, FLAT_CHART, PLANE_CUT, SPHERE_CHART, UV_CHART
from jagged_quilt.blend.film import Film
from jagged_quilt.blend.layer import Layer
from jagged_quilt.blend.plan import BlendPlan, Output, opened
from jagged_quilt.blend.projection import Filter, Wrap
from jagged_quilt.blend.tuning import AS_IT_IS
from jagged_quilt.foundation.choices import Choice
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.files import written_together
from jagged_quilt.foundation.loose import Facts
from jagged_quilt.maps.roles import MapRole

_R = MapRole
_TYPES = {1: "float", 3: "vec3"}
_SLOPES = {_R.NORMAL: "slope", _R.COAT_NORMAL: "coat_slope"}
_UNITS = 16  # textures that a fragment shader of OpenGL ES 3.0 may bind at least
_FLATTEST = 128  # a normal map's z counts as 1 / this at least, as in the kernel


class Dialect(Choice):
    """The dialects of shader source: OpenGL 3.30, and OpenGL ES 3.00."""

    GLSL = "glsl"
    ESSL = "essl"


_HIGH = "".join(f"precision highp {each};\n" for each in ("float", "int", "sampler2D", "sampler2DArray"))
_HEADS = {Dialect.GLSL: "#version 330 core\n", Dialect.ESSL: f"#version 300 es\n{_HIGH}"}
"""How a file of each dialect begins."""


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
        The arrays that are bound, each by its name.
    layers : tuple of str
        What the weights name, in order.
    left_out : tuple of str
        What the blend has and the shader has not, and what stands in, a line each.
    members : tuple of (str, int, str)
        What lies where in the block: a path, bytes from its beginning, and its type.
    """

    source: str
    vertex: str
    fragment: str
    block: bytes
    samplers: tuple[str, ...]
    layers: tuple[str, ...]
    left_out: tuple[str, ...]
    members: tuple[tuple[str, int, str], ...] = field(repr=False)


def blend_shader(
    arrays: TextureArrays,
    layers: Sequence[Layer],
    *,
    dialect: Dialect | str = Dialect.GLSL,
    filtering: Filtering | str = Filtering.SAMPLER,
    filter: Filter | str = Filter.TRILINEAR,
    films: Sequence[Film] = (),
    title: str = "A blend",
) -> BlendShader:
    """Return a blend as shader source.

    Parameters
    ----------
    arrays, layers, films, filter
        As for `Blend`.
    dialect : "glsl" or "essl"
        OpenGL 3.30, or OpenGL ES 3.00.
    filtering : "sampler" or "exact"

    Raises
    ------
    RangeError
        If it binds more textures than the dialect promises.
    QuiltError
        What `Blend` refuses.
    """
    plan = BlendPlan.of(layers, opened(arrays, layers), filter=filter, films=films)
    making = _Making(plan, arrays, Dialect.of(dialect, "dialect"), Filtering.of(filtering, "way to filter"), title)
    return making.made()


def write_shader(folder: Path | str, shader: BlendShader) -> list[Path]:
    """Write `blend.glsl`, `ground.vert` and `ground.frag` that draw the ground with it, the uniform block `blend.bin`, and
    `blend.json` that tells what lies where in it."""
    folder = Path(folder)
    told = {
        "layers": list(shader.layers),
        "samplers": list(shader.samplers),
        "block": "Blend",
        "bytes": len(shader.block),
        "members": [{"name": name, "offset": offset, "type": kind} for name, offset, kind in shader.members],
        "left_out": list(shader.left_out),
    }
    with written_together(folder) as stage:
        for name, text in (("blend.glsl", shader.source), ("ground.vert", shader.vertex), ("ground.frag", shader.fragment)):
            (stage / name).write_text(text, encoding="utf-8")
        (stage / "blend.bin").write_bytes(shader.block)
        (stage / "blend.json").write_text(json.dumps(told, indent=2, ensure_ascii=False) + "\n", encoding="utf-8")
    return [folder / name for name in ("blend.glsl", "ground.vert", "ground.frag", "blend.bin", "blend.json")]


@dataclass
class _Making:
    """A shader while it is put together."""

    plan: BlendPlan
    arrays: TextureArrays
    dialect: Dialect
    filtering: Filtering
    title: str
    left_out: list[str] = field(default_factory=list)

    def made(self) -> BlendShader:
        near = self.layers
        for layer in near:
            lie = layer.projection
            if lie.warp is not None:
                self.left_out.append(f'layer "{layer.name}": its warp; it lies unbent')
            if layer.far is not None:
                self.left_out.append(f'layer "{layer.name}": what stands for it far away; it lies as near by')
        held = [layout for layout in self.plan.layouts if any(each.array == layout.name for each in self.plan.outputs)]
        sheets = -(-len(near) // 4)
        if len(held) + sheets > _UNITS and self.dialect is Dialect.ESSL:
            raise RangeError(
                f"the shader binds {len(held)} arrays and {sheets} sheets of weights; OpenGL ES promises {_UNITS} textures: "
                "merge layers, or ask for another dialect"
            )
        block, members = _block(self._tables())
        words = self._words(held)
        source = _HEADS[self.dialect] + self._filled("blend.glsl", words)
        return BlendShader(
            source=source,
            vertex=_HEADS[self.dialect] + self._filled("ground.vert", words),
            fragment=source + "\n" + self._filled("ground.frag", words),
            block=block,
            samplers=tuple(each.name for each in held),
            layers=self.plan.names,
            left_out=tuple(self.left_out),
            members=members,
        )

    def _filled(self, name: str, words: dict[str, str]) -> str:
        """A source with what the blend has, and nothing else."""
        text = _kept(resources.files("jagged_quilt.export").joinpath(f"shaders/{name}").read_text("utf-8"), self.features)
        source = re.sub(r"\{\{(\w+)\}\}", lambda found: words[found[1]], text)
        return re.sub(r"\n{3,}", "\n\n", source).strip("\n") + "\n"

    @property
    def layers(self) -> tuple[Layer, ...]:
        """Those that weights name; what stands for them far away is left out."""
        return self.plan.layers[: len(self.plan.names)]

    @property
    def rows(self) -> NDArray[np.void]:
        return self.plan.layer_rows[: len(self.plan.names)]

    @property
    def features(self) -> frozenset[str]:
        """What the blend has, by the words of the source."""
        rows, charts = self.rows, self.plan.chart_rows
        flat, uv = charts["kind"] == FLAT_CHART, charts["kind"] == UV_CHART
        exact = self.filtering is Filtering.EXACT
        folds = any(each.projection.wraps != (Wrap.REPEAT, Wrap.REPEAT) for each in self.layers)
        has = {
            "exact": exact,
            "sampler": not exact,
            "folds": folds,
            "nearest": bool((rows["filter"] == k.NEAREST).any()),
            "flat": bool(flat.any()),
            "uv": bool(uv.any()),
            "round": bool((~flat & ~uv).any()),
            "ways": bool((uv & (charts["cheap"] > 0)).any()),
            "box": bool((rows["planes"] == k.FACED_MOST).any()),
            "limited": bool((charts["slope_from"] <= 1).any() or (charts["far"] > 0).any()),
            "cheap": bool((charts["cheap"] > 0).any()),
            "shuffle": bool((rows["patch_size"] > 0).any()),
            "apart": bool(len(self.plan.groups)),
            "together": not self.plan.groups,
            "whole": not (rows["patch_size"] > 0).any(),
            "meets": any(layer.meets for layer in self.layers),
            "films": bool(self.plan.films),
            "coat_normal": self._output(_R.COAT_NORMAL) is not None,
        }
        return frozenset(name for name, there in has.items() if there)

    def _output(self, role: MapRole) -> Output | None:
        return next((each for each in self.plan.outputs if each.role is role), None)

    def _words(self, held: list[Layout]) -> dict[str, str]:
        """What is filled in."""
        plan, count = self.plan, len(self.plan.names)
        outputs = plan.outputs
        looks = [
            (_SLOPES.get(o.role) or o.role.key, 3 if o.role in _SLOPES else o.role.value.channels) for o in outputs if o.array
        ]
        zero = lambda names: ", ".join("vec3(0.0)" if size == 3 else "0.0" for _, size in names)
        sizes = [(each.role.key, each.role.value.channels) for each in outputs]
        film = bool(plan.films)
        return {
            "title": f"{self.title}: {count} layers as a shader",
            "film_argument": ", film" if film else "",
            "film_parameter": ", float film[FILMS]" if film else "",
            "films": str(len(plan.films)),
            "film_samplers": "\n".join(
                f"uniform sampler2D film_{n};  // how much there is of it" for n in range(len(plan.films))
            ),
            "film_reads": "\n".join(f"    film[{n}] = texture(film_{n}, uv).r;" for n in range(len(plan.films))),
            "cost": self._cost(held),
            "layers": str(count),
            "charts": str(len(plan.chart_rows)),
            "samplers": "\n".join(f"uniform sampler2DArray {each.name};  // {_held(each)}" for each in held),
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
            "slices": str(len(self.arrays.names)),
            "texel_reads": "\n".join(
                f"    texel.{each.name} = read({each.name}, {str(each.srgb).lower()}, layer, uv, level);" for each in held
            ),
            "only_y": str(k.ONLY_Y),
            "only_z": str(k.ONLY_Z),
            "faced_most": str(k.FACED_MOST),
            "plane_cut": f"{PLANE_CUT:g}",
            "add_texel": self._add_texel(),
            "seed": str(seats.SEED),
            "any_turn": str(seats.ANY),
            "quarter_turn": str(seats.QUARTER),
            "flips": str(seats.FLIPS),
            "shifts": str(seats.SHIFTS),
            "mean_texel": "\n".join(f"            mean.{each.name} = layer.mean_{each.name};" for each in held),
            "uv_kind": str(UV_CHART),
            "flat_kind": str(FLAT_CHART),
            "sphere_kind": str(SPHERE_CHART),
            "disc_kind": str(DISC_CHART),
            "groups": str(len(plan.groups)),
            "height_of": self._height_of(),
            "mix_look": self._mix_look(),
            "finish": self._finish(),
            "weights": _weights(plan.names),
        }

    def _cost(self, held: list[Layout]) -> str:
        """How many samples a pixel takes at most, and what is bound."""
        lines, most = [], 0
        for number, (layer, row) in enumerate(zip(self.layers, self.rows, strict=True)):
            planes = 3 if row["planes"] == k.SHARED and self.plan.chart_rows[row["chart"]]["kind"] == FLAT_CHART else 1
            laid = planes * (3 if row["patch_size"] > 0 else 1)
            apart = planes * int((self.plan.apart_rows[:, number] >= 0).sum()) if len(self.plan.groups) else 0
            places = f"{laid + apart} place{'s' if laid + apart > 1 else ''}"
            lines.append(f"//   {number:>3}  {layer.name}: {layer.projection.called}, at most {places} to read")
            most += laid + apart
        size = sum(np.prod(self.arrays.level(each.name, 0).shape) * 4 / 3 for each in held) / (1 << 20)
        lines.append(
            f"// Where all layers show, {most} places, each of {len(held)} arrays, twice: for heights, and for the rest of it;"
        )
        lines.append("// a layer without weight costs nothing.")
        lines.append(
            f"// Bound are {len(held)} arrays, {size:.0f} MiB as 8 bits, and {-(-len(self.layers) // 4)} sheets of weights."
        )
        return "\n".join(lines)

    def _read(self, output: Output) -> str:
        """An output's values in a texel."""
        letters = "".join("rgba"[channel] for channel in output.channels)
        layout = next(each for each in self.plan.layouts if each.name == output.array)
        inverted = layout.channels[output.channels[0]].inverted
        return f"{'1.0 - ' if inverted else ''}texel.{output.array}.{letters}"

    def _if_of_group(self, role: MapRole) -> str:
        """When a texel of a group of maps counts for a role."""
        group = next((number for number, roles in enumerate(self.plan.groups) if role in roles), None)
        if group is not None:
            return f"if (group == {group} || (group < 0 && layer.apart[{group}] < 0)) "
        return "if (group < 0) " if self.plan.groups else ""

    def _add_texel(self) -> str:
        tuned = any(layer.tuning != AS_IT_IS for layer in self.layers)
        lines = ["// Add what a texel says to what a layer shows.", "void add_texel("]
        lines[-1] += "inout Look look, Layer layer, Texel texel, vec3 along_u, vec3 along_v, float share, int group) {"
        for output in self.plan.outputs:
            role, when = output.role, self._if_of_group(output.role)
            if not output.array:
                continue
            value = self._read(output)
            if role in _SLOPES:
                name = _SLOPES[role]
                lines += [
                    f"    vec2 {name} = 2.0 * ({value}) - 1.0;",
                    f"    float {name}_z = max(sqrt(max(0.0, 1.0 - dot({name}, {name}))), {1 / _FLATTEST});",
                    f"    {when}look.{name} += share * ({name}.x * along_u - {name}.y * along_v) / {name}_z;",
                ]
                continue
            if tuned and role is _R.DIFFUSE:
                lines.append(f"    vec3 diffuse = {value};")
                value = "vec3(dot(layer.red.rgb, diffuse), dot(layer.green.rgb, diffuse), dot(layer.blue.rgb, diffuse))"
                value = f"clamp({value}, 0.0, 1.0)"
            elif tuned and role is _R.ROUGHNESS:
                value = f"clamp({value} + layer.tunes.y, 0.0, 1.0)"
            elif tuned and role is _R.OCCLUSION:
                value = f"clamp(1.0 - layer.tunes.z * (1.0 - {value}), 0.0, 1.0)"
            elif value.startswith("1.0 -"):
                value = f"({value})"
            lines.append(f"    {when}look.{role.key} += share * {value};")
        return "\n".join([*lines, "}"])

    def _height_of(self) -> str:
        held = self._output(_R.HEIGHT)
        high = "look_of(which, point).height" if held is not None and held.array else f"{_R.HEIGHT.value.neutral[0]}"
        return f"    return {high} * layers[which].meets.y + layers[which].meets.z;"

    def _mix_look(self) -> str:
        lines = []
        for output in self.plan.outputs:
            name = output.role.key
            if output.role is _R.NORMAL:
                lines += ["slope += share * layers[which].tunes.x * look.slope;"] if output.array else []
            elif output.role is _R.COAT_NORMAL:
                lines += ["coat_slope += share * look.coat_slope;"] if output.array else []
            elif output.role is _R.HEIGHT:
                own = "look.height" if output.array else f"{_R.HEIGHT.value.neutral[0]}"
                lines.append(f"total.height += share * layers[which].meets.y * {own};")
            elif output.array:
                lines.append(f"total.{name} += share * look.{name};")
        return "\n".join(f"        {line}" for line in lines)

    def _finish(self) -> str:
        """What becomes of the sums: shares of 1, what no array holds, films, and the tilted normals."""
        lines = []
        for output in self.plan.outputs:
            name, neutral = output.role.key, output.role.value.neutral
            if output.role in _SLOPES:
                lines.append(f"{_SLOPES[output.role]} /= whole;")
            elif output.array or output.role is _R.HEIGHT:
                lines.append(f"total.{name} /= whole;")
            else:
                told = ", ".join(f"{each:g}" if "." in f"{each:g}" else f"{each:g}.0" for each in neutral)
                lines.append(f"total.{name} = {f'vec3({told})' if len(neutral) == 3 else told};  // no array holds it")
        if self.plan.films:
            lines.append("for (int which = 0; which < FILMS; ++which) lay_film(which, film[which], total, slope);")
        lines += [
            f"total.{role.key} = normalize(point.normal + {slope} - dot({slope}, point.normal) * point.normal);"
            for role, slope in _SLOPES.items()
            if self._output(role) is not None
        ]
        return "\n".join(f"    {line}" for line in lines)

    def _tables(self) -> list[tuple[str, NDArray[np.void]]]:
        """The members of the uniform block, in order."""
        tables = [("layers", self._layer_table()), ("charts", self._chart_table())]
        count = len(self.plan.names)
        if "meets" in self.features:
            pairs = np.zeros((count, -(-count // 4) * 4), "<f4")
            pairs[:, :count] = self.plan._pairs()[:count, :count]
            tables.append(("hardness_between", pairs.reshape(-1, 4).view([("", "<f4", 4)])[:, 0]))
        if self.plan.films:
            looks = np.zeros((4 * len(self.plan.films), 4), "<f4")
            for number, film in enumerate(self.plan.films):
                looks[4 * number] = (*film.tint, film.softness)
                looks[4 * number + 1] = (*(film.colour or (0.0, 0.0, 0.0)), film.hides)
                looks[4 * number + 2] = (film.roughness or 0.0, film.specular or 0.0, film.level, film.hollows)
                looks[4 * number + 3] = (film.colour is not None, film.roughness is not None, film.specular is not None, 0)
            tables.append(("film_looks", looks.view([("", "<f4", 4)])[:, 0]))
        return tables

    def _layer_table(self) -> NDArray[np.void]:
        rows, features = self.rows, self.features
        held = [layout for layout in self.plan.layouts if any(each.array == layout.name for each in self.plan.outputs)]
        fields = [("which", "<i4"), ("ways", "<i4")]
        fields += [(name, "<f4") for name in ("lies", "meets", "tunes", "red", "green", "blue")]
        fields += [("apart", "<i4")] if "apart" in features else []
        fields += [(f"mean_{layout.name}", "<f4") for layout in held] if "shuffle" in features else []
        table = np.zeros(len(rows), [(name, kind, 4) for name, kind in fields])
        slices = [self.arrays.names.index(layer.swatch) for layer in self.layers]  # of the files, which hold all of them
        table["which"] = np.stack([slices, rows["chart"], rows["planes"], rows["filter"]], axis=1)
        taps = rows["most_taps"].astype(int)
        table["ways"] = np.stack([rows["wrap_u"], rows["wrap_v"], rows["patch_ways"], taps], axis=1)
        table["lies"] = np.stack([rows["tiles"], rows["sharpness"], rows["patch_size"], rows["patch_border"]], axis=1)
        table["meets"][:, :3] = np.stack([rows["hardness"], rows["relief"], rows["rise"]], axis=1)
        table["tunes"][:, :3] = np.stack([rows["steep"], rows["rougher"], rows["occluded"]], axis=1)
        for row, name in enumerate(("red", "green", "blue")):
            table[name][:, :3] = rows["colours"][:, row]
        if "apart" in features:
            if len(self.plan.groups) > 4:
                raise RangeError(f"the shader takes maps apart in four ways at most; these layers have {len(self.plan.groups)}")
            table["apart"] = -1
            table["apart"][:, : len(self.plan.groups)] = self.plan.apart_rows[:, : len(rows)].T
        if "shuffle" in features:
            for number, layer in enumerate(self.layers):
                if layer.projection.shuffle is not None:
                    for layout in held:
                        table[f"mean_{layout.name}"][number] = _mean(self.arrays, layout, layer.swatch)
        return table

    def _chart_table(self) -> NDArray[np.void]:
        charts = self.plan.chart_rows
        names = ("axis_x", "axis_y", "axis_z", "turn", "placed", "around", "limits", "eye")
        table = np.zeros(len(charts), [(name, "<f4", 4) for name in names])
        for row, name in enumerate(("axis_x", "axis_y", "axis_z")):
            table[name][:, :3] = charts["axes"][:, row]
            table[name][:, 3] = (charts["exact_axes"][:, row] * charts["exact_origin"]).sum(axis=1)
        table["turn"] = charts["turn"].reshape(-1, 4)
        table["placed"] = np.column_stack([charts["offset"], charts["flat"], charts["cheap"]])
        table["around"][:, :3] = np.stack([charts["radius"], charts["around"], charts["spiral"]], axis=1)
        table["limits"] = np.stack([charts["slope_from"], charts["slope_to"], charts["near"], charts["far"]], axis=1)
        table["eye"] = np.column_stack([charts["eye"], charts["kind"]])
        return table


def _kept(text: str, features: Collection[str]) -> str:
    """The lines of a source that stand under no feature, or under those that are there."""
    out, kept = [], [True]
    for line in text.splitlines():
        bare = line.strip()
        if bare.startswith("//?"):
            kept.append(kept[-1] and bare[3:] in features)
        elif bare == "//.":
            kept.pop()
        elif kept[-1]:
            out.append(line)
    return "\n".join(out)


def _held(layout: Layout) -> str:
    """What an array holds, in words."""
    return ", ".join(map(str, layout.channels)) + ("; sRGB" if layout.srgb else "")


def _mean(arrays: TextureArrays, layout: Layout, swatch: str) -> NDArray[np.float64]:
    """The mean texel of a slice, colour as linear light."""
    texels = arrays.level(layout.name, 0)[arrays.names.index(swatch)].reshape(-1, layout.stored)
    plain = texels.astype(np.float64) / (np.iinfo(texels.dtype).max if texels.dtype.kind == "u" else 1)
    if layout.srgb:
        colour = plain[:, :3]
        plain[:, :3] = np.where(colour <= 0.04045, colour / 12.92, ((colour + 0.055) / 1.055) ** 2.4)
    mean = np.ones(4)
    mean[: plain.shape[1]] = plain.mean(axis=0)
    return mean


def _weights(names: Sequence[str]) -> str:
    """How weights are read from the sheets of `jquilt export --splat`, four layers in each."""
    sheets = -(-len(names) // 4)
    lines = ["", "// ---- Weights, from the sheets that `jquilt export --splat` writes", ""]
    lines += [f"uniform sampler2D splat_{sheet};" for sheet in range(sheets)]
    lines += ["", "void weights_at(vec2 uv, out float weight[LAYERS]) {"]
    for sheet in range(sheets):
        lines.append(f"    vec4 sheet_{sheet} = texture(splat_{sheet}, uv);")
        for channel, name in enumerate(names[4 * sheet : 4 * sheet + 4]):
            lines.append(f"    weight[{4 * sheet + channel}] = sheet_{sheet}.{'rgba'[channel]};  // {name}")
    return "\n".join([*lines, "}"])


def _block(tables: Sequence[tuple[str, NDArray[np.void]]]) -> tuple[bytes, tuple[tuple[str, int, str], ...]]:
    """Tables of vectors of four, one after the other, as std140 lays them; and what lies where."""
    out, members = b"", list[tuple[str, int, str]]()
    for name, table in tables:
        fields: Facts = dict(table.dtype.fields or {})
        for row in range(len(table)):
            for each in table.dtype.names or ():
                kind, at = fields[each][:2]
                own = f"{name}[{row}]" + ("" if len(table.dtype.names or ()) == 1 else f".{each}")
                members.append((own, len(out) + row * table.dtype.itemsize + at, "ivec4" if kind.base.kind == "i" else "vec4"))
        out += table.tobytes()
    return out, tuple(members)
