"""Light as shader source, as `light/` reckons it: lamps, a sky, and what surfaces throw back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.export.shader_text import filled
from jagged_quilt.foundation.files import write_bytes
from jagged_quilt.light._rows import ANGLES, ROUGHNESSES, SKY_ROUGHNESSES, SMOOTHEST, UPS, SkyRows
from jagged_quilt.light.lamps import Light
from jagged_quilt.light.light import Lighting
from jagged_quilt.light.reflection import albedo_table
from jagged_quilt.light.sky_image import SkyImage
from jagged_quilt.maps.image_writing import write_image

_WIDEST = 2048  # columns of a texture that OpenGL ES 3.0 promises
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

    Shadows are not in it: `free` says how free the way to each lamp is.

    Examples
    --------
    >>> shader = jq.export.light_shader(jq.Scene(arrays).lighting)
    """
    left_out = [f"the size of sun {n}: its shadows are yours" for n, each in enumerate(lighting.lights) if _is_wide(each)]
    is_image = isinstance(lighting.sky, SkyImage)
    sky_light, sky_words = (_pictures if is_image else _gradient)(lighting.sky.rows)
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
        "smoothest": f"{float(SMOOTHEST):.4g}",
    }
    thrown = albedo_table().reshape(ROUGHNESSES, ANGLES, 4)[..., :2]
    tables = {"thrown_back": np.concatenate([thrown, np.zeros_like(thrown[..., :1])], axis=2), "sky_light": sky_light}
    features = {"pictures" if is_image else "gradient", *(["coat"] if coat else [])}
    source = filled("light.glsl", features, words | sky_words)
    return LightShader(source, rows.tobytes(), tables, tuple(left_out))


def _gradient(rows: SkyRows) -> tuple[NDArray[np.float32], dict[str, str]]:
    """The table of a sky that is a gradient, and what the source says of it."""
    table = np.concatenate([rows.mirrored.reshape(SKY_ROUGHNESSES, UPS, -1), rows.irradiance.reshape(1, UPS, -1)])[..., :3]
    return table, {"half_ups": str((UPS - 1) // 2), "last_sky": str(SKY_ROUGHNESSES - 1), "shed_row": str(SKY_ROUGHNESSES)}


def _pictures(rows: SkyRows) -> tuple[NDArray[np.float32], dict[str, str]]:
    """The mirror images of a sky image, one below the other, then its harmonics; and what the source says of them."""
    images = []
    for first, high, wide in rows.pictures.tolist():
        images.append(rows.mirrored[3 * first : 3 * (first + high * wide)].reshape(high, wide, 3))
    while images[0].shape[1] > _WIDEST and not any(side % 2 for side in images[0].shape[:2]):
        high, wide = images[0].shape[:2]
        images[0] = images[0].reshape(high // 2, 2, wide // 2, 2, 3).mean(axis=(1, 3))
    tops = np.cumsum([0, *(len(each) for each in images)])
    table = np.zeros((tops[-1] + 1, max(9, *(each.shape[1] for each in images)), 3), np.float32)
    for top, each in zip(tops, images, strict=False):
        table[top : top + len(each), : each.shape[1]] = each
    table[-1, :9] = rows.irradiance.reshape(9, 3)
    lies = [f"ivec3({top}, {each.shape[0]}, {each.shape[1]})" for top, each in zip(tops, images, strict=False)]
    words = {"pictures": str(len(images)), "last_picture": str(len(images) - 1), "shed_row": str(int(tops[-1]))}
    return table, words | {"picture_rows": ", ".join(lies)}


def write_light(shader: LightShader, folder: Path | str) -> list[Path]:
    """Write `light.glsl`, its uniform block `light.bin`, and the tables that it reads as float images.

    Examples
    --------
    >>> [path.name for path in jq.export.write_light(jq.export.light_shader(jq.Scene(arrays).lighting), "light")]
    ['light.glsl', 'light.bin', 'thrown_back.exr', 'sky_light.exr']
    """
    folder = Path(folder)
    write_bytes(folder / "light.glsl", shader.source.encode())
    write_bytes(folder / "light.bin", shader.block)
    for name, table in shader.tables.items():
        write_image(folder / f"{name}.exr", np.ascontiguousarray(table))
    return [folder / name for name in ("light.glsl", "light.bin", *(f"{each}.exr" for each in shader.tables))]


def _is_wide(light: Light) -> bool:
    return light.position is None and light.size > 0


def _fill(row: np.void, light: Light) -> None:
    colour = np.multiply(light.colour, light.strength)
    row["cone"][3] = row["edge"][0] = -2
    if light.position is not None:
        terms: Sequence[float] = (-1.0, 0.0, 0.0) if light.fall_off is None else light.fall_off
        x, y, z, outer, inner = light._cone()
        row["place"], row["colour"] = (*light.position, 1), (*colour, light.reach)
        row["falls"], row["cone"], row["edge"][0] = (light.radius, *terms), (x, y, z, outer), inner
    else:
        row["place"], row["colour"] = (*light.towards, 0), (*colour, 0)
