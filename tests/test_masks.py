"""Masks: each kind against a plain reference, how they are shaped and combined, and what holds for all of them."""

import dataclasses

import numpy as np
import numpy_weights as plain
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import map_coordinates
from scipy.spatial import cKDTree

import jagged_quilt as jq
from jagged_quilt.errors import ImageError, RangeError, ShapeError
from jagged_quilt.foundation.noise import even_noise_at, lattice_turn, noise_at
from jagged_quilt.images import write_image
from jagged_quilt.masks.image_mask import read_grey
from jagged_quilt.surfaces.edge_distance import signed_distance


def random_points(seed, count=300, reach=20.0):
    rng = np.random.default_rng(seed)
    return jq.Points.of(rng.uniform(-reach, reach, (count, 3)), rng.normal(size=(count, 3)), uv=rng.uniform(0, 1, (count, 2)))


def hills(side=33, metres=40.0, seed=3):
    """A terrain of a few smooth hills."""
    v, u = np.mgrid[:side, :side] / (side - 1) * 2 * np.pi
    rng = np.random.default_rng(seed)
    waves = zip((3, 2, 1), (1, 2, 3), (2, 1, 3), rng.random(3) * 6, rng.random(3) * 6, strict=True)
    heights = sum(high * np.sin(n * u + p) * np.cos(m * v + q) for high, n, m, p, q in waves)
    return jq.Terrain(heights + 8, size=(metres, metres))


class TestNoise:
    @pytest.mark.parametrize("kind", list(jq.NoiseKind))
    @pytest.mark.parametrize(("dimensions", "octaves", "period"), [(3, 1, 0), (3, 4, 0), (3, 3, 5), (2, 4, 0), (2, 3, 6)])
    def test_it_is_the_noise_of_the_reference(self, kind, dimensions, octaves, period):
        at = np.random.default_rng(octaves).uniform(-30, 30, (400, 3)).astype(np.float32)
        got = noise_at(at, size=2.5, octaves=octaves, seed=9, period=period, kind=kind, dimensions=dimensions)
        turn = (np.eye(3) if period else lattice_turn(dimensions)) / 2.5
        where = at.astype(np.float64)
        if period:
            where = where % (2.5 * period)
        wanted = plain.noise(where, turn, octaves=octaves, seed=9, period=period, kind=str(kind), dimensions=dimensions)
        wanted = 0.5 + 0.5 * wanted if kind is jq.NoiseKind.SMOOTH else wanted
        assert np.abs(got - np.clip(wanted, 0, 1)).max() < 3e-5

    @pytest.mark.parametrize("kind", list(jq.NoiseKind))
    @pytest.mark.parametrize("dimensions", [2, 3])
    def test_it_is_spread_evenly_and_seamless_over_its_period(self, kind, dimensions):
        """A share t of a wide area lies below t, so the mean is a half; the seam is not there at all."""
        how = {"size": 2.0, "kind": kind, "dimensions": dimensions, "octaves": 3}
        rng = np.random.default_rng(1)
        wide = even_noise_at(rng.uniform(-900, 900, (60_000, 3)).astype(np.float32), **how)
        assert abs(wide.mean() - 0.5) < 0.01  # 2 % of the range from lowest to highest would be 0.02
        assert np.abs(np.quantile(wide, [0.1, 0.3, 0.7, 0.9]) - [0.1, 0.3, 0.7, 0.9]).max() < 0.015
        at = (rng.integers(0, 8 << 10, (3000, 3)) / 1024 * 2).astype(np.float32)
        first = even_noise_at(at, period=8, **how)
        for step in ((16, 0, 0), (0, -16, 0), (0, 0, 32), (16, 16, -16)):
            assert np.array_equal(even_noise_at(at + np.float32(step), period=8, **how), first)
        assert np.abs(even_noise_at(at + np.float32(16), **how) - first).max() > 0.1

    def test_no_lattice_shows(self):
        """On level ground, at whatever height, no direction and no spacing of its cells stands out in the spectrum."""
        side = 256
        z, x = np.mgrid[:side, :side] / 8
        for height in (0.0, 1.0, 2.5):
            at = np.stack([x, np.full_like(x, height), z], axis=2).reshape(-1, 3).astype(np.float32)
            values = even_noise_at(at, size=1.0, octaves=1).reshape(side, side)
            window = np.hanning(side)[:, None] * np.hanning(side)
            power = np.abs(np.fft.fftshift(np.fft.fft2((values - values.mean()) * window))) ** 2
            down, across = np.mgrid[-128:128, -128:128]
            away, angle = np.hypot(across, down), np.arctan2(down, across) % (np.pi / 2)
            ring = (away > 12) & (away < 40)
            along = power[ring & ((angle < 0.15) | (angle > np.pi / 2 - 0.15))].mean()
            askew = power[ring & (np.abs(angle - np.pi / 4) < 0.15)].mean()
            assert 0.6 < along / askew < 1.7
            assert power[ring].max() < 60 * power[ring].mean()  # no single line

    def test_seeds_differ_and_flat_noise_goes_up_walls_unchanged(self):
        at = random_points(0).position
        assert abs(np.corrcoef(even_noise_at(at, size=3.0), even_noise_at(at, size=3.0, seed=1))[0, 1]) < 0.15
        raised = at + np.float32([0, 7, 0])
        flat = even_noise_at(at, size=3.0, dimensions=2)
        assert np.array_equal(flat, even_noise_at(raised, size=3.0, dimensions=2))


class TestShapes:
    def test_facing_is_the_bearing_of_the_level_part_of_the_normal(self):
        bearing = np.arange(0, 360, 5.0)
        out = np.radians(bearing)
        normals = np.column_stack([np.sin(out), np.ones(72), -np.cos(out)])  # 45 degrees steep
        points = jq.Points.of(np.zeros((72, 3)), normals)
        answer = jq.Facing(90, spread=20, fade=30).answer(points)
        away = np.abs((bearing - 90 + 180) % 360 - 180)
        assert np.abs(answer - (1 - plain.smooth((away - 20) / 30))).max() < 1e-4
        wrapped = jq.Facing(350, spread=20, fade=0).answer(points)
        assert set(bearing[wrapped == 1]) == {330, 335, 340, 345, 350, 355, 0, 5, 10}

    def test_level_ground_faces_nowhere(self):
        angle = np.radians([0.0, 1.9, 3.0, 4.1, 60.0])
        points = jq.Points.of(np.zeros((5, 3)), np.column_stack([np.sin(angle), np.cos(angle), 0 * angle]))
        answer = jq.Facing(90, level=4.0).answer(points)
        assert (answer[:2] == 0).all()
        assert answer[2] == pytest.approx(0.5, abs=1e-3)
        assert (answer[3:] == 1).all()

    def test_vertex_colours_are_read_by_channel(self):
        colour = np.random.default_rng(0).uniform(0, 1, (9, 4)).astype(np.float32)
        points = jq.Points.of(np.zeros((9, 3)), np.ones((9, 3)), colour=colour)
        assert np.array_equal(jq.VertexColour("b").answer(points), colour[:, 2])
        assert np.array_equal(jq.VertexColour("b").answer(points[2:5]), colour[2:5, 2])
        with pytest.raises(ShapeError, match="this surface has none"):
            jq.VertexColour("r").answer(random_points(0))


class TestCurvature:
    def test_a_ball_is_bent_by_one_over_its_radius(self):
        """Its top is a ridge, a bowl is a hollow, and a saddle and a slope are neither."""
        at = np.linspace(-10, 10, 201)
        x, z = np.meshgrid(at, at)
        ball = np.sqrt(30.0**2 - x**2 - z**2)
        for heights, wanted in ((ball, 1 / 30), (-ball, -1 / 30), (x * z / 40, 0.0), (0.7 * x + 0.2 * z, 0.0)):
            terrain = jq.Terrain(heights, size=(20, 20))
            middle = terrain.points_at([[10.0, 10.0], [11.0, 9.5]])
            assert terrain.fields.curvature(1.0).at(middle) == pytest.approx(wanted, abs=2e-4)
        top = jq.Terrain(ball, size=(20, 20)).points_at([[10.0, 10.0]])
        bent = 1.0 / 30
        ridges = jq.Curvature("ridges", 1.0, 0.0, 2 * bent).on(jq.Terrain(ball, size=(20, 20)))
        assert ridges.answer(top)[0] == pytest.approx(0.5, abs=0.02)

    def test_it_is_that_of_the_reference(self):
        terrain = hills()
        wanted = plain.curvature(terrain.heights.astype(np.float64), terrain.spacing, 6.0)
        points = random_points(2, reach=18.0)
        points = terrain.points_at(points.position[:, [0, 2]] + 20)
        values = plain.read_grid(wanted, points.position.astype(np.float64), (0, 0), terrain.spacing)
        assert np.abs(terrain.fields.curvature(6.0).at(points) - values).max() < 1e-5
        assert np.allclose(
            jq.Curvature("hollows", 6.0, 0.0, 0.5).on(terrain.fields).answer(points),
            plain.step(-6 * values, 0.0, 0.5),
            atol=1e-4,
        )


class TestHiddenSky:
    def test_before_an_endless_wall_half_of_the_sky_is_hidden(self):
        """16 directions, of which those towards the wall see it at angles that are known."""
        heights = np.zeros((129, 129))
        heights[:, 65:] = 1e6
        terrain = jq.Terrain(heights, size=(128, 128))
        hidden = terrain.fields.ambient_occlusion(30.0).at(terrain.points_at([[63.9, 64.0], [20.0, 64.0]]))
        assert hidden[0] == pytest.approx(0.5, abs=0.01)
        assert hidden[1] == 0.0

    def test_it_is_the_horizon_search_written_plainly(self):
        terrain = hills(25)
        heights, spacing = terrain.heights.astype(np.float64), terrain.spacing[0]
        hidden = terrain.fields.ambient_occlusion(12.0)
        for row, column in ((3, 4), (12, 20), (24, 0), (9, 9)):
            total = 0.0
            for turn in range(16):
                angle, steepest, far = 2 * np.pi * (turn + 0.5) / 16, 0.0, spacing
                while far <= 12.0 * (1 + 1e-9):
                    right, down = round(np.cos(angle) * far / spacing), round(np.sin(angle) * far / spacing)
                    r, c = min(max(row + down, 0), 24), min(max(column + right, 0), 24)
                    rise = (heights[r, c] - heights[row, column]) / (np.hypot(right, down) * spacing)
                    steepest, far = max(steepest, rise), far * 1.25
                total += steepest**2 / (1 + steepest**2) / 16
            assert hidden.values[row, column] == pytest.approx(total, abs=1e-5)

    def test_a_mask_that_needs_a_surface_says_so(self):
        with pytest.raises(RangeError, match=r"sky hidden within 5 m.*mask\.on\(terrain\)"):
            jq.AmbientOcclusion(5.0).answer(random_points(0))
        bound = (jq.AmbientOcclusion(5.0) * ~jq.Curvature("ridges", 4.0)).on(hills())
        assert bound.answer(random_points(0)).shape == (300,)


class TestDistance:
    def test_to_a_straight_edge_askew_it_is_exact(self):
        """Far from the mask's border, whatever the angle of the edge."""
        terrain = jq.Terrain(np.zeros((3, 3)), size=(64, 64))
        v, u = np.mgrid[:128, :128] / 2 + 0.25
        for degrees in (0, 20, 45, 77):
            across, down = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
            past = (u - 32) * across + (v - 32) * down
            mask = jq.ImageMask(values=np.clip(0.5 - past / 2, 0, 1), size=(64, 64), wrap="clamp")
            points = terrain.points((40, 40), slice(8, 32), slice(8, 32))
            wanted = (points.position[:, 0] - 32) * across + (points.position[:, 2] - 32) * down
            got = signed_distance(mask.on(terrain.fields).answer, terrain.canvas(128)).at(points)
            assert np.abs(got - wanted).max() < 0.05  # a tenth of a texel

    def test_it_is_the_distance_to_the_nearest_edge_point(self):
        terrain = hills(metres=64)
        mask = jq.Noise(size=14.0, octaves=2)
        grid = signed_distance(mask.on(terrain.fields).answer, terrain.canvas(128))
        points = terrain.points((512, 512))
        answers = mask.answer(points).reshape(512, 512) >= 0.5
        at = points.position[:, [0, 2]].reshape(512, 512, 2).astype(np.float64)
        edges = [
            (at[:, 1:] + at[:, :-1])[answers[:, 1:] != answers[:, :-1]] / 2,
            (at[1:] + at[:-1])[answers[1:] != answers[:-1]] / 2,
        ]
        far, _ = cKDTree(np.concatenate(edges)).query(at[::16, ::16].reshape(-1, 2))
        inside = answers[::16, ::16].ravel()
        sample = dataclasses.replace(points, **{f.name: None for f in dataclasses.fields(points) if f.name in ("uv", "colour")})
        got = grid.at(sample).reshape(512, 512)[::16, ::16].ravel()
        assert np.percentile(np.abs(got - np.where(inside, -far, far)), 99) < 0.35  # texels of 0.5 m
        band = jq.Distance(mask, -1.0, 2.0, fade=1.0, texels=128).on(terrain.fields).answer(sample)
        assert np.allclose(band, plain.band(grid.at(sample).astype(np.float64), -1, 2, 1), atol=1e-4)

    def test_where_there_is_no_edge_everything_is_far(self):
        terrain = hills()
        assert (jq.Distance(jq.Constant(0.0), -9, 9, texels=16).on(terrain.fields).answer(terrain.points((8, 8))) == 0).all()
        assert (jq.Distance(jq.Constant(1.0), -2e6, 0, texels=16).on(terrain.fields).answer(terrain.points((8, 8))) == 1).all()


class TestImageMask:
    @pytest.mark.parametrize(
        ("wrap", "mode"), [("repeat", "grid-wrap"), ("mirror", "reflect"), ("clamp", "nearest"), ("none", "grid-constant")]
    )
    def test_it_is_laid_on_in_metres_turned_and_goes_on_as_reported(self, wrap, mode):
        picture = np.random.default_rng(0).random((5, 8)).astype(np.float32)
        mask = jq.ImageMask(values=picture, size=(16.0, 10.0), corner=(3.0, -2.0), rotation=30.0, wrap=wrap)
        rng = np.random.default_rng(1)
        points = jq.Points.of(rng.uniform(-30, 30, (400, 3)), np.tile([0, 1, 0], (400, 1)), footprint=0.5)
        x, z = points.position[:, 0] - 3.0, points.position[:, 2] + 2.0
        turn = np.radians(30)
        right, down = x * np.cos(turn) + z * np.sin(turn), -x * np.sin(turn) + z * np.cos(turn)
        wanted = map_coordinates(picture, [down / 10 * 5 - 0.5, right / 16 * 8 - 0.5], order=1, mode=mode)
        assert np.abs(mask.answer(points) - wanted).max() < 2e-5

    def test_by_uv_it_lies_once_over_the_surface(self):
        picture = np.array([[0.0, 1.0]], np.float32)
        points = jq.Points.of(np.zeros((3, 3)), np.ones((3, 3)), uv=[[0.25, 0.5], [0.5, 0.9], [0.75, 0.1]])
        assert jq.ImageMask(values=picture, wrap="clamp").answer(points) == pytest.approx([0, 0.5, 1])
        with pytest.raises(ShapeError, match="give it a size"):
            jq.ImageMask(values=picture).answer(jq.Points.of(np.zeros((1, 3)), np.ones((1, 3))))

    def test_a_fine_picture_does_not_flicker_on_coarse_texels(self):
        """Where a point covers many texels it answers their mean."""
        picture = (np.indices((256, 256)).sum(axis=0) % 2).astype(np.float32)
        mask = jq.ImageMask(values=picture, size=(16.0, 16.0))
        points = jq.Terrain(np.zeros((2, 2)), size=(16, 16)).points((16, 16))
        assert np.abs(mask.answer(points) - 0.5).max() < 1e-3

    def test_any_file_and_channel(self, tmp_path):
        rng = np.random.default_rng(4)
        colour = rng.integers(0, 256, (4, 6, 4), dtype=np.uint8)
        deep = rng.integers(0, 65536, (4, 6, 1), dtype=np.uint16)
        write_image(tmp_path / "colour.png", colour)
        write_image(tmp_path / "deep.tif", deep)
        write_image(tmp_path / "float.exr", (deep / 65535).astype(np.float32))
        assert np.allclose(read_grey(tmp_path / "colour.png", "a"), colour[..., 3] / 255, atol=1e-6)
        assert np.allclose(read_grey(tmp_path / "deep.tif"), deep[..., 0] / 65535, atol=1e-6)
        assert np.allclose(read_grey(tmp_path / "deep.tif", "r"), deep[..., 0] / 65535, atol=1e-6)
        assert np.allclose(jq.ImageMask.read(tmp_path / "float.exr").values, deep[..., 0] / 65535, atol=1e-3)
        with pytest.raises(ImageError, match="has colour, and a mask is one channel"):
            jq.ImageMask.read(tmp_path / "colour.png")
        with pytest.raises(ImageError, match='no channel "x"; it holds R, G, B, A'):
            jq.ImageMask.read(tmp_path / "colour.png", channel="x")
        write_image(tmp_path / "bright.exr", np.full((2, 2, 1), 3.0, np.float32))
        with pytest.raises(RangeError, match=r"from 0 to 1; .*bright\.exr does not"):
            jq.ImageMask.read(tmp_path / "bright.exr")


MASKS = [
    jq.HeightBand(-3, 4, fade=2),
    jq.Slope(20, 60, fade=10),
    jq.Noise(size=5),
    jq.Constant(0.3),
    jq.Facing(200, fade=50),
    jq.Noise(size=6, kind=jq.NoiseKind.CELLULAR, dimensions=2, range=1.0),
    jq.Noise(size=4, kind=jq.NoiseKind.RIDGED, period=6),
    jq.ImageMask(values=np.random.default_rng(0).random((7, 9)), size=(9.0, 7.0), wrap="mirror", rotation=20.0),
    jq.HeightBand(0, 9).warped(by=2.0, size=3.0),
]
WAYS = {
    jq.Mask.__mul__: lambda x, y: x * y,
    jq.Mask.__add__: lambda x, y: np.minimum(x + y, 1),
    jq.Mask.__sub__: lambda x, y: np.maximum(x - y, 0),
    jq.Mask.__or__: np.maximum,
    jq.Mask.__and__: np.minimum,
    jq.Mask.__xor__: lambda x, y: np.abs(x - y),
    lambda a, b: a.mixed(b, 0.3): lambda x, y: 0.7 * x + 0.3 * y,
}
mask_trees = st.recursive(
    st.sampled_from(MASKS),
    lambda inner: st.one_of(
        st.builds(lambda way, a, b: way(a, b), st.sampled_from(list(WAYS)), inner, inner),
        st.builds(lambda a: ~a, inner),
        st.builds(lambda a, t, r: a.cut(t, r), inner, st.floats(0, 1), st.floats(0, 1)),
        st.builds(lambda a, b, g: a.levels(b, 1.0, g), inner, st.floats(0, 0.9), st.floats(0.2, 4)),
        st.builds(lambda a: a.warped(by=1.0, size=2.0), inner),
    ),
    max_leaves=5,
)


class TestCombinations:
    @settings(deadline=None, max_examples=60)
    @given(st.sampled_from(MASKS), st.sampled_from(MASKS), st.sampled_from(list(WAYS)), st.integers(0, 99))
    def test_they_do_what_their_signs_say(self, a, b, way, seed):
        points = random_points(seed)
        x, y = a.answer(points).astype(float), b.answer(points).astype(float)
        assert np.abs(way(a, b).answer(points) - WAYS[way](x, y)).max() < 1e-6

    @settings(deadline=None, max_examples=60)
    @given(mask_trees, st.integers(0, 99))
    def test_whatever_the_tree_it_answers_0_to_1_and_by_part_as_by_whole(self, mask, seed):
        points = random_points(seed)
        before = [np.array(getattr(points, field.name)) for field in dataclasses.fields(points)]
        answer = mask.answer(points)
        assert answer.dtype == np.float32
        assert answer.shape == (300,)
        assert 0 <= answer.min() <= answer.max() <= 1
        assert np.array_equal(mask.answer(points[100:220]), answer[100:220])
        for held, was in zip(dataclasses.fields(points), before, strict=True):
            assert np.array_equal(np.array(getattr(points, held.name)), was)

    def test_they_are_shaped_by_cut_levels_and_gamma(self):
        points = random_points(5)
        mask = jq.Noise(size=5, range=1.0)
        x = mask.answer(points).astype(float)
        assert np.abs(mask.cut(0.4, 0.3).answer(points) - plain.step(x, 0.25, 0.55)).max() < 1e-5
        assert np.array_equal(mask.cut(0.4).answer(points), x >= np.float32(0.4))
        stretched = np.clip((x - 0.2) / 0.5, 0, 1)
        assert np.abs(mask.levels(0.2, 0.7).answer(points) - stretched).max() < 1e-6
        assert np.abs(mask.levels(0.2, 0.7, gamma=2.2).answer(points) - stretched ** (1 / 2.2)).max() < 1e-5
        assert np.abs(mask.levels(1.0, 0.0).answer(points) - (1 - x)).max() < 1e-6

    def test_a_warp_asks_the_mask_elsewhere(self):
        """By no more than it says; on a surface, at the place of the surface that lies there."""
        points = random_points(6)
        assert np.array_equal(jq.Slope(10, 40).warped(by=3.0, size=2.0).answer(points), jq.Slope(10, 40).answer(points))
        edge = jq.HeightBand(-100, 0)
        moved = edge.warped(by=3.0, size=2.0).answer(points)
        near = np.abs(points.position[:, 1]) <= 3
        assert np.array_equal(moved[~near], edge.answer(points)[~near])
        assert (moved[near] != edge.answer(points)[near]).any()
        terrain = hills()
        ground = terrain.points((64, 64))
        warped = jq.Slope(10, 90).warped(by=2.0, size=4.0).on(terrain.fields)
        assert 0.01 < (warped.answer(ground) != jq.Slope(10, 90).answer(ground)).mean() < 0.5
        assert np.array_equal(
            jq.Slope(10, 90).warped(by=0.0, size=4.0).on(terrain.fields).answer(ground), jq.Slope(10, 90).answer(ground)
        )

    def test_what_cannot_be_is_refused(self):
        for make, words in (
            (lambda: jq.Constant(0.5).cut(1.5), "threshold must be from 0 to 1; got 1.5"),
            (lambda: jq.Constant(0.5).levels(0.4, 0.4), "black and white must differ"),
            (lambda: jq.Constant(0.5).warped(by=-1, size=2), "warp by must be at least 0 m"),
            (lambda: jq.Constant(0.5).mixed(jq.Constant(1), 2), "amount must be from 0 to 1"),
            (lambda: jq.Facing(400), "from -360 to 360 degrees"),
            (lambda: jq.Curvature("ridges", 4, 0.5, 0.1), "begin .low. below where it is full"),
            (lambda: jq.AmbientOcclusion(0), "above 0 m"),
            (lambda: jq.Distance(jq.Constant(1), 3, 1), "upside down"),
            (lambda: jq.Noise(size=1, dimensions=4), "must be 2 or 3"),
            (lambda: jq.ImageMask(values=np.full((2, 2), 2.0)), "from 0 to 1"),
            (lambda: jq.ImageMask(values=np.zeros((2, 2)), size=(0, 3)), "size right must be above 0"),
        ):
            with pytest.raises(RangeError, match=words):
                make()
        for make in (
            lambda: jq.Curvature("peaks", 3),
            lambda: jq.VertexColour("x"),
            lambda: jq.ImageMask(values=np.zeros((2, 2)), wrap="loop"),
        ):
            with pytest.raises(jq.QuiltError, match=r"is called"):
                make()


class TestReading:
    def test_every_step_tells_what_it_goes_by(self):
        terrain = hills()
        mask = (jq.HeightBand(0, 5, 2).warped(by=1.0, size=3.0) * ~jq.Slope(0, 10) | jq.Noise(size=3) * 0.5).on(terrain.fields)
        points = terrain.points_at([[12.0, 9.0]])
        reported = mask.reading(points)
        assert reported.answer == pytest.approx(float(mask.answer(points)[0]))
        assert reported.how == "maximum"
        first, second = reported.parts
        assert first.how == "multiply"
        assert first.parts[0].summary == "height 0 to 5 m, fade 2, warped by 1 m, size 3 m"
        assert "m high" in first.parts[0].parts[0].measured
        assert first.parts[1].summary == "slope 0 to 10 degrees, inverted"
        assert second.parts[0].measured.startswith("noise ")
        assert "everywhere" in second.parts[1].summary
