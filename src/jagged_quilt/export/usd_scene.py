"""A scene as an OpenUSD stage: meshes with their maps as preview surfaces, lamps, a sky, a camera."""

from __future__ import annotations

import math
import tempfile
from pathlib import Path
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from jagged_quilt.export.engine_maps import Conventions, engine_maps
from jagged_quilt.export.engine_scene import EngineScene, SceneThing, name_of
from jagged_quilt.export.file_names import stems_of
from jagged_quilt.export.materialx import write_materialx
from jagged_quilt.export.surface_inputs import INPUTS, Read
from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.files import make_folder, put_in_place
from jagged_quilt.light.lamps import Light
from jagged_quilt.light.light import Lighting
from jagged_quilt.light.sky_image import SkyImage, directions_of
from jagged_quilt.maps.image_writing import write_image
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.surfaces.camera import Camera

_Prim: TypeAlias = Any  # of a stage: the bindings carry no types
_AHEAD = np.array([0.0, 0.0, -1.0])
_SKY = (64, 128)  # texels of a sky that is a gradient
_WIDTH = 24.0  # millimetres of a camera's film from bottom to top


def write_usd(scene: EngineScene, path: Path | str) -> tuple[list[Path], tuple[str, ...]]:
    """Write a scene as .usda or .usdc, its maps beside it, and each material as MaterialX; return the files, and what is lost.

    Preview surfaces in their specular workflow say diffuse and specular colours exactly. Lamps are those of UsdLux, their
    strengths as intensity: what falls on a plate that faces a sun; the sky is a dome.

    Raises
    ------
    FileError
        For any other suffix, or parts that keep their tile.
    QuiltError
        If OpenUSD is not installed.

    Examples
    --------
    >>> files, notes = jq.export.write_usd(scene, "ground.usdc")  # the scene of `write_gltf`  # doctest: +SKIP
    """
    path = Path(path)
    if path.suffix.lower() not in (".usda", ".usdc"):
        raise FileError(f"{path}: a stage is written as .usda or .usdc; got {path.suffix or 'no suffix'}")
    if any(thing.tiled for thing in scene.things):
        raise FileError(f"{path}: parts that keep their tile are written as glTF; bake them for a stage")
    try:
        from pxr import UsdGeom
    except ImportError as error:
        raise QuiltError('a USD stage needs OpenUSD: pip install "jagged-quilt[usd]"') from error
    make_folder(path.parent)
    making = _StageWriter(scene, path)
    for thing in scene.things:
        making.add_thing(thing)
    for number, light in enumerate(scene.lighting.lights if scene.lighting else ()):
        making.add_light(number, light)
    if scene.lighting is not None:
        making.add_sky(scene.lighting)
    if scene.camera is not None:
        making.add_camera(scene.camera)
    UsdGeom.SetStageUpAxis(making.stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(making.stage, 1.0)
    making.stage.SetDefaultPrim(making.stage.GetPrimAtPath("/scene"))
    with tempfile.TemporaryDirectory(dir=path.parent) as folder:
        made = Path(folder) / path.name
        making.stage.GetRootLayer().Export(str(made))
        put_in_place(made, path)
    materials = {thing.name: thing.maps for thing in scene.things if thing.maps is not None}
    documents, lost = write_materialx(materials, path.parent / "materialx")
    left_out = (*making.left_out, *scene.lost_lamps(), *(f"in MaterialX {line}" for line in lost))
    return [path, *making.files, *documents], left_out


class _StageWriter:
    """A stage while it is put together."""

    def __init__(self, scene: EngineScene, path: Path) -> None:
        from pxr import Usd, UsdGeom

        self.scene, self.path, self.files, self.left_out = scene, path, list[Path](), list[str]()
        self.stage = Usd.Stage.CreateInMemory()
        self.stems = stems_of([thing.name for thing in scene.things])
        UsdGeom.Xform.Define(self.stage, "/scene")

    def add_thing(self, thing: SceneThing) -> None:
        from pxr import Gf, Sdf, UsdGeom, UsdShade, Vt

        stem, mesh = self.stems[thing.name], thing.mesh
        root = UsdGeom.Xform.Define(self.stage, f"/scene/{stem}")
        if any(mesh.origin):
            root.AddTranslateOp().Set(Gf.Vec3d(*mesh.origin))
        material = self._material(thing)
        names = stems_of([part.name or thing.name for part in mesh.parts])
        for part in mesh.parts:
            used, corners = np.unique(mesh.triangles[part.first : part.last], return_inverse=True)
            own = UsdGeom.Mesh.Define(self.stage, f"/scene/{stem}/mesh_{names[part.name or thing.name]}")
            where = mesh.position[used]
            own.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(where))
            own.CreateExtentAttr(Vt.Vec3fArray.FromNumpy(np.stack([where.min(axis=0), where.max(axis=0)])))
            own.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(part.last - part.first, 3, np.int32)))
            own.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(corners.astype(np.int32).ravel()))
            own.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
            if thing.maps is not None and MapRole.OPACITY in thing.maps:
                own.CreateDoubleSidedAttr(True)
            own.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(mesh.normal[used])))
            own.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
            if mesh.uv is not None:
                uvs = np.ascontiguousarray(mesh.uv[used] * (1, -1) + (0, 1), np.float32)  # v grows upwards
                uv = UsdGeom.PrimvarsAPI(own).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex)
                uv.Set(Vt.Vec2fArray.FromNumpy(uvs))
            if thing.maps is None and mesh.colour is not None:
                colours = own.CreateDisplayColorPrimvar(UsdGeom.Tokens.vertex)
                colours.Set(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(mesh.colour[used, :3])))
            UsdShade.MaterialBindingAPI.Apply(own.GetPrim()).Bind(material)

    def _material(self, thing: SceneThing) -> _Prim:
        from pxr import Gf, Sdf, UsdShade

        prim, types = f"/scene/{self.stems[thing.name]}/material", Sdf.ValueTypeNames
        material = UsdShade.Material.Define(self.stage, prim)
        surface = UsdShade.Shader.Define(self.stage, f"{prim}/surface")
        surface.CreateIdAttr("UsdPreviewSurface")
        material.CreateSurfaceOutput().ConnectToSource(surface.ConnectableAPI(), "surface")
        surface.CreateInput("useSpecularWorkflow", types.Int).Set(1)
        if thing.maps is None:
            by_vertex = UsdShade.Shader.Define(self.stage, f"{prim}/colour")
            by_vertex.CreateIdAttr("UsdPrimvarReader_float3")
            by_vertex.CreateInput("varname", types.String).Set("displayColor")
            colour = by_vertex.CreateOutput("result", types.Float3)
            surface.CreateInput("diffuseColor", types.Color3f).ConnectToSource(colour)
            surface.CreateInput("roughness", types.Float).Set(MapRole.ROUGHNESS.value.neutral[0])
            self.left_out.append(
                f'"{thing.name}": its vertices hold colours alone; how rough it is stands as the neutral value'
            )
            return material
        reader = UsdShade.Shader.Define(self.stage, f"{prim}/uv")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", types.String).Set("st")
        uv = reader.CreateOutput("result", types.Float2)
        folder = self.path.parent / f"{self.path.stem}_{self.stems[thing.name]}"
        whole = engine_maps(thing.maps, Conventions())
        if "coat_normal" in whole.images:
            self.left_out.append(f'"{thing.name}": the normals of its coat; a preview surface has none')
        maps = whole.without(*(key for key in whole.images if key not in INPUTS or not INPUTS[key].usd))
        self.files += maps.save(folder)
        for key in maps.images:
            fed = INPUTS[key]
            texture = UsdShade.Shader.Define(self.stage, f"{prim}/{key}")
            texture.CreateIdAttr("UsdUVTexture")
            texture.CreateInput("file", types.Asset).Set(f"./{folder.name}/{key}.png")
            texture.CreateInput("sourceColorSpace", types.Token).Set("sRGB" if fed.read is Read.COLOUR else "raw")
            texture.CreateInput("st", types.Float2).ConnectToSource(uv)
            for along in ("wrapS", "wrapT"):
                texture.CreateInput(along, types.Token).Set("repeat")
            if fed.read is Read.NUMBER:
                number = texture.CreateOutput("r", types.Float)
                surface.CreateInput(fed.usd, types.Float).ConnectToSource(number)
            elif fed.read is Read.COLOUR:
                colour = texture.CreateOutput("rgb", types.Float3)
                surface.CreateInput(fed.usd, types.Color3f).ConnectToSource(colour)
            else:
                texture.CreateInput("scale", types.Float4).Set(Gf.Vec4f(2, 2, 2, 1))
                texture.CreateInput("bias", types.Float4).Set(Gf.Vec4f(-1, -1, -1, 0))
                normal = texture.CreateOutput("rgb", types.Float3)
                surface.CreateInput(fed.usd, types.Normal3f).ConnectToSource(normal)
        if "opacity" in maps.images:
            surface.CreateInput("opacityThreshold", types.Float).Set(float(self.scene.cut_out))
        return material

    def add_light(self, number: int, light: Light) -> None:
        from pxr import Gf, UsdLux

        prim = f"/scene/{name_of(light)}_{number}"
        lamp: _Prim
        if light.position is None:
            lamp = UsdLux.DistantLight.Define(self.stage, prim)
            lamp.CreateAngleAttr(float(light.size))
            _turn(lamp, light.way, np.zeros(3))
            lamp.CreateNormalizeAttr(True)
            lamp.CreateIntensityAttr(float(light.strength))
        else:
            lamp = UsdLux.SphereLight.Define(self.stage, prim)
            lamp.CreateRadiusAttr(float(light.radius))
            lamp.CreateTreatAsPointAttr(False)
            lamp.CreateIntensityAttr(float(light.strength / (math.pi * light.radius**2)))  # nits of a ball so wide
            if light.cone is not None:
                inner, outer = light.cone
                shaped = UsdLux.ShapingAPI.Apply(lamp.GetPrim())
                shaped.CreateShapingConeAngleAttr(float(outer))
                shaped.CreateShapingConeSoftnessAttr(float(1 - inner / outer))
            _turn(lamp, _AHEAD if light.way is None else light.way, np.array(light.position))
            if light.reach > 0:
                self.left_out.append(f"lamp {number}: its reach; it falls with the square of the distance")
        lamp.CreateColorAttr(Gf.Vec3f(*(float(each) for each in light.colour)))

    def add_sky(self, lighting: Lighting) -> None:
        """Light from all around, as an image: both begin in the north and go over east, the zenith on top."""
        from pxr import UsdLux

        sky = lighting.sky
        size = sky.texels.shape[:2] if isinstance(sky, SkyImage) else _SKY
        light = sky.seen(directions_of(size).reshape(-1, 3).astype(np.float32)).reshape(*size, 3)
        file = self.path.parent / f"{self.path.stem}_sky.exr"
        write_image(file, light)
        self.files.append(file)
        dome = UsdLux.DomeLight.Define(self.stage, "/scene/sky")
        dome.CreateTextureFileAttr(f"./{file.name}")
        dome.CreateTextureFormatAttr(UsdLux.Tokens.latlong)

    def add_camera(self, camera: Camera) -> None:
        from pxr import Gf, UsdGeom

        view = UsdGeom.Camera.Define(self.stage, "/scene/view")
        view.CreateVerticalApertureAttr(_WIDTH)
        view.CreateHorizontalApertureAttr(1.6 * _WIDTH)
        view.CreateFocalLengthAttr(_WIDTH / 2 / math.tan(math.radians(camera.view_angle / 2)))
        view.CreateClippingRangeAttr(Gf.Vec2f(0.1, 1e5))
        _turn(view, np.subtract(camera.target, camera.position), np.array(camera.position))


def _turn(thing: _Prim, way: NDArray[np.float64], prim: NDArray[np.float64]) -> None:
    """Move a thing to a place, and turn its -z to a direction."""
    from pxr import Gf

    ahead = Gf.Vec3d(*(float(each) for each in way)).GetNormalized()
    up = Gf.Vec3d(0, 1, 0) if abs(ahead[1]) < 0.999999 else Gf.Vec3d(0, 0, 1)
    at = Gf.Vec3d(*(float(each) for each in prim))
    thing.AddTransformOp().Set(Gf.Matrix4d().SetLookAt(at, at + ahead, up).GetInverse())
