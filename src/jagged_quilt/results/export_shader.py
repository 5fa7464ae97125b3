"""The blend of the ground as shader source, with the weights that it reads."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import ClassVar

import numpy as np

from jagged_quilt.blend.blend import Blend
from jagged_quilt.export.light_shader import light_shader, write_light
from jagged_quilt.export.mask_shader import LiveWeights, live_weights
from jagged_quilt.export.shader import BlendShader, blend_shader, write_shader
from jagged_quilt.export.splat_sheets import whole_weight, write_live, write_splat
from jagged_quilt.foundation.errors import RangeError
from jagged_quilt.foundation.json_types import Facts, Stored
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.maps.roles import OPTIONAL_ROLES
from jagged_quilt.quiltfile.checks import GROUND
from jagged_quilt.results.export_weights import BITS, WEIGHT_FORMS
from jagged_quilt.results.exporter import Exporter, Written, option
from jagged_quilt.results.results import Results
from jagged_quilt.results.weigh_steps import weigh_options
from jagged_quilt.weights.channel import mask_map
from jagged_quilt.weights.weigh import weigh
from jagged_quilt.weights.weight_map import WeightMap

SHADER_WEIGHTS = ("splat", "pairs", "live")
"""The forms of weights that a shader reads, or works out."""
_ALIKE = 1.5 / 255  # by which weights differ that are rounded
_LOOKED_AT = 512  # texels along the longer side, for an average over the ground
_MOST_OF_FILM = 4096  # texels along the longer side


@dataclass(frozen=True, kw_only=True)
class ShaderFiles(Exporter):
    """The blend of the ground and the light of the view as shader source, with the weights that it reads."""

    key: ClassVar[str] = "shader"
    what: ClassVar[dict[str, str]] = {
        "blend": "the blend: functions, numbers, and what lies where in these",
        "ground": "a program that draws the ground with it",
        "light": "the light of the view: functions and lamps",
        "thrown_back": "how much of all light a rough surface throws back",
        "sky_light": "the sky's mirror images by roughness, and what it sheds",
    }
    dialect: str = option("glsl", "OpenGL 3.30, or OpenGL ES 3.00.", flag="as", words=("glsl", "essl"))
    weights: str = option("splat", "RGBA sheets, pairs, or masks that the shader works out.", words=SHADER_WEIGHTS)
    bits: int = option(8, "Of each channel of weights.", words=BITS)

    def steps(self, results: Results) -> list[str]:
        return ["pack", "weigh"]

    def write(self, results: Results, folder: Path) -> Written:
        check_layers(results)
        files, shader = write_source(results, folder, self.dialect, self.weights, points_read(results))
        files += write_weights(results, folder, self.weights, self.bits)
        return Written(tuple(files), lost=shader.left_out, notes=shader.cost)


def check_layers(results: Results) -> None:
    """Raise `RangeError` where there is nothing to blend."""
    if not results.quilt.layers:
        raise RangeError(f"{results.quilt.path}: there is no layer to blend; write a [surface] and [[layer]]")


def write_source(results: Results, folder: Path, dialect: str, weights: str, average: float) -> tuple[list[Path], BlendShader]:
    """Write the blend of the ground, and the light of the view, as shader source."""
    quilt, arrays = results.quilt, results.arrays
    how: Facts = {"dialect": dialect, "weights": weights, "filter": quilt.table.bake.filter}
    title = quilt.table.title or quilt.path.stem
    if weights == "live":
        how["weights"] = masks_in_shader(results)
    shader = blend_shader(arrays, quilt.layers, films=quilt.films_on(GROUND), title=title, **how).averaging(average)
    light = light_shader(quilt.lighting, coat=any(role in OPTIONAL_ROLES for layout in arrays.layouts for role in layout.roles))
    files = [*write_shader(shader, folder), *write_light(light, folder)]
    return files, replace(shader, left_out=(*shader.left_out, *light.left_out))


def points_read(results: Results) -> float:
    """Return how many planes of layers a pixel reads on average over the ground."""
    quilt, terrain = results.quilt, results.quilt.terrain
    points = terrain.points(terrain.layout(_LOOKED_AT))
    blend = Blend(results.arrays, quilt.layers, filter=quilt.table.bake.filter)
    return float(blend.survey(points, results.weights.at(points)).reads.mean())


def write_weights(results: Results, folder: Path, form: str, bits: int) -> list[Path]:
    """Write the weights that a shader reads, and how much there is of each film."""
    files = _write_live(results, folder, bits) if form == "live" else [*WEIGHT_FORMS[form](results.weights, folder, bits=bits)]
    own = max(results.weights.layers.shape[:2])
    canvas = results.quilt.terrain.canvas(max(own, min(results.bake_texels, _MOST_OF_FILM)))  # as fine as a bake asks them
    for number, film in enumerate(results.quilt.films_on(GROUND)):
        files.append(folder / f"film_{number}.png")
        write_image(files[-1], mask_map(canvas, film.mask, work=results.work))
    return files


def masks_in_shader(results: Results) -> LiveWeights:
    """Return the masks of the ground as shader source."""
    adopted = () if results.adopted is None else results.adopted.names
    stacking, painted = results.quilt.table.weights.stacking, len(results.quilt.ground_daubs) > 0
    return live_weights(results.layers, stacking=stacking, adopted=adopted, painted=painted)


def _write_live(results: Results, folder: Path, bits: int) -> list[Path]:
    """Write what live weights read: masks that the shader cannot work out, adopted weights, and weights where daubs lie."""
    live, how = masks_in_shader(results), {"bits": bits, "work": results.work}
    canvas = results.quilt.terrain.canvas(results.weights.layers.shape[:2])
    masks = [mask_map(canvas, mask, **how) for mask in live.sampled]  # type: ignore[arg-type]
    adopted = []
    if results.adopted is not None:
        own = results.adopted.in_bits(bits)
        adopted = [whole_weight(own, number) for number in range(len(own.names))]
    files = write_live(live, folder, masks, adopted)
    if live.is_painted:
        without = weigh(canvas, results.layers, **(weigh_options(results) | {"daubs": ()}))
        files += [*write_splat(results.weights, folder, bits=bits), folder / "painted_weights.png"]
        write_image(files[-1], _differ(results.weights, without))
    return files


def _differ(one: WeightMap, other: WeightMap) -> Stored:
    """Where two weight maps differ, or one beside it does, white; (H, W) uint8."""
    from scipy.ndimage import binary_dilation

    differ = np.zeros(one.layers.shape[:2], bool)
    for name in one.names:
        differ |= np.abs(one.layer(name) - other.layer(name)) > _ALIKE
    return binary_dilation(differ, iterations=2).astype(np.uint8) * 255
