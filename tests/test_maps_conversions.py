"""Conversions against float64 closed forms; what a set lacks is derived where that is honest."""

import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

import jagged_quilt as jq
from conftest import made_maps
from jagged_quilt.errors import RangeError, ShapeError
from jagged_quilt.images import write_image
from jagged_quilt.maps import conversions as c
from jagged_quilt.maps.conversions import slopes_from_normals
from jagged_quilt.maps.swatch import mirrored, repeated

R = jq.MapRole
shares = st.floats(0, 1, width=32)


def relief(rows, columns, seed=0, sigma=2.0):
    rough = ndimage.gaussian_filter(np.random.default_rng(seed).random((rows, columns)), sigma, mode="wrap")
    return (rough - rough.mean()).astype(np.float32)


class TestConversions:
    @given(shares)
    def test_gloss_and_roughness_are_each_others_inverse(self, value):
        one = np.array([value], np.float32)
        assert c.roughness_from_gloss(c.gloss_from_roughness(one)) == pytest.approx(value, abs=1e-7)

    @given(shares)
    def test_shininess_is_a_blinn_phong_exponent(self, value):
        exponent = 2.0 * 1024.0**value
        got = float(c.roughness_from_shininess(np.array([value], np.float32))[0])
        assert got == pytest.approx(np.sqrt(np.sqrt(2 / (exponent + 2))), abs=1e-5)

    @given(st.tuples(shares, shares, shares), shares)
    @settings(max_examples=60)
    def test_metallic_survives_the_way_there_and_back(self, base, metal):
        colour = np.array([[base]], np.float32)
        diffuse, specular = c.diffuse_specular_from_metallic(colour, np.array([[metal]], np.float32))
        assert np.allclose(diffuse[0, 0], np.array(base) * (1 - metal), atol=1e-6)
        assert np.allclose(specular[0, 0], 0.04 * (1 - metal) + np.array(base) * metal, atol=1e-6)
        again, metallic, lost = c.metallic_from_diffuse_specular(diffuse, specular)
        assert lost.max() < 2e-3  # near black, where any metallic gives the same
        two = c.diffuse_specular_from_metallic(again, metallic)
        assert np.allclose(two[0], diffuse, atol=2e-3)
        assert np.allclose(two[1], specular, atol=2e-3)

    def test_what_metallic_cannot_hold_is_reported(self):
        """A blue body under a red reflection."""
        diffuse, specular = np.array([[[0.05, 0.05, 0.8]]], np.float32), np.array([[[0.8, 0.1, 0.1]]], np.float32)
        base, metallic, lost = c.metallic_from_diffuse_specular(diffuse, specular)
        again = c.diffuse_specular_from_metallic(base, metallic)
        assert lost[0, 0, 0] == pytest.approx(
            max(np.abs(again[0] - diffuse).max(), np.abs(again[1] - specular).max()), abs=1e-6
        )
        assert lost > 0.1
        with pytest.raises(ShapeError, match="same size"):
            c.diffuse_specular_from_metallic(diffuse, np.zeros((2, 2), np.float32))

    def test_normals_of_a_wave_are_those_of_its_derivative(self):
        """h = a sin(2 pi (2 u)) cos(2 pi v) over 3 x 2 m: slopes in closed form, up to the central differences' own sinc."""
        rows, columns, wide, high, a = 96, 128, 3.0, 2.0, 0.05
        v, u = (np.mgrid[:rows, :columns] + 0.5) / [[[rows]], [[columns]]]
        height = a * np.sin(4 * np.pi * u) * np.cos(2 * np.pi * v)
        got = c.normal_from_height(height.astype(np.float32), tile=(wide, high))
        east = a * 4 * np.pi / wide * np.cos(4 * np.pi * u) * np.cos(2 * np.pi * v)
        south = -a * 2 * np.pi / high * np.sin(4 * np.pi * u) * np.sin(2 * np.pi * v)
        wanted = np.stack([-east, south, np.ones_like(east)], 2)
        wanted /= np.linalg.norm(wanted, axis=2, keepdims=True)
        assert np.abs(got - wanted).max() < 2e-3
        exact = ndimage.convolve1d(height, [0.5, 0, -0.5], axis=1, mode="wrap") * columns / wide
        assert np.allclose(-got[..., 0] / got[..., 2], exact, atol=1e-5)

    @given(st.integers(0, 10**6), st.sampled_from([(32, 32), (24, 40), (31, 17)]))
    @settings(max_examples=15, deadline=None)
    def test_height_comes_back_from_its_normals(self, seed, shape):
        height = relief(*shape, seed)
        got = c.height_from_normal(c.normal_from_height(height, tile=(2.0, 1.5)), tile=(2.0, 1.5))
        assert np.abs(got - height).max() < 2e-2 * np.ptp(height)
        smooth = relief(*shape, seed, sigma=3.5)
        back = c.height_from_normal(c.normal_from_height(smooth, tile=(1.0, 1.0)), tile=(1.0, 1.0))
        assert np.abs(back - back.mean() - smooth).max() < 1e-3 * np.ptp(smooth)
        assert c.height_from_normal(np.broadcast_to(np.float32([0, 0, 1]), (8, 8, 3)), tile=(1, 1)).max() == 0

    def test_texels_that_point_sideways_or_inwards_raise_no_mountains(self):
        """Some are in most real maps, between the pieces of a layout or where a coder rounded."""
        height = relief(64, 64, 3, sigma=3.0)
        normals = c.normal_from_height(height, tile=(1.0, 1.0)).copy()
        plain = np.ptp(c.height_from_normal(normals, tile=(1.0, 1.0)))
        normals[10:12, 20:23] = (1, 0, 0)
        normals[40, 5] = (0.6, 0, -0.8)
        assert np.ptp(c.height_from_normal(normals, tile=(1.0, 1.0))) < plain + 0.3
        east, south = slopes_from_normals(normals)
        assert np.hypot(east, south).max() <= np.tan(np.radians(80)) * (1 + 1e-9)

    def test_what_a_map_leans_by_is_taken_out_and_reported(self, tmp_path):
        lean = np.tile(np.array([[[-0.1, 0, 1]]]) / np.sqrt(1.01), (16, 16, 1))
        write_image(tmp_path / "a_normal.png", np.rint(127.5 * lean + 127.5).astype(np.uint8))
        write_image(tmp_path / "a_diffuse.png", np.full((16, 16, 3), 90, np.uint8))
        rules = [jq.MapRule(role=R.HEIGHT, made_from=R.NORMAL)]
        made = jq.SwatchSource(name="a", folder=tmp_path, tile=1.0, rules=rules).read()
        assert re.search(r"leant by (9\.9|10\.\d) % along u and 0\.\d % along v on average, taken out", made.derived[R.HEIGHT])

    def test_height_is_the_least_squares_answer(self):
        """For normals that no relief has: against SciPy's own solver on the same differences."""
        from scipy.sparse import lil_matrix
        from scipy.sparse.linalg import lsqr

        rng = np.random.default_rng(0)
        normals = np.concatenate([rng.uniform(-0.3, 0.3, (9, 9, 2)), np.ones((9, 9, 1))], 2)
        normals = (normals / np.linalg.norm(normals, axis=2, keepdims=True)).astype(np.float32)
        got = c.height_from_normal(normals, tile=(1.0, 1.0))
        system, wanted = lil_matrix((162, 81)), np.zeros(162)
        for row in range(9):
            for column in range(9):
                n = 9 * row + column
                system[n, 9 * row + (column + 1) % 9], system[n, 9 * row + (column - 1) % 9] = 4.5, -4.5
                system[81 + n, 9 * ((row + 1) % 9) + column], system[81 + n, 9 * ((row - 1) % 9) + column] = 4.5, -4.5
                wanted[n] = -normals[row, column, 0] / normals[row, column, 2]
                wanted[81 + n] = normals[row, column, 1] / normals[row, column, 2]
        best = lsqr(system.tocsr(), wanted, atol=1e-12, btol=1e-12)[0].reshape(9, 9)
        assert np.allclose(got, best - best.mean(), atol=1e-5)

    def test_occlusion_is_open_on_a_plain_and_half_shut_by_a_wall(self):
        assert np.all(c.occlusion_from_height(np.zeros((16, 16), np.float32), tile=(1, 1)) == 1)
        wall = np.zeros((64, 64), np.float32)
        wall[:, 30:34] = 5.0
        sky = c.occlusion_from_height(wall, tile=(1, 1), reach=0.3)
        assert sky[32, 29] == pytest.approx(0.5, abs=0.07)  # every direction towards the wall is shut
        assert sky[32, 31] == 1
        assert sky[32, 2] > sky[32, 20] > sky[32, 29]
        with pytest.raises(RangeError, match="reach"):
            c.occlusion_from_height(wall, tile=(1, 1), reach=0)

    def test_small_ones(self):
        normals = np.array([[[0.6, 0.0, 0.8], [0.0, -0.6, 0.8]]], np.float32)
        assert np.array_equal(c.flipped_green(c.flipped_green(normals)), normals)
        assert np.allclose(c.normals_from_two_channels(normals[..., :2]), normals, atol=1e-6)
        texels = np.zeros((2, 2, 4), np.uint16)
        texels[..., 3] = 65535
        assert np.all(c.height_from_alpha(texels) == 1)
        with pytest.raises(ShapeError, match="with alpha"):
            c.height_from_alpha(texels[..., :3])

    @given(st.integers(0, 10**6), st.integers(3, 10))
    @settings(max_examples=15, deadline=None)
    def test_stairs_are_smoothed_within_half_a_step(self, seed, levels):
        height = relief(64, 64, seed, sigma=8)
        height = (height - height.min()) / np.ptp(height)
        stairs = np.rint(height * levels).astype(np.float32) / np.float32(levels)
        smooth = jq.convert.without_stairs(stairs, step=1 / levels)
        assert np.abs(smooth - stairs).max() <= 0.5 / levels + 1e-6
        assert np.abs(smooth - height).mean() < np.abs(stairs - height).mean()


def swatch_of(roles, **more):
    maps = made_maps(3, side=32)
    own = {role: maps[role] for role in roles if role in maps}
    return jq.Swatch(name="s", tile=2.0, relief=0.1, maps={**own, **more.pop("extra", {})}, **more)


def grey(role, value):
    return jq.TextureMap.of_values(role, np.full((32, 32, 1), value, np.float32))


class TestDerive:
    def test_what_is_lacking_is_made_from_what_is_there(self):
        bare = swatch_of([R.DIFFUSE, R.HEIGHT], extra={R.GLOSS: grey(R.GLOSS, 0.25), R.METALLIC: grey(R.METALLIC, 0.5)})
        whole = bare.read()
        assert np.allclose(whole.maps[R.ROUGHNESS].values, 0.75, atol=1e-6)
        metres = bare.maps[R.HEIGHT].values * np.float32(0.1)
        assert np.allclose(whole.maps[R.NORMAL].values, c.normal_from_height(metres, tile=(2.0, 2.0)), atol=1e-5)
        base = bare.maps[R.DIFFUSE].values
        assert np.allclose(whole.maps[R.DIFFUSE].values, base * 0.5, atol=1e-6)
        assert np.allclose(whole.maps[R.SPECULAR].values, 0.02 + base * 0.5, atol=1e-6)
        assert set(whole.derived) == {R.DIFFUSE, R.SPECULAR, R.ROUGHNESS, R.NORMAL, R.OCCLUSION}
        assert whole.missing == ()
        shiny = swatch_of([R.DIFFUSE], extra={R.SHININESS: grey(R.SHININESS, 0.5)}).read()
        assert shiny.derived == {R.ROUGHNESS: "from shininess"}
        metal = swatch_of([R.DIFFUSE, R.SPECULAR]).read([R.METALLIC, R.GLOSS])
        assert "what that loses" in metal.derived[R.METALLIC]

    def test_maps_that_do_not_repeat_are_mirrored(self):
        """Every border meets its like; normals turn with the texels."""
        swatch = mirrored(swatch_of([R.DIFFUSE, R.NORMAL, R.HEIGHT]))
        assert swatch.tile == 4.0
        for role in (R.DIFFUSE, R.HEIGHT):
            texels = swatch.maps[role].texels
            assert np.array_equal(texels[:, 0], texels[:, -1])
            assert np.array_equal(texels, texels[::-1])
        flat = swatch_of([R.DIFFUSE, R.HEIGHT])
        first = mirrored(flat.read()).maps[R.NORMAL].values[1:-1, 1:-1]
        whole = mirrored(flat).maps[R.HEIGHT].values * np.float32(0.1)
        then = c.normal_from_height(whole, tile=(4.0, 4.0))[1:-1, 1:-1]
        inner = np.r_[1:30, 33:61]  # the middle lines differ: a lone map wraps, a mirrored one does not
        assert np.allclose(first[np.ix_(inner, inner)], then[np.ix_(inner, inner)], atol=1e-5)

    def test_maps_that_are_not_square_are_repeated(self):
        wide = jq.TextureMap(role=R.DIFFUSE, texels=np.arange(4 * 8 * 3, dtype=np.uint8).reshape(4, 8, 3))
        done = repeated(jq.Swatch(name="w", tile=1, relief=1, maps={R.DIFFUSE: wide})).maps[R.DIFFUSE].texels
        assert np.array_equal(done, np.concatenate([wide.texels, wide.texels]))
        odd = jq.TextureMap(role=R.DIFFUSE, texels=np.zeros((4, 6, 3), np.uint8))
        with pytest.raises(ShapeError, match=r"6 x 4 cannot be repeated"):
            repeated(jq.Swatch(name="w", tile=1, relief=1, maps={R.DIFFUSE: odd}))
