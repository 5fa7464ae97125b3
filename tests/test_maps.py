"""Maps and swatches: files in and out as they are stored, roles told by the trade's words."""

import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jagged_quilt as jq
from conftest import made_maps
from jagged_quilt.errors import FileError, ImageError, RangeError, ShapeError
from jagged_quilt.foundation.colour import linear_from_srgb, srgb_encode_table, srgb_from_linear
from jagged_quilt.images import read_image, write_image
from jagged_quilt.maps.names import role_of_file

R = jq.MapRole


class TestImageFiles:
    @pytest.mark.parametrize("channels", [1, 2, 3, 4])
    @pytest.mark.parametrize(
        ("suffix", "kind"),
        [
            (".png", np.uint8),
            (".png", np.uint16),
            (".tif", np.uint8),
            (".tif", np.uint16),
            (".tif", np.float32),
            (".exr", np.float32),
        ],
    )
    def test_what_is_written_is_read_back_to_the_bit(self, tmp_path, channels, suffix, kind):
        """Alpha of 0 keeps its colour, 16 bits stay 16 bits."""
        rng = np.random.default_rng(channels)
        texels = rng.random((13, 7, channels)).astype(np.float32)
        if kind is not np.float32:
            texels = (texels * np.iinfo(kind).max).astype(kind)
        if channels in (2, 4):
            texels[::2, ::2, -1] = 0
        write_image(tmp_path / f"a{suffix}", texels)
        again = read_image(tmp_path / f"a{suffix}")
        assert again.dtype == kind
        assert np.array_equal(again, texels)

    @pytest.mark.parametrize("suffix", [".png", ".tif", ".exr"])
    def test_a_truncated_file_is_refused(self, tmp_path, suffix):
        whole, cut = tmp_path / f"whole{suffix}", tmp_path / f"cut{suffix}"
        write_image(
            whole,
            np.random.default_rng(0).random((64, 64, 3)).astype(np.float32)
            if suffix == ".exr"
            else np.random.default_rng(0).integers(0, 255, (64, 64, 3), dtype=np.uint8),
        )
        cut.write_bytes(whole.read_bytes()[: whole.stat().st_size // 2])
        with pytest.raises(ImageError, match="cut"):
            read_image(cut)

    def test_what_is_not_an_image_is_refused(self, tmp_path):
        (tmp_path / "a.png").write_text("not an image")
        with pytest.raises(ImageError, match=r"a\.png"):
            read_image(tmp_path / "a.png")
        with pytest.raises(ImageError, match="no such image"):
            read_image(tmp_path / "b.png")

    def test_nan_is_reported_with_its_place_and_refused_where_it_is_most(self, tmp_path):
        texels = np.ones((4, 5, 1), np.float32)
        texels[2, 3] = np.nan
        write_image(tmp_path / "a.exr", texels)
        with pytest.warns(jq.QuiltWarning, match=r"1 NaN.* row 2, column 3"):
            assert (read_image(tmp_path / "a.exr") == 1).all()
        texels[:3] = np.nan
        write_image(tmp_path / "a.exr", texels)
        with pytest.raises(RangeError, match=r"15 NaN .* row 0, column 0"):
            read_image(tmp_path / "a.exr")

    def test_a_failed_write_leaves_what_was_there(self, tmp_path):
        path = tmp_path / "a.png"
        write_image(path, np.zeros((2, 2, 1), np.uint8))
        before = path.read_bytes()
        with pytest.raises(FileError):
            write_image(tmp_path / "a.nope", np.zeros((2, 2, 1), np.uint8))
        with pytest.raises(ShapeError):
            write_image(path, np.zeros((2, 2, 1), np.int64))
        assert path.read_bytes() == before
        assert [p.name for p in tmp_path.iterdir()] == ["a.png"]


class TestRoles:
    @pytest.mark.parametrize(
        ("name", "role"),
        [
            ("clay_diffuse.png", R.DIFFUSE),
            ("Clay-BaseColor_2k.PNG", R.DIFFUSE),
            ("rough_stone_albedo.tga", R.DIFFUSE),
            ("x_base_color.jpg", R.DIFFUSE),
            ("x_nrm.png", R.NORMAL),
            ("RockNormal.tif", R.NORMAL),
            ("a.roughness.exr", R.ROUGHNESS),
            ("salt_spec_4096x4096.png", R.SPECULAR),
            ("salt height.png", R.HEIGHT),
            ("salt_disp_1k.tif", R.HEIGHT),
            ("AO.png", R.OCCLUSION),
            ("wall_ambient_occlusion.png", R.OCCLUSION),
            ("notes.png", None),
            ("colourful.png", None),
        ],
    )
    def test_words_in_a_file_name_tell_the_role(self, name, role):
        assert role_of_file(Path(name)) is role

    def test_srgb_bytes_survive_decoding_and_encoding(self):
        table = srgb_encode_table()
        assert np.array_equal(table[np.rint(linear_from_srgb(np.arange(256) / 255) * 8191).astype(int)], np.arange(256))

    @given(st.floats(0, 1, width=32))
    def test_the_transfer_curve_and_its_inverse_cancel(self, value):
        plain = np.array([value], np.float32)
        assert abs(linear_from_srgb(srgb_from_linear(plain)) - plain) < 2e-6


class TestTextureMap:
    def test_values_mean_what_the_role_says(self):
        grey = np.full((1, 1, 3), 188, np.uint8)
        assert jq.TextureMap(role=R.DIFFUSE, texels=grey).values[0, 0, 0] == pytest.approx(0.5029, abs=1e-4)
        assert jq.TextureMap(role=R.ROUGHNESS, texels=grey).values[0, 0, 0] == pytest.approx(188 / 255)
        normal = jq.TextureMap(role=R.NORMAL, texels=np.array([[[255, 128, 128]]], np.uint8)).values
        assert np.linalg.norm(normal) == pytest.approx(1, abs=1e-6)

    def test_alpha_is_left_out_and_grey_spreads_to_colour(self):
        assert jq.TextureMap(role=R.DIFFUSE, texels=np.zeros((2, 2, 4), np.uint8)).texels.shape == (2, 2, 3)
        assert jq.TextureMap(role=R.DIFFUSE, texels=np.zeros((2, 2), np.uint8)).texels.shape == (2, 2, 3)

    def test_what_cannot_play_the_role_is_refused(self):
        colourful = np.zeros((2, 2, 3), np.uint8)
        colourful[..., 0] = 8
        nearly = jq.TextureMap(role=R.HEIGHT, texels=colourful)
        assert (nearly.texels == 3).all()  # as JPEG makes of a grey
        colourful[..., 0] = 60
        with pytest.raises(ShapeError, match="must be grey"):
            jq.TextureMap(role=R.HEIGHT, texels=colourful)
        with pytest.raises(ShapeError, match="needs 3 channels; got 1"):
            jq.TextureMap(role=R.NORMAL, texels=np.zeros((2, 2), np.uint8))
        with pytest.raises(RangeError):
            jq.TextureMap(role=R.HEIGHT, texels=np.full((2, 2), np.nan, np.float32))

    def test_it_owns_its_texels(self):
        texels = np.zeros((2, 2, 3), np.uint8)
        made = jq.TextureMap(role=R.DIFFUSE, texels=texels)
        texels[:] = 7
        assert made.texels.max() == 0
        with pytest.raises(ValueError, match="read-only"):
            made.texels[:] = 1


class TestSwatch:
    def write(self, folder, *names):
        for name in names:
            write_image(folder / name, np.full((2, 2, 3), (128, 128, 255), np.uint8))

    def test_a_folder_is_read_and_what_is_missing_is_reported(self, tmp_path):
        self.write(tmp_path / "old_clay", "old_clay_diffuse.png", "old_clay_nrm.png", "readme_picture.png")
        swatch = jq.read_swatch(tmp_path / "old_clay", tile=2)
        assert (swatch.name, set(swatch.maps)) == ("old clay", {R.DIFFUSE, R.NORMAL})
        assert set(swatch.missing) == {R.ROUGHNESS, R.SPECULAR, R.HEIGHT, R.OCCLUSION}
        assert [p.name for p in swatch.unused] == ["readme_picture.png"]
        assert [s.name for s in jq.read_swatches(tmp_path)] == ["old clay"]

    def test_two_files_for_one_role_and_no_diffuse_are_refused(self, tmp_path):
        self.write(tmp_path / "a", "a_diffuse.png", "a_albedo.png")
        self.write(tmp_path / "b", "b_normal.png")
        with pytest.raises(FileError, match=r"both a_albedo\.png and a_diffuse\.png"):
            jq.read_swatch(tmp_path / "a", tile=1)
        with pytest.raises(ShapeError, match='"b" has no diffuse map'):
            jq.read_swatch(tmp_path / "b", tile=1)
        with pytest.raises(RangeError, match="tile must be above 0 m"):
            jq.Swatch(name="c", tile=0, relief=1, maps=made_maps(0))


class TestWritten:
    @pytest.mark.parametrize(
        ("suffix", "kind"), [(".png", np.uint16), (".tif", np.uint8), (".tif", np.float32), (".exr", np.float32)]
    )
    def test_the_same_image_has_the_same_bytes_at_any_time(self, tmp_path, suffix, kind):
        """What tells the time of day would make every hash of a file another."""
        texels = (np.random.default_rng(1).random((5, 7, 3)) * (1 if kind is np.float32 else 200)).astype(kind)
        written = []
        for number in range(2):
            path = tmp_path / f"{number}{suffix}"
            write_image(path, texels)
            written.append(path.read_bytes())
            time.sleep(1.1 * (number == 0))
        assert written[0] == written[1]
        assert np.array_equal(read_image(tmp_path / f"0{suffix}"), texels)

    def test_what_was_there_stays_where_nothing_can_be_written(self, tmp_path):
        write_image(tmp_path / "a.png", np.zeros((2, 2), np.uint8))
        with pytest.raises(ShapeError, match="texels must be"):
            write_image(tmp_path / "a.png", np.zeros((2, 2), np.int32))
        assert not read_image(tmp_path / "a.png").any()
