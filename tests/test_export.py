"""What goes to engines: maps by their conventions, scenes, materials and bundles, each read by somebody else."""

import ast
import json
import re
import shutil
import struct
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jagged_quilt as jq
from conftest import jquilt, made_maps, made_swatch
from jagged_quilt.blend.settings import NormalSpace
from jagged_quilt.export.bundle import Bundle, write_bundle
from jagged_quilt.export.file_names import stems_of
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.foundation.colour import linear_from_srgb
from jagged_quilt.images import read_image, write_image
from jagged_quilt.light.light import Lighting
from jagged_quilt.maps.texture_map import stored_values
from jagged_quilt.results.results import Results

R = jq.MapRole
ROOT = Path(__file__).parents[1]
RARE = (R.COAT, R.COAT_NORMAL, R.COAT_ROUGHNESS, R.EMISSION, R.OPACITY)


def baked(seed=0, rare=(), side=16, **more):
    """Random maps, as a bake gives them."""
    maps = {role: np.array(each.texels) for role, each in made_maps(seed, side, (*jq.SURFACE_ROLES, *rare)).items()}
    maps[R.HEIGHT] = maps[R.HEIGHT].astype(np.uint16) * 257
    flat = {role: each if each.shape[2] > 1 else each[..., 0] for role, each in maps.items()}
    return jq.BakedMaps(flat, relief=0.3, normals=more.get("normals", NormalSpace.TANGENT))


class TestConventions:
    def test_as_they_are_nothing_changes(self):
        maps = baked(rare=RARE)
        made = jq.export.engine_maps(maps)
        assert made.images.keys() == {role.key for role in maps}
        assert all(np.array_equal(made.images[role.key], maps[role]) for role in maps)
        assert made.facts["normal"] == {"holds": "normal", "transfer": "linear", "bits": 8, "green": "up"}

    def test_green_down_and_gloss_are_the_other_way_round(self):
        maps = baked(rare=RARE)
        made = jq.export.engine_maps(maps, jq.export.Conventions(green_down=True, gloss=True)).images
        normals = jq.TextureMap(role=R.NORMAL, texels=maps[R.NORMAL]).values * (1, -1, 1)
        assert np.array_equal(made["normal_green_down"], stored_values(R.NORMAL, normals))
        assert np.array_equal(made["gloss"], 255 - maps[R.ROUGHNESS])
        assert np.array_equal(made["coat_gloss"], 255 - maps[R.COAT_ROUGHNESS])
        assert {"normal", "roughness", "coat_normal"}.isdisjoint(made)

    def test_three_maps_go_into_one_file(self, tmp_path):
        maps = baked()
        made = jq.export.engine_maps(maps, jq.export.Conventions(packed=True, metallic=True))
        one = read_image(made.save(tmp_path)[-2])
        assert np.array_equal(one[..., 0], maps[R.OCCLUSION])
        assert np.array_equal(one[..., 1], maps[R.ROUGHNESS])
        document = json.loads((tmp_path / "maps.json").read_text())
        assert document["maps"]["occlusion_roughness_metallic.png"]["holds"] == {
            "r": "occlusion",
            "g": "roughness",
            "b": "metallic",
        }
        assert sorted(path.name for path in tmp_path.glob("*.png")) == sorted(document["maps"])

    @pytest.mark.parametrize("bits", [8, 16])
    def test_a_metallic_material_comes_back(self, bits):
        """What glTF mixes from base colour and metallic is taken apart again, within the steps of what is stored."""
        rng, top = np.random.default_rng(2), (1 << bits) - 1
        base, metal = rng.uniform(0.3, 0.9, (32, 32, 3)).astype(np.float32), rng.integers(0, 2, (32, 32, 1)).astype(np.float32)
        diffuse, specular = jq.convert.diffuse_specular_from_metallic(base, metal)
        maps = {R.DIFFUSE: stored_values(R.DIFFUSE, diffuse, bits), R.SPECULAR: stored_values(R.SPECULAR, specular, bits)}
        made = jq.export.engine_maps(
            jq.BakedMaps(maps, relief=1.0, normals=NormalSpace.TANGENT), jq.export.Conventions(metallic=True, bits=bits)
        )
        assert np.abs(made.images["metallic"] / top - metal[..., 0]).max() < 0.01
        assert np.abs(linear_from_srgb(made.images["base_color"] / top) - base).max() < (0.02 if bits == 8 else 0.002)
        assert made.lost.worst < 0.01

    def test_what_metallic_cannot_say_is_reported(self):
        """Water throws back half as much as metallic has it: 0.02 is lost."""
        water = jq.plain_swatch("water", diffuse=(0.1, 0.1, 0.1), specular=0.02)
        lost = jq.export.engine_maps(water, jq.export.Conventions(metallic=True)).lost
        assert lost.mean == pytest.approx(0.02, abs=0.001)
        assert "metallic loses 0.0" in str(lost)

    def test_swatches_are_brought_to_a_size(self):
        made = jq.export.engine_maps(made_swatch("a", side=16), texels=8)
        normals = made.images["normal"] / 127.5 - 1
        assert {each.shape[:2] for each in made.images.values()} == {(8, 8)}
        assert np.abs(np.linalg.norm(normals, axis=2) - 1).max() < 0.02

    def test_sixteen_bits_are_those_of_the_bake(self, saltworks):
        quilt = jq.read_quilt(saltworks)
        canvas, arrays = quilt.terrain.canvas(64), jq.pack(quilt.swatches, side=64)
        baker = jq.Baker(canvas, quilt.layers, arrays)
        coarse, fine = baker.over(canvas), baker.over(canvas, bits=16)
        for role in coarse:
            assert fine[role].dtype == np.uint16
            if role is not R.HEIGHT:
                off = np.abs(fine[role] / 257.0 - coarse[role])
                assert (off.max() < 0.6) if not role.is_colour else off.max() < 1.1  # the sRGB table has steps of its own
                assert len(np.unique(fine[role])) > len(np.unique(coarse[role]))

    def test_what_does_not_go_together_is_refused(self):
        with pytest.raises(jq.QuiltError, match="hold roughness; leave gloss"):
            jq.export.Conventions(packed=True, gloss=True)
        with pytest.raises(jq.QuiltError, match="8 or 16 bits; got 12"):
            jq.export.Conventions(bits=12)
        with pytest.raises(jq.QuiltError, match="those of the world"):
            jq.export.engine_maps(baked(normals=NormalSpace.WORLD), jq.export.Conventions(green_down=True))
        with pytest.raises(jq.QuiltError, match="bake with as many texels"):
            jq.export.engine_maps(baked(), texels=8)


def scene(lights=None, rare=RARE, **more):
    """A ball and a box with maps, a few lamps, a camera."""
    ball = jq.shapes.sphere(1.0)
    things = [
        jq.export.mesh_thing(ball, baked(1, rare), name="a ball"),
        jq.export.mesh_thing(
            jq.shapes.box().placed(np.eye(4) + np.outer([1, 0, 0, 0], [0, 0, 0, 3.0])), baked(2), name="Kiste"
        ),
    ]
    lamps = (
        jq.Sun(bearing=10, height=89.99, colour=(2.0, 1.0, 0.5)),
        jq.PointLight(position=(0.0, 3.0, 0.0), reach=9.0, fall_off=(1.0, 0.0, 1.0)),
        jq.SpotLight(position=(1.0, 3.0, 0.0), target=(1.0, 0.0, 0.0), inner=20, outer=20),
    )
    camera = jq.Camera(position=(4, 3, 5), target=(0, 0, 0))
    return jq.export.EngineScene(things=things, lighting=Lighting(lights or lamps), camera=camera, **more)


def gltf_of(path):
    data = path.read_bytes()
    return json.loads(data[20 : 20 + struct.unpack_from("<I", data, 12)[0]])


def validated(*paths):
    """What glTF's own validator says of files: errors and warnings."""
    found = (
        subprocess.run(["node", "-e", "require.resolve('gltf-validator')"], capture_output=True)
        if shutil.which("node")
        else None
    )
    if found is None or found.returncode:
        pytest.skip("node or gltf-validator is not here (NODE_PATH)")
    script = """
        const v = require('gltf-validator'), fs = require('fs'), path = require('path');
        (async () => { const out = [];
          for (const file of process.argv.slice(1)) {
            const beside = uri => Promise.resolve(new Uint8Array(fs.readFileSync(path.join(path.dirname(file), uri))));
            const report = await v.validateBytes(new Uint8Array(fs.readFileSync(file)), {externalResourceFunction: beside});
            out.push(...report.issues.messages.filter(each => each.severity < 2));
          }
          console.log(JSON.stringify(out)); })()"""
    return json.loads(subprocess.run(["node", "-e", script, *paths], capture_output=True, text=True, check=True).stdout)


class TestGltf:
    def test_the_standards_validator_finds_no_fault(self, tmp_path):
        files = [jq.export.write_gltf(scene(), tmp_path / "scene.glb")[0][0]]
        files.append(jq.export.write_gltf(scene(), tmp_path / "files" / "scene.gltf")[0][0])
        files.append(jq.export.write_gltf(scene(rare=()), tmp_path / "plain.glb", metallic=True)[0][0])
        assert validated(*files) == []

    def test_our_own_reader_reads_the_same_maps(self, tmp_path):
        jq.export.write_gltf(scene(), tmp_path / "scene.glb")
        mesh = jq.read_mesh(tmp_path / "scene.glb")
        source = mesh.materials["a ball"].swatch_source(folder=tmp_path / "made")
        maps, wanted = source.read().maps, baked(1, RARE)
        for role in (R.DIFFUSE, R.NORMAL, R.ROUGHNESS, R.SPECULAR, R.OCCLUSION, R.EMISSION, R.COAT, R.COAT_ROUGHNESS):
            own = jq.TextureMap(role=role, texels=wanted[role]).values
            assert np.abs(maps[role].values - own).max() < 0.005, role
        box = mesh.part("Kiste") if "Kiste" in mesh.part_names else mesh.part(mesh.part_names[-1])
        assert np.allclose(box.bounds[1][0] - box.bounds[0][0], 1)

    def test_lamps_and_camera_stand_as_they_do_here(self, tmp_path):
        _, lost = jq.export.write_gltf(scene(), tmp_path / "scene.glb")
        reported = gltf_of(tmp_path / "scene.glb")
        sun, lamp, spot = reported["extensions"]["KHR_lights_punctual"]["lights"]
        assert (sun["type"], sun["color"], sun["intensity"]) == ("directional", [1.0, 0.5, 0.25], pytest.approx(6.6))
        assert (lamp["range"], spot["type"]) == (9.0, "spot")
        assert spot["spot"]["innerConeAngle"] < spot["spot"]["outerConeAngle"]
        nodes = {node["name"]: node for node in reported["nodes"]}
        for name, way in (("view", (-4, -3, -5)), ("lamp 2", (0, -1, 0)), ("sun 0", -jq.Sun(10, 89.99).towards)):
            x, y, z, w = nodes[name]["rotation"]
            ahead = -np.array([2 * (x * z + w * y), 2 * (y * z - w * x), 1 - 2 * (x * x + y * y)])
            assert np.allclose(ahead, np.array(way) / np.linalg.norm(way), atol=1e-6)
        assert lost == (
            "the sky: glTF has no standard way to say one",
            "lamp 1: its fall_off; it falls with the square of the distance",
        )
        material = reported["materials"][0]
        assert material["extensions"]["KHR_materials_specular"]["specularColorFactor"] == [25.0] * 3
        assert (material["alphaMode"], material["alphaCutoff"]) == ("MASK", 0.5)

    def test_normals_of_the_ground_hold_what_its_mesh_has_lost(self, tmp_path):
        """However coarse the mesh is, lit it leans as the terrain with its detail does."""
        v, u = np.mgrid[:33, :33] / 32
        terrain = jq.Terrain(np.sin(7 * u) * np.cos(5 * v), size=(8.0, 8.0))
        arrays = jq.pack([made_swatch("a")], side=16, work=jq.Work(threads=1))
        canvas = terrain.canvas(64)
        maps = {space: jq.bake(canvas, [jq.Layer("a")], arrays, normals=space) for space in ("tangent", "world")}
        truth = jq.TextureMap(role=R.NORMAL, texels=maps["world"][R.NORMAL]).values
        for space, error in (("tangent", 0.3), ("world", 0.02)):
            thing = jq.export.ground_thing(terrain, maps[space], error)
            own = jq.TextureMap(role=R.NORMAL, texels=thing.maps[R.NORMAL]).values.reshape(-1, 3)
            (piece,) = jq.UvCanvas(thing.mesh, 64).block(Region.whole((64, 64))).pieces
            points, where = piece.points, piece.where.each
            across = np.cross(points.normal, points.tangent[:, :3]) * points.tangent[:, 3:]
            found = own[where, :1] * points.tangent[:, :3] + own[where, 1:2] * across + own[where, 2:] * points.normal
            degrees = np.degrees(np.arccos(np.clip((found * truth.reshape(-1, 3)[where]).sum(axis=1), -1, 1)))
            assert degrees.mean() < 0.5
            assert np.percentile(degrees, 99) < 1.2  # the steps of 255, twice
            assert len(where) == 64 * 64

    def test_what_lies_by_uv_alone_keeps_its_tile(self, project):
        """By the standard's texture transform: at (metres uv - offset) / scale of a tile, as the blend has it."""
        box = jq.shapes.box()
        jq.export.write_mesh(
            jq.Mesh.joined([box, box.placed(np.eye(4) + np.eye(4)[:, 3:] @ [[0, 0, 0, 2.0]])]), project / "two.glb"
        )
        parts = [f'part = "{name}"\n' for name in jq.read_mesh(project / "two.glb").part_names]
        lies = 'projection = "uv"\nmetres = 3.0\nscale = [2.0, 1.0]\noffset = [0.5, 0.25]\n'
        mesh = '[[mesh]]\nname = "two"\nfile = "two.glb"\nat = [3.0, 5.0, 3.0]\ntexels = 32\n'
        layers = (
            f'[[mesh.layer]]\nswatch = "salt"\n{parts[0]}{lies}[[mesh.layer]]\nswatch = "clay"\n{parts[1]}projection = "box"\n'
        )
        quilt = project / "job.quilt.toml"
        quilt.write_text(quilt.read_text() + mesh + layers)
        code, said, errors = jquilt("export", "scene", quilt, "--tiled")
        assert code == 0, errors
        reported = gltf_of(project / "out" / "export" / "scene.glb")
        by_name = {each["name"]: each for each in reported["materials"]}
        assert set(by_name) == {"ground", "two", f"two: {parts[0][8:-2]}"}
        laid = by_name[f"two: {parts[0][8:-2]}"]["normalTexture"]["extensions"]["KHR_texture_transform"]
        tile = 3.0  # of salt
        assert laid == {
            "scale": [3 / 2 / tile, 3 / tile],
            "offset": [pytest.approx(-0.5 / 2 / tile), pytest.approx(-0.25 / tile)],
        }
        assert f'the tile of "two", part "{parts[1][8:-2]}": its layer is not laid on by uv' in said
        used = [each["primitives"][0]["material"] for each in reported["meshes"]]
        assert [reported["materials"][number]["name"] for number in used] == ["ground", f"two: {parts[0][8:-2]}", "two"]
        assert validated(project / "out" / "export" / "scene.glb") == []
        assert "in glTF alone" in jquilt("export", "scene", quilt, "--as", "usda", "--tiled")[2]

    def test_maps_of_a_swatch_may_differ_in_size(self, tmp_path):
        """As those of many sets do; constants are one texel."""
        maps = {**made_maps(1, 16, (*jq.SURFACE_ROLES, *RARE)), **made_maps(2, 8, (R.OPACITY, R.ROUGHNESS, R.COAT))}
        maps[R.COAT_ROUGHNESS] = jq.TextureMap(role=R.COAT_ROUGHNESS, texels=np.full((1, 1, 1), 90, np.uint8))
        swatch, box = jq.Swatch(name="mixed", tile=1.0, relief=0.1, maps=maps), jq.shapes.box()
        tiled = jq.export.tiled_parts(box, {box.part_names[0]: [jq.Layer("mixed", jq.Uv())]}, {"mixed": swatch})
        thing = jq.export.SceneThing(name="box", mesh=box, maps=None, tiled=tiled)
        for metallic in (False, True):
            file = jq.export.write_gltf(jq.export.EngineScene(things=[thing]), tmp_path / "a.glb", metallic=metallic)[0][0]
            assert validated(file) == []
        made = jq.read_mesh(tmp_path / "a.glb").materials["box: box"].swatch_source(folder=tmp_path / "made").read().maps
        assert made[R.COAT_ROUGHNESS].shape == (8, 8)
        with pytest.raises(jq.QuiltError, match="parts that keep their tile are written as glTF"):
            jq.export.write_usd(jq.export.EngineScene(things=[thing]), tmp_path / "a.usda")
        assert np.abs(made[R.COAT_ROUGHNESS].values - 90 / 255).max() < 0.005

    def test_what_is_no_scene_is_refused(self, tmp_path):
        with pytest.raises(jq.QuiltError, match=r"as \.glb or \.gltf; got \.fbx"):
            jq.export.write_gltf(scene(), tmp_path / "scene.fbx")
        with pytest.raises(jq.QuiltError, match="nothing in the scene"):
            jq.export.EngineScene(things=[])
        with pytest.raises(jq.QuiltError, match='"x" has neither maps nor colours'):
            jq.export.mesh_thing(jq.shapes.box(), None, name="x")
        one = jq.export.mesh_thing(jq.shapes.box(), baked(), name="x")
        with pytest.raises(jq.QuiltError, match='two things are called "x"'):
            jq.export.EngineScene(things=[one, one])
        world = jq.export.mesh_thing(jq.shapes.box(), baked(normals=NormalSpace.WORLD), name="y")
        assert world.maps.normals is NormalSpace.TANGENT


class TestOpenUsd:
    def test_the_standards_validators_find_no_fault(self, tmp_path):
        pxr = pytest.importorskip("pxr.Usd")
        UsdValidation = pytest.importorskip("pxr.UsdValidation")
        for suffix in ("usda", "usdc"):
            path = tmp_path / suffix / f"scene.{suffix}"
            files, lost = jq.export.write_usd(scene(), path)
            assert all(file.is_file() for file in files)
            stage = pxr.Stage.Open(str(path))
            every = UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
            faults = UsdValidation.ValidationContext(every).Validate(stage)
            assert [fault.GetMessage() for fault in faults] == []
        assert '"a ball": the normals of its coat; a preview surface has none' in lost
        dome = stage.GetPrimAtPath("/scene/sky")  # of which north is the left border, as in OpenEXR's lat-long images
        light = read_image(path.parent / dome.GetAttribute("inputs:texture:file").Get().path)
        up = np.cos((np.arange(64) + 0.5) * np.pi / 64)
        assert np.allclose(light[:, 5], jq.Sky().from_up(up), atol=1e-3)

    def test_shapes_and_textures_lie_as_they_do_here(self, tmp_path):
        Usd, UsdShade = pytest.importorskip("pxr.Usd"), pytest.importorskip("pxr.UsdShade")
        given = scene()
        jq.export.write_usd(given, tmp_path / "scene.usda")
        stage = Usd.Stage.Open(str(tmp_path / "scene.usda"))
        prim = stage.GetPrimAtPath("/scene/kiste")
        (mesh,) = [each for each in prim.GetChildren() if each.GetTypeName() == "Mesh"]
        points = np.array(mesh.GetAttribute("points").Get())
        corners = np.array(mesh.GetAttribute("faceVertexIndices").Get()).reshape(-1, 3)
        own = given["Kiste"].mesh
        assert np.allclose(
            np.sort(points[corners].reshape(-1, 9), axis=0), np.sort(own.position[own.triangles].reshape(-1, 9), axis=0)
        )
        st = np.array(mesh.GetAttribute("primvars:st").Get())
        assert np.allclose(np.sort(1 - st[:, 1]), np.sort(own.uv[:, 1]), atol=1e-6)
        normal = UsdShade.Shader(stage.GetPrimAtPath("/scene/kiste/material/normal"))
        assert tuple(normal.GetInput("scale").Get()) == (2, 2, 2, 1)
        assert normal.GetInput("sourceColorSpace").Get() == "raw"
        named = normal.GetInput("file").Get().path
        assert np.array_equal(read_image(tmp_path / named), baked(2)[R.NORMAL])

    def test_without_openusd_the_error_says_what_to_install(self, tmp_path, monkeypatch):
        monkeypatch.setitem(sys.modules, "pxr", None)
        with pytest.raises(jq.QuiltError, match=r"jagged-quilt\[usd\]"):
            jq.export.write_usd(scene(), tmp_path / "scene.usda")
        with pytest.raises(jq.QuiltError, match=r"as \.usda or \.usdc"):
            jq.export.write_usd(scene(), tmp_path / "scene.usdz")


class TestCutOuts:
    def test_what_is_cut_out_is_seen_from_both_sides_in_either_form(self, tmp_path):
        from pxr import Usd, UsdGeom

        for roles, both in (((*jq.SURFACE_ROLES, R.OPACITY), True), (jq.SURFACE_ROLES, False)):
            arrays = jq.pack([made_swatch("a", roles=roles)], side=16, work=jq.Work(threads=1))
            leaf = jq.shapes.plane((1.0, 1.0))
            maps = jq.bake(jq.UvCanvas(leaf, 16), [jq.Layer("a", jq.Uv())], arrays, work=jq.Work(threads=1))
            scene = jq.export.EngineScene(things=[jq.export.SceneThing(name="leaf", mesh=leaf, maps=maps)])
            jq.export.write_usd(scene, tmp_path / f"{both}.usda")
            jq.export.write_gltf(scene, tmp_path / f"{both}.glb")
            stage = Usd.Stage.Open(str(tmp_path / f"{both}.usda"))
            meshes = [UsdGeom.Mesh(each) for each in stage.Traverse() if each.IsA(UsdGeom.Mesh)]
            assert [each.GetDoubleSidedAttr().Get() for each in meshes] == [both] * len(meshes)
            (material,) = gltf_of(tmp_path / f"{both}.glb")["materials"]
            assert material.get("doubleSided", False) is both


class TestMaterialX:
    def test_the_standards_validator_finds_no_fault(self, tmp_path):
        mx = pytest.importorskip("MaterialX")
        library = mx.createDocument()
        mx.loadLibraries(mx.getDefaultDataLibraryFolders(), mx.getDefaultDataSearchPath(), library)
        coated = made_swatch("2 Ümläut", 3, roles=(*jq.SURFACE_ROLES, *RARE))
        files, lost = jq.export.write_materialx({"2 Ümläut": coated, "baked": baked(4)}, tmp_path)
        documents = [file for file in files if file.suffix == ".mtlx"]
        assert [file.name for file in documents] == ["2_ml_ut.mtlx", "baked.mtlx"]
        assert len(lost) == 2
        for file in documents:
            document = mx.createDocument()
            mx.readFromXmlFile(document, str(file))
            document.setDataLibrary(library)
            assert document.validate() == (True, "")
            named = re.findall(r'value="([^"]+\.png)"', file.read_text())
            assert len(named) == (13 if "ml_ut" in file.name else 8) - 2  # of diffuse and specular comes one
            assert all((tmp_path / each).is_file() for each in named)
        with pytest.raises(jq.QuiltError, match='normals of "x" are those of the world'):
            jq.export.write_materialx({"x": baked(normals=NormalSpace.WORLD)}, tmp_path)
        assert "a repeat covers 2 x 2 m" in documents[0].read_text(encoding="utf-8")


@pytest.fixture(scope="module")
def bundle(saltworks, tmp_path_factory):
    """A bundle of the demo, and where its results lie."""
    out = tmp_path_factory.mktemp("bundle")
    code, said, errors = jquilt("export", "bundle", saltworks, "--into", out / "bundle", "--no-zstd", "--out", out / "out")
    assert code == 0, errors
    assert "bundle.json" in said
    return out / "bundle"


class TestBundle:
    def test_the_document_is_as_its_schema_has_it_and_tells_every_file(self, bundle):
        jsonschema = pytest.importorskip("jsonschema")
        reported, schema = (json.loads((bundle / name).read_text()) for name in ("bundle.json", "bundle.schema.json"))
        jsonschema.Draft202012Validator.check_schema(schema)
        jsonschema.validate(reported, schema)
        there = {path.relative_to(bundle).as_posix() for path in bundle.rglob("*") if path.is_file()} - {"bundle.json"}
        assert {each["path"] for each in reported["files"]} == there
        assert jq.export.check_bundle(bundle) == reported
        assert [layer["name"] for layer in reported["layers"]][:2] == ["cracked clay", "raked gravel"]
        assert reported["layers"][reported["layers"][8]["far"]["layer"]]["swatch"] == "brine"

    def test_numpy_alone_blends_what_the_bake_has(self, bundle, saltworks, tmp_path):
        """Places of all layers, by the example, which knows nothing of this library."""
        out = bundle.parent / "out"
        assert jquilt("bake", saltworks, "--out", out)[0] == 0
        maps = jq.open_baked(out / "bake")
        weights = jq.open_weights(out / "weights")
        source = (ROOT / "examples" / "read_bundle.py").read_text()
        assert not re.search(r"^\s*(import|from) jagged", source, re.MULTILINE)
        page = {"__name__": "page"}
        words = sys.argv
        sys.argv = ["read_bundle.py", str(bundle), str(tmp_path)]
        try:
            exec(compile(source.partition("\nrows = round(")[0], "read_bundle.py", "exec"), page)
        finally:
            sys.argv = words
        rng, rows = np.random.default_rng(0), maps.texels[0]
        for name in weights.names:
            places = np.argwhere(weights.layer(name) > 0.3)
            for row, column in places[rng.integers(0, len(places), 3)] if len(places) else ():
                own = page["stored"](page["blend_at"](int(row), int(column), rows, rows))
                for role, value in own.items():
                    assert np.abs(np.subtract(maps[role][row, column].astype(int), value)).max() <= 2, (name, role)

    def test_heights_and_meshes_are_those_of_the_quilt(self, bundle, saltworks):
        quilt, reported = jq.read_quilt(saltworks), json.loads((bundle / "bundle.json").read_text())
        low, high = reported["ground"]["heights"]
        heights = low + (high - low) * read_image(bundle / reported["ground"]["heightmap"])[..., 0] / 65535
        assert np.abs(heights - quilt.terrain.heights).max() < (high - low) / 65535
        assert validated(*(bundle / each["file"] for each in reported["meshes"])) == []

    def test_a_bundle_takes_the_place_of_a_bundle_and_of_nothing_else(self, project):
        quilt, folder = project / "job.quilt.toml", project / "bundle"
        assert jquilt("export", "bundle", quilt, "--into", folder, "--weights", "pairs")[0] == 0
        (folder / "more.txt").write_text("mine")
        (folder / "ground" / "height.png").write_bytes(b"other")
        with pytest.raises(jq.QuiltError, match=r"height\.png: is not the file that was written"):
            jq.export.check_bundle(folder)
        assert jquilt("export", "bundle", quilt, "--into", folder)[0] == 0
        reported = jq.export.check_bundle(folder)
        assert (reported["weights"]["form"], reported["arrays"][0]["compressed"]) == ("splat", "zstd")
        assert not (folder / "more.txt").exists()
        assert {path.name for path in project.iterdir() if path.name.startswith(".")} == set()
        code, _, errors = jquilt("export", "bundle", quilt, "--into", project / "clay")
        assert (code, "holds something that is no bundle" in errors) == (2, True)
        with pytest.raises(jq.QuiltError, match="this is no bundle"):
            jq.export.check_bundle(project / "clay")


class TestCommand:
    def test_maps_swatches_scenes_and_materials_are_written(self, saltworks, tmp_path):
        run = lambda what, *words: jquilt("export", what, saltworks, "--out", tmp_path, *words)
        code, said, errors = run("maps", "--as", "green-down", "--as", "metallic", "--bits", "16", "--texels", "32")
        assert code == 0, errors
        image = read_image(tmp_path / "export" / "maps" / "sluice_gate" / "normal_green_down.png")
        assert (image.shape, image.dtype) == ((32, 32, 3), np.uint16)
        assert '"jar": metallic loses 0.0' in said
        assert run("swatches", "--as", "occlusion-roughness-metallic", "--texels", "16")[0] == 0
        assert (tmp_path / "export" / "swatches" / "brine" / "occlusion_roughness_metallic.png").is_file()
        code, said, errors = run("scene", "--within", "1.0")
        assert code == 0, errors
        assert "things: 3, of " in said
        assert validated(tmp_path / "export" / "scene.glb") == []
        code, said, errors = run("materialx")
        assert code == 0, errors
        assert len(list((tmp_path / "export" / "materialx").glob("*.mtlx"))) == 3 + 9

    def test_a_mesh_of_coloured_vertices_goes_into_a_scene(self, project):
        jq.export.write_mesh(jq.shapes.box(), project / "crate.glb")
        quilt = project / "job.quilt.toml"
        more = '[[mesh]]\nname = "crate"\nfile = "crate.glb"\ninto = "vertices"\nat = [3.0, 5.0, 3.0]\n'
        quilt.write_text(quilt.read_text() + more + '[[mesh.layer]]\nswatch = "clay"\nprojection = "box"\n')
        code, said, errors = jquilt("export", "scene", quilt, "--as", "gltf")
        assert code == 0, errors
        assert '"crate": its vertices hold colours alone' in said
        document = json.loads((project / "out" / "export" / "scene_gltf" / "scene.gltf").read_text())
        assert "COLOR_0" in document["meshes"][-1]["primitives"][0]["attributes"]

    def test_an_export_is_kept_while_what_it_reads_stays(self, project):
        """Another mesh makes another scene, and the same weights; another picture of the ground makes both anew."""
        jq.export.write_mesh(jq.shapes.box(), project / "crate.glb")
        quilt = project / "job.quilt.toml"
        more = '[[mesh]]\nname = "crate"\nfile = "crate.glb"\ninto = "vertices"\nat = [3.0, 5.0, 3.0]\n'
        quilt.write_text(quilt.read_text() + more + '[[mesh.layer]]\nswatch = "clay"\nprojection = "box"\n')
        kept = lambda: ["nothing changed" in jquilt("export", what, quilt)[1] for what in ("weights", "scene")]
        assert kept() == [False, False]
        assert kept() == [True, True]
        jq.export.write_mesh(jq.shapes.sphere(), project / "crate.glb")
        assert kept() == [True, False]
        assert kept() == [True, True]
        ground = read_image(project / "ground.png")
        write_image(project / "ground.png", ground[::-1])
        assert kept() == [False, False]

    def test_options_without_what_they_are_for_are_refused(self, project):
        quilt = project / "job.quilt.toml"
        for words, why in (
            (("scene", "--as", "gloss"), "Invalid value for '--as'"),
            (("weights", "--no-zstd"), "No such option"),
            (("bundle", "--weights", "masks"), "Invalid value for '--weights'"),
            (("maps", "--as", "gloss", "--as", "occlusion-roughness-metallic"), "hold roughness"),
            (("splat",), "there are: bundle, channels, maps"),
        ):
            code, _, errors = jquilt("export", *words[:1], quilt, *words[1:])
            assert (code, why in errors) == (2, True), errors
        assert "say what to write before the quilt file" in jquilt("export", quilt)[2]

    def test_what_is_listed_is_what_there_is(self):
        """Without loading it: the help of the group answers at once."""
        from jagged_quilt.results.exports import EXPORTERS

        code = (
            "import sys; from jagged_quilt.cli.export import _summaries; print(_summaries()); assert 'numpy' not in sys.modules"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        ours = {key: kind for key, kind in EXPORTERS.items() if kind.__module__.startswith("jagged_quilt.")}
        assert ast.literal_eval(done.stdout) == {key: kind.__doc__.partition("\n")[0] for key, kind in ours.items()}


class TestTiledParts:
    BOX = jq.shapes.box()

    def of(self, **how):
        """What becomes of a box whose layer lies by uv in a way."""
        plain = {key: how.pop(key) for key in ("mask", "tuning", "far", "per_map") if key in how}
        swatches = {"a": made_swatch("a", tile=2.0)}
        layers = {name: [jq.Layer("a", jq.Uv(**how), **plain)] for name in self.BOX.part_names}
        return jq.export.tiled_parts(self.BOX, layers, swatches)

    def test_a_unit_of_uv_is_as_long_as_was_measured_or_said(self):
        (own,) = self.of(metres=4.0, offset=(1.0, 0.5)).values()
        assert (own.scale, own.offset) == ((2.0, 2.0), (-0.5, -0.25))
        (measured,) = self.of().values()
        assert measured.scale[0] == pytest.approx(self.BOX.metres_of(self.BOX.parts[0]) / 2)

    @pytest.mark.parametrize(
        "how",
        [
            {"rotation": 30.0},
            {"mirror": "u"},
            {"wrap": "clamp"},
            {"warp": jq.Warp(0.1, 1.0)},
            {"shuffle": jq.Shuffle(size=1.0)},
            {"mask": jq.Constant(0.5)},
            {"tuning": jq.Tuning(roughness=0.1)},
            {"far": jq.Far(start=3.0)},
            {"per_map": {"normal": jq.PerMap(scale=2.0)}},
        ],
        ids=lambda how: next(iter(how)),
    )
    def test_what_is_more_than_a_tile_is_baked(self, how):
        assert self.of(**how) == {}

    def test_what_has_another_projection_or_a_layout_of_its_own_is_baked(self):
        swatches = {"a": made_swatch("a")}
        layers = {name: [jq.Layer("a", jq.Box())] for name in self.BOX.part_names}
        assert jq.export.tiled_parts(self.BOX, layers, swatches) == {}
        by_uv = {name: [jq.Layer("a", jq.Uv())] for name in self.BOX.part_names}
        assert jq.export.tiled_parts(self.BOX.laid_out(self.BOX.uv), by_uv, swatches) == {}
        two = {name: [jq.Layer("a", jq.Uv()), jq.Layer("a", jq.Uv(), mask=jq.Constant(0.5))] for name in by_uv}
        assert jq.export.tiled_parts(self.BOX, two, swatches) == {}


class TestMapsBack:
    def test_a_bake_is_read_back_as_it_was_saved(self, tmp_path):
        maps = baked(3, RARE)
        maps.save(tmp_path)
        again = jq.open_baked(tmp_path)
        assert again.keys() == maps.keys()
        assert all(np.array_equal(again[role], maps[role]) for role in maps)
        assert (again.relief, again.normals) == (maps.relief, maps.normals)

    def test_what_is_no_bake_is_refused(self, tmp_path):
        with pytest.raises(jq.QuiltError, match=r"bake\.json"):
            jq.open_baked(tmp_path)
        (tmp_path / "bake.json").write_text('{"maps": {"colour": "x.png"}}')
        with pytest.raises(jq.QuiltError, match="no manifest of a bake"):
            jq.open_baked(tmp_path)

    @pytest.mark.parametrize("bits", [8, 16])
    @pytest.mark.parametrize("role", [R.DIFFUSE, R.NORMAL, R.ROUGHNESS, R.OPACITY], ids=lambda role: role.key)
    def test_what_is_stored_means_what_it_did_within_half_a_step(self, role, bits):
        values = np.random.default_rng(3).random((9, 7, role.value.channels)).astype(np.float32)
        if role.value.direction:
            values = values * 2 - 1
            values /= np.linalg.norm(values, axis=2, keepdims=True)
        kept = stored_values(role, values, bits)
        again = jq.TextureMap(role=role, texels=kept).values
        step = (2 if role.value.direction else 1) / ((1 << bits) - 1)
        assert kept.dtype == (np.uint16 if bits == 16 else np.uint8)
        if not role.is_colour:
            assert np.abs(again - values).max() < 1.01 * step
        stored = stored_values(role, again, bits).astype(np.int64)
        assert np.abs(stored - kept).max() <= (1 if role.value.direction else 0)

    def test_colours_beyond_white_and_black_are_cut(self):
        assert stored_values(R.DIFFUSE, np.array([[[-1.0, 2.0, 1.0]]])).tolist() == [[[0, 255, 255]]]

    def test_bits_that_no_file_has_are_refused(self):
        ground = jq.Terrain(np.zeros((3, 3)), size=(4, 4))
        arrays = jq.pack([made_swatch("a")], side=4, work=jq.Work(threads=1))
        with pytest.raises(jq.QuiltError, match="8 or 16 bits; got 12"):
            jq.Baker(ground.canvas(4), [jq.Layer("a")], arrays).over(ground.canvas(4), bits=12)


class TestUsdLamps:
    def test_each_lamp_has_its_kind_its_place_and_its_light(self, tmp_path):
        Usd, UsdGeom = pytest.importorskip("pxr.Usd"), pytest.importorskip("pxr.UsdGeom")
        jq.export.write_usd(scene(), tmp_path / "scene.usda")
        stage = Usd.Stage.Open(str(tmp_path / "scene.usda"))
        of = lambda name: stage.GetPrimAtPath(f"/scene/{name}")
        assert [of(name).GetTypeName() for name in ("sun_0", "lamp_1", "lamp_2")] == [
            "DistantLight",
            "SphereLight",
            "SphereLight",
        ]
        ball = of("lamp_1")
        shed = ball.GetAttribute("inputs:intensity").Get() * np.pi * ball.GetAttribute("inputs:radius").Get() ** 2
        assert shed == pytest.approx(10.0)  # what falls on a plate 1 m away
        assert of("lamp_2").GetAttribute("inputs:shaping:cone:angle").Get() == 20.0
        way = UsdGeom.Xformable(of("lamp_2")).ComputeLocalToWorldTransform(0)
        assert np.allclose(way.TransformDir((0, 0, -1)), (0, -1, 0), atol=1e-6)
        assert np.allclose(way.ExtractTranslation(), (1, 3, 0))
        view = UsdGeom.Camera(of("view"))
        half = view.GetVerticalApertureAttr().Get() / 2 / view.GetFocalLengthAttr().Get()
        assert 2 * np.degrees(np.arctan(half)) == pytest.approx(40.0, abs=1e-4)


class TestNames:
    @settings(max_examples=50, deadline=None)
    @given(names=st.lists(st.text(max_size=12), unique=True, max_size=8))
    def test_every_name_gets_a_stem_of_its_own_that_any_system_takes(self, names):
        stems = stems_of(names)
        assert list(stems) == names
        assert len(set(stems.values())) == len(names)
        assert all(re.fullmatch(r"[a-z0-9_]+", stem) for stem in stems.values())


class TestBundleThatFails:
    """Whatever happens while it is written, what lay there before stays, and nothing is left lying about."""

    def bundle(self, project):
        quilt = jq.read_quilt(project / "job.quilt.toml")
        results = Results(quilt, project / "out")
        plan = jq.BlendPlan.of(quilt.layers, results.arrays.open())
        known = {"arrays": results.arrays, "terrain": quilt.terrain, "lighting": quilt.lighting, "camera": quilt.camera}
        return Bundle(title="x", plan=plan, films=(), **known)

    def test_a_fault_leaves_what_was_there(self, project):
        folder, bundle = project / "b", self.bundle(project)
        write_bundle(folder, bundle, lambda stage: {})
        before = {path.name: path.read_bytes() for path in folder.rglob("*") if path.is_file()}

        def fails(stage):
            (stage / "half.txt").write_text("half")
            raise OSError("the disk is full")

        with pytest.raises(OSError, match="disk is full"):
            write_bundle(folder, bundle, fails)
        assert {path.name: path.read_bytes() for path in folder.rglob("*") if path.is_file()} == before
        assert not [path for path in project.iterdir() if path.name.startswith(".")]

    def test_a_file_in_the_place_of_a_folder_is_refused(self, project):
        (project / "b").write_text("mine")
        with pytest.raises(jq.QuiltError, match="holds something that is no bundle"):
            write_bundle(project / "b", self.bundle(project), lambda stage: {})
        assert (project / "b").read_text() == "mine"

    def test_a_missing_file_is_reported(self, project):
        write_bundle(project / "b", self.bundle(project), lambda stage: {})
        next((project / "b" / "arrays").iterdir()).unlink()
        with pytest.raises(jq.QuiltError, match="is missing; write the bundle again"):
            jq.export.check_bundle(project / "b")


class TestWriter:
    def test_a_file_of_everything_is_laid_out_as_the_standard_wants(self, tmp_path):
        """Every view begins at a multiple of four, and an image in the file is the image."""
        jq.export.write_gltf(scene(), tmp_path / "a.glb")
        data, reported = (tmp_path / "a.glb").read_bytes(), gltf_of(tmp_path / "a.glb")
        start = 20 + struct.unpack_from("<I", data, 12)[0] + 8
        assert struct.unpack_from("<I", data, 8)[0] == len(data)
        assert all(view["byteOffset"] % 4 == 0 for view in reported["bufferViews"])
        image = next(each for each in reported["images"] if each["name"] == "a_ball_normal")
        view = reported["bufferViews"][image["bufferView"]]
        (tmp_path / "n.png").write_bytes(data[start + view["byteOffset"] :][: view["byteLength"]])
        assert np.array_equal(read_image(tmp_path / "n.png"), baked(1, RARE)[R.NORMAL])
        position = reported["accessors"][reported["meshes"][0]["primitives"][0]["attributes"]["POSITION"]]
        assert np.allclose(np.subtract(position["max"], position["min"]), 2, atol=0.01)

    def test_files_beside_a_gltf_are_those_that_it_names(self, tmp_path):
        files, _ = jq.export.write_gltf(scene(), tmp_path / "scene.gltf")
        document = json.loads((tmp_path / "scene.gltf").read_text())
        named = {document["buffers"][0]["uri"], *(each["uri"] for each in document["images"]), "scene.gltf"}
        assert named == {path.name for path in files} == {path.name for path in tmp_path.iterdir()}

    def test_a_place_far_away_stays_exact(self, tmp_path):
        """The node is moved, and not the vertices, which are float32."""
        far = jq.shapes.box().placed(np.eye(4) + np.outer([1, 0, 0, 0], [0, 0, 0, 2e6]))
        thing = jq.export.mesh_thing(far, baked(), name="far")
        jq.export.write_gltf(jq.export.EngineScene(things=[thing]), tmp_path / "a.glb")
        again = jq.read_mesh(tmp_path / "a.glb")
        assert np.abs(np.sort(again.world, axis=0) - np.sort(far.world, axis=0)).max() < 1e-6


class TestMetallic:
    @settings(max_examples=30, deadline=None)
    @given(seed=st.integers(0, 10**6), bits=st.sampled_from([8, 16]))
    def test_what_is_reported_to_be_lost_is_what_making_it_again_leaves(self, seed, bits):
        """From the images alone, by the standard's own mixing; for any pair of colours."""
        rng, top = np.random.default_rng(seed), (1 << bits) - 1
        diffuse, specular = (rng.random((6, 5, 3)).astype(np.float32) * scale for scale in (1.0, rng.choice([0.08, 1.0])))
        stored = {role: stored_values(role, each, bits) for role, each in ((R.DIFFUSE, diffuse), (R.SPECULAR, specular))}
        maps = jq.BakedMaps(stored, relief=1.0, normals=NormalSpace.TANGENT)
        made = jq.export.engine_maps(maps, jq.export.Conventions(metallic=True, bits=bits))
        base = linear_from_srgb(made.images["base_color"] / top)
        metal = (made.images["metallic"] / top).astype(np.float32)
        again = jq.convert.diffuse_specular_from_metallic(base, metal)
        given = [linear_from_srgb(stored[role] / top) for role in (R.DIFFUSE, R.SPECULAR)]
        off = np.maximum(*(np.abs(one - two).max(axis=2) for one, two in zip(again, given, strict=True)))
        assert off.max() == pytest.approx(made.lost.worst, abs=0.02 if bits == 8 else 0.001)
        assert off.mean() == pytest.approx(made.lost.mean, abs=0.01 if bits == 8 else 0.0005)

    def test_large_maps_are_turned_in_bands_to_the_same_texels(self, monkeypatch):
        maps = baked(5, side=16)
        whole = jq.export.engine_maps(maps, jq.export.Conventions(metallic=True))
        monkeypatch.setattr(sys.modules["jagged_quilt.export.engine_maps"], "_BAND", 48)
        bands = jq.export.engine_maps(maps, jq.export.Conventions(metallic=True))
        assert all(np.array_equal(bands.images[name], whole.images[name]) for name in whole.images)
        assert bands.lost.worst == whole.lost.worst
        assert bands.lost.mean == pytest.approx(whole.lost.mean, rel=1e-6)

    def test_maps_of_several_sizes_meet_at_that_of_the_colour(self):
        maps = {**made_maps(1, 16), **made_maps(2, 8, (R.SPECULAR, R.ROUGHNESS, R.OCCLUSION))}
        swatch = jq.Swatch(name="mixed", tile=1.0, relief=0.1, maps=maps)
        made = jq.export.engine_maps(swatch, jq.export.Conventions(metallic=True, packed=True)).images
        assert made["occlusion_roughness_metallic"].shape == made["base_color"].shape == (16, 16, 3)
        alone = jq.export.engine_maps(swatch).images
        assert (alone["roughness"].shape, alone["diffuse"].shape) == ((8, 8), (16, 16, 3))


class TestAskedTwice:
    def test_a_second_export_gives_the_same_bytes(self, project):
        """Of every form; what is there gives way."""
        quilt = project / "job.quilt.toml"
        asked = (("scene", quilt, "--as", "usda", "--force"), ("bundle", quilt, "--into", project / "b"))
        seen = []
        for _ in range(2):
            assert all(jquilt("export", *words)[0] == 0 for words in asked)
            folders = [project / "out" / "export", project / "b"]
            files = [path for folder in folders for path in sorted(folder.rglob("*")) if path.is_file()]
            seen.append({str(path): path.read_bytes() for path in files})
            time.sleep(1.1)  # and none of them tells it
        assert seen[0] == seen[1]
        assert len(seen[0]) > 30
