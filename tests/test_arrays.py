"""Packing: what goes in comes out, mips mean what the full size means, nothing is done twice."""

import dataclasses
import json
import os
import time

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jagged_quilt as jq
from conftest import made_maps, made_swatch
from jagged_quilt.arrays.layout import LAYOUTS, layout_named
from jagged_quilt.arrays.mips import normal_levels, opacity_levels, surface_levels, value_levels
from jagged_quilt.arrays.resize import resized
from jagged_quilt.codecs.ktx2 import Ktx2File
from jagged_quilt.codecs.pixel_formats import PixelFormat
from jagged_quilt.errors import FileError
from jagged_quilt.images import read_image, write_image

R = jq.MapRole
SIX = jq.SURFACE_ROLES


def plain(swatch, *roles):
    """The swatch with only some of its maps."""
    return jq.Swatch(name=swatch.name, tile=swatch.tile, relief=swatch.relief, maps={r: swatch.maps[r] for r in roles})


class TestPack:
    def test_every_role_comes_back_within_its_rounding(self):
        swatches = [made_swatch("a", 1), made_swatch("b", 2)]
        arrays = jq.pack(swatches, side=16)
        for swatch in swatches:
            for role in SIX:
                apart = np.abs(arrays.values(swatch.name, role) - swatch.maps[role].values)
                assert apart.max() < (0.03 if role is R.NORMAL else 1e-6), role

    @given(
        st.lists(
            st.sampled_from(
                [
                    "diffuse.r",
                    "diffuse.g",
                    "diffuse.b",
                    "specular.r",
                    "specular.g",
                    "specular.b",
                    "normal.x",
                    "normal.y",
                    "normal.z",
                    "roughness",
                    "1 - roughness",
                    "height",
                    "1 - height",
                    "occlusion",
                    "opacity",
                    0.25,
                    1.0,
                ]
            ),
            min_size=1,
            max_size=4,
        ),
        st.sampled_from(["unorm8", "unorm16", "half"]),
    )
    @settings(max_examples=40, deadline=None)
    def test_any_layout_gives_back_what_went_in(self, channels, kind):
        """PathGuard half a step of the format, in the encoding in which it is stored."""
        if all(not isinstance(each, str) for each in channels):
            return
        pixels = {each.key: each for each in PixelFormat}[kind]
        layout = jq.layout_of("mine", channels, pixels)
        swatch = made_swatch("a", 3)
        arrays = jq.pack([swatch], side=16, layouts=[layout])
        stored = arrays.texels("mine", "a").astype(float) / pixels.top
        step = {"unorm8": 0.501 / 255, "unorm16": 0.51 / 65535, "half": 6e-4}[kind]
        for place, channel in enumerate(layout.channels):
            if channel.role is None:
                wanted = np.full((16, 16), channel.constant)
            else:
                values = swatch.maps[channel.role].values if channel.role in swatch.maps else np.ones((16, 16, 1))
                wanted = values[..., channel.component].astype(float)
                if channel.role is R.NORMAL and kind != "half":
                    wanted = wanted * 0.5 + 0.5
                if channel.inverted:
                    wanted = 1 - wanted
                if layout.srgb and place < 3:
                    wanted = np.where(wanted <= 0.0031308, wanted * 12.92, 1.055 * np.maximum(wanted, 0) ** (1 / 2.4) - 0.055)
            assert np.abs(stored[..., place] - wanted).max() <= step, str(channel)

    def test_layouts_are_srgb_only_where_all_is_colour(self):
        assert {name: layout.srgb for name, layout in LAYOUTS.items()} == {
            "diffuse_height": True,
            "normal_roughness_occlusion": False,
            "specular": True,
            "emission_coat": True,
            "coat_normal_roughness": False,
            "opacity": False,
            "diffuse": True,
            "diffuse_opacity": True,
            "normal": False,
            "occlusion_roughness_metallic": False,
            "specular_gloss": True,
            "height": False,
            "fine": False,
        }
        assert not jq.layout_of("a", ["diffuse.r", "diffuse.g", "height"]).srgb
        assert not layout_named("diffuse").in_format(PixelFormat.HALF).srgb

    @pytest.mark.parametrize(
        ("channels", "words"),
        [
            (["diffuse"], "diffuse.r, diffuse.g"),
            (["roughness.r"], "one channel"),
            (["rough"], 'did you mean "roughness"'),
            (["1 - "], "written like"),
            ([1.5], "from 0 to 1"),
            ([0.5], "no channel holds a map"),
        ],
    )
    def test_a_layout_that_cannot_be_is_refused(self, channels, words):
        with pytest.raises(jq.QuiltError, match=words):
            jq.layout_of("a", channels)
        with pytest.raises(jq.QuiltError, match="bc5 holds 2 channels; got 1"):
            layout_named("height").in_format(PixelFormat.BC5)

    def test_what_is_missing_is_neutral(self):
        arrays = jq.pack([plain(made_swatch("a"), R.DIFFUSE)], side=4)
        for role in set(SIX) - {R.DIFFUSE}:
            assert np.allclose(arrays.values("a", role), role.value.neutral, atol=1.01 / 255), role

    def test_the_same_content_is_stored_once(self):
        one, two = made_swatch("a", 1), made_swatch("b", 1, tile=5)
        other = jq.Swatch(name="c", tile=1, relief=1, maps={**one.maps, R.SPECULAR: made_maps(9)[R.SPECULAR]})
        arrays = jq.pack([one, other, two], side=16)
        assert [each.slices for each in arrays.facts] == [
            {"diffuse_height": 0, "normal_roughness_occlusion": 0, "specular": 0},
            {"diffuse_height": 0, "normal_roughness_occlusion": 0, "specular": 1},
            {"diffuse_height": 0, "normal_roughness_occlusion": 0, "specular": 0},
        ]
        assert np.array_equal(arrays.values("c", R.SPECULAR), jq.pack([other], side=16).values("c", R.SPECULAR))

    def test_the_same_bytes_on_one_thread_and_two(self):
        swatches = [made_swatch(str(n), n) for n in range(5)]
        one, two = (jq.pack(swatches, side=32, work=jq.Work(threads=threads)) for threads in (1, 2))
        assert all(np.array_equal(one.level(n), two.level(n)) for n in ("diffuse_height", "normal_roughness_occlusion"))

    def test_sizes_are_refused_or_reported(self):
        with pytest.raises(jq.QuiltError, match="nearest: 256 or 512"):
            jq.pack([made_swatch("a")], side=300)
        with pytest.raises(jq.QuiltError, match='two swatches are called "a"'):
            jq.pack([made_swatch("a"), made_swatch("a")], side=16)
        with pytest.raises(jq.QuiltError, match="up to 2048 slices"):
            jq.pack([made_swatch(str(n), side=1) for n in range(2049)], side=1)
        wide = jq.TextureMap(role=R.DIFFUSE, texels=np.zeros((4, 8, 3), np.uint8))
        with pytest.warns(jq.QuiltWarning, match="stretched"):
            jq.pack([jq.Swatch(name="w", tile=1, relief=1, maps={R.DIFFUSE: wide})], side=4)

    def test_a_blend_reads_any_layout(self):
        """Whatever the formats: the same texels within their rounding, through layouts that carry the same roles."""
        swatch = made_swatch("a", 4)
        straight = jq.pack([swatch], side=16)
        wide = [
            jq.layout_of("n", ["normal.y", "normal.x", "1 - roughness", "height"], PixelFormat.UNORM16),
            jq.layout_of("d", ["diffuse.r", "diffuse.g", "diffuse.b"], PixelFormat.HALF),
            jq.layout_of("s", ["specular.r", "specular.g", "specular.b", "occlusion"]),
        ]
        pages, wanted = jq.pack([swatch], side=16, layouts=wide).open(["a"]), straight.open(["a"])
        assert [each.name for each in pages.layouts] == [*(each.name for each in wanted.layouts), "fine"]
        rounded = np.ascontiguousarray(pages.texels[:, :-1]).view(np.uint8).astype(int)
        assert np.abs(rounded - wanted.texels.view(np.uint8)).max() <= 1


class TestOnDisk:
    def test_texels_in_a_file_are_those_in_memory_and_leave_nothing(self, tmp_path, monkeypatch):
        arrays = jq.pack([made_swatch("a", 1), made_swatch("b", 2)], side=16)
        held, lying = arrays.open(), arrays.open(folder=tmp_path / "scratch")
        assert np.array_equal(held.texels, lying.texels)
        assert not lying.texels.flags.writeable
        assert list((tmp_path / "scratch").iterdir()) == []
        points = jq.Points.of(np.random.default_rng(3).uniform(0, 9, (40, 3)), np.tile([0.0, 1.0, 0.0], (40, 1)))
        one, two = (jq.Blend(each, [jq.Layer("b")]).at(points, jq.PointWeights.all_of("b", 40)) for each in (held, lying))
        assert np.array_equal(one.values, two.values)

        def full(*given):
            raise OSError(28, "No space left on device")

        monkeypatch.setattr("os.posix_fallocate", full)
        with pytest.raises(jq.QuiltError, match=r"scratch: no room for 0 MiB: No space left"):
            arrays.open(folder=tmp_path / "scratch")


class TestMips:
    def test_they_are_means_in_linear_light_and_of_vectors(self):
        swatch = made_swatch("a", 3, side=16)
        arrays = jq.pack([swatch], side=16)
        for role in (R.DIFFUSE, R.HEIGHT):
            mean = swatch.maps[role].values.astype(float).reshape(4, 4, 4, 4, -1).mean(axis=(1, 3))
            slope = 0.009 if role is R.DIFFUSE else 0.0025  # half an 8-bit step, in linear light at its widest
            assert np.abs(arrays.values("a", role, 2) - mean).max() < slope
        vectors = swatch.maps[R.NORMAL].values.astype(float).reshape(4, 4, 4, 4, 3).mean(axis=(1, 3))
        vectors /= np.linalg.norm(vectors, axis=2, keepdims=True)
        assert np.abs(arrays.values("a", R.NORMAL, 2) - vectors).max() < 0.012
        for level in range(5):
            assert np.abs(np.linalg.norm(arrays.values("a", R.NORMAL, level), axis=2) - 1).max() < 1e-5

    def test_a_larger_map_is_halved_down_as_its_own_mips(self):
        swatch = made_swatch("a", 3, side=64)
        small, large = jq.pack([swatch], side=16), jq.pack([swatch], side=64)
        for role in SIX:
            assert np.array_equal(small.values("a", role, 1), large.values("a", role, 3)), role

    @given(st.integers(0, 10**6), st.floats(0.0, 1.2))
    @settings(max_examples=15, deadline=None)
    def test_roughness_grows_by_what_normals_lose(self, seed, steep):
        """Against a float64 sum of the four lobes above each texel; never narrower than the narrowest, flat stays as it is."""
        rng = np.random.default_rng(seed)
        slopes = rng.normal(0, steep, (8, 8, 2))
        normals = np.concatenate([slopes, np.ones((8, 8, 1))], 2)
        normals /= np.linalg.norm(normals, axis=2, keepdims=True)
        rough = rng.uniform(0.1, 0.9, (8, 8, 1))
        chain, widened = surface_levels(normals.astype(np.float32), rough.astype(np.float32), 8)
        for n in range(3):
            fine, coarse = chain[n].astype(float), chain[n + 1].astype(float)
            lobes = width = along = 0
            for down in (0, 1):
                for right in (0, 1):
                    cosine = (fine[down::2, right::2] * coarse).sum(2)
                    a2 = widened[n][down::2, right::2, 0].astype(float) ** 4
                    lobes = lobes + a2 / (1 - cosine**2 + cosine**2 * a2) ** 2 / 4
                    width, along = width + a2 / 4, along + cosine / 4
            wanted = np.minimum(np.minimum(1 / lobes, width + 2 * (1 - along) / along), 1) ** 0.25
            assert np.abs(widened[n + 1][..., 0] - wanted).max() < 2e-4
        flat = np.broadcast_to(np.array([0, 0, 1], np.float32), (8, 8, 3)).copy()
        same = surface_levels(flat, np.full((8, 8, 1), 0.3, np.float32), 8)[1]
        assert all(np.allclose(level, 0.3, atol=1e-4) for level in same)

    def test_a_cutout_keeps_its_coverage(self):
        rng = np.random.default_rng(0)
        mask = np.clip(4 * resized(rng.random((8, 8, 1)).astype(np.float32), 64, 64) - 2.0, 0, 1)
        covered = (mask >= 0.5).mean()
        simple = value_levels(mask, 64)
        for level, plain_level in list(zip(opacity_levels(mask, 64), simple, strict=True))[1:5]:
            assert abs((level >= 0.5).mean() - covered) <= 1.01 / level.size + 1e-6
            assert level.min() >= 0
            assert level.max() <= 1
            assert level.shape == plain_level.shape
        assert opacity_levels(np.ones((4, 4, 1), np.float32), 4)[2][0, 0, 0] == 1

    def test_a_windowed_sinc_is_sharper_wraps_and_never_leaves_the_range(self):
        rng = np.random.default_rng(0)
        values = (rng.random((32, 32, 2)) > 0.5).astype(np.float32)
        sharp = value_levels(values, 32, "lanczos")
        assert all(level.min() >= 0 and level.max() <= 1 for level in sharp)
        rolled = value_levels(np.roll(values, (8, 16), (0, 1)), 32, "lanczos")[2]
        assert np.allclose(rolled, np.roll(sharp[2], (2, 4), (0, 1)), atol=1e-6)
        v, u = np.mgrid[:32, :32] / 32 * 2 * np.pi
        wave = (0.5 + 0.4 * np.sin(3 * u) * np.cos(2 * v))[..., None].astype(np.float32)
        halved, box = value_levels(wave, 32, "lanczos")[1], value_levels(wave, 32)[1]
        v, u = (np.mgrid[:16, :16] + 0.5) / 16 * 2 * np.pi - np.pi / 32
        assert np.abs(halved[..., 0] - (0.5 + 0.4 * np.sin(3 * u) * np.cos(2 * v))).max() < 0.01  # a slow wave is kept
        assert halved.std() > 1.02 * box.std()
        assert len(normal_levels(np.dstack([values, values[..., :1] + 1]), 32, "lanczos")) == 6

    def test_resizing_wraps_keeps_the_mean_and_never_rings(self):
        values = np.random.default_rng(0).random((12, 20, 2)).astype(np.float32)
        for kernel in ("tent", "lanczos"):
            for rows, columns in ((5, 7), (12, 33), (24, 40), (6, 10)):
                out = resized(values, rows, columns, kernel=kernel)
                assert out.min() >= values.min() - 1e-6
                assert out.max() <= values.max() + 1e-6
                rolled = resized(np.roll(values, 6, 0), 6, 10, kernel=kernel)
                assert np.allclose(rolled, np.roll(resized(values, 6, 10, kernel=kernel), 3, 0), atol=1e-6)
        assert resized(values, 6, 10).mean() == pytest.approx(values.mean(), abs=1e-6)

    @pytest.mark.parametrize("kernel", ["tent", "lanczos"])
    @pytest.mark.parametrize("edge", ["wrap", "clamp"])
    @pytest.mark.parametrize(("given", "wanted"), [(12, 5), (5, 12), (9, 9), (16, 4), (7, 1)])
    def test_resizing_is_a_plain_sum_over_taps(self, kernel, edge, given, wanted):
        """In float64: a tent of the larger texel, or a windowed sinc of it."""
        values = np.random.default_rng(given).random((given, 3, 1)).astype(np.float32)
        scale = max(1.0, given / wanted)
        for row in range(wanted):
            centre = (row + 0.5) * given / wanted - 0.5
            total = weight = 0.0
            for tap in range(-3 * given, 4 * given):
                away = abs(tap - centre) / scale
                share = max(0.0, 1 - away) if kernel == "tent" else np.sinc(away) * np.sinc(away / 3) * (away < 3)
                at = tap % given if edge == "wrap" else min(max(tap, 0), given - 1)
                total, weight = total + share * values[at, 1, 0], weight + share
            sum_of_taps = values[row, 1, 0] if given == wanted else np.clip(total / weight, values.min(), values.max())
            assert resized(values, wanted, 3, edge=edge, kernel=kernel)[row, 1, 0] == pytest.approx(sum_of_taps, abs=1e-6)


@pytest.fixture
def folders(tmp_path):
    """Three swatch folders of random maps, and their sources."""
    for seed, name in enumerate("abc"):
        for role, each in made_maps(seed).items():
            write_image(tmp_path / "in" / name / f"{name}_{role.key}.png", np.array(each.texels))
    old = time.time() - 60
    for path in (tmp_path / "in").rglob("*.png"):
        os.utime(path, (old, old))
    return tmp_path


def sources(folder):
    return [jq.SwatchSource(name=n, folder=folder / "in" / n, tile=2.0) for n in "abc"]


class TestFiles:
    def test_saved_arrays_load_to_the_byte(self, tmp_path):
        arrays = jq.pack([made_swatch("a", 1), made_swatch("b", 2, tile=3.5)], side=16)
        for zstd in (True, False):
            arrays.save(tmp_path, zstd=zstd)
            again = jq.open_arrays(tmp_path)
            for layout in arrays.layouts:
                for level in range(5):
                    assert np.array_equal(again.level(layout.name, level), arrays.level(layout.name, level))
            assert (again.names, again.tiles, again.layouts) == (arrays.names, arrays.tiles, arrays.layouts)

    def test_loaded_arrays_can_be_saved_elsewhere(self, tmp_path):
        jq.pack([made_swatch("a", 1)], side=16).save(tmp_path / "one")
        jq.open_arrays(tmp_path / "one").save(tmp_path / "two")
        assert all((tmp_path / "two" / p.name).read_bytes() == p.read_bytes() for p in (tmp_path / "one").glob("*.ktx2"))

    def test_what_was_derived_is_forgotten_once_there_is_a_file(self, folders):
        normal = folders / "in" / "a" / "a_normal.png"
        given = normal.read_bytes()
        normal.unlink()
        jq.pack_files(sources(folders), folders / "out", side=16)
        assert "normal" in jq.open_arrays(folders / "out").facts[0].derived
        normal.write_bytes(given)
        jq.pack_files(sources(folders), folders / "out", side=16)
        assert jq.open_arrays(folders / "out").facts[0].derived == {}

    @pytest.mark.parametrize("format", ["bc1", "bc3", "bc7", "unorm16", "half"])
    def test_formats_are_kept_in_files_and_what_blocks_cost_is_reported(self, folders, format):
        pixels = {each.key: each for each in PixelFormat}[format]
        channels = ["diffuse.r", "diffuse.g", "diffuse.b"] + (["height"] if format != "bc1" else [])
        layouts = [jq.layout_of("d", channels, pixels), layout_named("normal").in_format(PixelFormat.BC5)]
        jq.pack_files(sources(folders), folders / "out", side=16, layouts=layouts)
        arrays = jq.open_arrays(folders / "out")
        direct = jq.pack(sources(folders), side=16, layouts=layouts)
        assert all(np.array_equal(arrays.level(n, 1), direct.level(n, 1)) for n in ("d", "normal"))
        assert Ktx2File(folders / "out" / "d.ktx2").head.srgb == format.startswith("bc")
        assert ("psnr_db" in arrays.facts[0].quality.get("d", {})) == format.startswith("bc")
        assert arrays.facts[2].quality["normal"]["mean_degrees"] > 0
        assert arrays.facts == direct.facts

    def test_one_changed_file_repacks_one_slice_of_the_arrays_that_hold_it(self, folders):
        def run(**more):
            made = jq.pack_files(sources(folders), folders / "out", side=16, **more)
            return made.made, made.kept

        assert run() == (9, 0)
        first = {p.name: p.read_bytes() for p in (folders / "out").glob("*.ktx2")}
        assert run() == (0, 9)
        write_image(folders / "in" / "b" / "b_height.png", np.zeros((16, 16), np.uint8))
        assert run() == (1, 8)
        second = {p.name: p.read_bytes() for p in (folders / "out").glob("*.ktx2")}
        assert {name for name in first if first[name] != second[name]} == {"diffuse_height.ktx2"}
        write_image(folders / "in" / "b" / "b_normal.png", np.full((16, 16, 3), 128, np.uint8))
        assert run() == (1, 8)  # roughness is widened by its normals
        assert run(mips="lanczos") == (9, 0)
        assert run(mips="lanczos", force=True) == (9, 0)
        run()
        fresh = jq.pack_files(sources(folders), folders / "fresh", side=16)
        assert all((folders / "out" / p.name).read_bytes() == p.read_bytes() for p in fresh.files)

    def test_slices_are_written_as_images_too(self, folders):
        layouts = [
            layout_named("diffuse"),
            layout_named("height").in_format(PixelFormat.UNORM16),
            layout_named("normal").in_format(PixelFormat.HALF),
        ]
        arrays = jq.pack([*sources(folders)], side=16, layouts=layouts)
        files = arrays.save_images(folders / "images")
        assert len(files) == 3 * 3 * 5 + 1
        assert np.array_equal(
            read_image(folders / "images" / "diffuse" / "0001_b_m2.png"), arrays.texels("diffuse", "b", 2)[..., :3]
        )
        assert read_image(folders / "images" / "height" / "0002_c_m0.png").dtype == np.uint16
        assert np.array_equal(read_image(folders / "images" / "normal" / "0000_a_m1.exr"), arrays.texels("normal", "a", 1))
        assert json.loads((folders / "images" / "slices.json").read_text())["slices"][1]["slice"]["height"] == 1

    def test_what_does_not_fit_together_is_refused(self, folders):
        jq.pack_files(sources(folders), folders / "out", side=16)
        (folders / "out" / "specular.ktx2").write_bytes((folders / "out" / "diffuse_height.ktx2").read_bytes()[:-9])
        with pytest.raises(FileError, match="pack again"):
            jq.open_arrays(folders / "out").check()
        jq.pack_files(sources(folders), folders / "eight", side=8)
        (folders / "out" / "specular.ktx2").write_bytes((folders / "eight" / "specular.ktx2").read_bytes())
        with pytest.raises(FileError, match=r"not what arrays\.json tells; pack again"):
            jq.open_arrays(folders / "out")
        (folders / "out" / "specular.ktx2").unlink()
        with pytest.raises(FileError, match="no such KTX2 file"):
            jq.open_arrays(folders / "out")


class TestFactsOfSwatches:
    def test_pages_of_another_aspect_have_another_digest(self):
        """Or a store would keep the pages of before."""
        square, oblong = (dataclasses.replace(made_swatch("a"), aspect=aspect) for aspect in (1.0, 2.0))
        digests = {jq.pack([each], side=16, work=jq.Work(threads=1)).open().digest("a") for each in (square, oblong, square)}
        assert len(digests) == 2

    def test_what_is_no_swatch_is_refused_by_what_it_lacks(self):
        class Bare:
            name, size, relief, roles = "a", 1.0, 0.1, frozenset()

        with pytest.raises(jq.QuiltError, match="got Bare, which has no aspect, stamp, read"):
            jq.pack([Bare()])

    def test_formats_go_by_their_names(self):
        assert jq.layout_of("n", ["normal.x"], "unorm16").pixels.key == "unorm16"
        with pytest.raises(jq.QuiltError, match='no pixel format is called "unorm17"; did you mean "unorm16"'):
            jq.layout_of("n", ["normal.x"], "unorm17")
