"""Programs that draw the ground or a mesh of a view: the blend, its light, a shadow map, the sky, and the parts of it alone."""

from __future__ import annotations

from dataclasses import dataclass

from jagged_quilt.export.light_shader import LightShader
from jagged_quilt.export.shader import HEADS, BlendShader, Dialect
from jagged_quilt.export.shader_text import filled
from jagged_quilt.foundation.choices import Choice
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.maps.roles import MapRole

_LEFT_OUT = (MapRole.DIFFUSE, MapRole.NORMAL, MapRole.ROUGHNESS, MapRole.SPECULAR, MapRole.OCCLUSION)
_COATS = (MapRole.EMISSION, MapRole.COAT, MapRole.COAT_NORMAL, MapRole.COAT_ROUGHNESS)
_FOUR = 4  # numbers in an attribute of a vertex
_FIRST = 3  # attributes before those that carry weights
_CARRIED = 11  # such attributes: a fragment shader of OpenGL ES 3.0 takes fifteen of all at least
_LIFT = 0.02  # metres that a point stands off its surface where its shadow is asked
_AS_WIDE = """float right = length(point.step_x), down = length(point.step_y), wide = 0.7 * sqrt(right * down);
    point.step_x *= wide / max(right, 1e-9);  // as wide as the mean of both, so that low angles do not turn to mud
    point.step_y *= wide / max(down, 1e-9);"""


class ViewPart(Choice):
    """What a view shows: all of it, lit, or one part of what it is made of."""

    LIT = "lit", 0
    PLAIN = "light alone", 1
    WEIGHTS = "weights", 2
    LAYER = "one layer", 3
    SLOPE = "slope", 4
    FACING = "ground normal", 5
    GRID = "labelled grid", 6
    DIFFUSE = "diffuse", 10
    NORMAL = "normal", 11
    ROUGHNESS = "roughness", 12
    SPECULAR = "specular", 13
    HEIGHT = "height", 14
    OCCLUSION = "occlusion", 15


_MAPS = {role: ViewPart.of(role.key) for role in (*_LEFT_OUT, MapRole.HEIGHT)}


@dataclass(frozen=True, slots=True, eq=False)
class ViewShader:
    """The programs of a view.

    Attributes
    ----------
    vertex, fragment : str
        Of the ground: patches of a heightmap; or of a mesh, whose vertices carry weights.
    sky_vertex, sky_fragment : str
    shadow_fragment : str
        The same as a light sees it, with `vertex`.
    roles : tuple of str
        Roles that can be left out, in the order of the bits of `left_out`.
    """

    vertex: str
    fragment: str
    sky_vertex: str
    sky_fragment: str
    shadow_fragment: str
    roles: tuple[str, ...]


def view_shader(blend: BlendShader, light: LightShader, *, coat: bool, lamps: int, on_mesh: bool = False) -> ViewShader:
    """Return the programs that draw the ground, or a mesh, by a blend and a light, in the dialect of OpenGL ES.

    Parameters
    ----------
    coat : bool
        Whether the light was made with coats.
    lamps : int
        How many lamps it has.
    on_mesh : bool
        Whether weights, and after them the amounts of films, come with the vertices, four in each attribute from location 3.

    Raises
    ------
    RangeError
        If a mesh has more layers and films than vertices can carry.
    """
    features, words = blend.parts
    head = HEADS[Dialect.ESSL]
    tone = filled("tone.glsl", (), {})
    more = words | {
        **{f"part_{part.name.lower()}": str(part.code) for part in ViewPart},
        "leave_out": "\n".join(_neutral(bit, role) for bit, role in enumerate(_LEFT_OUT)),
        "parts": "\n".join(_alone(role) for role in _MAPS),
        "coat": "\n".join(_coat(role, role in blend.outputs) for role in _COATS),
        "lamp_rows": str(max(1, lamps)),
        "as_wide": "" if "fine" in features else _AS_WIDE,
        "shadow_lift": f"{_LIFT:g}",
        "tone": tone,
    }
    has_films, is_cut = "films" in features, MapRole.OPACITY in blend.outputs
    more |= _carried(len(blend.layers), int(words["films"])) if on_mesh else {}
    features |= {"mesh"} if on_mesh else {"ground"} | ({"film_maps"} if has_films else set())
    features |= ({"coat"} if coat else set()) | ({"cut_out"} if is_cut else set())
    own = filled("view.frag", features, more)
    high = head + "precision highp sampler2DShadow;\n"
    blended = blend.source.removeprefix(head)
    cut = head + blended + "\n" + filled("cut.frag", features, more) if on_mesh and is_cut else ""
    return ViewShader(
        vertex=head + filled("view.vert", features, more),
        fragment=high + "\n" + blended + "\n" + light.source + "\n" + own,
        sky_vertex=head + filled("sky.vert", (), {}),
        sky_fragment=head + light.source + "\n" + filled("sky.frag", (), {"tone": tone}),
        shadow_fragment=cut or head + "void main() {}\n",
        roles=tuple(role.key for role in _LEFT_OUT),
    )


def _carried(layers: int, films: int) -> dict[str, str]:
    """How vertices carry weights and amounts of films, as source."""
    fours = -(-(layers + films) // _FOUR)
    if fours > _CARRIED:
        raise RangeError(f"the vertices of a mesh carry {_FOUR * _CARRIED} layers and films on a page; it has {layers + films}")
    taken = [
        f"    {name}[{n}] = carried_{at // _FOUR}.{'xyzw'[at % _FOUR]};"
        for at, (name, n) in enumerate([*(("weight", n) for n in range(layers)), *(("film", n) for n in range(films))])
    ]
    each = range(fours)
    return {
        "carried": "\n".join(f"in vec4 carried_{n};" for n in each),
        "carried_in": "\n".join(f"layout(location = {_FIRST + n}) in vec4 given_{n};" for n in each),
        "carried_out": "\n".join(f"out vec4 carried_{n};" for n in each),
        "carry": "\n".join(f"    carried_{n} = given_{n};" for n in each),
        "taken": "\n".join(taken),
    }


def _neutral(bit: int, role: MapRole) -> str:
    """A role left out: its neutral value, and the surface's own normal."""
    value = "normal" if role.value.direction else _said(role.value.neutral)
    return f"    if ((left_out & {1 << bit}) != 0) surface.{role.key} = {value};"


def _alone(role: MapRole) -> str:
    """One map alone, as a file of it would look."""
    field = f"surface.{role.key}"
    if role.value.direction:
        shown = f"0.5 + 0.5 * {field}"
    elif role.is_colour:
        shown = f"encoded({field})"
    else:
        shown = f"vec3({field})"
    return f"    if (part == {_MAPS[role].code}) {{ seen = vec4({shown}, 1.0); return; }}"


def _coat(role: MapRole, is_there: bool) -> str:
    neutral = "normal" if role.value.direction else _said(role.value.neutral)
    return f"    lit.{role.key} = " + (f"plain ? {neutral} : surface.{role.key};" if is_there else f"{neutral};")


def _said(values: tuple[float, ...]) -> str:
    numbers = ", ".join(f"{value:.6g}" if "." in f"{value:.6g}" else f"{value:.1f}" for value in values)
    return f"vec{len(values)}({numbers})" if len(values) > 1 else numbers
