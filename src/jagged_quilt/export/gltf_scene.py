"""A scene as glTF 2.0: meshes with their maps; coats, specular colours and lamps by the standard's extensions; a camera."""

from __future__ import annotations

import math
import tempfile
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.arrays.resize import resized
from jagged_quilt.baking.baked_maps import BakedMaps
from jagged_quilt.export.engine_maps import PACKED_NAME, Conventions, EngineMaps, engine_maps
from jagged_quilt.export.engine_scene import EngineScene, SceneThing, ground_thing, mesh_thing, name_of
from jagged_quilt.export.file_names import stems_of
from jagged_quilt.export.surface_inputs import INPUTS
from jagged_quilt.export.tiled import Tiled
from jagged_quilt.foundation.checks import wrong_kind
from jagged_quilt.foundation.errors import FileError, ShapeError
from jagged_quilt.foundation.files import write_bytes
from jagged_quilt.foundation.json_types import Facts, Stored
from jagged_quilt.foundation.work import ANYHOW, Work
from jagged_quilt.light.lamps import Light
from jagged_quilt.maps.conversions import DIELECTRIC
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.meshes.mesh import Mesh
from jagged_quilt.meshfiles.gltf_write import GltfWriter
from jagged_quilt.surfaces.camera import Camera
from jagged_quilt.surfaces.terrain import Terrain

_NEAREST = 0.1  # metres before the camera
_LAMPS = {"sun": "directional", "point": "point", "spot": "spot"}  # of KHR_lights_punctual
_COAT = "extensions.KHR_materials_clearcoat"
_FACTORS: dict[str, Facts] = {
    "specular": {
        "extensions.KHR_materials_specular.specularColorFactor": [1 / DIELECTRIC] * 3
    },  # 0.04 times 25: as the map says
    "emission": {"emissiveFactor": [1.0, 1.0, 1.0]},
    "coat": {f"{_COAT}.clearcoatFactor": 1.0, f"{_COAT}.clearcoatRoughnessFactor": 1.0},
}
"""What a material says beside a texture, so that it is multiplied by what the map holds."""


def write_gltf(scene: EngineScene, path: Path | str, *, metallic: bool = False) -> tuple[list[Path], tuple[str, ...]]:
    """Write a scene as one .glb file, or as .gltf with its buffer and images beside it; return the files, and what is lost.

    Maps are diffuse and specular colours by KHR_materials_specular, which says them exactly; with `metallic`, base colour and
    metallic, for readers that lack the extension. Strengths of lamps are written as lux and candela as they are: a white plate
    under 3.14 is as bright as white.

    Raises
    ------
    FileError
        For any other suffix.

    Examples
    --------
    >>> maps = jq.bake(ground.canvas(16), layers, arrays)
    >>> scene = jq.export.EngineScene(things=[jq.export.ground_thing(ground, maps, error=0.01)])
    >>> files, notes = jq.export.write_gltf(scene, "ground.glb")
    >>> [path.name for path in files]
    ['ground.glb']
    """
    path = Path(path)
    if path.suffix.lower() not in (".glb", ".gltf"):
        raise FileError(f"{path}: a scene is written as .glb or .gltf; got {path.suffix or 'no suffix'}")
    making = _SceneWriter(scene, metallic)
    for thing in scene.things:
        making.add_thing(thing)
    if scene.lighting is not None:
        for number, light in enumerate(scene.lighting.lights):
            making.add_light(number, light)
        making.left_out.append("the sky: glTF has no standard way to say one")
    if scene.camera is not None:
        making.add_camera(scene.camera)
    left_out = (*making.left_out, *scene.lost_lamps())
    if path.suffix.lower() == ".gltf":
        return making.writer.save(path), left_out
    write_bytes(path, making.writer.glb())
    return [path], left_out


def write_glb(
    what: Mesh | Terrain,
    path: Path | str,
    *,
    maps: BakedMaps | None = None,
    error: float = 0.05,
    metallic: bool = False,
    work: Work = ANYHOW,
) -> Path:
    """Write one mesh, or a terrain as one, with its baked maps, as a .glb file.

    Parameters
    ----------
    what : Mesh or Terrain
    maps : BakedMaps, optional
        What was baked over its canvas; a terrain needs them.
    error : float
        Metres by which a terrain's mesh may leave its samples.
    metallic : bool
        See `write_gltf`, which writes several things, lamps and a camera.

    Raises
    ------
    FileError
        If the name does not end in .glb.
    ShapeError
        If it is neither of the two, or a terrain has no maps.

    Examples
    --------
    >>> jq.export.write_glb(ground, "ground.glb", maps=jq.bake(ground.canvas(16), layers, arrays)).name
    'ground.glb'
    """
    path = Path(path)
    if path.suffix.lower() != ".glb":
        raise FileError(f"{path}: its name must end in .glb; jq.export.write_gltf writes .gltf, too")
    if isinstance(what, Mesh):
        thing = mesh_thing(what, maps, name=path.stem, work=work)
    elif isinstance(what, Terrain):
        if maps is None:
            raise ShapeError("a terrain is written with its maps: maps=jq.bake(terrain.canvas(2048), layers, arrays)")
        thing = ground_thing(what, maps, error, name=path.stem, work=work)
    else:
        raise wrong_kind("what is written", what, "a Mesh or a Terrain (jq.export.write_gltf writes an EngineScene)")
    write_gltf(EngineScene(things=[thing]), path, metallic=metallic)
    return path


class _SceneWriter:
    """A scene while it is put together."""

    def __init__(self, scene: EngineScene, metallic: bool) -> None:
        self.scene, self.writer, self.left_out = scene, GltfWriter(), list[str]()
        swatches = {each.swatch.name for thing in scene.things for each in thing.tiled.values()}
        self.stems = stems_of([*(thing.name for thing in scene.things), *(f"swatch {name}" for name in sorted(swatches))])
        self.textures = dict[str, dict[str, int]]()
        self.how = Conventions(packed=True, metallic=metallic)

    def add_thing(self, thing: SceneThing) -> None:
        tiled = {name: self._tiled(f"{thing.name}: {name}", each) for name, each in thing.tiled.items()}
        number = None if set(tiled) >= set(thing.mesh.part_names) else self._baked(thing)
        self.writer.add_mesh(thing.mesh, [tiled.get(part.name, number) for part in thing.mesh.parts])

    def _tiled(self, name: str, tiled: Tiled) -> int:
        """A material of a swatch's own maps, laid on by KHR_texture_transform."""
        swatch, how = tiled.swatch, {"offset": list(tiled.offset), "scale": list(tiled.scale)}
        maps = engine_maps(swatch, self.how)
        laid = {"extensions": self.writer.use("KHR_texture_transform", how)}
        if maps.lost is not None:
            self.left_out.append(f'"{name}": {maps.lost}')
        return self.writer.add("materials", {"name": name} | self._material(f"swatch {swatch.name}", maps, laid))

    def _baked(self, thing: SceneThing) -> int:
        """A material of baked maps."""
        entry: Facts = {"name": thing.name}
        if thing.maps is None:
            entry["pbrMetallicRoughness"] = {"metallicFactor": 0.0, "roughnessFactor": MapRole.ROUGHNESS.value.neutral[0]}
            self.left_out.append(
                f'"{thing.name}": its vertices hold colours alone; how rough it is stands as the neutral value'
            )
        else:
            maps = engine_maps(thing.maps, self.how)
            entry |= self._material(thing.name, maps)
            if maps.lost is not None:
                self.left_out.append(f'"{thing.name}": {maps.lost}')
        return self.writer.add("materials", entry)

    def _material(self, name: str, maps: EngineMaps, laid: Facts | None = None) -> Facts:
        """What the standard says of a material; `laid` is said of each of its textures."""
        if name not in self.textures:
            self.textures[name] = {key: self._texture(name, key, texels) for key, texels in self._images(maps).items()}
        textures: Facts = {key: {"index": number, **(laid or {})} for key, number in self.textures[name].items()}
        textures |= {"coat_roughness": textures["coat"]} if "coat" in textures else {}
        entry: Facts = {"occlusionTexture": textures[PACKED_NAME]}
        for key, texture in textures.items():
            _put(entry, INPUTS[key].gltf, texture)
            for path, factor in _FACTORS.get(key, {}).items():
                _put(entry, path, factor)
        entry["pbrMetallicRoughness"]["metallicFactor"] = 1.0 if self.how.metallic else 0.0
        for extension in entry.get("extensions", {}):
            self.writer.use(extension, {})
        if "opacity" in maps.images:
            entry |= {"alphaMode": "MASK", "alphaCutoff": self.scene.cut_out, "doubleSided": True}
        return entry

    def _images(self, maps: EngineMaps) -> dict[str, Stored]:
        """The images of a material: opacity is the base colour's alpha, a coat and its roughness share one."""
        images = dict(maps.images)
        colour = images.pop("base_color" if self.how.metallic else "diffuse")
        opacity, height = images.pop("opacity", None), images.pop("height", None)
        del height  # of which the standard knows nothing
        out = {"base_color": colour if opacity is None else np.dstack([colour, _as_large(opacity, colour.shape[:2])])}
        if "coat" in images:
            coat = images.pop("coat")
            rough = images.pop("coat_roughness", np.zeros_like(coat))
            size = max(coat.shape, rough.shape)
            coat, rough = _as_large(coat, size), _as_large(rough, size)
            out["coat"] = np.stack([coat, rough, np.zeros_like(coat)], axis=2)
        return out | images

    def _texture(self, name: str, key: str, texels: Stored) -> int:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / f"{self.stems[name]}_{key}.png"
            write_image(file, texels)
            return self.writer.add_texture(file.name, file.read_bytes())

    def add_light(self, number: int, light: Light) -> None:
        brightest = max(light.colour)
        entry: Facts = {
            "name": f"{name_of(light)} {number}",
            "type": _LAMPS[light.kind],
            "color": [each / brightest for each in light.colour] if brightest > 0 else [0.0, 0.0, 0.0],
            "intensity": light.strength * brightest,
        }
        node: Facts = {"name": entry["name"]}
        if light.way is not None:
            node["rotation"] = _turned_to(light.way)
        if light.position is not None:
            node["translation"] = list(light.position)
            entry |= {"range": light.reach} if light.reach > 0 else {}
        if light.cone is not None:
            inner, outer = (math.radians(each) for each in light.cone)
            entry["spot"] = {"innerConeAngle": min(inner, outer - 1e-4), "outerConeAngle": outer}
        self.writer.add_light(node, entry)

    def add_camera(self, camera: Camera) -> None:
        way = np.subtract(camera.target, camera.position)
        entry: Facts = {"yfov": math.radians(camera.view_angle), "znear": _NEAREST, "aspectRatio": 1.6}
        number = self.writer.add("cameras", {"name": "view", "type": "perspective", "perspective": entry})
        node = {"name": "view", "camera": number, "translation": list(camera.position), "rotation": _turned_to(way)}
        self.writer.add_node(node)


def _put(entry: Facts, path: str, value: object) -> None:
    """Put a value at keys joined by dots; tables on the way are made."""
    *tables, key = path.split(".")
    for name in tables:
        entry = entry.setdefault(name, {})
    entry[key] = value


def _as_large(grey: Stored, size: tuple[int, int]) -> Stored:
    """A grey image (H, W) with as many rows and columns as another: a swatch's maps may differ in size."""
    if grey.shape == size:
        return grey
    return np.rint(resized(grey[..., None].astype(np.float32), *size)[..., 0]).astype(grey.dtype)


def _turned_to(way: NDArray[np.floating]) -> list[float]:
    """The unit quaternion (x, y, z, w) that turns -z to a direction, and leaves x level."""
    back = -np.asarray(way, np.float64) / np.linalg.norm(way)
    right = np.cross([0.0, 1.0, 0.0] if abs(back[1]) < 0.999999 else [0.0, 0.0, 1.0], back)
    right /= np.linalg.norm(right)
    from scipy.spatial.transform import Rotation

    return [float(each) for each in Rotation.from_matrix(np.column_stack([right, np.cross(back, right), back])).as_quat()]
