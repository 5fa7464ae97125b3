"""Masks and weights: bounds, sums, order, and what a cut loses."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jagged_quilt as jq
from jagged_quilt.errors import RangeError, ShapeError
from jagged_quilt.foundation.noise import lattice_turn, noise_at
from jagged_quilt.weights.weigher import Weigher


def random_points(seed, count=200):
    rng = np.random.default_rng(seed)
    return jq.Points.of(rng.uniform(-20, 20, (count, 3)), rng.normal(size=(count, 3)))


def smooth(t):
    t = np.clip(t, 0, 1)
    return 3 * t**2 - 2 * t**3


MASKS = [
    jq.HeightBand(-3, 4, fade=2),
    jq.Slope(20, 60, fade=10),
    jq.Noise(size=5),
    jq.Constant(0.3),
    jq.HeightBand(0, 9),
]


class TestMasks:
    def test_a_height_band_is_full_within_and_gone_beyond_its_fade(self):
        y = np.linspace(-4, 10, 400)
        points = jq.Points.of(np.column_stack([y * 0, y, y * 0]), np.tile([0, 1, 0], (400, 1)))
        wanted = smooth((y - 0) / 2) * (1 - smooth((y - 5) / 3 * 1.5))
        assert np.abs(jq.HeightBand(2, 5, fade=2).answer(points) - wanted).max() < 1e-5

    def test_slope_is_the_angle_from_level(self):
        angle = np.radians(np.linspace(0, 180, 181))
        points = jq.Points.of(np.zeros((181, 3)), np.column_stack([np.sin(angle), np.cos(angle), 0 * angle]))
        answer = jq.Slope(30, 90).answer(points)
        assert np.array_equal(np.flatnonzero(answer)[[0, -1]].round(-1), [30, 90])

    @settings(deadline=None)
    @given(st.sampled_from(MASKS), st.sampled_from(MASKS), st.integers(0, 99))
    def test_combinations_do_what_their_signs_say(self, a, b, seed):
        points = random_points(seed)
        x, y = a.answer(points).astype(float), b.answer(points).astype(float)
        for mask, wanted in (
            (a * b, x * y),
            (a + b, np.minimum(x + y, 1)),
            (a - b, np.maximum(x - y, 0)),
            (a | b, np.maximum(x, y)),
            (a & b, np.minimum(x, y)),
            (~a, 1 - x),
            (0.5 * a, 0.5 * x),
            (1 - a, 1 - x),
        ):
            answer = mask.answer(points)
            assert np.abs(answer - wanted).max() < 1e-6
            assert answer.dtype == np.float32
            assert 0 <= answer.min() <= answer.max() <= 1

    def test_upside_down_and_out_of_range_are_refused(self):
        for make, words in (
            (lambda: jq.HeightBand(5, 2), "upside down: it begins at 5 and ends at 2 m"),
            (lambda: jq.Slope(-4, 20), "from 0 to 180 degrees"),
            (lambda: jq.HeightBand(1, np.nan), "finite"),
            (lambda: jq.Noise(size=0), "above 0 m; got 0"),
            (lambda: jq.Noise(size=1, octaves=13), "whole number from 1 to 12"),
            (lambda: jq.Constant(2), "from 0 to 1; got 2"),
        ):
            with pytest.raises(RangeError, match=words):
                make()
        with pytest.raises(ShapeError, match="got a str"):
            jq.Constant(1) * "half"


class TestNoise:
    def test_it_is_seamless_over_its_period_in_all_directions(self):
        at = np.random.default_rng(0).uniform(0, 8, (2000, 3)).astype(np.float32)
        first = noise_at(at, size=1.0, octaves=5, period=8)
        for step in ((8, 0, 0), (0, 8, 0), (0, 0, -16)):
            assert np.abs(noise_at(at + np.array(step, np.float32), size=1.0, octaves=5, period=8) - first).max() < 2e-3
        assert np.abs(noise_at(at + np.float32(8), size=1.0, octaves=5) - first).max() > 0.1

    def test_its_mean_is_a_half_and_seeds_differ(self):
        at = np.random.default_rng(1).uniform(-300, 300, (60_000, 3))
        values = noise_at(at, size=3.0)
        assert abs(values.mean() - 0.5) < 0.01
        assert 0 <= values.min() < 0.25 < 0.75 < values.max() <= 1
        assert abs(np.corrcoef(values, noise_at(at, size=3.0, seed=1))[0, 1]) < 0.05

    def test_whole_noise_does_not_depend_on_the_part(self):
        at = np.random.default_rng(2).uniform(-30, 30, (500, 3))
        assert np.array_equal(noise_at(at, size=3.0)[100:200], noise_at(at[100:200], size=3.0))


def hashed(x, y, z, seed):
    """The lattice hash, in Python integers."""
    mask = 0xFFFFFFFF
    h = (x * 0x8DA6B343 & mask) ^ (y * 0xD8163841 & mask) ^ (z * 0xCB1AB31F & mask) ^ (seed * 0x9E3779B1 & mask)
    h ^= h >> 16
    h = h * 0x85EBCA6B & mask
    h ^= h >> 13
    h = h * 0xC2B2AE35 & mask
    return h ^ (h >> 16)


def gradient_noise(place, seed, period):
    """One octave of Perlin's improved noise (2002) at one place, in float64."""
    floor = np.floor(place).astype(int)
    f = place - floor
    fade = f**3 * (f * (f * 6 - 15) + 10)
    total = 0.0
    for corner in np.ndindex(2, 2, 2):
        lattice = floor + corner
        if period:
            lattice = lattice % period
        kind = hashed(*(int(c) for c in lattice), seed)
        x, y, z = f - corner
        u = x if kind & 15 < 8 else y
        v = y if kind & 15 < 4 else x if kind & 15 in (12, 14) else z
        slope = (-u if kind & 1 else u) + (-v if kind & 2 else v)
        total += slope * np.prod(np.where(corner, fade, 1 - fade))
    return total


class TestNoiseIsPerlins:
    @pytest.mark.parametrize(("octaves", "period"), [(1, 0), (4, 0), (3, 5)])
    def test_it_agrees_with_float64(self, octaves, period):
        at = np.random.default_rng(octaves).uniform(-20, 20, (200, 3)).astype(np.float32)
        got = noise_at(at, size=2.5, octaves=octaves, seed=9, period=period)
        turn = np.eye(3) if period else lattice_turn(3)
        for place, value in zip(at.astype(float) @ turn.T / 2.5, got, strict=True):
            total = whole = 0.0
            for octave in range(octaves):
                total += 0.5**octave * gradient_noise(place, 9 + octave, period << octave)
                whole += 0.5**octave
                place = place * 2 + (0.37, 0.61, 0.23)
            assert value == pytest.approx(min(max(0.5 + 0.5 * total / whole, 0), 1), abs=2e-5)


class TestStacking:
    @settings(max_examples=30, deadline=None)
    @given(st.lists(st.sampled_from(MASKS), max_size=6), st.integers(0, 99))
    def test_each_layer_covers_what_lies_below_and_sums_are_one(self, masks, seed):
        points = random_points(seed)
        layers = [jq.Layer("0")] + [jq.Layer(str(n + 1), mask=mask) for n, mask in enumerate(masks)]
        weights = Weigher(layers).stacked(points)
        wanted = np.zeros_like(weights, dtype=float)
        wanted[0] = 1
        for n, mask in enumerate(masks, 1):
            answer = mask.answer(points).astype(float)
            wanted[:n] *= 1 - answer
            wanted[n] = answer
        assert np.abs(weights - wanted).max() < 1e-6
        assert np.abs(weights.sum(axis=0) - 1).max() < 1e-6

    def test_the_largest_are_kept_and_what_is_lost_is_reported(self):
        points = random_points(1)
        layers = [jq.Layer("0")] + [jq.Layer(str(n), mask=jq.Noise(size=9, seed=n)) for n in range(1, 7)]
        every = Weigher(layers).stacked(points)
        found = jq.weigh_points(points, layers, keep=3)
        largest = -np.sort(-every, axis=0)[:3]
        assert np.allclose(found.lost, 1 - largest.sum(axis=0), atol=1e-6)
        assert np.allclose(found.weights, (largest / largest.sum(axis=0)).T, atol=1e-6)
        assert np.allclose(
            np.take_along_axis(every.T, found.layers.astype(int), 1)[found.weights > 0], largest.T[found.weights > 0]
        )

    def test_a_mask_on_the_lowest_layer_and_no_layer_are_refused(self):
        with pytest.raises(ShapeError, match="lowest layer"):
            Weigher([jq.Layer("a", mask=jq.Constant(1))]).stacked(random_points(0))
        with pytest.raises(ShapeError, match="at least one"):
            Weigher([]).stacked(random_points(0))


class TestWeightMap:
    @pytest.fixture(scope="module")
    @staticmethod
    def scene():
        terrain = jq.Terrain(np.random.default_rng(0).random((17, 17)) * 4, size=(20, 20))
        return terrain, [jq.Layer("0")] + [jq.Layer(str(n), mask=jq.Noise(size=4 + n, seed=n)) for n in range(1, 9)]

    def test_sums_are_exact_and_threads_and_size_of_blocks_do_not_matter(self, scene, monkeypatch):
        terrain, layers = scene
        one = jq.weigh(terrain.canvas(70), layers, work=jq.Work(threads=1))
        monkeypatch.setattr("jagged_quilt.weights.weigh._ANSWERS_AT_ONCE", 3000)
        two = jq.weigh(terrain.canvas(70), layers, work=jq.Work(threads=2))
        assert (one.weights.sum(axis=2, dtype=int) == 255).all()
        assert np.array_equal(one.layers, two.layers)
        assert np.array_equal(one.weights, two.weights)
        assert sum(one.shares().values()) == pytest.approx(1)
        assert 0 < one.lost_mean < one.lost_worst < 1

    def test_it_is_within_a_step_of_the_masks(self, scene):
        terrain, layers = scene
        kept = jq.weigh(terrain.canvas(70), layers, keep=9)
        exact = Weigher(layers).stacked(terrain.points((70, 70)))
        for n, layer in enumerate(layers):
            assert np.abs(kept.layer(layer.name).ravel() - exact[n]).max() <= 1 / 255 + 1e-6

    def test_between_texels_it_is_bilinear_and_sums_to_one(self, scene):
        terrain, layers = scene
        kept = jq.weigh(terrain.canvas(9), layers)
        points = terrain.points((31, 31))
        found = kept.at(points)
        assert np.abs(found.weights.sum(axis=1) - 1).max() < 1e-6
        dense = np.zeros((len(points), 9))
        np.add.at(dense, (np.arange(len(points))[:, None], found.layers.astype(int)), found.weights)
        planes = np.stack([kept.layer(n) for n in range(9)], axis=2).astype(float)
        xy = np.clip(points.uv.astype(float) * 9 - 0.5, 0, 8)
        x0 = np.minimum(xy.astype(int), 7)
        f = xy - x0
        wanted = sum(
            planes[x0[:, 1] + dy, x0[:, 0] + dx] * (f[:, :1] if dx else 1 - f[:, :1]) * (f[:, 1:] if dy else 1 - f[:, 1:])
            for dx in (0, 1)
            for dy in (0, 1)
        )
        assert np.abs(dense - wanted).max() < 1e-5

    @pytest.mark.parametrize(("keep", "layers"), [(1, 3), (4, 9), (6, 9), (4, 300)])
    def test_saved_weights_load_to_the_byte(self, tmp_path, keep, layers):
        terrain = jq.Terrain(np.zeros((2, 2)), size=(4, 4))
        stack = [jq.Layer("0")] + [jq.Layer(str(n), mask=jq.Noise(size=2, seed=n) * 0.4) for n in range(1, layers)]
        kept = jq.weigh(terrain.canvas(12), stack, keep=keep)
        kept.save(tmp_path)
        again = jq.open_weights(tmp_path)
        assert np.array_equal(again.layers, kept.layers)
        assert np.array_equal(again.weights, kept.weights)
        assert (again.names, again.lost_worst) == (kept.names, kept.lost_worst)

    def test_what_does_not_sum_up_is_refused(self):
        zero = np.zeros((2, 2, 1), np.uint8)
        with pytest.raises(RangeError, match="row 0, column 0 sums to 0"):
            jq.WeightMap(names=("a",), layers=zero, weights=zero)
        with pytest.raises(RangeError, match="above the last of 1 layers"):
            jq.WeightMap(names=("a",), layers=zero + 1, weights=zero + 255)

    @pytest.mark.parametrize(
        ("weights", "words"),
        [
            (
                np.full((1, 1, 4), [64, 64, 64, 63], np.uint8),
                r"must be floats .*; got uint8: .*jq\.WeightMap\(names=",
            ),
            (np.full((1, 1, 2), 1.0, np.float32), r"sum to 1 at every texel; row 0, column 0 holds \[1.0, 1.0\]: divide by"),
            (np.array([[[0.5, np.nan]]], np.float32), "row 0, column 0 holds"),
            (np.array([[[1.5, -0.5]]], np.float32), "must be 0 or more"),
            (np.ones((4, 4), np.float32), r"shape \(rows, columns, kept layers\); got \(4, 4\)"),
        ],
    )
    def test_weights_that_are_no_shares_are_refused_with_the_way_to_give_them(self, weights, words):
        names = tuple("abcd"[: weights.shape[-1]])
        layers = np.broadcast_to(np.arange(len(names), dtype=np.uint8), weights.shape).copy()
        with pytest.raises(jq.QuiltError, match=words):
            jq.WeightMap.of(names, layers, weights)
        exact = np.full((1, 1, 4), [64, 64, 64, 63], np.uint8)
        kept = jq.WeightMap(names=tuple("abcd"), layers=np.arange(4, dtype=np.uint8)[None, None], weights=exact)
        assert kept.layer("d")[0, 0] == np.float32(63 / 255)
