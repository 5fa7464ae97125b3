"""Lines of shader source that go by what is blended: its roles, layers and weights."""

from __future__ import annotations

from collections.abc import Sequence

from jagged_quilt.arrays.layout import Layout
from jagged_quilt.arrays.mips import level_count
from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.blend import _rows as k
from jagged_quilt.blend.plan import BlendPlan, Output
from jagged_quilt.blend.tuning import AS_IT_IS
from jagged_quilt.export.shader_arrays import FileArray
from jagged_quilt.maps.roles import MapRole

_R = MapRole
SLOPES = {_R.NORMAL: "slope", _R.COAT_NORMAL: "coat_slope"}
"""Roles that are carried as slopes, and what these are called."""
_FLATTEST = 128  # a normal map's z counts as 1 / this at least, as in the kernel


def output_of(plan: BlendPlan, role: MapRole) -> Output | None:
    """Return how a blend reads a role, or None if it does not blend it."""
    return next((each for each in plan.outputs if each.role is role), None)


def far_lines(plan: BlendPlan) -> str:
    """How much of each layer, and of what stands for it far away, is seen."""
    lines = []
    for number, other in enumerate(plan.far):
        far = plan.layers[number].far
        if other >= 0 and far is not None:
            name, ends = plan.names[number], f"{float(far.start)!r}, {float(far.start + far.over)!r}"
            lines += [
                f"    step_to = smoothstep({ends}, away);  // {name}",
                f"    weight[{other}] = given[{number}] * step_to;",
                f"    weight[{number}] = given[{number}] * (1.0 - step_to);",
            ]
    return "\n".join(lines)


COSTS_NOTHING = "a layer without weight costs nothing"


def cost(plan: BlendPlan, arrays: TextureArrays, held: Sequence[FileArray], sheets: int) -> list[str]:
    """How many samples a pixel takes at most, and what is bound."""
    lines, most = [], 0
    for number, (layer, row) in enumerate(zip(plan.layers, plan.layer_rows, strict=True)):
        planes = 3 if row["planes"] == k.SHARED and plan.mapping_rows[row["mapping"]]["kind"] == k.FLAT else 1
        laid = planes * (3 if row["patch_size"] > 0 else 1)
        apart = planes * int((plan.per_map_rows[:, number] >= 0).sum()) if len(plan.groups) else 0
        positions = f"{laid + apart} place{'s' if laid + apart > 1 else ''}"
        far = " far away" if number >= len(plan.names) else ""
        lines.append(f"  {number:>3}  {layer.name}{far}: {layer.projection.key}, at most {positions} to read")
        most += laid + apart
    size = sum(_bytes_of(arrays, each.layout) for each in held) / (1 << 20)
    lines.append(
        f"Where all layers show, {most} places, each of {len(held)} arrays, twice: for heights, and for the rest of it;"
    )
    more = ", patches and maps apart not counted" if (plan.layer_rows["patch_size"] > 0).any() or plan.groups else ""
    lines.append(f"{COSTS_NOTHING}{more}.")
    lines.append(
        f"Bound are {len(held)} arrays, {size:.0f} MiB, and {sheets} {'sheet' if sheets == 1 else 'sheets'} of weights."
    )
    return lines


def _bytes_of(arrays: TextureArrays, layout: Layout) -> int:
    """What an array takes, with its mips."""
    sides = [arrays.side >> level for level in range(level_count(arrays.side))]
    return arrays.slice_count(layout.name) * sum(layout.pixels.level_bytes(side, side, layout.stored) for side in sides)


def _if_of_group(plan: BlendPlan, role: MapRole) -> str:
    """When a texel of a group of maps counts for a role."""
    group = next((number for number, roles in enumerate(plan.groups) if role in roles), None)
    if group is not None:
        return f"if (group == {group} || (group < 0 && layers[layer].per_map[{group}] < 0)) "
    return "if (group < 0) " if plan.groups else ""


def add_texel(plan: BlendPlan, held: Sequence[FileArray]) -> str:
    tuned = any(layer.tuning != AS_IT_IS for layer in plan.layers)
    lines = ["// Add what a texel says to what a layer shows.", "void add_texel("]
    lines[-1] += "inout Look look, int layer, Texel texel, vec3 along_u, vec3 along_v, float share, int group) {"
    for output in plan.outputs:
        role, when = output.role, _if_of_group(plan, output.role)
        if not output.array:
            continue
        array = next(each for each in held if each.name == output.array)
        value = array.value(output)
        if role in SLOPES:
            name = SLOPES[role]
            lines += [
                f"    vec2 {name} = {value if array.is_signed(role) else f'2.0 * ({value}) - 1.0'};",
                f"    float {name}_z = max(sqrt(max(0.0, 1.0 - dot({name}, {name}))), {1 / _FLATTEST});",
                f"    {when}look.{name} += share * ({name}.x * along_u - {name}.y * along_v) / {name}_z;",
            ]
            continue
        if tuned and role is _R.DIFFUSE:
            lines.append(f"    vec3 diffuse = {value};")
            rows = ", ".join(f"dot(layers[layer].{each}.rgb, diffuse)" for each in ("red", "green", "blue"))
            value = f"vec3({rows})"
            value = f"clamp({value}, 0.0, 1.0)"
        elif tuned and role is _R.ROUGHNESS:
            value = f"clamp({value} + layers[layer].tunes.y, 0.0, 1.0)"
        elif tuned and role is _R.OCCLUSION:
            value = f"clamp(1.0 - layers[layer].tunes.z * (1.0 - {value}), 0.0, 1.0)"
        elif value.startswith("1.0 -"):
            value = f"({value})"
        lines.append(f"    {when}look.{role.key} += share * {value};")
    return "\n".join([*lines, "}"])


def height_of(plan: BlendPlan) -> str:
    held = output_of(plan, _R.HEIGHT)
    high = "look_of(which, point).height" if held is not None and held.array else f"{_R.HEIGHT.value.neutral[0]}"
    return f"    return {high} * layers[which].meets.y + layers[which].meets.z;"


def mix_look(plan: BlendPlan) -> str:
    lines = []
    for output in plan.outputs:
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


def finish(plan: BlendPlan) -> str:
    """What becomes of the sums: shares of 1, what no array holds, films, and the tilted normals."""
    lines = []
    for output in plan.outputs:
        name, neutral = output.role.key, output.role.value.neutral
        if output.role in SLOPES:
            lines.append(f"{SLOPES[output.role]} /= whole;")
        elif output.array or output.role is _R.HEIGHT:
            lines.append(f"total.{name} /= whole;")
        else:
            values = ", ".join(f"{each:g}" if "." in f"{each:g}" else f"{each:g}.0" for each in neutral)
            lines.append(f"total.{name} = {f'vec3({values})' if len(neutral) == 3 else values};  // no array holds it")
    if plan.films:
        lines.append("for (int which = 0; which < FILMS; ++which) lay_film(which, film[which], total, slope);")
    lines += [
        f"total.{role.key} = normalize(point.normal + {slope} - dot({slope}, point.normal) * point.normal);"
        for role, slope in SLOPES.items()
        if output_of(plan, role) is not None
    ]
    return "\n".join(f"    {line}" for line in lines)


def from_sheets(names: Sequence[str], count: str) -> str:
    """How weights are read from the sheets of `jquilt export weights`, four layers in each."""
    sheets = -(-len(names) // 4)
    lines = ["", "// ---- Weights, from the sheets that `jquilt export weights` writes", ""]
    lines += [f"uniform sampler2D splat_{sheet};" for sheet in range(sheets)]
    lines += ["", f"void weights_at(vec2 uv, out float weight[{count}]) {{"]
    for sheet in range(sheets):
        lines.append(f"    vec4 sheet_{sheet} = texture(splat_{sheet}, uv);")
        for channel, name in enumerate(names[4 * sheet : 4 * sheet + 4]):
            lines.append(f"    weight[{4 * sheet + channel}] = sheet_{sheet}.{'rgba'[channel]};  // {name}")
    return "\n".join([*lines, "}"])


def from_pairs(names: Sequence[str], count: str) -> str:
    """How weights are read from the pairs of `jquilt export weights --as pairs`, of any number of layers."""
    lines = [f"//   {number} {name}" for number, name in enumerate(names)]
    return "\n".join(
        [
            "",
            "// ---- Weights, from the pairs that `jquilt export weights --as pairs` writes: four layers a texel by their",
            *lines,
            "// numbers, and how much there is of each. Numbers are not to be mixed: four texels are read, and weights are.",
            "",
            "uniform sampler2D pairs_numbers;",
            "uniform sampler2D pairs_weights;",
            "",
            f"void weights_at(vec2 uv, out float weight[{count}]) {{",
            f"    for (int which = 0; which < {count}; ++which) weight[which] = 0.0;",
            "    ivec2 size = textureSize(pairs_numbers, 0);",
            "    vec2 place = uv * vec2(size) - 0.5;",
            "    ivec2 first = ivec2(floor(place));",
            "    vec2 part = place - floor(place);",
            "    for (int corner = 0; corner < 4; ++corner) {",
            "        ivec2 step_to = ivec2(corner & 1, corner >> 1);",
            "        ivec2 at = clamp(first + step_to, ivec2(0), size - 1);",
            "        float share = (step_to.x == 1 ? part.x : 1.0 - part.x) * (step_to.y == 1 ? part.y : 1.0 - part.y);",
            "        vec4 numbers = texelFetch(pairs_numbers, at, 0) * 255.0 + 0.5;",
            "        vec4 weights = texelFetch(pairs_weights, at, 0);",
            "        for (int k = 0; k < 4; ++k) weight[int(numbers[k])] += share * weights[k];",
            "    }",
            "}",
        ]
    )
