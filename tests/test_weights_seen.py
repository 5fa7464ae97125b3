"""Stacking whatever the layers, rounding whatever the weights, and the pictures and words that show it."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jagged_quilt as jq
from jagged_quilt.errors import NameNotFoundError, RangeError, ShapeError
from jagged_quilt.foundation.fields import remembering
from jagged_quilt.foundation.grid import Grid
from jagged_quilt.show.ground_plan import laid_over, shading
from jagged_quilt.show.weight_pictures import draw_adopted, draw_masks, draw_weight_facts, heat
from jagged_quilt.weights import _kernels
from jagged_quilt.weights.explain import steps_of, texel_at
from jagged_quilt.weights.lay_daubs import DaubLayer

FLAT = jq.Terrain(np.zeros((2, 2)), size=(32.0, 16.0))


def hilly():
    return jq.Terrain(np.random.default_rng(0).random((9, 9)) * 6, size=(32.0, 32.0))


class TestStacking:
    @settings(deadline=None, max_examples=40)
    @given(st.integers(1, 9), st.integers(0, 9999), st.floats(0, 1))
    def test_adopted_ground_is_covered_from_the_bottom_up(self, layers, seed, share):
        """Against a plain loop: each covering layer takes its mask's part of all that lies below it."""
        rng = np.random.default_rng(seed)
        is_adopted = rng.random(layers) < share
        is_adopted[0] = True
        answers = rng.random((layers, 50)).astype(np.float32)
        answers[is_adopted] *= rng.random(50).astype(np.float32) / np.maximum(answers[is_adopted].sum(axis=0), 1e-3)
        weights = np.zeros((layers, 50))
        weights[0] = 1 - answers[1:][is_adopted[1:]].sum(axis=0)
        for layer in range(1, layers):
            if is_adopted[layer]:
                weights[layer] = answers[layer]
            else:
                weights[layer] = weights[:layer].sum(axis=0) * answers[layer]
                weights[:layer] *= 1 - answers[layer]
        _kernels.cover_adopted(answers, is_adopted)
        assert np.abs(answers - weights).max() < 1e-5
        assert np.abs(answers.sum(axis=0) - 1).max() < 1e-5

    @settings(deadline=None, max_examples=40)
    @given(st.integers(1, 9), st.integers(0, 9999))
    def test_sharing_leaves_what_sums_to_less_than_one_alone(self, layers, seed):
        answers = np.random.default_rng(seed).random((layers, 50)).astype(np.float32) * 2 / layers
        wanted = answers.astype(float)
        total = wanted[1:].sum(axis=0)
        wanted[1:] /= np.maximum(total, 1)
        wanted[0] = np.maximum(0, 1 - total)
        _kernels.share(answers)
        assert np.abs(answers - wanted).max() < 1e-5

    def test_sharing_is_chosen_by_name_and_layers_need_names_of_their_own(self):
        layers = [jq.Layer("a"), jq.Layer("b", mask=jq.Constant(0.8)), jq.Layer("c", mask=jq.Constant(0.8))]
        shares = jq.weigh(FLAT.canvas(8), layers, stacking="share").shares()
        assert shares == pytest.approx({"a": 0, "b": 0.5, "c": 0.5}, abs=1 / 255)
        assert jq.weigh(FLAT.canvas(8), layers).shares()["c"] == pytest.approx(0.8, abs=1 / 255)
        with pytest.raises(NameNotFoundError, match='no way of stacking is called "shared"; did you mean "share"'):
            jq.weigh(FLAT.canvas(8), layers, stacking="shared")
        with pytest.raises(RangeError, match="two layers have one name"):
            jq.weigh(FLAT.canvas(8), [jq.Layer("a"), jq.Layer("a")])
        with pytest.raises(RangeError, match="in 8 or in 16 bits; got 12"):
            jq.weigh(FLAT.canvas(8), layers, bits=12)


class TestRounding:
    @settings(deadline=None, max_examples=60)
    @given(st.integers(1, 16), st.integers(1, 40), st.integers(0, 9999), st.sampled_from([255, 65535]))
    def test_sums_are_exact_and_no_weight_moves_by_a_step(self, keep, count, seed, unit):
        weight = np.random.default_rng(seed).dirichlet(np.full(keep, 0.4), count).astype(np.float32)
        stored = np.empty(weight.shape, np.uint8 if unit == 255 else np.uint16)
        _kernels.quantise(weight, stored, unit)
        assert (stored.sum(axis=1, dtype=np.uint32) == unit).all()
        assert np.abs(stored - weight.astype(float) * unit).max() < 1.02

    def test_sixteen_bits_are_finer_and_are_saved_as_they_are(self, tmp_path):
        layers = [jq.Layer("a"), jq.Layer("b", mask=jq.Noise(size=9, range=1))]
        exact = layers[1].mask.answer(FLAT.points((20, 40))).reshape(20, 40)
        coarse, fine = (jq.weigh(FLAT.canvas(40), layers, bits=bits) for bits in (8, 16))
        assert np.abs(coarse.layer("b") - exact).max() > 20 * np.abs(fine.layer("b") - exact).max()
        assert np.abs(fine.layer("b") - exact).max() < 2e-5
        fine.save(tmp_path)
        again = jq.open_weights(tmp_path)
        assert again.weights.dtype == np.uint16
        assert np.array_equal(again.weights, fine.weights)
        assert np.array_equal(again.lost, fine.lost)
        found = again.at(FLAT.points((20, 40)))
        assert np.abs(np.where(found.layers == 1, found.weights, 0).sum(axis=1).reshape(20, 40) - fine.layer("b")).max() < 1e-5

    def test_a_map_without_what_was_cut_is_saved_without_it(self, tmp_path):
        """And an older file of it in the same folder is not taken for its own."""
        layers = [jq.Layer("a"), jq.Layer("b", mask=jq.Constant(0.5))]
        jq.weigh(FLAT.canvas(8), layers).save(tmp_path)
        plain = jq.WeightMap(names=("a",), layers=np.zeros((4, 4, 1), np.uint8), weights=np.full((4, 4, 1), 255, np.uint8))
        plain.save(tmp_path)
        assert jq.open_weights(tmp_path).lost is None

    def test_layers_of_other_names_are_refused(self):
        weights = jq.weigh(FLAT.canvas(8), [jq.Layer("salt"), jq.Layer("clay", mask=jq.Constant(0.5))])
        with pytest.raises(NameNotFoundError, match='no layer is called "caly"; did you mean "clay"'):
            weights.layer("caly")
        with pytest.raises(ShapeError, match="uint8 or uint16"):
            jq.WeightMap(names=("a",), layers=np.zeros((2, 2, 1), np.uint8), weights=np.ones((2, 2, 1), np.float32))


class TestGround:
    def test_a_grid_is_bilinear_and_goes_on_at_its_border(self):
        grid = Grid(np.array([[0.0, 1.0], [2.0, 5.0]], np.float32), (10.0, 20.0), (2.0, 4.0))
        at = jq.Points.of([[10, 0, 20], [11, 9, 22], [12, 0, 24], [-50, 0, 20], [99, 0, 99]], np.ones((5, 3)))
        assert grid.at(at).tolist() == [0, 2, 5, 0, 5]

    def test_shifted_points_are_those_of_the_ground_there(self):
        terrain = hilly()
        points = terrain.points((16, 16))
        by = np.tile(np.float32([3.0, 100.0, -2.0]), (256, 1))
        moved = terrain.shifted(points, by)
        wanted = terrain.points_at(points.position[:, [0, 2]] + [3.0, -2.0])
        inside = (wanted.position[:, 0] < 32) & (wanted.position[:, 2] > 0)
        assert np.allclose(moved.position[inside], wanted.position[inside], atol=1e-5)
        assert np.allclose(moved.normal, wanted.normal, atol=1e-5)

    def test_fields_are_worked_out_once(self):
        """For all who ask the same fields; the terrain itself keeps none."""
        fields = remembering(hilly())
        assert fields.curvature(4.0) is fields.curvature(4.0)
        assert fields.ambient_occlusion(4.0) is not fields.ambient_occlusion(5.0)
        mask = jq.Distance(jq.HeightBand(0, 2), 0, 1, texels=32)
        assert mask.on(fields).of_surface is jq.Distance(jq.HeightBand(0, 2), -1, 3, texels=32).on(fields).of_surface

    def test_joined_points_keep_what_all_have(self):
        one = jq.Points.of(np.zeros((2, 3)), np.ones((2, 3)), uv=np.zeros((2, 2)), colour=np.ones((2, 4)))
        two = jq.Points.of(np.ones((3, 3)), np.ones((3, 3)), uv=np.ones((3, 2)))
        both = jq.Points.joined([one, two])
        assert len(both) == 5
        assert both.uv.shape == (5, 2)
        assert both.colour is None
        assert np.array_equal(both.position[2:], two.position)


class TestExplaining:
    @pytest.mark.parametrize("place", [(0.0, 0.0), (32.0, 16.0), (0.1, 15.99), (13.3, 7.7)])
    def test_the_texel_of_a_place_is_found(self, place):
        smooth = DaubLayer([jq.Daub(path=((16.0, 8.0),), radius=30.0, kind=jq.daubs.DaubKind.SMOOTH, reach=1.0)], ("a",))
        for daubs in (DaubLayer([], ("a",)), smooth):
            points, which, grid = texel_at(FLAT, place, 64, daubs)
            assert len(points) == grid.rows * grid.columns
            x, _, z = points.position[which]
            assert abs(x - min(place[0], 31.75)) <= 0.25 + 1e-5
            assert abs(z - min(place[1], 15.75)) <= 0.25 + 1e-5

    def test_what_smoothing_does_is_reported_as_the_map_holds_it(self):
        layers = [jq.Layer("a"), jq.Layer("b", mask=jq.Noise(size=3))]
        daubs = [
            jq.Daub(path=((16.0, 8.0),), radius=9.0, kind=jq.daubs.DaubKind.SMOOTH, reach=1.5),
            jq.Daub(path=((14.0, 8.0),), radius=3.0, layers=("b",), strength=0.5),
        ]
        weights = jq.weigh(FLAT.canvas(64), layers, daubs=daubs, bits=16)
        weigher = jq.Weigher(layers, FLAT, daubs=daubs)
        for place in ((16.1, 8.2), (14.6, 7.0), (30.0, 2.0)):
            reported = jq.explain(weigher, *texel_at(FLAT, place, 64, weigher.daubs))
            stored = weights.layer("b")[int(place[1] * 2), int(place[0] * 2)]
            assert reported.layers[1].weight == pytest.approx(float(stored), abs=1e-3)
        assert [number for number, _, _ in reported.daubs] == []

    def test_a_medley_tells_its_turns(self):
        medley = jq.Medley(("x", "y", "z"), jq.Noise(size=4), softness=0.4)
        weigher = jq.Weigher([jq.Layer("a"), jq.Layer("wall", medley=medley, mask=jq.Constant(0.5))], FLAT)
        reported = jq.explain(weigher, FLAT.points((4, 8)), 5)
        wall = reported.layers[1]
        assert [name for name, _ in wall.turns] == ["x", "y", "z"]
        assert sum(share for _, share in wall.turns) == pytest.approx(wall.weight) == pytest.approx(0.5)

    def test_a_mask_that_is_no_chain_is_one_step(self):
        points = FLAT.points((2, 2))
        steps = steps_of((~(jq.Constant(0.2) * jq.Constant(0.5))).reading(points))
        assert [(step.combine, step.result) for step in steps] == [("", pytest.approx(0.9))]
        assert steps[0].reading.summary == "multiply (0.2 everywhere; 0.5 everywhere), inverted"


class TestPictures:
    def test_masks_take_as_many_sheets_as_they_need(self):
        terrain = hilly()
        masks = [jq.Noise(size=4, seed=n) * jq.Slope(0, 40) | jq.HeightBand(n, n + 1) for n in range(6)]
        layers = [jq.Layer("0")] + [jq.Layer(str(n + 1), mask=mask) for n, mask in enumerate(masks)]
        assert [len(draw_masks(jq.Weigher(layers[:count], terrain), terrain)) for count in (1, 2, 6, 7)] == [0, 1, 1, 2]
        long = layers[1].mask
        for _ in range(6):
            long = long * jq.Constant(0.9)
        sheet = draw_masks(jq.Weigher([layers[0], jq.Layer("long", mask=long)], terrain), terrain)[0]
        assert sheet.pixels().shape == (800, 1280, 3)

    def test_colour_lies_where_the_weight_is(self):
        shade = shading(FLAT, 8, 16)
        half = np.zeros((8, 16), np.float32)
        half[:, 8:] = 1
        picture = laid_over(shade, half, np.array([255, 0, 0], np.uint8))
        assert np.ptp(picture[:, :8].astype(int), axis=2).max() == 0
        assert (picture[:, 8:, 0].astype(int) > picture[:, 8:, 1] + 60).all()

    def test_facts_mark_the_worst_texel(self):
        layers = [jq.Layer("0")] + [jq.Layer(str(n), mask=jq.Noise(size=5, seed=n, range=1)) for n in range(1, 6)]
        lossy = jq.weigh(FLAT.canvas(64), layers, keep=2)
        marked = draw_weight_facts(lossy, FLAT).pixels()
        whole = draw_weight_facts(jq.weigh(FLAT.canvas(64), layers, keep=6), FLAT).pixels()
        frame = np.uint8([120, 235, 255])
        assert (marked == frame).all(axis=2).sum() > 40
        assert (whole == frame).all(axis=2).sum() == 0
        unknown = jq.WeightMap(names=lossy.names, layers=lossy.layers, weights=lossy.weights)
        assert draw_weight_facts(unknown, FLAT).pixels().shape == (800, 1280, 3)

    def test_heat_grows_brighter(self):
        brightness = heat(np.linspace(-0.5, 1.5, 50)).astype(int).sum(axis=1)
        assert (np.diff(brightness) >= 0).all()
        assert brightness[0] < 100 < 600 < brightness[-1]

    def test_before_and_after_fit_on_a_board_with_many_layers(self):
        layers = [jq.Layer("0")] + [jq.Layer(str(n), mask=jq.Noise(size=5, seed=n)) for n in range(1, 20)]
        weights = jq.weigh(FLAT.canvas(32), layers)
        homes = [(name, "one") for name in weights.names]
        assert draw_adopted(weights, weights, homes, "nothing", FLAT).pixels().shape == (800, 1280, 3)
