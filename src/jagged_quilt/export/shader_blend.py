"""The exported shader run on an OpenGL driver: what a blend answers, it answers too."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.texture_arrays import TextureArrays
from jagged_quilt.baking.bake import Baker
from jagged_quilt.baking.baked_maps import BakedMaps
from jagged_quilt.blend.blend import Texels
from jagged_quilt.blend.film import Film, film_amounts, films_on
from jagged_quilt.blend.settings import NormalSpace
from jagged_quilt.export.driver import NEAREST, Driver, OnDevice
from jagged_quilt.export.shader import HEADS, BlendShader, Dialect, blend_shader
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Facts
from jagged_quilt.foundation.points import Points
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.weights.point_weights import PointWeights

_VERTEX = "in vec2 corner; void main() { gl_Position = vec4(corner, 0.0, 1.0); }"
_WIDE = 1024  # points in a row
_AT_ONCE = 1 << 17  # texels
_TARGETS = 8  # what every driver draws into at once


class PendingRead(NamedTuple):
    """Points drawn, and to be read: see `ShaderBlend.drawn`."""

    points: int
    rows: int
    given: OnDevice
    targets: list[OnDevice]
    frame: OnDevice
    whole: OnDevice


class ShaderBlend:
    """A blend by the exported shader, on a driver: what `Blend` answers, it answers too.

    Parameters
    ----------
    films : sequence of Film
        Those of the shader, `on` the surface where they must know it.
    exact : bool
        Whether the shader filters by itself; as it was made.
    """

    def __init__(
        self,
        driver: Driver,
        shader: BlendShader,
        arrays: TextureArrays,
        *,
        films: Sequence[Film] = (),
        dialect: Dialect | str = Dialect.GLSL,
        exact: bool = True,
    ) -> None:
        self.driver, self.shader, self.films = driver, shader, tuple(films)
        self._outputs = _members(shader.source, "Blended")
        self._given = [name for _, name in _members(shader.source, "Point")]
        self._program = driver.context.program(HEADS[Dialect.of(dialect)] + _VERTEX, shader.source + self._main())
        self._textures = [
            (name, driver.texture_array(arrays, array, exact=exact))
            for name, array in zip(shader.samplers, shader.arrays, strict=True)
            if name in self._program
        ]
        self._block = driver.context.buffer(shader.block)
        self._corners = driver.context.buffer(np.array([[-1, -1], [3, -1], [-1, 3]], np.float32).tobytes())

    def release(self) -> None:
        """Free what the driver holds of it."""
        for _, texture in self._textures:
            self.driver.delete(texture)
        for each in (self._program, self._block, self._corners):
            each.release()

    def at(
        self,
        points: Points,
        weights: PointWeights,
        *,
        normals: NormalSpace | str = NormalSpace.TANGENT,
        columns: int = 0,
        eye: Sequence[float] | None = None,
    ) -> Texels:
        """Blend at points, as `Blend.at`.

        Raises
        ------
        RangeError
            If the points lie so far from the origin that float32 does not tell them apart.
        """
        if points.rest is not None and np.abs(points.rest).max(initial=0) > 0:
            raise RangeError("these places lie too far from the origin for a shader's float32; bake them without it")
        found = self.read(self.drawn(points, weights, eye=eye))
        maps = {MapRole[name.upper()]: values for name, values in found.items()}
        if NormalSpace.of(normals) is NormalSpace.TANGENT:
            tangent = points.tangent[:, :3]
            frame = np.stack([tangent, np.cross(points.normal, tangent) * points.tangent[:, 3:], points.normal], axis=1)
            for role in (each for each in maps if each.value.direction):
                maps[role] = np.einsum("nij,nj->ni", frame, maps[role])
        return Texels.of(maps, len(points))

    def drawn(
        self,
        points: Points,
        weights: PointWeights,
        *,
        eye: Sequence[float] | None = None,
    ) -> PendingRead:
        """Draw points; what is drawn is to be read, which frees it."""
        context, count = self.driver.context, len(points)
        rows = -(-count // _WIDE)
        values = self._values(points, weights)
        packed = np.zeros((len(values), rows * _WIDE, 4), np.float32)
        for row, each in zip(packed, values, strict=True):
            row[:count, : each.shape[1]] = each
        given = context.texture((_WIDE, len(values) * rows), 4, packed.tobytes(), dtype="f4")
        given.filter = (NEAREST, NEAREST)
        at_once = len(self._outputs) <= _TARGETS
        sizes = [(_WIDE, rows)] * len(self._outputs) if at_once else [(_WIDE, rows * len(self._outputs))]
        targets = [context.texture(size, 4, dtype="f4") for size in sizes]
        whole = context.vertex_array(self._program, [(self._corners, "2f", "corner")])
        asked = PendingRead(count, rows, given, targets, context.framebuffer(targets), whole)
        self.draw(asked, eye)
        return asked

    def draw(self, asked: PendingRead, eye: Sequence[float] | None = None) -> None:
        """Draw points once more."""
        asked.frame.use()
        self._program["rows"].value = asked.rows
        for unit, (name, texture) in enumerate(self._textures):
            self._program[name].value = unit
            self.driver.bind_array(unit, texture)
        asked.given.use(len(self._textures))
        self._program["given"].value = len(self._textures)
        if "eye" in self._program:
            self._program["eye"].value = tuple(float(each) for each in eye or (0, 0, 0))
        self._block.bind_to_uniform_block(0)
        self._program["Blend"].binding = 0
        asked.whole.render()

    def read(self, asked: PendingRead) -> dict[str, NDArray[np.float32]]:
        """Return what was drawn: (N, C) by what the shader calls its outputs; colours linear, normals in the world."""
        read = np.concatenate([np.frombuffer(each.read(), np.float32) for each in asked.targets])
        each_of = read.reshape(len(self._outputs), -1, 4)
        for each in (*asked.targets, asked.frame, asked.given, asked.whole):
            each.release()
        return {
            name: values[: asked.points, : 3 if kind == "vec3" else 1].copy()
            for (kind, name), values in zip(self._outputs, each_of, strict=True)
        }

    def _values(self, points: Points, weights: PointWeights) -> list[NDArray[np.floating]]:
        """What is handed over of a point, in the order in which the program reads it: (N, up to 4) each."""
        tangent = points.tangent[:, :3]
        across = np.cross(points.normal, tangent)
        held: Facts = {
            "position": points.position,
            "normal": points.normal,
            "step_x": points.footprint[:, :1] * tangent,
            "step_y": points.footprint[:, 1:] * across,
            "way_u": tangent if points.uv_tangent is None else points.uv_tangent[:, :3],
        }
        if "uv" in self._given:
            if points.uv is None or points.uv_gradient is None:
                raise RangeError("a layer lies by uv, and these points have none")
            held |= {"uv": points.uv, "along_u": points.uv_gradient[:, 0], "along_v": points.uv_gradient[:, 1]}
        signs = (points.tangent if points.uv_tangent is None else points.uv_tangent)[:, 3:]
        held["way_v"] = -np.cross(points.normal, held["way_u"]) * signs
        dense = np.zeros((len(points), -(-len(self.shader.layers) // 4) * 4), np.float32)
        for column in range(weights.layers.shape[1]):
            np.add.at(dense, (np.arange(len(points)), weights.layers[:, column].astype(int)), weights.weights[:, column])
        fours = [dense[:, at : at + 4] for at in range(0, dense.shape[1], 4)]
        if self.films:
            amounts = film_amounts(self.films, points)
            fours += [amounts[:, at : at + 4] for at in range(0, len(self.films), 4)]
        return [*(held[name] for name in self._given), *fours]

    def _main(self) -> str:
        """The part of the program that reads points, blends, and writes what came of it."""
        count, films, given = len(self.shader.layers), len(self.films), len(self._given)
        at_once = len(self._outputs) <= _TARGETS
        value = lambda number: f"texelFetch(given, at + ivec2(0, {number} * rows), 0)"
        letters = {"uv": "xy"}
        lines = ["", "uniform highp sampler2D given;", "uniform int rows;"]
        lines += [f"layout(location = {n}) out vec4 out_{name};" for n, (_, name) in enumerate(self._outputs) if at_once]
        lines += [] if at_once else ["out vec4 values;"]
        lines += ["void main() {", "    ivec2 at = ivec2(int(gl_FragCoord.x), int(gl_FragCoord.y) % rows);", "    Point point;"]
        lines += [f"    point.{name} = {value(n)}.{letters.get(name, 'xyz')};" for n, name in enumerate(self._given)]
        lines.append(f"    float weight[{count}];")
        lines += [f"    weight[{n}] = {value(given + n // 4)}.{'rgba'[n % 4]};" for n in range(count)]
        first = given + -(-count // 4)
        lines += [f"    float film[{films}];"] if films else []
        lines += [f"    film[{n}] = {value(first + n // 4)}.{'rgba'[n % 4]};" for n in range(films)]
        lines.append(f"    Blended blended = blend(point, weight{', film' if films else ''});")
        for row, (kind, name) in enumerate(self._outputs):
            where = f"out_{name} =" if at_once else f"if (int(gl_FragCoord.y) / rows == {row}) values ="
            lines.append(f"    {where} vec4(blended.{name}{'' if kind == 'vec3' else ', 0.0, 0.0'}, 0.0);")
        return "\n".join([*lines, "}"]) + "\n"


def _members(source: str, struct: str) -> list[tuple[str, str]]:
    """The types and names of the members of a struct of the source."""
    out = []
    for line in source.partition(f"struct {struct} {{")[2].partition("}")[0].splitlines():
        with suppress(ValueError):
            kind, name = line.partition(";")[0].split()
            out.append((kind, name))
    return out


def baked_on(driver: Driver, baker: Baker, arrays: TextureArrays, *, bits: int = 8, work: Work = ANYHOW) -> BakedMaps:
    """Return the maps of a baker's canvas, blended by the exported shader on a driver, filtered as the kernel does.

    Parameters
    ----------
    arrays : TextureArrays
        Those of the baker.
    how
        As for `Baker.over`: bits, work.

    Raises
    ------
    RangeError
        If the shader leaves something out that the layers have, or a layer is read anisotropically.

    Examples
    --------
    >>> with jq.export.Driver() as driver:  # doctest: +SKIP
    ...     maps = jq.export.baked_on(driver, jq.Baker(ground.canvas(64), layers, arrays), arrays)
    """
    if any(plan.most_taps > 1 for plan in baker.plans):
        raise RangeError('a shader reads anisotropically as its sampler does, not as our bake; say filter = "trilinear"')
    blends, films = list[ShaderBlend](), films_on(baker.films, baker.canvas.fields)
    try:
        for plan in baker.plans:
            shader = blend_shader(arrays, plan if baker.eye else plan.near_alone(), filtering="exact")
            if shader.left_out:
                raise RangeError(f"a shader cannot do all of this: {'; '.join(shader.left_out)}; bake without it")
            blends.append(ShaderBlend(driver, shader, arrays, films=films))
        return baker.by(blends).over(baker.canvas, block=_AT_ONCE, bits=bits, work=work)
    finally:
        for each in blends:
            each.release()
