"""Medleys and height ramps: turns sum to one, the repeat goes, names and swatches fit."""

from itertools import pairwise

import numpy as np
import pytest
import weights as bench
from hypothesis import given, settings
from hypothesis import strategies as st

import jagged_quilt as jq
from conftest import made_swatch
from jagged_quilt.errors import RangeError

POINTS = jq.Points.of(np.random.default_rng(0).uniform(-60, 60, (4000, 3)), np.random.default_rng(1).normal(size=(4000, 3)))


class TestTurns:
    @settings(deadline=None, max_examples=50)
    @given(st.integers(2, 7), st.floats(0, 1), st.sampled_from(["noise", "mask", "heights", "spread"]), st.integers(0, 99))
    def test_they_always_sum_to_one(self, count, softness, kind, seed):
        by = {
            "noise": jq.Noise(size=9, seed=seed),
            "mask": jq.Slope(20, 90, fade=60),
            "spread": jq.Heights((-30, 50), 4.0),
            "heights": jq.Heights(tuple(float(h) for h in range(-20, -20 + 9 * count, 9))),
        }[kind]
        turns = jq.Medley(tuple(f"s{n}" for n in range(count)), by, softness).turns(POINTS)
        assert turns.shape == (count, 4000)
        assert np.abs(turns.sum(axis=0) - 1).max() < 1e-5
        assert turns.min() >= 0
        part = jq.Medley(tuple(f"s{n}" for n in range(count)), by, softness).turns(POINTS[7:90])
        assert np.array_equal(part, turns[:, 7:90])

    def test_a_height_ramp_is_a_hat_for_each_layer(self):
        """Each at its best at its height, overlapping its neighbours and nothing else."""
        ramp = jq.height_ramp(["brine", "salt", "clay"], [0.0, 10.0, 40.0])
        y = np.linspace(-5, 45, 101)
        points = jq.Points.of(np.column_stack([0 * y, y, 0 * y]), np.tile([0, 1, 0], (101, 1)))
        brine, salt, clay = ramp.turns(points)
        assert np.allclose(brine, np.interp(y, [0, 10], [1, 0]), atol=1e-5)
        assert np.allclose(salt, np.interp(y, [0, 10, 40], [0, 1, 0]), atol=1e-5)
        assert np.allclose(clay, np.interp(y, [10, 40], [0, 1]), atol=1e-5)
        spread = jq.height_ramp(["a", "b", "c"], [0.0, 40.0], softness=0.0).turns(points)
        assert np.array_equal(spread.argmax(axis=0), np.clip(np.floor(y / 20 + 0.5), 0, 2))

    def test_by_noise_all_show_alike_and_any_two_meet(self):
        turns = jq.Medley(("a", "b", "c"), jq.Noise(size=5), softness=0.0).turns(POINTS)
        assert set(np.unique(turns)) == {0, 1}
        assert np.abs(turns.mean(axis=1) - 1 / 3).max() < 0.03
        line = jq.Points.of(
            np.column_stack([np.linspace(0, 4000, 80_000), np.zeros((80_000, 2))]), np.tile([0, 1, 0], (80_000, 1))
        )
        shown = jq.Medley(("a", "b", "c"), jq.Noise(size=5), softness=0.0).turns(line).argmax(axis=0)
        met = {tuple(sorted(pair)) for pair in pairwise(shown) if pair[0] != pair[1]}
        assert met == {(0, 1), (0, 2), (1, 2)}

    def test_by_a_mask_its_range_is_shared_out(self):
        mask = jq.Noise(size=6, range=1.0) * 1.0  # no longer a noise by itself
        turns = jq.Medley(("a", "b", "c", "d"), mask, softness=0.0).turns(POINTS)
        assert np.array_equal(turns.argmax(axis=0), np.clip(np.floor(mask.answer(POINTS) * 4), 0, 3))

    def test_what_cannot_be_is_refused(self):
        for make, words in (
            (lambda: jq.Medley(("a",), jq.Noise(size=2)), "two swatches or more"),
            (lambda: jq.Medley(("a", "b"), jq.Heights((1.0, 2.0, 3.0))), "3 height stops for 2 swatches"),
            (lambda: jq.Heights((4.0, 2.0)), "each above the one before"),
            (lambda: jq.Medley(("a", "b"), jq.Noise(size=2), softness=2), "softness must be from 0 to 1"),
        ):
            with pytest.raises(RangeError, match=words):
                make()


class TestMedleysInLayers:
    def test_a_weight_map_names_each_turn_and_the_blend_reads_its_swatch(self):
        terrain = jq.Terrain(np.zeros((2, 2)), size=(8, 8))
        medley = jq.Medley(("one", "two", "one"), jq.Noise(size=3), softness=0.0)
        layers = [jq.Layer("base"), jq.Layer("wall", medley=medley, mask=jq.Constant(0.5))]
        weights = jq.weigh(terrain.canvas(32), layers)
        assert weights.names == ("base", "wall: one 1", "wall: two", "wall: one 2")
        assert np.abs(weights.layer("base") - 0.5).max() <= 1 / 255
        arrays = jq.pack([made_swatch(name, seed) for seed, name in enumerate(("base", "one", "two"))], side=16)
        by_map = jq.bake(terrain.canvas(32), layers, arrays, weights=weights)
        flat = [jq.Layer("base"), jq.Layer("one", label="a"), jq.Layer("two", label="b"), jq.Layer("one", label="c")]
        same = jq.WeightMap(names=("base", "a", "b", "c"), layers=weights.layers, weights=weights.weights)
        assert np.array_equal(by_map["diffuse"], jq.bake(terrain.canvas(32), flat, arrays, weights=same)["diffuse"])
        assert jq.bake(terrain.canvas(32), layers, arrays)["diffuse"].shape == (32, 32, 3)

    def test_a_ramp_can_be_all_of_the_ground(self):
        terrain = jq.Terrain(np.linspace(0, 10, 9)[:, None].repeat(9, axis=1), size=(10, 10))
        layers = [jq.Layer("ground", medley=jq.height_ramp(["a", "b", "c"], [0.0, 10.0]))]
        weights = jq.weigh(terrain.canvas(20), layers)
        assert weights.names == ("ground: a", "ground: b", "ground: c")
        assert (weights.weights.sum(axis=2, dtype=int) == 255).all()
        assert np.allclose(
            weights.layer("ground: b")[:, 0], 1 - np.abs(terrain.points((20, 20)).position[::20, 1] - 5) / 5, atol=0.01
        )

    def test_the_repeat_of_a_wall_falls_to_a_quarter_or_less(self):
        assert bench.medley_ratio(512) < 0.25
