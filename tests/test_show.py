"""Pictures and light: what is drawn is what is there."""

import math

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import made_swatch
from jagged_quilt.images import read_image
from jagged_quilt.light.lamps import Sun
from jagged_quilt.show.board import GROUND, Board, picture_of, picture_of_data
from jagged_quilt.show.compare import draw_compared
from jagged_quilt.show.labelled_grid import grid_arrays, labelled_grid
from jagged_quilt.show.riser import draw_riser
from jagged_quilt.show.sheets import maps_sheet, weight_sheets

R = jq.MapRole
SOUTH = Sun(180, 40)


class TestBoard:
    def test_what_is_pinned_lies_where_it_was_put_to_the_pixel(self):
        board = Board("")
        board.pin(np.full((10, 20, 3), 200, np.uint8), 100, 50)
        board.pin(np.full((50, 50, 3), 90, np.uint8), 1270, 790)
        board.frame(300, 300, 10, 8, (255, 0, 0), 1)
        pixels = board.pixels()
        assert pixels.shape == (800, 1280, 3)
        assert (pixels[50:60, 100:120] == 200).all()
        assert (pixels[790:, 1270:] == 90).all()
        assert tuple(pixels[49, 100]) == tuple(pixels[60, 119]) == tuple(pixels[301, 301]) == GROUND
        assert tuple(pixels[300, 305]) == tuple(pixels[307, 309]) == (255, 0, 0)

    def test_words_are_drawn(self, tmp_path):
        Board("A title", "a note").save(tmp_path / "a.png")
        pixels = read_image(tmp_path / "a.png").astype(int)
        assert np.ptp(pixels[10:45, 15:140]) > 150
        assert np.ptp(pixels[10:45, 1150:1265]) > 100
        assert np.ptp(pixels[100:]) < 10

    def test_colour_is_scaled_as_light_and_data_as_numbers(self):
        checker = np.indices((8, 8)).sum(axis=0)[..., None] % 2
        assert abs(int(picture_of(checker, 1, 1)[0, 0, 0]) - 188) <= 1  # half the light of white
        encoded = picture_of_data(np.full((2, 2, 1), 0.5, np.float32), 4, 4)
        assert np.abs(encoded.astype(int) - 128).max() <= 1


class TestViews:
    @pytest.fixture(scope="class")
    @staticmethod
    def cliff():
        """A step of 6 m that faces south, over 2 m."""
        z = np.linspace(0, 64, 129)
        return jq.Terrain(np.tile((6 * np.clip((33 - z) / 2, 0, 1))[:, None], (1, 129)), size=(64.0, 64.0))

    def look(self, cliff, projection, sun=SOUTH, **size):
        camera = jq.Camera(position=(32, 3, 50), target=(32, 3, 32), view_angle=20)
        return jq.Scene(grid_arrays(4.0, 128), lights=[sun]).add(cliff, [jq.Layer("grid", projection)]).draw(camera, **size)

    def test_triplanar_text_is_upright_and_not_mirrored(self, cliff):
        """On a wall that faces south, the tile lies as it does on paper."""
        seen = self.look(cliff, jq.Triplanar(16), width=400, height=400)
        scale = 400 / (2 * 17.4 * math.tan(math.radians(10)))  # pixels per metre on the wall, 17.4 m away
        paper = labelled_grid(512).astype(float)

        def wall(metres_east, metres_up):
            """The colour seen at a place of the wall."""
            column, row = 200 + (metres_east - 32) * scale, 200 - (metres_up - 3) * scale
            patch = seen[round(row) - 3 : round(row) + 4, round(column) - 3 : round(column) + 4]
            return patch.reshape(-1, 3).mean(axis=0)

        def tile(metres_east, metres_up):
            row, column = round(-metres_up % 4 * 128), round(metres_east % 4 * 128)
            return paper[row - 8 : row + 8, column - 8 : column + 8].reshape(-1, 3).mean(axis=0)

        places = [(x, y) for x in (30.16, 31.16, 32.16, 33.16) for y in (2.2, 3.2, 4.2)]
        got, want = (np.array([f(*place) for place in places]) for f in (wall, tile))
        for channel in range(3):
            assert np.corrcoef(got[:, channel], want[:, channel])[0, 1] > 0.9

    def test_planar_stretches_the_wall_and_triplanar_does_not(self, cliff):
        """Dark lines a metre apart cross the wall with triplanar; from above hardly any does."""
        lines = {}
        for name, projection in (("planar", jq.Planar()), ("triplanar", jq.Triplanar(16))):
            seen = self.look(cliff, projection, width=300, height=300).astype(float).mean(axis=2)
            column = seen[90:200, 140:160].mean(axis=1)
            dark = column < 0.6 * np.median(column)
            lines[name] = int(np.count_nonzero(dark[1:] & ~dark[:-1]))
        assert lines["triplanar"] > lines["planar"]

    def test_the_same_picture_on_one_thread_and_two_and_shade_from_the_north(self, cliff):
        one = self.look(cliff, jq.Planar(), width=64, height=48, work=jq.Work(threads=1))
        assert np.array_equal(one, self.look(cliff, jq.Planar(), width=64, height=48, work=jq.Work(threads=2)))
        north = self.look(cliff, jq.Planar(), sun=Sun(0, 30), width=64, height=48)
        assert one[20:28, 28:36].mean() > 1.5 * north[20:28, 28:36].mean()

    def test_a_riser_is_found_on_any_terrain(self, cliff):
        flat = jq.Terrain(np.random.default_rng(0).random((9, 9)) * 0.1, size=(40, 40))
        for terrain in (cliff, flat):
            pixels = draw_riser(terrain).pixels()
            assert pixels.shape == (800, 1280, 3)
            assert np.ptp(pixels[60:730, 20:635]) > 100
            assert np.ptp(pixels[60:730, 645:1260]) > 100


class TestCompared:
    def test_pictures_of_the_usual_size_are_shown_whole_with_their_difference_and_figures(self):
        one, other = np.full((800, 1280, 3), 60, np.uint8), np.full((800, 1280, 3), 60, np.uint8)
        other[:, 1200:] = 160  # at the right end of the second
        shown = draw_compared(["a", "b"], [one, other]).pixels()
        right = shown[100:400, 660:1255]
        assert (right[:, -20:] == 160).all()
        assert (right[:, :400] == 60).all()
        below = shown[500:780, 20:615].astype(int)
        assert np.abs(below[:, -20:] - below[:, :20]).mean(axis=(0, 1)).max() > 100  # the difference is bright where it is
        words = [each[2] for each in draw_compared(["a", "b"], [one, other])._words]
        assert "6.2 % of the pixels differ by more than 2 of 255" in words
        assert any("largest 100" in each for each in words)
        with pytest.raises(jq.QuiltError, match="two pictures of one size are compared"):
            draw_compared(["a", "b"], [one, other[:10]])


class TestCameras:
    def test_a_camera_below_the_ground_is_reported(self, scene_of_hills):
        scene, terrain = scene_of_hills
        low = float(terrain.heights.min())
        camera = jq.Camera(position=(10.0, low - 3, 10.0), target=(0.0, low - 3, 0.0))
        with pytest.warns(jq.QuiltWarning, match=r"the camera at 10, .* m below the ground, and sees nothing of it"):
            scene.draw(camera, width=32, height=20, work=jq.Work(threads=1))

    @pytest.mark.parametrize("size", [(20.0, 20.0), (4000.0, 4000.0), (100.0, 1500.0)])
    def test_a_camera_that_nobody_placed_sees_all_of_the_ground_and_little_else(self, size):
        terrain = jq.Terrain(np.random.default_rng(1).random((33, 33)) * size[0] / 8, size=size)
        places = terrain.points((32, 32)).world
        seen = jq.Camera.fitting(places, 1.6, rise=28).on_picture(places, 800, 1280)
        assert (seen[:, 2] > 0).all()
        low, high = seen[:, :2].min(axis=0), seen[:, :2].max(axis=0)
        assert (low >= 0).all()
        assert (high <= (1280, 800)).all()
        assert max((high - low) / (1280, 800)) > 0.9
        assert np.allclose((low + high) / 2, (640, 400), atol=90) or min((high - low) / (1280, 800)) < 0.9

    @pytest.fixture
    def scene_of_hills(self):
        terrain = jq.Terrain(np.random.default_rng(0).random((17, 17)) * 4, size=(20, 20))
        scene = jq.Scene(jq.pack([made_swatch("a")], side=16, work=jq.Work(threads=1)))
        return scene.add(terrain, [jq.Layer("a")]), terrain


class TestSheets:
    def test_weights_show_each_layer_as_it_is(self):
        flat = jq.Terrain(np.zeros((2, 2)), size=(8, 8))
        layers = [jq.Layer("below"), jq.Layer("above", mask=jq.Constant(0.25))]
        pixels = weight_sheets(jq.weigh(flat.canvas(16), layers), 64.0)[0].pixels().astype(int)
        together = pixels[100, 100]
        greys = {tuple(c) for c in pixels[100:300:40, 560:1240:10].reshape(-1, 3) if c.max() - c.min() < 2}
        assert together.max() - together.min() > 20
        assert any(abs(g[0] - 191) <= 1 for g in greys)
        assert any(abs(g[0] - 64) <= 1 for g in greys)

    def test_maps_of_a_long_terrain_keep_their_proportions(self, tmp_path):
        long = jq.Terrain(np.random.default_rng(0).random((5, 17)), size=(40, 10))
        arrays = jq.pack([made_swatch("a", 1)], side=16)
        maps = jq.bake(long.canvas(120), [jq.Layer("a")], arrays)
        assert maps["diffuse"].shape == (30, 120, 3)
        maps.save(tmp_path)
        pixels = maps_sheet(tmp_path, long.size).pixels()
        assert np.ptp(pixels[80:128, 20:215]) > 50
        assert tuple(pixels[200, 100]) == GROUND
