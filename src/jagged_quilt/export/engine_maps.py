"""Maps as an engine wants them: which way green points, gloss or roughness, specular or metallic, several in one, bits."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.resize import resized
from jagged_quilt.baking.baked_maps import BakedMaps
from jagged_quilt.blend.settings import NormalSpace
from jagged_quilt.foundation.errors import RangeError, ShapeError
from jagged_quilt.foundation.files import write_json, written_together
from jagged_quilt.foundation.json_types import Facts, Stored
from jagged_quilt.maps.conversions import flipped_green, gloss_from_roughness, metallic_from_diffuse_specular
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.maps.roles import BLENDED_ROLES, MapRole
from jagged_quilt.maps.swatch import Swatch
from jagged_quilt.maps.texture_map import TextureMap, stored_values

_R = MapRole
_BAND = 1 << 18  # texels that are turned to metallic at once
_GLOSS = {_R.ROUGHNESS: "gloss", _R.COAT_ROUGHNESS: "coat_gloss"}
PACKED_NAME = "occlusion_roughness_metallic"


@dataclass(frozen=True, slots=True, kw_only=True)
class Conventions:
    """How maps are written; as it is, they are as this library has them.

    Attributes
    ----------
    green_down : bool
        Green of normals grows down the image.
    gloss : bool
        Gloss in place of roughness.
    metallic : bool
        Base colour and metallic in place of diffuse and specular, with a report of what that loses.
    packed : bool
        Occlusion, roughness and metallic as red, green and blue of one file (glTF's order); metallic is 0 without `metallic`.
    bits : int
        8 or 16; heights have 16 always.
    """

    green_down: bool = False
    gloss: bool = False
    metallic: bool = False
    packed: bool = False
    bits: int = 8

    def __post_init__(self) -> None:
        if self.bits not in (8, 16):
            raise RangeError(f"maps are written with 8 or 16 bits; got {self.bits}")
        if self.packed and self.gloss:
            raise RangeError("occlusion, roughness and metallic in one file hold roughness; leave gloss, or the packing, away")


class Loss(NamedTuple):
    """What turning specular to metallic loses: the largest difference over both colours, linear light, 0..1."""

    mean: float
    worst: float

    def __str__(self) -> str:
        return (
            f"metallic loses {self.mean:.4f} of diffuse and specular on average, {self.worst:.3f} at most (linear light, of 1)"
        )


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class EngineMaps:
    """Maps by the conventions of an engine.

    Attributes
    ----------
    images : dict of str to (H, W) or (H, W, C) uint8 or uint16
        By what they are: "diffuse", "normal", "occlusion_roughness_metallic" ….
    facts : dict of str to dict
        Of each, what its channels hold and how.
    relief : float
        Metres from black to white of the heights.
    lost : Loss or None
        Where metallic stands for specular.
    """

    images: dict[str, Stored]
    facts: dict[str, Facts]
    relief: float
    lost: Loss | None = None

    def __repr__(self) -> str:
        return f"<EngineMaps: {', '.join(self.images)}>"

    def without(self, *names: str) -> EngineMaps:
        """Return the maps but some, by their names."""
        keep = [name for name in self.images if name not in names]
        return replace(self, images={name: self.images[name] for name in keep}, facts={name: self.facts[name] for name in keep})

    def save(self, folder: Path | str) -> list[Path]:
        """Write one PNG each, and `maps.json` that says what their channels hold; return the files."""
        folder = Path(folder)
        manifest: Facts = {"relief_metres": self.relief, "maps": {f"{name}.png": facts for name, facts in self.facts.items()}}
        if self.lost is not None:
            manifest["lost_by_metallic"] = {"mean": round(self.lost.mean, 6), "worst": round(self.lost.worst, 6)}
        with written_together(folder) as stage:
            for name, texels in self.images.items():
                write_image(stage / f"{name}.png", texels)
            write_json(stage / "maps.json", manifest)
        return [*(folder / f"{name}.png" for name in self.images), folder / "maps.json"]


def engine_maps(maps: BakedMaps | Swatch, conventions: Conventions = Conventions(), *, texels: int | None = None) -> EngineMaps:
    """Return the maps of a bake, or of a swatch, as an engine wants them.

    Parameters
    ----------
    texels : int, optional
        Along the longer side of a swatch's maps; as they are where it is not given. A bake has the size that it was baked with.

    Raises
    ------
    RangeError
        If a bake's normals, of which green is to be turned, are those of the world.
    ShapeError
        If maps that are to share a file have different sizes, or a bake is to have another.

    Examples
    --------
    >>> maps = jq.bake(ground.canvas(16), layers, arrays)
    >>> list(jq.export.engine_maps(maps, jq.export.Conventions(green_down=True)).images)
    ['diffuse', 'normal_green_down', 'roughness', 'specular', 'height', 'occlusion']
    """
    if isinstance(maps, BakedMaps):
        if texels is not None:
            raise ShapeError("baked maps have the size that they were baked with; bake with as many texels as you want")
        if conventions.green_down and maps.normals is not NormalSpace.TANGENT:
            raise RangeError(
                'these normals are those of the world, which have no green up or down; bake with normals = "tangent"'
            )
        given = {role: TextureMap(role=role, texels=maps[role]) for role in maps}
        return _Turning(given, conventions).made(maps.relief)
    given = {role: _sized(each, texels) for role, each in maps.read().maps.items() if role in BLENDED_ROLES}
    return _Turning(given, conventions).made(maps.relief)


def _sized(given: TextureMap, texels: int | None) -> TextureMap:
    """A map with so many texels along its longer side; its vectors stay unit."""
    rows, columns = given.shape
    if texels is None or max(rows, columns) == texels:
        return given
    scale = texels / max(rows, columns)
    values = resized(given.values, max(1, round(rows * scale)), max(1, round(columns * scale)))
    if given.role.value.direction:
        values = values / np.maximum(np.linalg.norm(values, axis=2, keepdims=True), 1e-12)
    return TextureMap.of_values(given.role, values)


@dataclass
class _Turning:
    """Maps on their way to an engine."""

    maps: Mapping[MapRole, TextureMap]
    how: Conventions
    images: dict[str, Stored] = field(default_factory=dict)
    facts: dict[str, Facts] = field(default_factory=dict)

    def made(self, relief: float) -> EngineMaps:
        lost, metallic = None, None
        if self.how.metallic:
            base, metallic, lost = self._metallic()
            self._add("base_color", base, self._facts(_R.DIFFUSE, "base color"))
        for role in (each for each in BLENDED_ROLES if each in self.maps):
            if self.how.metallic and role in (_R.DIFFUSE, _R.SPECULAR):
                continue
            if self.how.packed and role in (_R.OCCLUSION, _R.ROUGHNESS):
                continue
            self._add(*self._of_role(role))
        if self.how.packed:
            self._pack(metallic)
        elif metallic is not None:
            self._add("metallic", metallic, self._facts(_R.METALLIC, "metallic"))
        return EngineMaps(images=self.images, facts=self.facts, relief=relief, lost=lost)

    def _add(self, name: str, texels: Stored, facts: Facts) -> None:
        self.images[name], self.facts[name] = (texels[..., 0] if texels.ndim == 3 and texels.shape[2] == 1 else texels), facts

    def _of_role(self, role: MapRole) -> tuple[str, Stored, Facts]:
        given = self.maps[role]
        if role.value.direction and self.how.green_down:
            values = flipped_green(given.values)
            return f"{role.key}_green_down", stored_values(role, values, self._bits(role)), self._facts(role, role.key, "down")
        if role in _GLOSS and self.how.gloss:
            name = _GLOSS[role]
            return name, stored_values(role, gloss_from_roughness(given.values), self._bits(role)), self._facts(role, name)
        return role.key, self._stored(role), self._facts(role, role.key, "up")

    def _bits(self, role: MapRole) -> int:
        return max(self.how.bits, role.value.bits)

    def _stored(self, role: MapRole) -> Stored:
        """The texels of a role as they are where they are stored just so; else made anew of what they mean."""
        given = self.maps[role]
        bits = self._bits(role)
        same = given.texels.dtype == (np.uint16 if bits == 16 else np.uint8) and given.is_encoded == role.is_colour
        if same and given.texels.shape[2] == role.value.channels:
            return given.texels
        return stored_values(role, given.values, bits)

    def _facts(self, role: MapRole, holds: str, green: str = "") -> Facts:
        out: Facts = {"holds": holds, "transfer": str(role.value.transfer), "bits": self._bits(role)}
        return out | ({"green": green} if role.value.direction else {})

    def _metallic(self) -> tuple[Stored, Stored, Loss]:
        """Base colour and metallic as they are stored, a band at a time, and what they cannot say."""
        diffuse, specular = (self._or_neutral(role, self.maps[_R.DIFFUSE].shape) for role in (_R.DIFFUSE, _R.SPECULAR))
        shape, bits = diffuse.shape, self.how.bits
        kind = np.uint16 if bits == 16 else np.uint8
        base, metallic = np.empty((*shape, 3), kind), np.empty((*shape, 1), kind)
        total, worst = 0.0, 0.0
        for rows, part in _bands(diffuse):
            colour, metal, lost = metallic_from_diffuse_specular(part, _rows_of(specular, rows).values)
            base[rows], metallic[rows] = stored_values(_R.DIFFUSE, colour, bits), stored_values(_R.METALLIC, metal, bits)
            total, worst = total + float(lost.sum(dtype=np.float64)), max(worst, float(lost.max()))
        return base, metallic, Loss(total / (shape[0] * shape[1]), worst)

    def _or_neutral(self, role: MapRole, shape: tuple[int, int]) -> TextureMap:
        """A map of that size: brought to it, or of the neutral value where there is none."""
        given = self.maps.get(role)
        if given is None:
            one = np.full((*shape, role.value.channels), role.value.neutral, np.float32)
            return TextureMap.of_values(role, one)
        return given if given.shape == shape else TextureMap.of_values(role, resized(given.values, *shape))

    def _pack(self, metallic: Stored | None) -> None:
        shape = self.maps[_R.DIFFUSE].shape
        bits = self.how.bits
        parts = [
            stored_values(role, self._or_neutral(role, shape).values, bits)[..., 0] for role in (_R.OCCLUSION, _R.ROUGHNESS)
        ]
        parts.append(np.zeros_like(parts[0]) if metallic is None else metallic.reshape(parts[0].shape))
        facts: Facts = {"holds": {"r": "occlusion", "g": "roughness", "b": "metallic"}, "transfer": "linear", "bits": bits}
        self._add(PACKED_NAME, np.stack(parts, axis=2), facts)


def _bands(given: TextureMap) -> Iterator[tuple[slice, NDArray[np.float32]]]:
    """Yield bands of rows, and what they mean."""
    rows, columns = given.shape
    step = max(1, _BAND // columns)
    for top in range(0, rows, step):
        band = slice(top, min(rows, top + step))
        yield band, _rows_of(given, band).values


def _rows_of(given: TextureMap, rows: slice) -> TextureMap:
    """Return some rows of a map."""
    return TextureMap(role=given.role, texels=given.texels[rows], transfer=given.transfer)
