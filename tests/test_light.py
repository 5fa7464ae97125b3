"""Light: what leaves a surface, against closed forms and float64; shadows of lamps; what shows it."""

import math
import pickle
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

import jagged_quilt as jq
from conftest import jquilt, made_swatch
from jagged_quilt.images import read_image, write_image
from jagged_quilt.light.clear_sky import clear_sky
from jagged_quilt.light.light import PARTS, Lighting, LitSurface
from jagged_quilt.light.reflection import spread_out
from jagged_quilt.light.sky_image import SkyImage, _solid_angles, directions_of
from jagged_quilt.light.tone import Tone, toned
from jagged_quilt.show.balls import BallView, controls, draw_balls, lit_ball
from jagged_quilt.show.flicker import find_flicker, not_widened
from jagged_quilt.show.light_parts import light_in_parts
from jagged_quilt.show.lit_view import contrast, draw_scenes
from jagged_quilt.show.swing import draw_swing, swing_sheet, swings, write_moving
from jagged_quilt.show.thumbnails import Thumbnails

DARK = jq.Sky.even(0.0)


def surface(count, *, diffuse=0.0, specular=0.0, rough=0.5, normal=(0, 1, 0), eye=None, **rare):
    """The same surface at so many points, seen from above unless said."""
    filled = lambda value, width: np.broadcast_to(np.float32(value), (count, width)).copy()
    one = np.ones(count, np.float32)
    normal = filled(normal, 3)
    eye = normal if eye is None else np.asarray(eye, np.float32)
    bare = (filled(diffuse, 3), normal, (one * np.float32(rough))[:, None], filled(specular, 3), one[:, None], one[:, None])
    if not rare:
        return LitSurface(np.concatenate(bare, axis=1), eye)
    own = {"emission": 0.0, "coat": 0.0, "coat_normal": normal, "coat_roughness": 0.1, **rare}
    over = [filled(own["emission"], 3), filled(own["coat"], 1), filled(own["coat_normal"], 3), filled(own["coat_roughness"], 1)]
    return LitSurface(np.concatenate([*bare, *over], axis=1), eye)


def looks(count):
    """Directions to the eye from overhead to grazing."""
    angle = np.linspace(0, math.radians(86), count)
    return np.stack([np.sin(angle), np.cos(angle), 0 * angle], 1)


def light_of_one_point(diffuse, specular, rough, n, v, lighting, place, free):
    """The model, for one point in float64; how much is thrown back is integrated anew."""
    n_v, square = min(max(n @ v, 1e-3), 1), max(rough, 0.04) ** 4
    a, b = thrown_back(rough, n_v)
    more = 1 + specular * (1 - a - b) / (a + b)
    body = diffuse * (1 - np.minimum((specular * a + b) * more, 1))
    out = np.zeros(3)
    for light, open_ in zip(lighting.lights, free, strict=True):
        if isinstance(light, jq.Sun):
            way, share = light.towards, 1.0
        else:
            way = np.subtract(light.position, place)
            share = 1 / max(np.linalg.norm(way), light.radius) ** 2
            way = way / np.linalg.norm(way)
        n_l = n @ way
        if n_l <= 0:
            continue
        half = (v + way) / np.linalg.norm(v + way)
        n_h, v_h = max(n @ half, 0), max(v @ half, 0)
        lobe = square / (math.pi * (n_h**2 * (square - 1) + 1) ** 2)
        smith = 0.5 / (n_l * math.sqrt(n_v**2 * (1 - square) + square) + n_v * math.sqrt(n_l**2 * (1 - square) + square))
        fresnel = specular + (1 - specular) * (1 - v_h) ** 5
        falls = n_l * share * open_ * light.strength * np.array(light.colour)
        out += (body / math.pi + lobe * smith * fresnel * more) * falls
    return out


def thrown_back(rough, n_v):
    """a and b of what is thrown back from all around, over a fine grid of directions of light."""
    square = max(rough, 0.04) ** 4
    z, turn = np.meshgrid((np.arange(600) + 0.5) / 600, 2 * np.pi * (np.arange(300) + 0.5) / 300, indexing="ij")
    z = z**2  # finer at grazing angles
    level, v = np.sqrt(1 - z**2), np.array([math.sqrt(1 - n_v**2), 0, n_v])
    half = np.stack([level * np.cos(turn), level * np.sin(turn), z], -1) + v
    half /= np.linalg.norm(half, axis=-1, keepdims=True)
    lobe = square / (np.pi * (half[..., 2] ** 2 * (square - 1) + 1) ** 2)
    smith = 0.5 / (z * np.sqrt(n_v**2 * (1 - square) + square) + n_v * np.sqrt(z**2 * (1 - square) + square))
    each = lobe * smith * z * 2 * np.pi * (2 * np.sqrt(z) / 600) / 300
    grazing = (1 - half @ v) ** 5
    return (each * (1 - grazing)).sum(), (each * grazing).sum()


class TestLamps:
    def test_a_plate_under_a_point_light_by_the_square_of_the_distance(self):
        lamp = jq.PointLight(position=(0, 10, 0), strength=20.0, colour=(1, 0.5, 0.25))
        heights = np.array([9.0, 8.0, 6.0])
        places = np.column_stack([0 * heights, heights, 0 * heights])
        got = Lighting((lamp,), DARK).leaving(surface(3, diffuse=0.6, rough=1.0), places, [np.ones(3)], in_parts=True)
        _, lost = thrown_back(1.0, 1.0)
        want = 0.6 * (1 - lost) / math.pi * 20 / np.array([1, 4, 16])[:, None] * [1, 0.5, 0.25]
        assert np.allclose(got[:, PARTS.index("diffuse light")], want, rtol=5e-3)

    def test_other_ways_to_fall_off(self):
        far = np.array([[0, 0, 0.001], [0, 0, 2.0], [0, 0, 4.0], [0, 0, 8.0]])
        lamp = jq.PointLight(position=(0, 0, 0), radius=0.5)
        assert np.allclose(lamp.reach_at(far)[1], [4, 1 / 4, 1 / 16, 1 / 64])
        old = replace(lamp, fall_off=(1, 0.5, 0.25))
        assert np.allclose(old.reach_at(far)[1][1:], [1 / 3, 1 / 7, 1 / 21])
        short = replace(lamp, reach=4.0)
        assert np.allclose(short.reach_at(far)[1], [4, 0.25 * (1 - 0.5**4), 0, 0], rtol=1e-6)

    def test_the_edge_of_a_spot_is_soft_between_its_angles(self):
        spot = jq.SpotLight(position=(0, 10, 0), target=(0, 0, 0), inner=20, outer=40)
        angle = np.radians([0, 19.9, 30, 40.1, 60, 120])
        places = np.stack([10 * np.sin(angle), 10 - 10 * np.cos(angle), 0 * angle], 1)
        inner, outer = np.cos(np.radians([20, 40]))
        half = ((np.cos(np.radians(30)) - outer) / (inner - outer)) ** 2
        assert np.allclose(100 * spot.reach_at(places)[1], [1, 1, half, 0, 0, 0], atol=1e-5)

    def test_a_sun_with_a_size_is_a_disc_of_suns(self):
        sun = jq.Sun(30, 40, size=10)
        apart = np.degrees(np.arccos(np.clip(sun.directions() @ sun.towards, -1, 1)))
        assert apart.max() <= 5
        assert apart.max() > 4
        assert np.linalg.norm(sun.directions().mean(axis=0) - sun.towards) < 0.01
        assert len(jq.Sun(30, 40).directions()) == 1

    def test_they_turn_over_east(self):
        assert jq.Sun(350, 30).turned(20).bearing == 10
        lamp = jq.SpotLight(position=(5, 2, 4), target=(4, 0, 4)).turned(90, (4, 0, 4))
        assert np.allclose(lamp.position, (4, 2, 5))
        assert lamp.target == (4, 0, 4)

    @pytest.mark.parametrize(
        ("make", "words"),
        [
            (lambda: jq.SpotLight(position=(0, 1, 0), target=(0, 0, 0), inner=40, outer=20), "inner must not be above outer"),
            (lambda: jq.SpotLight(position=(0, 1, 0), target=(0, 1, 0)), "must point somewhere"),
            (lambda: jq.PointLight(position=(0, math.nan, 0)), "position"),
            (lambda: jq.PointLight(position=(0, 1)), "three numbers"),
            (lambda: jq.PointLight(position=(0, 1, 0), fall_off=(0, 0, 0)), "not all 0"),
            (lambda: jq.PointLight(position=(0, 1, 0), radius=0), "radius must be above 0 m"),
            (lambda: jq.Sun(0, 95), "height"),
            (lambda: jq.Sun(colour=(1, -1, 1)), "colour"),
            (lambda: jq.Sun(strength=math.inf), "strength"),
            (lambda: jq.Sky(zenith=(1, 1)), "zenith must be three numbers"),
            (lambda: Lighting((3,)), "Sun, a PointLight or a SpotLight"),
            (lambda: toned(np.ones((1, 3), np.float32), tone="sof"), "soft"),
        ],
    )
    def test_what_makes_no_sense_is_refused(self, make, words):
        with pytest.raises(jq.QuiltError, match=words):
            make()


class TestReflection:
    @pytest.mark.parametrize("rough", [0.0, 0.1, 0.3, 0.6, 1.0])
    @pytest.mark.parametrize(("diffuse", "specular"), [(0.0, 1.0), (1.0, 0.04), (1.0, 0.5)])
    def test_in_an_even_sky_what_throws_all_light_back_cannot_be_seen(self, rough, diffuse, specular):
        """The white furnace."""
        points = surface(40, diffuse=diffuse, specular=specular, rough=rough, eye=looks(40))
        light = Lighting((), jq.Sky.even(0.7)).leaving(points, np.zeros((40, 3)), [])
        assert np.allclose(light, 0.7, rtol=1e-3)

    @pytest.mark.parametrize("rough", [0.3, 0.6, 1.0])
    @pytest.mark.parametrize(("diffuse", "specular"), [(0.0, 1.0), (1.0, 0.04)])
    def test_nor_under_suns_on_all_sides(self, rough, diffuse, specular):
        """The furnace by lamps: here nothing is looked up for the sky."""
        count = 10000
        turn, height = (spread_out(count) * [360, 1]).T
        height = np.maximum(1.0, np.degrees(np.arcsin(height)))
        suns = [jq.Sun(t, h, (1, 1, 1), 2 * math.pi / count) for t, h in zip(turn, height, strict=True)]
        points = surface(9, diffuse=diffuse, specular=specular, rough=rough, eye=looks(9))
        light = Lighting(tuple(suns), DARK).leaving(points, np.zeros((9, 3)), [np.ones(9)] * count)
        assert np.allclose(light, 1, rtol=0.02)

    @settings(deadline=None, max_examples=25)
    @given(st.integers(0, 10**6))
    def test_lamps_agree_with_float64(self, seed):
        rng = np.random.default_rng(seed)
        n, v = rng.normal(size=(2, 4, 3))
        v = np.where((n * v).sum(axis=1, keepdims=True) < 0, -v, v)
        n, v = (each / np.linalg.norm(each, axis=1, keepdims=True) for each in (n, v))
        v = v + n * np.where((n * v).sum(axis=1, keepdims=True) < 0.15, 0.3, 0)
        v /= np.linalg.norm(v, axis=1, keepdims=True)
        diffuse, specular, colours = rng.random((3, 4, 3))
        rough, places, free = rng.uniform(0.2, 1, 4), rng.normal(size=(4, 3)), rng.random((3, 4)).astype(np.float32)
        lights = (
            jq.Sun(rng.uniform(0, 360), rng.uniform(5, 90)),
            jq.PointLight(position=tuple(rng.normal(size=3) * 3), colour=tuple(colours[0])),
            jq.PointLight(position=tuple(rng.normal(size=3) * 3), strength=3.0),
        )
        lighting = Lighting(lights, DARK)
        got = lighting.leaving(surface(4, diffuse=diffuse, specular=specular, rough=rough, normal=n, eye=v), places, list(free))
        for p in range(4):
            want = light_of_one_point(diffuse[p], specular[p], rough[p], n[p], v[p], lighting, places[p], free[:, p])
            assert np.allclose(got[p], want, rtol=0.02, atol=6e-3)

    def test_one_point_and_many_are_lit_alike(self):
        """A lamp's ways are one for all where there is one point."""
        lamp = Lighting((jq.PointLight(position=(1, 3, 0)), jq.Sun()))
        points, places = surface(5, diffuse=0.5, specular=0.1, eye=looks(5)), np.arange(15.0).reshape(5, 3) / 7
        whole = lamp.leaving(points, places, [np.ones(5)] * 2)
        for p in range(5):
            part = LitSurface(*(each[p : p + 1] for each in points))
            assert np.array_equal(lamp.leaving(part, places[p : p + 1], [np.ones(1)] * 2)[0], whole[p])


class TestSky:
    SKY = jq.Sky(zenith=(0.1, 0.3, 0.9), horizon=(0.8, 0.8, 0.7), ground=(0.3, 0.1, 0.05), strength=2.0)

    def test_what_it_sheds_is_the_mean_by_the_cosine(self):
        """PathGuard 1 % of a fine grid, on normals of every slope."""
        up = np.linspace(-1, 1, 9)
        normal = np.stack([np.sqrt(1 - up**2), up, 0 * up], 1)
        flat = surface(9, diffuse=1.0, rough=1.0, normal=normal)
        got = Lighting((), self.SKY).leaving(flat, np.zeros((9, 3)), [], in_parts=True)[:, 2]
        _, lost = thrown_back(1.0, 1.0)
        z, turn = np.meshgrid(2 * (np.arange(500) + 0.5) / 500 - 1, 2 * np.pi * (np.arange(500) + 0.5) / 500, indexing="ij")
        ways = np.stack([np.sqrt(1 - z**2) * np.cos(turn), z, np.sqrt(1 - z**2) * np.sin(turn)], -1).reshape(-1, 3)
        seen = self.SKY.from_up(ways[:, 1])
        for p in range(9):
            cosine = np.maximum(ways @ normal[p], 0)
            want = (seen * cosine[:, None]).sum(axis=0) / cosine.sum() * (1 - lost)
            assert np.allclose(got[p], want, rtol=0.01)

    @pytest.mark.parametrize("rough", [0.0, 0.5, 0.75, 1.0])
    def test_a_mirror_shows_it_and_a_rough_one_what_lies_around(self, rough):
        """Where eye, normal and mirror image are one: against a fine grid of directions, weighed by GGX."""
        up = np.linspace(-1, 1, 7)
        normal = np.stack([np.sqrt(1 - up**2), up, 0 * up], 1)
        points = surface(7, specular=1.0, rough=rough, normal=normal)
        got = Lighting((), self.SKY).leaving(points, np.zeros((7, 3)), [])
        if rough == 0:
            assert np.allclose(got, self.SKY.seen(normal.astype(np.float32)), rtol=0.01)
            return
        z, turn = np.meshgrid(2 * (np.arange(400) + 0.5) / 400 - 1, 2 * np.pi * (np.arange(400) + 0.5) / 400, indexing="ij")
        ways = np.stack([np.sqrt(1 - z**2) * np.cos(turn), z, np.sqrt(1 - z**2) * np.sin(turn)], -1).reshape(-1, 3)
        for p in range(7):
            cosine = np.maximum(ways @ normal[p], 0)
            half = (1 + ways @ normal[p]) / np.maximum(np.linalg.norm(ways + normal[p], axis=1), 1e-9)
            weight = cosine / (half**2 * (rough**4 - 1) + 1) ** 2
            want = (self.SKY.from_up(ways[:, 1]) * weight[:, None]).sum(axis=0) / weight.sum()
            assert np.allclose(got[p], want, rtol=0.03), up[p]

    def test_it_is_bright_at_the_horizon_and_blue_above(self):
        level, above, below = jq.Sky().seen(np.array([[1, 0, 0], [0, 1, 0], [0, -1, 0]], np.float32))
        assert (level > above).all()
        assert above[2] > 2 * above[0]
        assert np.allclose(below, jq.Sky().ground)


def sky_like(gradient, rows=256):
    """A gradient sky as an image."""
    return SkyImage(gradient.from_up(directions_of((rows, 2 * rows))[..., 1]).astype(np.float32))


class TestSkyImage:
    def test_as_an_image_a_gradient_lights_as_before(self):
        """What it sheds and its mirror images, from harmonics and pictures, against tables."""
        up = np.linspace(-0.95, 0.95, 9)
        normal = np.stack([np.sqrt(1 - up**2), up, 0 * up], 1)
        for rough, near in ((0.0, 0.03), (0.4, 0.06), (1.0, 0.06)):
            points = surface(9, diffuse=0.5, specular=0.5, rough=rough, normal=normal)
            by_table, by_image = (
                Lighting((), sky).leaving(points, np.zeros((9, 3)), []) for sky in (TestSky.SKY, sky_like(TestSky.SKY))
            )
            assert np.allclose(by_image, by_table, rtol=near, atol=0.06), rough

    def test_in_an_even_image_nothing_can_be_seen_either(self):
        even = SkyImage(np.full((16, 32, 3), 0.7, np.float32))
        for rough in (0.0, 0.35, 1.0):
            points = surface(12, diffuse=1.0, specular=0.3, rough=rough, eye=looks(12))
            assert np.allclose(Lighting((), even).leaving(points, np.zeros((12, 3)), []), 0.7, rtol=2e-3)

    def test_it_is_seen_where_it_is_and_turns_over_east(self):
        spot = np.full((64, 128, 3), 0.1, np.float32)
        spot[15, 31] = spot[15, 32] = spot[16, 31] = spot[16, 32] = 5  # in the east, half way up
        east = np.float32([[math.sqrt(0.5), math.sqrt(0.5), 0]])
        south = np.float32([[0, math.sqrt(0.5), math.sqrt(0.5)]])
        sky = SkyImage(spot)
        assert sky.seen(east)[0, 0] == pytest.approx(5, rel=1e-3)
        assert replace(sky, bearing=90.0, exposure=-1.0).seen(south)[0, 0] == pytest.approx(2.5, rel=1e-2)
        mirror = surface(1, specular=1.0, rough=0.0)
        looking = mirror._replace(eye=east * [-1, 1, 1])
        assert Lighting((), sky).leaving(looking, np.zeros((1, 3)), [])[0, 0] == pytest.approx(5, rel=0.02)

    def test_its_sun_is_found_and_nothing_is_lost(self):
        """What falls on a plate that faces the sun is the same with it in the image and as a light."""
        sun = jq.Sun(120, 30)
        clear = clear_sky(sun, rows=128)
        texels = clear.texels.copy()
        texels[directions_of((128, 256)) @ sun.towards > math.cos(math.radians(2))] = (900, 800, 600)
        whole = SkyImage(texels, bearing=40.0, exposure=1.0)
        found, rest = whole.find_sun()
        assert found.bearing == pytest.approx(160, abs=0.5)
        assert found.height == pytest.approx(30, abs=0.5)
        assert found.size == pytest.approx(4, abs=0.5)
        shares, cosine = _solid_angles((128, 256)), np.maximum(directions_of((128, 256)) @ sun.towards, 0)
        fallen = [2 * np.einsum("hw,hw,hwc->c", shares, cosine, each) for each in (texels, rest.texels)]
        assert np.allclose(fallen[0] - fallen[1], np.multiply(found.colour, found.strength), rtol=0.01)
        with pytest.raises(jq.QuiltError, match="no sun stands out"):
            rest.find_sun()

    def test_a_clear_sky_is_blue_away_from_the_sun_and_bright_about_it(self):
        sun = jq.Sun(90, 35)
        sky = clear_sky(sun, haze=2.5)
        near, far, low = sky.seen(np.float32([sun.towards, sun.towards * [-1, 1, 1], [0, 0.05, 1]]))
        assert near.mean() > 2 * far.mean()
        assert far[2] > 1.5 * far[0]
        assert low.mean() > far.mean()
        assert (sky.texels >= 0).all()
        hazy = clear_sky(sun, haze=6).seen(np.float32([sun.towards * [-1, 1, 1]]))[0]
        assert hazy[2] / hazy[0] < far[2] / far[0]

    def test_files(self, tmp_path):
        """Floats as they are; whole numbers as sRGB, with a warning; what is odd is told."""
        made = sky_like(TestSky.SKY, 16)
        write_image(tmp_path / "sky.exr", made.texels)
        assert np.allclose(jq.read_sky(tmp_path / "sky.exr").texels, made.texels, rtol=1e-3)
        write_image(tmp_path / "low.png", np.full((16, 32, 3), 128, np.uint8))
        with pytest.warns(jq.QuiltWarning, match="low range"):
            assert jq.read_sky(tmp_path / "low.png").texels.max() == pytest.approx(0.2158, abs=1e-3)
        write_image(tmp_path / "square.exr", np.ones((16, 16, 3), np.float32))
        write_image(tmp_path / "below.exr", np.full((16, 32, 3), -1, np.float32))
        write_image(tmp_path / "grey.exr", np.ones((16, 32, 1), np.float32))
        for name, words in (
            ("square", "twice as wide as high"),
            ("below", "below 0"),
            ("grey", "three channels"),
            ("no", "no such"),
        ):
            with pytest.raises(jq.QuiltError, match=words):
                jq.read_sky(tmp_path / f"{name}.exr")
        with pytest.raises(jq.QuiltError, match="infinite or none"):
            SkyImage(np.full((16, 32, 3), np.nan, np.float32))

    def test_few_bits_show_bands_where_many_do_not(self):
        """The steps that a sky of 8 bits has where it is dark, next to those of half floats."""
        ramp = np.broadcast_to(np.linspace(0.002, 0.02, 512)[:, None, None], (512, 1024, 3)).astype(np.float32)
        stored = np.rint(255 * (1.055 * ramp ** (1 / 2.4) - 0.055)) / 255
        coarse = np.where(stored <= 0.04045, stored / 12.92, ((stored + 0.055) / 1.055) ** 2.4).astype(np.float32)
        angle = np.linspace(0.2, 2.9, 4000)
        ways = np.stack([np.sin(angle), np.cos(angle), 0 * angle], 1).astype(np.float32)
        jumps = [
            np.diff(toned(SkyImage(each).seen(ways), exposure=5)[:, 0]).max() for each in (coarse, ramp.astype(np.float16))
        ]
        assert jumps[0] > 8 * jumps[1]


class TestTone:
    def test_light_up_to_seven_tenths_is_left_alone(self):
        light = np.linspace(0, 20, 500, dtype=np.float32)[:, None] * np.float32([1, 1, 1])
        bent = toned(light)
        assert np.array_equal(bent[light[:, 0] < 0.7], light[light[:, 0] < 0.7])
        assert (np.diff(bent[:, 0]) >= -1e-6).all()
        assert bent.max() <= 1

    def test_a_colour_keeps_its_hue(self):
        light = np.float32([[4, 2, 1]]) * np.geomspace(0.01, 100, 20, dtype=np.float32)[:, None]
        bent = toned(light)
        assert np.allclose(bent[:, 0], 2 * bent[:, 1], rtol=1e-5)
        assert np.allclose(bent[:, 0], 4 * bent[:, 2], rtol=1e-5)

    def test_exposure_counts_in_stops_and_none_cuts(self):
        light = np.float32([[0.1, 0.2, 0.3]])
        assert np.allclose(toned(light, exposure=1), 2 * light)
        assert np.allclose(toned(light, exposure=3, tone=Tone.NONE), [[0.8, 1, 1]])


@pytest.fixture(scope="module")
def arrays():
    return jq.pack([made_swatch("a", 1, side=16), made_swatch("b", 2, side=16)], side=16)


def look_down(at=(8, 8)):
    return jq.Camera(position=(at[0], 30.0, at[1] + 0.5), target=(at[0], 0.0, at[1]), view_angle=30)


def moved(x, y, z):
    """What brings a made mesh's middle there."""
    out = np.eye(4)
    out[:3, 3] = x, y, z
    return out


class TestShadows:
    """Seen from above on a flat ground of 16 m."""

    def reached(self, arrays, light, *meshes, ground=None):
        scene = jq.Scene(arrays, lights=[light], sky=DARK)
        scene.add(ground or jq.Terrain(np.zeros((17, 17)), size=(16, 16)), [jq.Layer("a")])
        for mesh in meshes:
            scene.add(mesh, [jq.Layer("b", jq.Planar())])
        parts = light_in_parts(scene, look_down(), width=64, height=64)
        return parts.free[0], lambda x, z: (int(32 + (z - 8) * 64 / 16.08), int(32 + (x - 8) * 64 / 16.08))

    def test_a_lamp_behind_a_ridge_leaves_what_lies_behind_dark(self, arrays):
        heights = np.zeros((17, 17))
        heights[:, 8] = 3.0
        free, at = self.reached(arrays, jq.PointLight(position=(4, 2, 8)), ground=jq.Terrain(heights, size=(16, 16)))
        assert free[at(3, 8)] == 1
        assert free[at(13, 8)] == 0

    def test_a_plate_between_casts_its_shadow_by_the_lamp_not_from_afar(self, arrays):
        plate = jq.shapes.plane((1, 1)).placed(moved(8, 2, 8))
        lamp = jq.PointLight(position=(8.0, 4, 8.0))
        free, at = self.reached(arrays, lamp, plate)
        corners = plate.world[:, [0, 2]]
        for x, z in [(6.6, 6.6), (9.4, 6.6), (9.4, 9.4), (6.6, 9.4), (5.0, 8.0), (8.0, 5.0)]:
            grown = 8 + (corners - 8) * 2  # twice as far from the lamp
            inside = (grown.min(axis=0) <= (x, z)).all() and ((x, z) <= grown.max(axis=0)).all()
            assert free[at(x, z)] == (0 if inside else 1), (x, z)

    def test_a_roof_close_above_the_ground_and_wide_is_seen_from_below_a_lamp(self, arrays):
        """Triangles that reach far behind the lamp are cut before they are drawn."""
        roof = jq.shapes.plane((14, 14)).placed(moved(8, 1.0, 8))
        low = float(roof.world[:, 0].min())
        free, at = self.reached(arrays, jq.PointLight(position=(8, 1.4, 8)), roof)
        assert free[at(low - 0.4, 8)] in (0, 1)
        assert free[at(8, 8)] == 1  # the roof itself
        scene = jq.Scene(arrays).add(roof, [jq.Layer("b", jq.Planar())])
        below = jq.Points.of(np.array([[8.0, 0, 8], [3, 0, 3], [12, 0, 7]]), np.tile([0.0, 1, 0], (3, 1)))
        assert (scene.shadows(jq.PointLight(position=(8, 1.4, 8)))(below) == 0).all()

    def test_a_wide_sun_has_a_soft_edge(self, arrays):
        plate = jq.shapes.plane((4, 4)).placed(moved(8, 3, 8))
        hard, _ = self.reached(arrays, jq.Sun(90, 60), plate)
        soft, _ = self.reached(arrays, jq.Sun(90, 60, size=15), plate)
        between = lambda free: ((free > 0.05) & (free < 0.95)).mean()
        assert between(soft) > 3 * between(hard)
        assert soft.mean() == pytest.approx(hard.mean(), abs=0.03)

    def test_a_lamp_inside_the_ground_is_refused(self, arrays):
        ground = jq.Terrain(np.full((5, 5), 3.0), size=(16, 16))
        scene = jq.Scene(arrays, lights=[jq.PointLight(position=(8, 2, 8))]).add(ground, [jq.Layer("a")])
        with pytest.raises(jq.QuiltError, match="inside the ground, which is 3 m high there"):
            scene.draw(look_down(), width=8, height=8)


class TestParts:
    @pytest.fixture(scope="class")
    @staticmethod
    def scene(arrays):
        lights = [jq.Sun(120, 35), jq.PointLight(position=(5, 3, 9), colour=(1, 0.6, 0.3), strength=6)]
        ground = jq.Terrain(np.random.default_rng(3).random((9, 9)), size=(16, 16))
        return jq.Scene(arrays, lights=lights).add(ground, [jq.Layer("a"), jq.Layer("b", mask=jq.Slope(0, 8, fade=4))])

    def test_they_sum_to_the_view(self, scene):
        camera = jq.Camera(position=(8, 9, 24), target=(8, 0, 8))
        parts = light_in_parts(scene, camera, width=96, height=64)
        lamps = parts.kinds["diffuse light"] + parts.kinds["specular light"]
        assert np.allclose(sum(parts.lamps), lamps, atol=1e-5)
        one_ray = scene.draw(camera, width=96, height=64)
        rough = replace(scene.lighting).shown(parts.whole.reshape(-1, 3)).reshape(64, 96, 3)
        stored = np.rint(255 * np.where(rough <= 0.0031308, 12.92 * rough, 1.055 * rough ** (1 / 2.4) - 0.055))
        alike = contrast(one_ray) < 12  # elsewhere there are four rays
        assert alike.mean() > 0.3
        assert np.percentile(np.abs(stored - one_ray)[alike], 90) <= 3

    def test_a_swing_ends_where_it_began_and_leaves_the_scene_alone(self, scene):
        camera, before = jq.Camera(position=(8, 9, 24), target=(8, 0, 8)), scene.lighting
        lightings = swings(before, 1, 4, camera.target)
        pictures = draw_swing(scene, camera, lightings)
        assert scene.lighting is before
        assert len(pictures) == 4
        assert pictures[0].shape == (400, 640, 3)
        scene.lighting = lightings[2]
        alone = scene.draw(camera, width=640, height=400)
        scene.lighting = before
        assert np.array_equal(pictures[2], alone)
        assert (pictures[0] != pictures[2]).mean() > 0.2
        for bad in (-1, 2):
            with pytest.raises(jq.QuiltError, match="number of the light"):
                swings(before, bad, 4, camera.target)

    def test_maps_are_left_out_by_their_role(self, scene):
        camera = jq.Camera(position=(8, 9, 24), target=(8, 0, 8))
        whole, flat = (scene.draw(camera, width=48, height=32, without=roles) for roles in ((), ["normal"]))
        assert (whole != flat).mean() > 0.1
        with pytest.raises(jq.QuiltError, match=r"role.*normal"):
            scene.draw(camera, width=8, height=8, without=["normals"])


QUILT = """
[surface]
terrain = "{ground}"
size = [16.0, 16.0]
heights = [0.0, 1.0]
[view]
camera = [8.0, 9.0, 24.0]
target = [8.0, 0.0, 8.0]
exposure = 0.5
{view}
[sky]
strength = 0.5
{sky}
[[swatch]]
name = "a"
folder = "{maps}"
tile = 2.0
relief = 0.1
[[layer]]
swatch = "a"
{lights}
"""
LIGHTS = """
[[light]]
kind = "sun"
bearing = 200.0
height = 30.0
[[light]]
kind = "spot"
position = [4.0, {height}, 4.0]
target = [8.0, 0.0, 8.0]
outer = {outer}
"""


class TestQuiltFile:
    @pytest.fixture(scope="class")
    @staticmethod
    def written(tmp_path_factory):
        folder = tmp_path_factory.mktemp("lights")
        write_image(folder / "ground.png", (np.random.default_rng(1).random((17, 17)) * 255).astype(np.uint8))
        (folder / "maps").mkdir()
        write_image(folder / "maps" / "a_diffuse.png", np.full((8, 8, 3), 150, np.uint8))

        def write(name="lights", view="", sky="", lights=LIGHTS, height=4.0, outer=40.0):
            path = folder / f"{name}.quilt.toml"
            said = lights.format(height=height, outer=outer)
            path.write_text(QUILT.format(ground="ground.png", maps="maps", view=view, sky=sky, lights=said))
            return path

        return write

    def test_lights_sky_and_exposure_are_read(self, written):
        lighting = jq.read_quilt(written()).lighting
        assert lighting.lights == (jq.Sun(200, 30), jq.SpotLight(position=(4, 4, 4), target=(8, 0, 8), outer=40))
        assert (lighting.sky.strength, lighting.exposure) == (0.5, 0.5)
        plain = jq.read_quilt(written("plain", view="sun = [10.0, 20.0]", lights="")).lighting
        assert plain.lights == (jq.Sun(10, 20),)

    @pytest.mark.parametrize(
        ("reported", "words"),
        [
            ({"view": "sun = [10.0, 20.0]"}, r"view.sun: is for a quilt without \[\[light\]\] tables"),
            ({"outer": 10.0}, r"light\[1\].inner: inner must not be above outer"),
            ({"view": 'tone = "hard"'}, r"view.tone"),
            ({"sky": "zenith = [1.0, -1.0, 1.0]"}, r"sky.zenith: zenith must be"),
            ({"sky": "clear = 3.0\nzenith = [1.0, 1.0, 1.0]"}, r"sky.strength: strength, zenith: has no effect on a clear sky"),
            ({"sky": 'clear = 3.0\nimage = "sky.exr"'}, r"sky: a sky is an image or clear"),
            ({"sky": "bearing = 3.0"}, r"sky.bearing: has no effect on a gradient"),
        ],
    )
    def test_what_makes_no_sense_is_reported_with_its_place(self, written, reported, words):
        with pytest.raises(jq.QuiltError, match=words):
            jq.read_quilt(written("bad", **reported))

    def test_a_clear_sky_and_an_image_with_its_sun(self, written):
        path = written("sky")
        text = path.read_text().replace("strength = 0.5", "clear = 4.0")
        path.write_text(text)
        clear = jq.read_quilt(path).lighting
        assert clear.sky == clear_sky(jq.Sun(200, 30), haze=4.0)
        texels = clear.sky.texels.copy()
        texels[directions_of(texels.shape[:2]) @ jq.Sun(200, 30).towards > math.cos(math.radians(1.5))] = 500
        write_image(path.parent / "sky.exr", texels)
        path.write_text(text.replace("clear = 4.0", 'image = "sky.exr"\nfind_sun = true\nbearing = 10.0'))
        found, first, spot = jq.read_quilt(path).lighting.lights
        assert found.bearing == pytest.approx(210, abs=0.5)
        assert (first.bearing, spot.inner) == (200, 20)

    def test_the_command_draws_them(self, written, tmp_path):
        asked = ["debug", "light", "without", "normal", "swing", "3:1"]
        code, _, errors = jquilt("show", written(), "--out", tmp_path, *asked)
        assert code == 0, errors
        pictures = tmp_path / "pictures"
        drawn = {"debug_light.png", "with_and_without_normal.png", "swing.png", "swing.webp"}
        assert {path.name for path in pictures.iterdir()} >= drawn
        assert read_image(pictures / "debug_light.png").shape == (800, 1280, 3)
        with Image.open(pictures / "swing.webp") as moving:
            assert moving.n_frames == 3
        for words, asked in (
            ("light[1].position: (4, 0.0001, 4) lies inside the ground", [written("low", height=0.0001), "view"]),
            ("swing must be steps", [written(), "swing", "x"]),
            ("normal", [written(), "without", "normals"]),
        ):
            code, _, errors = jquilt("show", "--out", tmp_path, *asked)
            assert code == 2
            assert words in errors


class TestBalls:
    def test_a_mirror_shows_the_sky_and_a_map_left_out_is_missed(self):
        camera = jq.Camera(position=(0, 0, 10), target=(0, 0, 0))
        sky = jq.Sky(zenith=(0, 0, 1), horizon=(0.5, 0.5, 0.5), ground=(0.3, 0, 0))
        look, lighting = BallView.of(camera), Lighting((), sky)
        mirror = lit_ball(controls()["mirror"], 64, lighting=lighting, look=look).astype(int)
        assert mirror[12, 32, 2] > mirror[12, 32, 0] + 80  # the zenith
        assert mirror[52, 32, 0] > mirror[52, 32, 2] + 80  # the ground
        bumpy = made_swatch("a", 1, side=32)
        whole, flat = (lit_ball(bumpy, 64, look=look, without=roles) for roles in ((), (jq.MapRole.NORMAL,)))
        assert (whole != flat).mean() > 0.2

    def test_a_lamp_lights_the_side_that_it_sees(self):
        look = BallView.of(jq.Camera(position=(0, 0, 10), target=(0, 0, 0)))
        lamp = Lighting((jq.PointLight(position=(4, 0, 1), strength=20),), DARK)
        ball = lit_ball(controls()["grey, rough"], 64, lighting=lamp, look=look).astype(int).sum(axis=2)
        assert ball[32, 56] > 3 * ball[32, 12]

    def test_sheets_hold_six(self):
        boards = draw_balls([made_swatch(str(n), n, side=8) for n in range(7)], Lighting(), look_down())
        assert [board.pixels().shape for board in boards] == [(800, 1280, 3)] * 2


class TestFlicker:
    def test_reading_smaller_levels_calms_a_far_surface(self):
        """Noise of 2 texels, seen from so far that many texels fall on a pixel."""
        arrays = jq.pack([made_swatch("a", 1, side=64)], side=64)
        ground = jq.Terrain(np.zeros((3, 3)), size=(200, 200))
        scene = jq.Scene(arrays).add(ground, [jq.Layer("a")])
        camera = jq.Camera(position=(100, 40, 190), target=(100, 0, 100))
        found = find_flicker(scene, camera, width=24, height=16, frames=4)
        assert found.mean("trilinear") < 0.25 * found.mean("bilinear, full size only")
        assert found.mean("nearest") > 0.8 * found.mean("bilinear, full size only")
        assert found.still.shape == (16, 24)

    def test_roughness_that_is_not_widened_is_its_plain_mean(self):
        pages = jq.pack([made_swatch("a", 1, side=16), made_swatch("b", 2, side=16)], side=16).open(["a", "b"])
        plain = not_widened(pages)
        column = next(n for n, layout in enumerate(pages.layouts) if jq.MapRole.ROUGHNESS in layout.roles)
        rough = [(each.texels[:, column] >> 16 & 255).astype(int) for each in (pages, plain)]
        full = 2 * 16 * 17
        assert np.array_equal(rough[0][:full], rough[1][:full])
        assert (rough[0][full:] >= rough[1][full:]).mean() > 0.8
        own = rough[0][: 16 * 17].reshape(16, 17)[:, :16]
        assert rough[1][full : full + 8 * 9].reshape(8, 9)[0, 0] == round(own[:2, :2].mean())
        others = pages.texels.copy(), plain.texels.copy()
        for each in others:
            each[:, column] &= np.uint32(0xFF00FFFF)
        assert np.array_equal(*others)


class TestWhite:
    def test_the_share_above_white_grows_with_exposure(self, arrays):
        ground = jq.Terrain(np.zeros((3, 3)), size=(16, 16))
        found = []
        for exposure in (-3.0, 2.0):
            scene = jq.Scene(arrays, lights=[jq.Sun(0, 80, (1, 1, 1), 3.0)], sky=DARK, exposure=exposure)
            scene.add(ground, [jq.Layer("a")])
            pixels = jq.show.draw_debug(scene, look_down(), "white").pixels()[60:730].astype(int)
            found.append((np.ptp(pixels, axis=2) > 20).mean())  # false colours, beside greys
        assert found[0] < 0.01
        assert found[1] > 0.2

    def test_what_is_cut_and_what_is_bent_differ_only_where_it_is_bright(self, arrays):
        pictures = []
        for tone in ("soft", "none"):
            scene = jq.Scene(arrays, lights=[jq.Sun(0, 80, strength=9.0)], sky=DARK, tone=tone)
            scene.add(jq.Terrain(np.zeros((3, 3)), size=(16, 16)), [jq.Layer("a")])
            pictures.append(scene.draw(look_down(), width=48, height=48, closely=True).astype(int))
        dark = pictures[0].max(axis=2) < 190
        assert np.array_equal(pictures[0][dark], pictures[1][dark])
        assert (pictures[1] >= pictures[0]).all()


class TestGlances:
    def test_another_light_forgets_what_it_reached_and_not_what_was_met(self, arrays):
        scene = jq.Scene(arrays, lights=[jq.Sun(90, 30)]).add(jq.Terrain(np.eye(9) * 2, size=(16, 16)), [jq.Layer("a")])
        thumbnails, camera = Thumbnails(), look_down()
        first = draw_scenes([scene], camera, width=32, height=32, thumbnails=thumbnails)[0]
        blocks = {key: id(block) for key, block in thumbnails._blocks.items()}
        scene.lighting = replace(scene.lighting, lights=(jq.Sun(270, 30),))
        second = draw_scenes([scene], camera, width=32, height=32, thumbnails=thumbnails)[0]
        assert {key: id(block) for key, block in thumbnails._blocks.items()} == blocks
        assert np.array_equal(second, scene.draw(camera, width=32, height=32))
        assert not np.array_equal(first, second)

    def test_lights_and_skies_travel(self):
        for value in (
            Lighting((jq.Sun(size=2.0), jq.SpotLight(position=(0, 3, 0), target=(0, 0, 0)))),
            jq.Sky(strength=2.0),
            clear_sky(jq.Sun(10, 20), rows=16),
        ):
            again = pickle.loads(pickle.dumps(value))
            assert again == value
            assert hash(again) == hash(value)
            assert len(repr(value)) < 400


class TestSwingSheet:
    def test_twelve_of_many_are_laid_out(self, tmp_path):
        lighting = Lighting((jq.Sun(300, 20), jq.PointLight(position=(3, 1, 0))))
        lightings = swings(lighting, 1, 20, (0.0, 0.0, 0.0))
        assert np.allclose(lightings[5].lights[1].position, (0, 1, 3))
        assert all(each.lights[0] == lighting.lights[0] for each in lightings)
        pictures = [np.full((400, 640, 3), 10 * n, np.uint8) for n in range(20)]
        pixels = swing_sheet(pictures, lightings, 1).pixels()
        shown = {int(pixels[200 + 246 * row, 100 + 314 * column, 0]) for row in range(3) for column in range(4)}
        assert len(shown) == 12
        path = write_moving(tmp_path / "moving.webp", pictures)
        with Image.open(path) as moving:
            assert (moving.n_frames, moving.size) == (20, (640, 400))
            moving.seek(7)
            assert tuple(moving.convert("RGB").getpixel((5, 5))) == (70, 70, 70)
        with pytest.raises(jq.QuiltError, match="no light that could swing"):
            swings(Lighting(()), 0, 4, (0.0, 0.0, 0.0))
