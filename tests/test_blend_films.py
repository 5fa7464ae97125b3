"""What lies beside the layers and upon them: channels that daubs paint, and films of water and dust."""

import json
import pickle
from dataclasses import replace

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import jquilt, made_swatch
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.images import read_image
from jagged_quilt.results.results import Results
from jagged_quilt.results.scene_of import scene_of
from jagged_quilt.weights.channel import mask_map

R = jq.MapRole
FLAT = jq.Terrain(np.zeros((2, 2)), size=(16.0, 16.0))
WET = """
[weights]
texels = 32
daubs = "daubs.jsonl"
[[channel]]
name = "wetness"
mask = [{ kind = "height", band = [-9.0, 1.0] }]
[[film]]
name = "wet"
mask = [{ kind = "channel", channel = "wetness" }]
tint = "#808080"
roughness = 0.1
"""


@pytest.fixture
def wet(project):
    path = project / "job.quilt.toml"
    path.write_text(path.read_text().replace("[weights]\ntexels = 32\n", WET))
    return path


class TestChannel:
    def test_it_is_what_its_mask_says_and_then_what_daubs_paint(self):
        daubs = [
            jq.Daub(path=((4.0, 4.0),), radius=2, channel="wetness", falloff=0, ceiling=0.8),
            jq.Daub(path=((12.0, 12.0),), radius=2, channel="wetness", kind="erase", falloff=0, strength=0.5),
            jq.Daub(path=((4.0, 12.0),), radius=2, channel="snow", falloff=0),
            jq.Daub(path=((4.0, 12.0),), radius=2, layers=("mud",), falloff=0),
        ]
        points = jq.Points.of([[4, 0, 4], [12, 0, 12], [4, 0, 12], [8, 0, 8]], [[0, 1, 0]] * 4)
        answer = jq.Channel("wetness", jq.Constant(0.4), daubs).answer(points)
        assert answer == pytest.approx([0.8, 0.2, 0.4, 0.4])
        assert jq.Channel("wetness").answer(points) == pytest.approx([0, 0, 0, 0])
        assert jq.Weigher([jq.Layer("mud"), jq.Layer("salt", mask=jq.Constant(0.3))], daubs=daubs).weights(points)[0][
            2
        ] == pytest.approx(1)

    def test_whole_or_by_tile_its_map_is_the_same(self):
        channel = jq.Channel("snow", jq.Noise(size=3), [jq.Daub(path=((3.0, 9.0), (14.0, 2.0)), radius=3, channel="snow")])
        whole = mask_map(FLAT.canvas(40), channel, bits=16, work=jq.Work(threads=2))
        parts = [mask_map(FLAT.canvas(40).page(rows=rows), channel, bits=16) for rows in ((0, 13), (13, 40))]
        assert np.array_equal(whole, np.concatenate(parts))
        assert 0 < whole.mean() < 65535

    def test_what_a_daub_cannot_do_to_it_is_reported(self):
        for reported, message in (
            ({"kind": "smooth"}, "channels cannot be smoothed"),
            ({"layers": ("mud",)}, "on layers or on a channel"),
        ):
            with pytest.raises(jq.QuiltError, match=message):
                jq.Daub(path=((1.0, 1.0),), radius=1, channel="snow", **reported)

    def test_a_large_file_of_daubs_paints_the_same(self, tmp_path):
        daubs = [jq.Daub(path=((n, 16.0 - n),), radius=2, channel="ab"[n % 2]) for n in range(16)]
        daubs.append(jq.Daub(path=((3.0, 3.0),), radius=2, layers=("mud",)))
        jq.daubs.write_daubs(tmp_path / "d.jsonl", daubs)
        file = jq.daubs.DaubFile(tmp_path / "d.jsonl")
        held, lying = (mask_map(FLAT.canvas(64), jq.Channel("b", None, each)) for each in (daubs, file))
        assert np.array_equal(held, lying)
        assert jq.daubs.read_daubs(tmp_path / "d.jsonl")[3].channel == "b"
        layers = [jq.Layer("salt"), jq.Layer("mud", mask=jq.Constant(0.2))]
        found = [jq.Weigher(layers, daubs=each).weights(FLAT.points((32, 32))) for each in (daubs, file)]
        assert np.array_equal(*found)


class TestFilm:
    def blended(self, film, height=0.5, steep=0.4):
        """Diffuse, roughness, specular, height and slope of one plain swatch under a film."""
        slope = np.array([steep, 0, 1]) / np.hypot(steep, 1)
        swatch = jq.plain_swatch("x", diffuse=0.5, roughness=0.6, specular=0.04, height=height, normal=list(slope))
        blend = jq.Blend(jq.pack([swatch], side=4), [jq.Layer("x")], films=[film])
        texels = blend.at(FLAT.points((2, 2)), jq.PointWeights.all_of("x", 4))
        normal = texels[R.NORMAL][0]
        return *(float(texels[r].ravel()[0]) for r in (R.DIFFUSE, R.ROUGHNESS, R.SPECULAR, R.HEIGHT)), -normal[0] / normal[2]

    def test_water_darkens_smooths_and_levels(self):
        film = jq.Film(mask=jq.Constant(0.5), tint=(0.4, 0.4, 0.4), roughness=0.1, specular=0.02, level=1)
        assert self.blended(film) == pytest.approx((0.35, 0.35, 0.03, 0.5, -0.2), abs=6e-3)

    def test_hollows_fill_first_and_up_to_where_it_stands(self):
        film = jq.Film(mask=jq.Constant(0.5), hollows=1, softness=0.1, roughness=0.0, level=1)
        assert self.blended(film, height=0.2)[1::2] == pytest.approx((0.0, 0.5), abs=6e-3)
        assert self.blended(film, height=0.9)[1::2] == pytest.approx((0.6, 0.9), abs=6e-3)

    def test_dust_hides_what_lies_below_by_its_own_colour(self):
        film = jq.Film(mask=jq.Constant(1.0), colour=(0.8, 0.8, 0.8), hides=0.5)
        assert self.blended(film)[0] == pytest.approx(0.65, abs=5e-3)
        assert self.blended(jq.Film(mask=jq.Constant(0.0), colour="#ffffff"))[0] == pytest.approx(0.5, abs=5e-3)

    @pytest.mark.parametrize(
        ("reported", "message"),
        [
            ({"level": 2}, "level must be from 0 to 1"),
            ({"roughness": -1}, "roughness must be from 0 to 1"),
            ({"tint": (1, 2)}, "tint must be three numbers"),
            ({"colour": "grey"}, 'a colour must be written "#rrggbb"'),
        ],
    )
    def test_what_cannot_be_is_reported(self, reported, message):
        with pytest.raises(jq.QuiltError, match=message):
            jq.Film(mask=jq.Constant(1), **reported)

    def test_pages_are_made_anew_where_a_film_changed(self, tmp_path):
        arrays, rising = jq.pack([made_swatch("a")], side=16), jq.Terrain(np.eye(9), size=(16, 16))
        made = []
        for amount in (0.5, 0.5, 0.7):
            film = jq.Film(mask=jq.Curvature("ridges", 4) + jq.Constant(amount), roughness=0.0)
            baker = jq.Baker(rising.canvas(64), [jq.Layer("a")], arrays, films=[pickle.loads(pickle.dumps(film))])
            made.append(jq.bake_pages(baker, str(tmp_path / "s"), page=32))
        assert [each.made > 0 for each in made] == [True, False, True]
        assert made[2].causes == {"films": 4, "finer": 1}


class TestQuilt:
    def test_a_film_shows_in_bakes_of_the_ground(self, wet):
        assert jquilt("bake", wet)[0] == 0
        roughness = read_image(wet.parent / "out" / "bake" / "roughness.png")[..., 0]
        channel = read_image(wet.parent / "out" / "weights" / "channel_wetness.png")[..., 0]
        assert (roughness[channel == 255] == 26).all()
        assert (channel == 255).any()
        assert (channel == 0).any()
        assert roughness[channel == 0].min() > 100

    def test_channels_are_painted_exported_and_reported(self, wet):
        assert jquilt("daub", wet, "--channel", "wetness", "--along", "8,8 12,8", "--radius", "2")[0] == 0
        assert json.loads((wet.parent / "daubs.jsonl").read_text())["channel"] == "wetness"
        assert "channel wetness" in jquilt("daub", wet)[1]
        code, out, _ = jquilt("export", "channels", wet, "--bits", "16")
        assert (code, "channel_wetness.png" in out) == (0, True)
        exported = read_image(wet.parent / "out" / "export" / "channel_wetness.png")
        assert exported.dtype == np.uint16
        assert exported.squeeze()[16, 20] == 65535
        reported = jquilt("show", wet, "--at", "10,8", "masks")[1]
        assert "film wet" in reported
        assert "channel wetness" in reported
        code, _, said = jquilt("daub", wet, "--channel", "wet", "--along", "8,8", "--radius", "2")
        assert (code, 'no channel is called "wet"' in said) == (2, True)

    def test_views_read_it_from_a_map_that_follows_its_mask(self, wet):
        """As fine as the weights are, and near to what the mask itself says; made again where the mask changes."""
        project = Results(jq.read_quilt(wet))
        ground, mask = scene_of(project).parts[0], project.quilt.films_on("ground")[0].mask
        points = project.quilt.terrain.canvas(32).block(Region(0, 32, 0, 32)).pieces[0].points
        points = replace(points, footprint=np.full((1024, 2), 0.1, np.float32))  # seen so near that its finest level answers
        (film,) = ground.shade.blend.plan.films
        assert isinstance(film.mask, jq.ImageMask)
        assert np.abs(film.mask.answer(points) - mask.on(project.quilt.terrain).answer(points)).max() <= 0.5 / 255 + 1e-6
        before = np.ptp(film.mask.values)
        wet.write_text(
            wet.read_text().replace('{ kind = "channel", channel = "wetness" }', '{ kind = "constant", value = 0.25 }')
        )
        after = scene_of(Results(jq.read_quilt(wet))).parts[0].shade.blend.plan.films[0].mask.values
        assert (before > 0.2, np.ptp(after), after[0, 0]) == (True, 0, np.float32(64 / 255))

    def test_a_sweep_shows_what_its_number_does(self, wet):
        code, out, _ = jquilt("show", wet, "sweep", "film[0].roughness=0.05:0.9:2")
        assert (code, "sweep.png" in out) == (0, True)
        sheet = read_image(wet.parent / "out" / "pictures" / "sweep.png")[56:420].astype(int)
        assert np.abs(sheet[:, 20:630] - sheet[:, 647:1257]).max() > 20

    def test_only_what_a_change_touches_is_done_again(self, wet):
        jquilt("bake", wet)
        wet.write_text(wet.read_text().replace("roughness = 0.1", "roughness = 0.9"))
        assert "nothing changed" in jquilt("weigh", wet)[1]
        assert "nothing changed" not in jquilt("bake", wet)[1]

    @pytest.mark.parametrize(
        ("old", "new", "message"),
        [
            ('channel = "wetness"', 'channel = "wet"', r"film\[0\].mask\[0\].*: no channel is called"),
            ('name = "wet"\n', 'name = "wet"\non = ["jar"]\n', r"film\[0\].on\[0\]: .*thing that a film lies on"),
            ('name = "wetness"', 'name = "a/b"', "must be a name of letters"),
            ('{ kind = "height", band = [-9.0, 1.0] }', '{ kind = "channel", channel = "wetness" }', "in a circle"),
            ("roughness = 0.1", "roughness = 1.5", r"film\[0\].roughness: roughness must be from 0 to 1"),
        ],
    )
    def test_what_cannot_be_is_reported_with_its_place(self, wet, old, new, message):
        wet.write_text(wet.read_text().replace(old, new))
        with pytest.raises(jq.QuiltError, match=message):
            jq.read_quilt(wet)
