"""The materials of a glTF file: their maps, constants and factors."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

import numpy as np

from jagged_quilt.foundation.choices import Wrap
from jagged_quilt.foundation.errors import FileError
from jagged_quilt.foundation.json_types import Unchecked
from jagged_quilt.maps.names import is_green_down
from jagged_quilt.maps.roles import MapRole, Transfer
from jagged_quilt.maps.swatch_source import MapRule
from jagged_quilt.meshes.material import MeshMaterial
from jagged_quilt.meshfiles.gltf_file import GltfFile

_R = MapRole
_SUFFIXES = {
    "image/png": ".png",
    "image/jpeg": ".jpg",
    "image/webp": ".webp",
    "image/ktx2": ".ktx2",
    "image/vnd-ms.dds": ".dds",
}
_BEGINNINGS = {b"\x89PNG": ".png", b"\xff\xd8": ".jpg", b"RIFF": ".webp", b"\xabKTX": ".ktx2", b"DDS ": ".dds"}
_TRANSFORM = "KHR_texture_transform"
_READ = {
    "KHR_materials_clearcoat",
    "KHR_materials_emissive_strength",
    "KHR_materials_ior",
    "KHR_materials_pbrSpecularGlossiness",
    "KHR_materials_specular",
    "KHR_materials_unlit",
}
_WRAPS = {10497: Wrap.REPEAT, 33071: Wrap.CLAMP, 33648: Wrap.MIRROR}
_NEAREST = (9728, 9984, 9986)
_IOR = 1.5
_NEAR = 1e-3


def read_material(file: GltfFile, number: int, name: str) -> tuple[MeshMaterial, list[str]]:
    """Return a material by the name given, and what is odd or missing, in words."""
    wrong = list[str]()
    making = _MaterialReading(file, _sound(file.entry("materials", number), wrong), name)
    if wrong:
        making.note(f"gives no numbers for {', '.join(wrong)}; what is usual is taken")
    making.base()
    making.surface()
    making.coat()
    return making.closed(), making.notes


def texture_set(file: GltfFile, number: int | None) -> int:
    """Return by which set of uv the textures of a material lie: that of its colour map, else of its first."""
    if number is None:
        return 0
    material = file.entry("materials", number)
    base = material.get("pbrMetallicRoughness", {})
    textures = (base.get("baseColorTexture"), base.get("metallicRoughnessTexture"), material.get("normalTexture"))
    found: dict[str, Unchecked] = next((each for each in textures if each), {})
    return int(found.get("extensions", {}).get(_TRANSFORM, {}).get("texCoord", found.get("texCoord", 0)))


def _sound(material: dict[str, Unchecked], wrong: list[str]) -> dict[str, Unchecked]:
    """A table without the keys that say NaN or infinity, anywhere within; their names go to `wrong`."""
    out = {}
    for key, value in material.items():
        numbers = [each for each in (value if isinstance(value, list) else [value]) if isinstance(each, float)]
        if not all(math.isfinite(each) for each in numbers):
            wrong.append(key)
        else:
            out[key] = _sound(value, wrong) if isinstance(value, dict) else value
    return out


@dataclass
class _MaterialReading:
    """A material while it is put together."""

    file: GltfFile
    material: dict[str, Unchecked]
    name: str
    rules: dict[MapRole, MapRule] = field(default_factory=dict)
    embedded: dict[str, bytes] = field(default_factory=dict)
    placed: list[tuple[Unchecked, ...]] = field(default_factory=list)
    nearest: bool = False
    notes: list[str] = field(default_factory=list)

    def note(self, words: str) -> None:
        self.notes.append(f'material "{self.name}" {words}')

    def extension(self, name: str) -> dict[str, Unchecked]:
        found: dict[str, Unchecked] = self.material.get("extensions", {}).get(name, {})
        return found

    def constant(self, role: MapRole, *value: float) -> None:
        """Say what a map means everywhere, unless there is one, or it is what is taken anyway."""
        cut = tuple(min(max(float(each), 0.0), 1.0) for each in value)
        if any(abs(each - float(was)) > _NEAR for each, was in zip(cut, value, strict=True)):
            self.note(f"gives {', '.join(f'{float(each):.3g}' for each in value)} for {role.key}; cut to 0 to 1")
        if role not in self.rules and (cut != role.value.neutral or role in (_R.DIFFUSE, _R.ROUGHNESS)):
            self.rules[role] = MapRule(role=role, value=cut)

    def map(self, texture: dict[str, Unchecked] | None, role: MapRole, channel: str = "", times: Unchecked = 1.0) -> bool:
        """Take a texture as a map; False where there is none, or its file is not there."""
        known = self._image(texture)
        if texture is None or known is None:
            return False
        factor = tuple(float(each) for each in times) if isinstance(times, (list, tuple)) else float(times)
        if isinstance(factor, tuple) and len(set(factor)) == 1:
            factor = factor[0]
        green = None if role not in (_R.NORMAL, _R.COAT_NORMAL) else "up"
        if green and is_green_down(self.file.path.parent / known):
            self.note(f"names {known}, which is called green down; in glTF green is up, and it is taken so")
        self.rules[role] = MapRule(
            role=role, file=known, channel=channel, green="up" if green else None, times=factor, whole_file=bool(channel)
        )
        moved = texture.get("extensions", {}).get(_TRANSFORM, {})
        where = (*moved.get("scale", (1, 1)), *moved.get("offset", (0, 0)), moved.get("rotation", 0))
        self.placed.append((*where, moved.get("texCoord", texture.get("texCoord", 0)), *self._wrap(texture)))
        return True

    def _wrap(self, texture: dict[str, Unchecked]) -> tuple[Wrap, Wrap]:
        """What the sampler of a texture says lies beyond its first repeat."""
        number = self.file.entry("textures", texture["index"]).get("sampler")
        sampler = {} if number is None else self.file.entry("samplers", number)
        said = sampler.get("wrapS", 10497), sampler.get("wrapT", 10497)
        if not set(said) <= set(_WRAPS):
            self.note(f"has a sampler with the unknown wrap modes {said[0]} and {said[1]}; its textures repeat")
            return Wrap.REPEAT, Wrap.REPEAT
        if sampler.get("magFilter") in _NEAREST:
            self.nearest = True
        return _WRAPS[said[0]], _WRAPS[said[1]]

    def _image(self, texture: dict[str, Unchecked] | None) -> str | None:
        """The file of a texture, or the name under which its bytes are kept; None where there is neither."""
        if texture is None:
            return None
        entry = self.file.entry("textures", texture["index"])
        others = [each.get("source") for each in entry.get("extensions", {}).values() if isinstance(each, dict)]
        source = next((each for each in (entry.get("source"), *others) if each is not None), None)
        if source is None:
            return None
        image = self.file.entry("images", source)
        named = str(image.get("uri", ""))
        if named and not named.startswith("data:"):
            try:
                found = self.file.beside(named)
            except FileError as error:
                self.note(f"names {error}")
                return None
            folder = self.file.path.parent
            return found.relative_to(folder).as_posix() if found.is_relative_to(folder) else str(found)
        data = self.file.linked(named, f"images[{source}]") if named else bytes(self.file.view(image["bufferView"])[0])
        kind = str(image.get("mimeType") or named.removeprefix("data:").partition(";")[0])
        begun = next((suffix for head, suffix in _BEGINNINGS.items() if data.startswith(head)), ".png")
        known = f"{self.file.path.stem}_{source}{_SUFFIXES.get(kind, begun)}"
        self.embedded[known] = data
        return known

    def base(self) -> None:
        """Colour, roughness and metal, in either way of saying them."""
        base, older = self.material.get("pbrMetallicRoughness", {}), self.extension("KHR_materials_pbrSpecularGlossiness")
        if older and not base:
            self._older(older)
            return
        colour = [float(each) for each in base.get("baseColorFactor", (1, 1, 1, 1))]
        texture = base.get("baseColorTexture")
        if self.map(texture, _R.DIFFUSE, times=colour[:3]):
            self._cut_out(texture, colour[3])
        self.constant(_R.DIFFUSE, *colour[:3])
        both = base.get("metallicRoughnessTexture")
        rough, metal = float(base.get("roughnessFactor", 1)), float(base.get("metallicFactor", 1))
        self.map(both, _R.ROUGHNESS, "g", rough)
        if metal > 0:
            self.map(both, _R.METALLIC, "b", metal)
        self.constant(_R.ROUGHNESS, rough)
        self.constant(_R.METALLIC, metal)
        self._specular(metal > 0)

    def _cut_out(self, texture: Unchecked, factor: float) -> None:
        """Its alpha, where the material says that it counts."""
        if self.material.get("alphaMode", "OPAQUE") == "OPAQUE":
            self.rules[_R.OPACITY] = MapRule(role=_R.OPACITY, value=(1.0,))
        else:
            self.map(texture, _R.OPACITY, "a", factor)

    def _older(self, extension: dict[str, Unchecked]) -> None:
        colour = [float(each) for each in extension.get("diffuseFactor", (1, 1, 1, 1))]
        if self.map(extension.get("diffuseTexture"), _R.DIFFUSE, times=colour[:3]):
            self._cut_out(extension.get("diffuseTexture"), colour[3])
        self.constant(_R.DIFFUSE, *colour[:3])
        both = extension.get("specularGlossinessTexture")
        specular, gloss = extension.get("specularFactor", (1, 1, 1)), float(extension.get("glossinessFactor", 1))
        self.map(both, _R.SPECULAR, "rgb", specular)
        if not self.map(both, _R.GLOSS, "a", gloss):
            self.constant(_R.ROUGHNESS, 1 - gloss)
        self.constant(_R.SPECULAR, *specular)

    def _specular(self, has_metal: bool) -> None:
        """Reflectance at normal incidence of what is no metal, by index of refraction and strength."""
        extension, ior = self.extension("KHR_materials_specular"), float(self.extension("KHR_materials_ior").get("ior", _IOR))
        if not extension and ior == _IOR:
            return
        if has_metal:
            self.note("says how strongly what is no metal reflects, beside a metallic map or factor; 0.04 is taken")
            return
        plain = ((ior - 1) / (ior + 1)) ** 2 * float(extension.get("specularFactor", 1))
        colour = [plain * float(each) for each in extension.get("specularColorFactor", (1, 1, 1))]
        if self.map(extension.get("specularColorTexture"), _R.SPECULAR, "rgb", colour):
            if extension.get("specularTexture"):
                self.note("has maps of both colour and strength of its reflectance; the strength is not read")
        elif not self.map(extension.get("specularTexture"), _R.SPECULAR, "aaa", colour):
            self.constant(_R.SPECULAR, *colour)
        else:  # a plain number, though colour is stored otherwise
            self.rules[_R.SPECULAR] = replace(self.rules[_R.SPECULAR], transfer=Transfer.NONE)

    def surface(self) -> None:
        """Normals, occlusion, emission."""
        for key, role, channel, factor in (
            ("normalTexture", _R.NORMAL, "", "scale"),
            ("occlusionTexture", _R.OCCLUSION, "r", "strength"),
        ):
            texture = self.material.get(key)
            self.map(texture, role, channel, (texture or {}).get(factor, 1.0))
        strength = float(self.extension("KHR_materials_emissive_strength").get("emissiveStrength", 1))
        glow = [strength * float(each) for each in self.material.get("emissiveFactor", (0, 0, 0))]
        if max(glow) > 1:
            self.note(
                f"glows {max(glow):.3g} times as bright as white, which is as bright as a map can say; brought down to that"
            )
            glow = [each / max(glow) for each in glow]
        if max(glow) > 0 and not self.map(self.material.get("emissiveTexture"), _R.EMISSION, times=glow):
            self.constant(_R.EMISSION, *glow)

    def coat(self) -> None:
        """A clear coat."""
        extension = self.extension("KHR_materials_clearcoat")
        amount = float(extension.get("clearcoatFactor", 0))
        if amount > 0:
            rough = float(extension.get("clearcoatRoughnessFactor", 0))
            self.map(extension.get("clearcoatTexture"), _R.COAT, "r", amount)
            self.map(extension.get("clearcoatRoughnessTexture"), _R.COAT_ROUGHNESS, "g", rough)
            bumps = extension.get("clearcoatNormalTexture")
            self.map(bumps, _R.COAT_NORMAL, "", (bumps or {}).get("scale", 1.0))
            self.constant(_R.COAT, amount)
            self.constant(_R.COAT_ROUGHNESS, rough)

    def closed(self) -> MeshMaterial:
        """The material, with a word on what was not read."""
        strange = sorted(set(self.material.get("extensions", {})) - _READ)
        if strange:
            self.note(f"says {', '.join(strange)}, which is not read")
        if len(set(self.placed)) > 1:
            self.note("lays its maps differently; all are laid as the first of them is")
        if self.nearest:
            self.note('has a sampler that takes the nearest texel; texels are blended unless its layer sets filter = "nearest"')
        *numbers, wrap_u, wrap_v = (self.placed or [(1, 1, 0, 0, 0, 0, Wrap.REPEAT, Wrap.REPEAT)])[0]
        su, sv, ou, ov, turned, _ = map(float, numbers)
        return MeshMaterial(
            name=self.name,
            folder=self.file.path.parent,
            rules=tuple(self.rules.values()),
            scale=(su, sv),
            offset=(ou, ov),
            rotation=float(np.degrees(turned)),
            wrap=(wrap_u, wrap_v),
            embedded=self.embedded,
        )
