"""Coats and emission through every room: files, arrays, blends, bakes and light; nothing of it where there is none."""

import json
import math
from pathlib import Path

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import jquilt, made_maps, made_swatch, write_small_project
from jagged_quilt.demo.things import sluice_gate
from jagged_quilt.foundation.colour import srgb_from_linear
from jagged_quilt.images import read_image, write_image
from jagged_quilt.light.light import PARTS, Lighting
from jagged_quilt.maps.names import sets_in
from jagged_quilt.maps.swatch_source import MapRule, SwatchSource
from jagged_quilt.show.light_parts import light_in_parts
from jagged_quilt.show.lit_view import light_along
from test_light import DARK, looks, surface, thrown_back

R = jq.MapRole
RARE = tuple(role for role in jq.OPTIONAL_ROLES if role is not jq.MapRole.OPACITY)
ALL = (*jq.SURFACE_ROLES, *RARE)


class TestFiles:
    def test_names_tell_them(self):
        names = ["d", "clear_coat", "clearcoat_roughness", "CoatNormal", "Emissive"]
        (found,) = sets_in([Path(f"heap/enamel_{name}.png") for name in names])
        roles = {each.file.stem: each.roles for each in found.maps}
        assert roles == {
            "enamel_d": (R.DIFFUSE,),
            "enamel_clear_coat": (R.COAT,),
            "enamel_clearcoat_roughness": (R.COAT_ROUGHNESS,),
            "enamel_CoatNormal": (R.COAT_NORMAL,),
            "enamel_Emissive": (R.EMISSION,),
        }

    def test_a_packed_file_in_the_order_of_gltf(self, tmp_path):
        folder = write_small_project(tmp_path)
        texels = np.random.default_rng(4).integers(0, 256, (16, 16, 3), dtype=np.uint8)
        write_image(folder / "clay" / "two.png", texels)
        file = folder / "job.quilt.toml"
        file.write_text(
            file.read_text().replace(
                'folder = "clay"\ntile = 2.0', 'folder = "clay"\ntile = 2.0\nmap = [{ file = "two.png", packed = "gltf coat" }]'
            )
        )
        maps = jq.read_quilt(file).swatches[0].maps
        assert np.array_equal(maps[R.COAT].texels[..., 0], texels[..., 0])
        assert np.array_equal(maps[R.COAT_ROUGHNESS].texels[..., 0], texels[..., 1])

    def test_green_down_coat_normals_are_turned(self, tmp_path):
        maps = made_maps(1, roles=ALL)
        for role in (R.DIFFUSE, R.COAT_NORMAL):
            write_image(tmp_path / f"a_{role.key}.png", np.array(maps[role].texels))
        rule = MapRule(role=R.COAT_NORMAL, green="down")
        up, down = (
            SwatchSource(name="a", folder=tmp_path, tile=1, rules=rules).read().maps[R.COAT_NORMAL].values
            for rules in ((), (rule,))
        )
        assert np.allclose(up * [1, -1, 1], down, atol=0.01)


class TestArrays:
    def test_they_are_packed_where_a_swatch_has_them(self):
        bare, coated = made_swatch("bare", 1), made_swatch("coated", 2, roles=ALL)
        assert [each.name for each in jq.pack([bare], side=16).layouts] == [
            "diffuse_height",
            "normal_roughness_occlusion",
            "specular",
        ]
        arrays = jq.pack([bare, coated], side=16)
        assert [each.name for each in arrays.layouts][3:] == ["emission_coat", "coat_normal_roughness"]
        for role in RARE:
            assert np.allclose(arrays.values("coated", role), coated.maps[role].values, atol=0.02)
            assert np.allclose(arrays.values("bare", role), role.value.neutral, atol=0.01)

    def test_pages_of_those_without_are_as_if_there_were_none(self, tmp_path):
        swatches = [made_swatch("bare", 1), made_swatch("coated", 2, roles=ALL)]
        jq.pack(swatches, side=16).save(tmp_path)
        for arrays in (jq.pack(swatches, side=16), jq.open_arrays(tmp_path)):
            alone, whole = arrays.open(["bare"]), arrays.open()
            assert (len(alone.layouts), len(whole.layouts)) == (3, 5)
            assert [bool(each.optional) for each in whole.facts] == [False, True]
            assert not jq.Blend(whole, [jq.Layer("bare")]).plan.has_optional
            assert jq.Blend(whole, [jq.Layer("coated")]).plan.has_optional

    def test_the_coat_gets_as_rough_as_its_normals_are_bumpy(self):
        maps = made_maps(3, 64, roles=ALL)
        rough = jq.TextureMap(role=R.COAT_ROUGHNESS, texels=np.full((64, 64, 1), 20, np.uint8))
        swatch = jq.Swatch(name="a", tile=1, relief=0.1, maps={**maps, R.COAT_ROUGHNESS: rough})
        arrays = jq.pack([swatch], side=64)
        assert arrays.values("a", R.COAT_ROUGHNESS, 4).mean() > 0.5
        flat = jq.Swatch(name="a", tile=1, relief=0.1, maps={R.DIFFUSE: maps[R.DIFFUSE], R.COAT_ROUGHNESS: rough})
        assert np.allclose(jq.pack([flat], side=64).values("a", R.COAT_ROUGHNESS, 4), 20 / 255, atol=0.003)


class TestBake:
    def test_parts_without_get_neutral_maps_beside_parts_with(self):
        """And bytes do not depend on threads."""
        ground = jq.Terrain(np.zeros((5, 5)), size=(4, 4))
        swatches = [made_swatch("bare", 1), made_swatch("coated", 2, roles=ALL)]
        arrays = jq.pack(swatches, side=16)
        bare = jq.bake(ground.canvas(64), [jq.Layer("bare")], arrays)
        assert set(bare) == set(jq.SURFACE_ROLES)
        baker = jq.Baker(ground.canvas(64), [jq.Layer("coated")], arrays)
        coated = [baker.over(baker.canvas, work=jq.Work(threads=n), block=700) for n in (1, 2)]
        assert set(coated[0]) == set(ALL)
        assert all(np.array_equal(coated[0][role], coated[1][role]) for role in ALL)
        gate = sluice_gate()
        layers = {name: [jq.Layer("coated" if name == "beams" else "bare", jq.Triplanar())] for name in gate.part_names}
        canvas = jq.UvCanvas(gate, 128, padding=2)
        maps = jq.bake(canvas, layers, arrays)
        alone = jq.bake(canvas, {**layers, "beams": layers["posts"]}, arrays)
        assert R.COAT not in alone
        coated = (maps[R.DIFFUSE] != alone[R.DIFFUSE]).any(axis=2)
        assert maps[R.COAT][coated].mean() > 60
        bare = maps.cover.covered & ~coated
        assert (maps[R.COAT][bare] == 0).mean() > 0.99
        assert (maps[R.COAT_NORMAL][bare] == [128, 128, 255]).all(axis=1).mean() > 0.99

    def test_a_coat_lies_on_the_surface_itself_where_it_has_no_normals(self):
        maps = made_maps(5)
        coat = jq.TextureMap(role=R.COAT, texels=np.full((16, 16, 1), 255, np.uint8))
        arrays = jq.pack([jq.Swatch(name="a", tile=1, relief=0.1, maps={**maps, R.COAT: coat})], side=16)
        points = jq.Points.of(
            np.random.default_rng(1).uniform(0, 9, (50, 3)), np.tile([0.6, 0.8, 0.0], (50, 1)), footprint=0.01
        )
        texels = jq.Blend(arrays, [jq.Layer("a")]).at(points, jq.PointWeights.all_of("a", 50), normals="world")
        assert np.allclose(texels[R.COAT_NORMAL], [0.6, 0.8, 0], atol=1e-5)
        assert not np.allclose(texels[R.NORMAL], [0.6, 0.8, 0], atol=0.05)
        assert np.allclose(texels[R.COAT], 1)
        with pytest.raises(KeyError, match="emission"):
            jq.Blend(jq.pack([made_swatch("b")], side=16), [jq.Layer("b")]).at(points, jq.PointWeights.all_of("b", 50))[
                R.EMISSION
            ]


class TestLight:
    @pytest.mark.parametrize("coat", [0.3, 1.0])
    @pytest.mark.parametrize("rough", [0.0, 0.3, 1.0])
    def test_in_an_even_sky_a_coat_neither_makes_nor_loses_light(self, coat, rough):
        points = surface(40, diffuse=1.0, specular=0.04, rough=0.6, eye=looks(40), coat=coat, coat_roughness=rough)
        light = Lighting((), jq.Sky.even(0.7)).leaving(points, np.zeros((40, 3)), [])
        assert np.allclose(light, 0.7, rtol=1e-3)
        image = jq.SkyImage(np.full((32, 64, 3), 0.7, np.float32))
        assert np.allclose(Lighting((), image).leaving(points, np.zeros((40, 3)), []), 0.7, rtol=1e-3)

    def test_under_a_sun_it_is_the_closed_form(self):
        """A white lobe by its own normal and roughness, made whole; the rest dimmed by coat x Fresnel, what glows too."""
        sun, n = jq.Sun(90, 50), np.array([0.2, 0.9, 0.1])
        n /= np.linalg.norm(n)
        v = np.array([-0.5, 0.8, 0.2]) / np.linalg.norm([-0.5, 0.8, 0.2])
        own = {"coat": 0.8, "coat_normal": n, "coat_roughness": 0.4, "emission": (0.3, 0.2, 0.1)}
        bare = surface(1, diffuse=0.4, specular=0.04, rough=0.7, eye=v[None])
        coated = surface(1, diffuse=0.4, specular=0.04, rough=0.7, eye=v[None], **own)
        lighting, places, free = Lighting((sun,), DARK), np.zeros((1, 3)), [np.ones(1, np.float32)]
        without = lighting.leaving(bare, places, free, in_parts=True)[0]
        parts = dict(zip(PARTS, lighting.leaving(coated, places, free, in_parts=True)[0], strict=True))
        share = 0.8 * (0.04 + 0.96 * (1 - n @ v) ** 5)
        half = (v + sun.towards) / np.linalg.norm(v + sun.towards)
        n_l, n_v, square = n @ sun.towards, n @ v, 0.4**4
        lobe = square / (math.pi * ((n @ half) ** 2 * (square - 1) + 1) ** 2)
        smith = 0.5 / (n_l * math.sqrt(n_v**2 * (1 - square) + square) + n_v * math.sqrt(n_l**2 * (1 - square) + square))
        want = share / sum(thrown_back(0.4, n_v)) * lobe * smith * n_l * sun.strength * np.array(sun.colour)
        assert np.allclose(parts["coat"], want, rtol=0.01)
        assert np.allclose(coated.coat_share, share, rtol=1e-5)
        assert np.allclose(parts["diffuse light"], without[0] * (1 - share), rtol=1e-5)
        assert np.allclose(parts["specular light"], without[1] * (1 - share), rtol=1e-5)
        assert np.allclose(parts["emission"], np.array([0.3, 0.2, 0.1]) * (1 - share), rtol=1e-5)
        whole = lighting.leaving(coated, places, free)[0]
        assert np.allclose(sum(parts.values()), whole, rtol=1e-6)

    def test_no_coat_is_as_if_there_were_no_map(self):
        """To the last bit, beside coated points and without."""
        lighting = Lighting((jq.Sun(30, 40), jq.PointLight(position=(1, 2, 0))), jq.Sky())
        places, free = np.zeros((70, 3)), [np.ones(70, np.float32)] * 2
        reported = {"diffuse": 0.5, "specular": 0.1, "eye": looks(70)}
        plain = lighting.leaving(surface(70, **reported), places, free)
        assert np.array_equal(lighting.leaving(surface(70, **reported, coat=0.0), places, free), plain)
        coat = np.zeros((70, 1))
        coat[5] = 1
        mixed = lighting.leaving(surface(70, **reported, coat=coat), places, free)
        others = np.arange(70) != 5
        assert np.allclose(mixed[others], plain[others], rtol=1e-6)
        assert not np.allclose(mixed[5], plain[5], rtol=1e-3)


class TestShow:
    @pytest.fixture(scope="class")
    @staticmethod
    def scene():
        """A coated, glowing plate over bare ground."""
        arrays = jq.pack([made_swatch("bare", 1), made_swatch("coated", 2, roles=ALL)], side=16)
        lights = [jq.Sun(120, 40), jq.PointLight(position=(2, 3, 2), strength=6.0)]
        there = np.eye(4)
        there[:3, 3] = 1, 0.8, 1
        plate = jq.shapes.plane((2, 2)).placed(there)
        ground = jq.Terrain(np.zeros((5, 5)), size=(4, 4))
        return jq.Scene(arrays, lights=lights).add(ground, [jq.Layer("bare")]).add(plate, [jq.Layer("coated", jq.Triplanar())])

    CAMERA = jq.Camera(position=(2, 4, 6), target=(2, 0, 2))

    def test_the_parts_sum_to_the_view(self, scene):
        """Along the same rays, within 1 of 255; and lamps to what lamps give."""
        parts = light_in_parts(scene, self.CAMERA, width=64, height=40)
        reaches = [scene.shadows(light) for light in scene.lighting.lights]
        (view,) = light_along([scene], [()], scene.canvas(self.CAMERA, 40, 64), reaches, jq.Work())
        shown = scene.lighting.shown(parts.whole.reshape(-1, 3))
        assert 255 * np.abs(srgb_from_linear(shown) - srgb_from_linear(view)).max() < 1
        seen = parts.kinds["diffuse light"] + parts.kinds["specular light"]
        assert (sum(parts.lamps) >= seen - 1e-4).all()
        assert parts.kinds["emission"].max() > 0.05
        assert parts.kinds["coat"].max() > 0.05
        share = parts.shares["coat's Fresnel"]
        assert 0.02 < share.max() <= 1
        assert (parts.kinds["coat"][share == 0] == 0).all()

    def test_what_the_ground_hides_of_the_sky_is_dark(self):
        """At the foot of a wall half the sky is hidden; a lone slope and a plain hide nothing of what they face."""
        step = jq.Terrain(np.where(np.arange(65) < 33, 0.0, 400.0)[None].repeat(65, 0), size=(64, 64))
        open_ = step.fields.open_to_sky().values[32]
        assert abs(open_[31] - 0.5) < 0.06
        assert open_[60] > 0.99
        for heights in (np.zeros((9, 9)), np.arange(9.0)[None].repeat(9, 0) * 3):
            assert jq.Terrain(heights, size=(8, 8)).fields.open_to_sky().values.min() > 0.999
        bowl = np.hypot(*(np.mgrid[:33, :33] - 16.0))
        assert abs(jq.Terrain(bowl, size=(32, 32)).fields.open_to_sky().values[16, 16] - 0.5) < 0.05  # walls of 45 degrees


class TestQuiltFile:
    def test_the_command_bakes_and_draws_them(self, tmp_path):
        folder = write_small_project(tmp_path)
        for role in RARE:
            write_image(folder / "salt" / f"salt_{role.key}.png", np.array(made_maps(9, roles=ALL)[role].texels))
        file = folder / "job.quilt.toml"
        for words in (["bake"], ["show", "balls", "debug", "light", "without", "coat"]):
            code, _, said = jquilt(words[0], file, "--out", tmp_path / "out", *words[1:])
            assert code == 0, said
        assert {f"{role.key}.png" for role in ALL} <= {path.name for path in (tmp_path / "out" / "bake").iterdir()}
        assert read_image(tmp_path / "out" / "pictures" / "debug_light.png").shape == (800, 1280, 3)
        code, said, _ = jquilt("check", file)
        assert "salt: emission, coat, coat normal, coat roughness too" in said
        file.write_text(file.read_text().replace("side = 16", 'side = 16\nlayouts = ["diffuse_height"]'))
        _, said, _ = jquilt("check", file)
        assert 'no array holds the coat map; add "emission_coat" to arrays.layouts' in said
        _, reported, _ = jquilt("check", file, "--json")
        assert "coat" in json.loads(reported)["swatches"][1]["maps"]
