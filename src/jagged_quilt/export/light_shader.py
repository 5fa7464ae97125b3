"""Light as shader source, as `light/` reckons it: lamps, a gradient of the sky, and what surfaces throw back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.export.shader_text import filled
from jagged_quilt.foundation.files import write_bytes
from jagged_quilt.light._kernels import ANGLES, ROUGHNESSES, SMOOTHEST
from jagged_quilt.light._sky_kernels import SKY_ROUGHNESSES, UPS
from jagged_quilt.light.lamps import Light, PointLight, Sun
from jagged_quilt.light.light import Lighting
from jagged_quilt.light.reflection import albedo_table
from jagged_quilt.light.sky import Sky
from jagged_quilt.light.sky_image import SkyImage
from jagged_quilt.maps.image_files import write_image

_ROW = [("place", "<f4", 4), ("colour", "<f4", 4), ("falls", "<f4", 4), ("cone", "<f4", 4), ("edge", "<f4", 4)]


@dataclass(frozen=True, slots=True, eq=False)
class LightShader:
    """Light as shader source.

    Attributes
    ----------
    source : str
        Functions, without a dialect's first lines: `light_of(lit, place, to_eye, free)` and all below it.
    block : bytes
        The uniform block `Lights`, by the rules of std140.
    tables : dict of str to (H, W, 3) float32
        What its samplers hold, not filtered.
    left_out : tuple of str
        What the lighting has and the shader has not.
    """

    source: str
    block: bytes
    tables: dict[str, NDArray[np.float32]]
    left_out: tuple[str, ...]


def light_shader(lighting: Lighting, *, coat: bool = False) -> LightShader:
    """Return the light of a scene as shader source; with `coat`, coats and emission too.

    Shadows are not in it: `free` says how free the way to each lamp is. Of a sky that is an image nothing is left but black.
    """
    left_out = [f"the size of sun {n}: its shadows are yours" for n, each in enumerate(lighting.lights) if _is_wide(each)]
    sky = lighting.sky
    if isinstance(sky, SkyImage):
        sky = Sky.even(0.0)
        left_out.append("the sky, which is an image: it sheds nothing")
    count = len(lighting.lights)
    rows = np.zeros(max(1, count), _ROW)
    for row, light in zip(rows, lighting.lights, strict=False):
        _fill(row, light)
    words = {
        "title": f"{count} lamp{'' if count == 1 else 's'} and a sky",
        "lamps": str(count),
        "lamp_rows": str(max(1, count)),
        "last_angle": str(ANGLES - 1),
        "last_roughness": str(ROUGHNESSES - 1),
        "half_ups": str((UPS - 1) // 2),
        "last_sky": str(SKY_ROUGHNESSES - 1),
        "shed_row": str(SKY_ROUGHNESSES),
        "smoothest": f"{float(SMOOTHEST):.4g}",
    }
    thrown = albedo_table().reshape(ROUGHNESSES, ANGLES, 4)[..., :2]
    by_roughness = sky.rows.mirrored.reshape(SKY_ROUGHNESSES, UPS, -1)[..., :3]
    shed = sky.rows.shed.reshape(1, UPS, -1)[..., :3]
    tables = {
        "thrown_back": np.concatenate([thrown, np.zeros_like(thrown[..., :1])], axis=2),
        "sky_light": np.concatenate([by_roughness, shed]),
    }
    source = filled("light.glsl", {"coat"} if coat else set(), words)
    return LightShader(source, rows.tobytes(), tables, tuple(left_out))


def write_light(folder: Path | str, shader: LightShader) -> list[Path]:
    """Write `light.glsl`, its uniform block `light.bin`, and the tables that it reads as float images."""
    folder = Path(folder)
    write_bytes(folder / "light.glsl", shader.source.encode())
    write_bytes(folder / "light.bin", shader.block)
    for name, table in shader.tables.items():
        write_image(folder / f"{name}.exr", np.ascontiguousarray(table))
    return [folder / name for name in ("light.glsl", "light.bin", *(f"{each}.exr" for each in shader.tables))]


def _is_wide(light: Light) -> bool:
    return isinstance(light, Sun) and light.size > 0


def _fill(row: np.void, light: Light) -> None:
    colour = np.multiply(light.colour, light.strength)
    row["cone"][3] = row["edge"][0] = -2
    if isinstance(light, PointLight):
        terms: Sequence[float] = (-1.0, 0.0, 0.0) if light.fall_off is None else light.fall_off
        x, y, z, outer, inner = light._cone()
        row["place"], row["colour"] = (*light.position, 1), (*colour, light.reach)
        row["falls"], row["cone"], row["edge"][0] = (light.radius, *terms), (x, y, z, outer), inner
    else:
        row["place"], row["colour"] = (*light.towards, 0), (*colour, 0)
