"""Adopting weights that other tools leave, giving their layers new homes, and writing them again."""

import json
import tomllib

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

import jagged_quilt as jq
from conftest import jquilt
from jagged_quilt.errors import ImageError, NameNotFoundError, RangeError, ShapeError
from jagged_quilt.images import read_image, write_image
from jagged_quilt.weights.weight_map import keep_largest

ABC = ("a", "b", "c")


def made_map(layers=6, side=40, keep=6, bits=8, seed=0):
    """A weight map of smooth random fields."""
    terrain = jq.Terrain(np.zeros((2, 2)), size=(side, side))
    stack = [jq.Layer("n0")] + [jq.Layer(f"n{n}", mask=jq.Noise(size=9, seed=seed + n, range=0.8)) for n in range(1, layers)]
    return jq.weigh(terrain.canvas(side), stack, keep=keep, bits=bits)


def largest_difference(one, two):
    return max(float(np.abs(one.layer(name) - two.layer(name)).max()) for name in one.names)


class TestRoundTrips:
    @pytest.mark.parametrize("bits", [8, 16])
    @pytest.mark.parametrize("layers", [2, 4, 6, 9])
    def test_splat_sheets_and_masks_come_back_as_they_were(self, tmp_path, bits, layers):
        weights = made_map(layers, keep=layers, bits=bits)
        sheets = jq.export.write_splat(weights, tmp_path, bits=bits)[:-1]
        assert len(sheets) == -(-layers // 4)
        stored = np.concatenate([read_image(sheet) for sheet in sheets], axis=2)
        assert (stored.sum(axis=2, dtype=np.uint32) == (1 << bits) - 1).all()
        document = json.loads((tmp_path / "splat.json").read_text())
        assert document["layers"] == list(weights.names)
        masks = jq.export.write_masks(weights, tmp_path, bits=bits)[:-1]
        for again in (
            jq.adopt.splat(sheets, weights.names, bits=bits),
            jq.adopt.masks(dict(zip(weights.names, masks, strict=True)), bits=bits),
        ):
            assert largest_difference(weights, again.weights) == 0
            assert again.sums.changed == 0

    @pytest.mark.parametrize("bits", [8, 16])
    def test_pairs_come_back_as_they_were(self, tmp_path, bits):
        weights = made_map(9, keep=4, bits=bits)
        numbers, shares, _ = jq.export.write_pairs(weights, tmp_path, bits=bits)
        assert read_image(numbers).shape == read_image(shares).shape == (40, 40, 4)
        again = jq.adopt.pairs(numbers, shares, weights.names, bits=bits).weights
        assert largest_difference(weights, again) == 0
        many = made_map(9, keep=9)
        jq.export.write_pairs(many, tmp_path)
        assert json.loads((tmp_path / "pairs.json").read_text())["lost"]["worst"] > 0

    def test_other_depths_keep_their_sums(self, tmp_path):
        weights = made_map(6, bits=16)
        sheets = jq.export.write_splat(weights, tmp_path, bits=8)[:-1]
        stored = np.concatenate([read_image(sheet) for sheet in sheets], axis=2)
        assert (stored.sum(axis=2, dtype=int) == 255).all()
        assert largest_difference(weights, weights.in_bits(8)) <= 1 / 255 + 1e-6
        assert largest_difference(weights.in_bits(8), weights.in_bits(8).in_bits(16)) < 1e-4

    def test_more_than_256_layers(self, tmp_path):
        weights = made_map(300, side=12, keep=4)
        numbers, shares, _ = jq.export.write_pairs(weights, tmp_path)
        assert read_image(numbers).dtype == np.uint16
        assert largest_difference(weights, jq.adopt.pairs(numbers, shares, weights.names).weights) == 0


def written(folder, *sheets):
    """Write sheets and return their files."""
    files = []
    for number, sheet in enumerate(sheets):
        files.append(folder / f"sheet_{number}.png")
        write_image(files[-1], np.asarray(sheet))
    return files


def sheet_of(*texels):
    """An image of one row."""
    return np.array([texels], np.uint8)


class TestSums:
    def test_within_rounding_nothing_is_said(self, tmp_path):
        """Three thirds at 8 bits sum to 255 or to 254."""
        found = jq.adopt.splat(written(tmp_path, sheet_of((85, 85, 85), (84, 85, 85), (85, 85, 86))), ABC, sums="refuse")
        assert found.sums.changed == 0

    def test_above_and_below_are_reported_and_repaired_as_asked(self, tmp_path):
        files = written(tmp_path, sheet_of((200, 100, 0), (100, 0, 55), (255, 0, 0)))
        found = jq.adopt.splat(files, ABC)
        assert (found.sums.above, found.sums.below, found.sums.bare, found.sums.changed) == (1, 1, 0, 2)
        assert found.sums.worst == pytest.approx(155 / 255)
        assert found.sums.worst_at == (0, 1)
        assert np.allclose(found.weights.layer("a")[0], [2 / 3, 100 / 155, 1], atol=1 / 255)
        given = jq.adopt.splat(files, ABC, sums="b")
        assert np.allclose(given.weights.layer("b")[0], [1 / 3, 100 / 255, 0], atol=1 / 255)
        with pytest.raises(RangeError, match=r"more than 1 at 1 and to less at 1 of 3 texels; worst 0\.608 at row 0, column 1"):
            jq.adopt.splat(files, ABC, sums="refuse")

    def test_bare_texels_need_a_layer(self, tmp_path):
        files = written(tmp_path, sheet_of((255, 0, 0), (0, 0, 0)))
        with pytest.raises(RangeError, match="1 texels have no weight at all, the first at row 0, column 1"):
            jq.adopt.splat(files, ABC)
        assert jq.adopt.splat(files, ABC, sums="c").weights.layer("c")[0].tolist() == [0, 1]

    def test_an_implied_last_layer_is_1_minus_the_rest(self, tmp_path):
        files = written(tmp_path, sheet_of((100, 55, 0), (255, 0, 0), (0, 0, 0), (200, 200, 0)))
        found = jq.adopt.splat(files, (*ABC, "rest"), implied_last=True)
        assert np.allclose(found.weights.layer("rest")[0], [100 / 255, 0, 1, 0], atol=1e-6)
        assert (found.sums.above, found.sums.below) == (1, 0)

    def test_an_opaque_alpha_is_no_layer_and_a_used_channel_without_a_name_is_refused(self, tmp_path):
        opaque = written(tmp_path, sheet_of((255, 0, 0, 255), (0, 255, 0, 255)))
        assert jq.adopt.splat(opaque, ABC).weights.layer("b")[0].tolist() == [0, 1]
        with pytest.raises(ShapeError, match="channel B holds weights, and no layer is named for it"):
            jq.adopt.splat(written(tmp_path, sheet_of((255, 0, 9), (0, 255, 0))), ("a", "b"))

    def test_more_layers_than_are_kept_are_reported(self, tmp_path):
        found = jq.adopt.splat(written(tmp_path, sheet_of((100, 90, 65), (255, 0, 0))), ABC, keep=2)
        assert (found.sums.cut, found.sums.changed) == (1, 1)
        assert found.sums.cut_worst == pytest.approx(65 / 255, abs=1e-3)


class TestIndexMaps:
    def test_numbers_become_whole_layers(self, tmp_path):
        numbers = np.random.default_rng(0).integers(0, 3, (6, 7, 1), dtype=np.uint8)
        found = jq.adopt.index(written(tmp_path, numbers)[0], ABC).weights
        assert all(np.array_equal(found.layer(n), numbers[..., 0] == n) for n in range(3))
        spread = jq.adopt.index(written(tmp_path, numbers * 100)[0], ABC, numbers=(200, 0, 100), bits=16).weights
        assert np.array_equal(spread.layer("a"), numbers[..., 0] == 2)
        deep = jq.adopt.index(written(tmp_path, numbers.astype(np.uint16))[0], ABC).weights
        assert largest_difference(found, deep) == 0

    def test_a_number_above_the_list_is_refused(self, tmp_path):
        with pytest.raises(RangeError, match="index 7 at row 0, column 1 is none of the 3 layers, which have 0 to 2; 1 texels"):
            jq.adopt.index(written(tmp_path, sheet_of((0,), (7,), (2,)))[0], ABC)
        with pytest.raises(ImageError, match="grey, of whole numbers"):
            jq.adopt.index(written(tmp_path, sheet_of((0, 1, 2), (1, 1, 1)))[0], ABC)
        with pytest.raises(RangeError, match="each once"):
            jq.adopt.index(written(tmp_path, sheet_of((0,)))[0], ABC, numbers=(1, 1, 2))


COLOURS = {"earth": "#c04020", "grass": "#20c040", "water": "#2040c0", "mixture": "#704080"}


def painted(lines=True, side=96, finer=8):
    """A map of colours, antialiased, and the true share of each; `mixture` lies between earth and water, or nearly."""
    v, u = np.mgrid[: side * finer, : side * finer] / (side * finer)
    which = np.where(np.hypot(u - 0.4, v - 0.5) < 0.27 + 0.03 * np.sin(9 * np.arctan2(v - 0.5, u - 0.4)), 2, 0)
    which[(u > 0.7) & (v > 0.6)] = 3
    if lines:
        which[np.abs(v - 0.1 - u * 0.3) < 0.012] = 1
    keys = np.array([[int(text[at : at + 2], 16) for at in (1, 3, 5)] for text in COLOURS.values()], float)
    blocks = (side, finer, side, finer)
    image = keys[which].reshape(*blocks, 3).mean(axis=(1, 3))
    return np.rint(image).astype(np.uint8), np.stack([(which == n).reshape(blocks).mean(axis=(1, 3)) for n in range(4)])


class TestColourKeys:
    @pytest.mark.filterwarnings("ignore:.*texels on edges between two layers")
    @pytest.mark.parametrize("lines", [True, False])
    def test_antialiased_edges_give_their_two_sides_and_no_third_layer(self, tmp_path, lines):
        """Though the edge of earth and water passes through the very colour of the mixture."""
        image, share = painted(lines)
        found = jq.adopt.colours(written(tmp_path, image)[0], COLOURS).weights
        got = np.stack([found.layer(name) for name in COLOURS])
        assert np.abs(got - share).max() < 0.08
        far = share[3] == 0
        assert got[3][far].max() == 0
        assert np.abs(got.mean(axis=(1, 2)) - share.mean(axis=(1, 2))).max() < 1e-3

    def test_two_neighbours_of_exactly_a_key_colour_are_that_layer(self, tmp_path):
        """Amid an edge of mixtures that pass through their colour; one alone is an edge, and is told."""
        image = np.zeros((12, 12, 3), np.uint8)
        image[:, 6:] = 255
        image[:, 5] = 60
        image[3:5, 5] = image[9, 5] = 128
        with pytest.warns(jq.QuiltWarning, match="1 texels on edges between two layers have exactly the colour of a third"):
            found = jq.adopt.colours(written(tmp_path, image)[0], GREYS).weights
        grey = found.layer(list(GREYS)[1])
        assert (grey[3:5, 5] == 1).all()
        assert grey.sum() == 2

    def test_a_line_of_one_texel_is_a_layer(self, tmp_path):
        image = np.full((9, 9, 3), (0xC0, 0x40, 0x20), np.uint8)
        image[4] = (0x70, 0x40, 0x80)
        found = jq.adopt.colours(written(tmp_path, image)[0], COLOURS).weights
        assert (found.layer("mixture")[4] == 1).all()
        assert found.layer("mixture").sum() == 9

    def test_a_colour_that_is_not_in_the_key_is_refused(self, tmp_path):
        image, _ = painted()
        image[40:50, 5:15] = (255, 255, 0)
        with pytest.raises(RangeError, match=r"the colour #ffff00 at row 4\d, column \d+ is not in the key, nor between"):
            jq.adopt.colours(written(tmp_path, image)[0], COLOURS)
        with pytest.raises(RangeError, match="\"#rrggbb\"; got 'red'"):
            jq.adopt.colours(written(tmp_path, image)[0], {"a": "red"})
        with pytest.raises(RangeError, match='colours of "a" and "b" are alike'):
            jq.adopt.colours(written(tmp_path, image)[0], {"a": "#101010", "b": "#121110"})


class TestRefusals:
    def test_sheets_of_different_sizes(self, tmp_path):
        files = written(tmp_path, np.zeros((4, 4, 4), np.uint8), np.zeros((4, 5, 4), np.uint8))
        for adopt in (
            lambda: jq.adopt.splat(files, [*"abcdefgh"]),
            lambda: jq.adopt.pairs(*files, ABC),
            lambda: jq.adopt.masks(dict(zip("ab", files, strict=True))),
        ):
            with pytest.raises(ShapeError, match=r"one size; .*sheet_0\.png has 4 x 4 and .*sheet_1\.png has 5 x 4"):
                adopt()

    def test_layers_and_channels_that_do_not_fit(self, tmp_path):
        files = written(tmp_path, sheet_of((1, 2, 3)))
        for adopt, error, words in (
            (lambda: jq.adopt.splat(files, [*"abcd"]), ShapeError, "4 layers need 4 channels; .* hold 3"),
            (lambda: jq.adopt.splat(files, []), ShapeError, "no layer to adopt"),
            (lambda: jq.adopt.splat([], ABC), ShapeError, "no splat sheet"),
            (lambda: jq.adopt.splat(files, ("a", "b", "a")), RangeError, 'two old layers are called "a"'),
            (lambda: jq.adopt.splat(files, ABC, sums="d"), NameNotFoundError, "way to settle sums"),
            (lambda: jq.adopt.masks({"a": files[0]}), ImageError, "has colour; a mask for one layer is grey"),
            (lambda: jq.adopt.splat([tmp_path / "gone.png"], ABC), ImageError, "no such image file"),
        ):
            with pytest.raises(error, match=words):
                adopt()
        pair = written(tmp_path, sheet_of((5, 0, 0, 0)), sheet_of((255, 0, 0, 0)))
        with pytest.raises(RangeError, match="index 5 at row 0, column 0 is above the last of 3 layers"):
            jq.adopt.pairs(*pair, ABC)


class TestRehoming:
    def test_one_to_one_and_many_to_one(self):
        old = jq.adopt.Adopted(made_map(4), None)
        new = old.rehomed({"n0": "clay", "n1": "salt", "n2": "clay", "n3": "brine"}, ["brine", "clay", "gravel", "salt"])
        assert new.names == ("brine", "clay", "salt")
        assert np.allclose(new.layer("clay"), old.weights.layer("n0") + old.weights.layer("n2"), atol=1e-6)
        assert np.array_equal(new.layer("salt"), old.weights.layer("n1"))

    def test_a_layer_without_a_home_is_refused_if_it_shows(self):
        old = jq.adopt.Adopted(made_map(3), None)
        with pytest.raises(NameNotFoundError, match='no home of the old layer "n2" is called "n2"'):
            old.rehomed({"n0": "clay", "n1": "clay"}, ["clay"])
        with pytest.raises(NameNotFoundError, match='no layer in the adopted files is called "m0"; did you mean'):
            old.rehomed({"m0": "clay"}, ["clay"])
        with pytest.raises(NameNotFoundError, match='no layer is called "caly"; did you mean "clay"'):
            old.rehomed({"n0": "caly"}, ["clay"])

    @settings(deadline=None, max_examples=25)
    @given(st.integers(1, 90), st.integers(1, 90))
    def test_at_any_size_it_sums_to_one_and_keeps_its_shares(self, rows, columns):
        weights = made_map(5, side=30)
        other = weights.resized(rows, columns)
        assert (other.weights.sum(axis=2, dtype=int) == 255).all()
        if rows <= 30 and columns <= 30:
            assert (
                max(abs(other.shares()[n] - weights.shares()[n]) for n in weights.names) < 0.012 + 2 / min(rows, columns) ** 3
            )

    def test_smaller_is_the_mean_and_larger_is_bilinear(self):
        weights = made_map(5, side=32)
        small = weights.resized(16, 8)
        mean = weights.layer("n3").reshape(16, 2, 8, 4).mean(axis=(1, 3))
        assert np.abs(small.layer("n3") - mean).max() <= 1 / 255 + 1e-6
        large = weights.resized(64, 64)
        points = jq.Terrain(np.zeros((2, 2)), size=(1, 1)).points((64, 64))
        found = weights.at(points)
        wanted = np.where(found.layers == 3, found.weights, 0).sum(axis=1).reshape(64, 64)
        assert np.abs(large.layer("n3") - wanted).max() <= 1 / 255 + 1e-6
        assert weights.resized(32, 32) is weights

    def test_adopted_weights_are_ground_for_masks_and_other_layers(self):
        """What an adopted layer's mask takes goes to the lowest; the others cover by theirs."""
        terrain = jq.Terrain(np.zeros((2, 2)), size=(40, 40))
        old = made_map(3, side=40)
        adopted = jq.adopt.Adopted(old, None).rehomed({"n0": "clay", "n1": "salt", "n2": "salt"}, ["clay", "salt"])
        half, some = jq.Constant(0.5), jq.Noise(size=7)
        layers = [jq.Layer("mud"), jq.Layer("clay", mask=half), jq.Layer("brine", mask=some), jq.Layer("salt")]
        points = terrain.points((40, 40))
        got = jq.Weigher(layers, terrain, adopted=adopted).stacked(points)
        clay, salt, m = (x.ravel().astype(float) for x in (adopted.layer("clay"), adopted.layer("salt"), some.answer(points)))
        ground = 1 - salt  # all that lies below the brine
        wanted = [(1 - clay / 2 - salt) * (1 - m), clay / 2 * (1 - m), ground * m, salt]
        assert np.abs(got - np.stack(wanted)).max() < 1e-5
        shared = jq.Weigher(layers, terrain, adopted=adopted, stacking="share").stacked(points)
        asked = np.stack([clay / 2, m, salt])
        less = 1 / np.maximum(1, asked.sum(axis=0))
        assert np.abs(shared[1:] - asked * less).max() < 1e-5
        assert np.abs(shared.sum(axis=0) - 1).max() < 1e-5
        with pytest.raises(NameNotFoundError, match="layer of the adopted weights"):
            jq.Weigher([jq.Layer("mud")], adopted=adopted)


class TestKeeping:
    @settings(deadline=None, max_examples=40)
    @given(st.integers(1, 20), st.integers(1, 16), st.integers(1, 200), st.integers(0, 999))
    def test_the_largest_are_kept_the_lower_layer_first_among_equals(self, layers, keep, count, seed):
        rng = np.random.default_rng(seed)
        weights = rng.integers(0, 5, (layers, count)).astype(np.float32)
        weights[0] += weights.sum(axis=0) == 0
        weights /= weights.sum(axis=0)
        keep = min(keep, layers)
        index, weight = np.empty((count, keep), np.uint8), np.empty((count, keep), np.float32)
        lost = np.empty(count, np.float32)
        keep_largest(weights, index, weight, lost)
        order = np.argsort(-weights, axis=0, kind="stable")[:keep].T
        largest = np.take_along_axis(weights.T, order, axis=1)
        assert np.array_equal(np.where(largest > 0, index, 0), np.where(largest > 0, order, 0))
        assert np.allclose(weight, largest / largest.sum(axis=1, keepdims=True), atol=1e-6)
        assert np.allclose(lost, 1 - largest.sum(axis=1), atol=1e-6)


class TestCoverage:
    def test_the_frame_counts_what_it_says(self):
        weights = made_map(4, side=20, keep=2)
        table = weights.coverage(area=400.0)
        assert list(table.index) == list(weights.names)
        assert table["percent"].sum() == pytest.approx(100)
        assert table["square_metres"].sum() == pytest.approx(400)
        for name in weights.names:
            shown = weights.layer(name)
            assert table.loc[name, "percent"] == pytest.approx(100 * shown.mean(), abs=1e-4)
            assert table.loc[name, "texels"] == (shown > 0).sum()
            assert table.loc[name, "mean_weight"] == pytest.approx(shown[shown > 0].mean(), abs=1e-5)
        assert table["dominant_texels"].sum() == 400
        stack = np.stack([weights.layer(name) for name in weights.names])
        most = np.take_along_axis(stack, weights.dominant()[None].astype(int), axis=0)[0]
        assert np.array_equal(most, stack.max(axis=0))
        assert np.array_equal(weights.layers_per_texel(), (stack > 0).sum(axis=0))
        assert "square_metres" not in weights.coverage()
        assert weights.lost.max() / 255 == pytest.approx(weights.lost_worst, abs=1 / 255)


GREYS = {"black": "#000000", "grey": "#808080", "white": "#ffffff"}


class TestHardMaps:
    """Maps without antialiasing, with thin lines and third colours between two others."""

    def test_exact_key_colours_stay_what_they_are(self, tmp_path):
        """Even where a line of one texel has the very mixture of what lies on its sides."""
        rng = np.random.default_rng(4)
        label = rng.integers(0, 3, (48, 48))
        label[:, 24:] = np.where(np.arange(24) < 12, 0, 2)
        label[:, 36] = 1
        image = (np.array([0, 128, 255])[label][..., None] * np.ones(3)).astype(np.uint8)
        found = jq.adopt.colours(written(tmp_path, image)[0], GREYS).weights
        whole = found.layers[..., 0][found.weights[..., 0] == 255]
        assert whole.size == label.size
        assert np.array_equal(found.layers[..., 0], label)

    def test_mixtures_stand_only_beside_edges_that_have_some(self, tmp_path):
        image = np.zeros((16, 32, 3), np.uint8)
        image[:, 8:16], image[:, 24:] = 255, 255
        image[:, 23] = 128  # a line of grey, or an edge? nothing about it is blended
        image[:, 8] = 90  # an edge
        found = jq.adopt.colours(written(tmp_path, image)[0], GREYS).weights
        assert found.layers[4, 23, 0] == 1
        assert found.weights[4, 23].tolist() == [255, 0, 0]
        shares = dict(zip(found.layers[4, 8].tolist(), found.weights[4, 8].tolist(), strict=True))
        assert shares[2] == pytest.approx(90, abs=2)

    def test_a_refusal_says_which_tolerance_would_do(self, tmp_path):
        image = np.zeros((16, 16, 3), np.uint8)
        image[2:4, 2:4] = (0, 18, 0)
        with pytest.raises(RangeError, match=r"4 texels lie up to 18\.0 away; tolerance = 18 takes them, or name their layer"):
            jq.adopt.colours(written(tmp_path, image)[0], {"a": "#000000", "b": "#ff0000"})
        jq.adopt.colours(written(tmp_path, image)[0], {"a": "#000000", "b": "#ff0000"}, tolerance=18)
        with pytest.raises(RangeError, match="farther than key colours lie apart; name their layer"):
            jq.adopt.colours(written(tmp_path, image)[0], {"a": "#000000", "b": "#0a0000"})

    def test_the_numbers_of_a_palette_are_an_index_map(self, tmp_path):
        numbers = np.repeat(np.arange(3, dtype=np.uint8), 12).reshape(6, 6)
        picture = Image.new("P", (6, 6))
        picture.putpalette([9, 9, 9, 9, 9, 9, 200, 0, 0])  # two of them look alike
        picture.putdata(numbers.ravel().tolist())
        picture.save(tmp_path / "p.png")
        found = jq.adopt.index(tmp_path / "p.png", ["a", "b", "c"]).weights
        assert np.array_equal(found.layers[..., 0], numbers)
        keys = jq.adopt.keys_in(tmp_path / "p.png")
        assert (keys.form, keys.keys, keys.rest) == ("index", ("0", "1", "2"), 0)


class TestLook:
    def test_colours_with_shares_names_and_the_table(self, tmp_path, project):
        image = np.full((20, 20, 3), (210, 180, 140), np.uint8)
        image[:, 15:] = (40, 70, 160)
        image[0, 0] = (1, 255, 1)
        write_image(tmp_path / "keys.png", image)
        found = jq.adopt.keys_in(tmp_path / "keys.png")
        assert found.keys[:2] == ("#d2b48c", "#2846a0")
        assert found.shares[:2] == (299 / 400, 0.25)
        names = found.named({"water": (0.01, 0.05, 0.3), "sand": (0.6, 0.45, 0.25)})
        assert names[:2] == ["sand", "water"]
        code, out, _ = jquilt("adopt", project / "job.quilt.toml", "--look", tmp_path / "keys.png")
        assert code == 0
        assert "#d2b48c" in out
        assert "74.8 %" in out
        table = tomllib.loads(out[out.index("[adopt]") :])["adopt"]
        assert table["form"] == "colours"
        assert table["colours"][:2] == ["#d2b48c", "#2846a0"]
        assert (project / table["files"][0]).resolve() == (tmp_path / "keys.png").resolve()

    def test_mixtures_along_edges_are_no_keys(self, tmp_path):
        image, _ = painted()
        found = jq.adopt.keys_in(written(tmp_path, image)[0])
        assert set(found.keys) == set(COLOURS.values())
        table = tomllib.loads(found.table("a.png", found.named({})))["adopt"]
        again = jq.adopt.colours(tmp_path / "sheet_0.png", dict(zip(table["layers"], table["colours"], strict=True)))
        assert again.weights.layers.shape[:2] == image.shape[:2]

    def test_grey_numbers_are_an_index(self, tmp_path):
        write_image(tmp_path / "i.png", np.repeat(np.array([3, 7], np.uint8), [30, 10]).reshape(5, 8))
        found = jq.adopt.keys_in(tmp_path / "i.png")
        assert (found.form, found.keys, found.shares) == ("index", ("3", "7"), (0.75, 0.25))
        assert "numbers = [3, 7]" in found.table("i.png", found.named({}))
