"""Packing: what goes in comes out, mips mean what the full size means, files are what the standard says."""

import contextlib
import struct

import numpy as np
import pytest
import zstandard

import jagged_quilt as jq
from conftest import made_maps, made_swatch
from jagged_quilt.arrays.ktx2 import Ktx2, read_ktx2, write_ktx2
from jagged_quilt.arrays.resize import resized
from jagged_quilt.foundation.errors import FileError

R = jq.MapRole


class TestPack:
    def test_every_role_comes_back_within_its_rounding(self):
        swatches = [made_swatch("a", 1), made_swatch("b", 2)]
        arrays = jq.pack(swatches, texels=16)
        for swatch in swatches:
            for role in R:
                apart = np.abs(arrays.values(swatch.name, role) - swatch.maps[role].values)
                assert apart.max() < (0.03 if role is R.NORMAL else 1e-6), role

    def test_what_is_missing_is_neutral(self):
        bare = jq.Swatch(name="a", tile=1, relief=1, maps={R.DIFFUSE: made_maps(0)[R.DIFFUSE]})
        arrays = jq.pack([bare], texels=4)
        for role in set(R) - {R.DIFFUSE}:
            assert np.allclose(arrays.values("a", role), role.value.neutral, atol=1.01 / 255), role

    def test_mips_are_means_in_linear_light_and_of_vectors(self):
        swatch = made_swatch("a", 3, side=16)
        arrays = jq.pack([swatch], texels=16)
        for role in (R.DIFFUSE, R.HEIGHT, R.ROUGHNESS):
            mean = swatch.maps[role].values.astype(float).reshape(4, 4, 4, 4, -1).mean(axis=(1, 3))
            slope = 0.009 if role is R.DIFFUSE else 0.0025  # half an 8-bit step, in linear light at its widest
            assert np.abs(arrays.values("a", role, 2) - mean).max() < slope
        vectors = swatch.maps[R.NORMAL].values.astype(float).reshape(4, 4, 4, 4, 3).mean(axis=(1, 3))
        vectors /= np.linalg.norm(vectors, axis=2, keepdims=True)
        assert np.abs(arrays.values("a", R.NORMAL, 2) - vectors).max() < 0.012
        for level in range(5):
            assert np.abs(np.linalg.norm(arrays.values("a", R.NORMAL, level), axis=2) - 1).max() < 1e-5

    def test_the_same_bytes_on_one_thread_and_two(self):
        swatches = [made_swatch(str(n), n) for n in range(5)]
        assert np.array_equal(jq.pack(swatches, texels=32, threads=1).texels, jq.pack(swatches, texels=32, threads=2).texels)

    def test_sizes_are_refused_or_told(self):
        with pytest.raises(jq.QuiltError, match="nearest: 256 or 512"):
            jq.pack([made_swatch("a")], texels=300)
        with pytest.raises(jq.QuiltError, match="pack at 4096"):
            jq.pack([made_swatch(str(n)) for n in range(30)], texels=8192)
        with pytest.raises(jq.QuiltError, match='two swatches are called "a"'):
            jq.pack([made_swatch("a"), made_swatch("a")], texels=16)
        wide = jq.TextureMap(role=R.DIFFUSE, texels=np.zeros((4, 8, 3), np.uint8))
        with pytest.warns(jq.QuiltWarning, match="stretched"):
            jq.pack([jq.Swatch(name="w", tile=1, relief=1, maps={R.DIFFUSE: wide})], texels=4)

    def test_resizing_wraps_keeps_the_mean_and_never_rings(self):
        values = np.random.default_rng(0).random((12, 20, 2)).astype(np.float32)
        for rows, columns in ((5, 7), (12, 33), (24, 40), (6, 10)):
            out = resized(values, rows, columns)
            assert out.min() >= values.min() - 1e-6
            assert out.max() <= values.max() + 1e-6
            assert np.allclose(resized(np.roll(values, 6, 0), 6, 10), np.roll(resized(values, 6, 10), 3, 0), atol=1e-6)
        assert resized(values, 6, 10).mean() == pytest.approx(values.mean(), abs=1e-6)

    @pytest.mark.parametrize("edge", ["wrap", "clamp"])
    @pytest.mark.parametrize(("given", "wanted"), [(12, 5), (5, 12), (9, 9), (16, 4), (7, 1)])
    def test_resizing_is_a_tent_of_the_larger_texel(self, edge, given, wanted):
        """Against a plain sum over taps in float64."""
        values = np.random.default_rng(given).random((given, 3, 1)).astype(np.float32)
        radius = max(1.0, given / wanted)
        for row in range(wanted):
            centre = (row + 0.5) * given / wanted - 0.5
            total = weight = 0.0
            for tap in range(-2 * given, 3 * given):
                share = max(0.0, 1 - abs(tap - centre) / radius)
                at = tap % given if edge == "wrap" else min(max(tap, 0), given - 1)
                total, weight = total + share * values[at, 1, 0], weight + share
            assert resized(values, wanted, 3, edge=edge)[row, 1, 0] == pytest.approx(total / weight, abs=1e-6)


class TestFiles:
    def test_saved_arrays_load_to_the_byte(self, tmp_path):
        arrays = jq.pack([made_swatch("a", 1), made_swatch("b", 2, tile=3.5)], texels=16)
        arrays.save(tmp_path)
        again = jq.TextureArrays.load(tmp_path)
        assert np.array_equal(again.texels, arrays.texels)
        assert (again.names, again.tiles, again.layouts) == (arrays.names, arrays.tiles, arrays.layouts)

    def test_ktx2_fields_lie_where_the_standard_puts_them(self, tmp_path):
        """Read here by hand, from the standard's own table."""
        level = np.arange(3 * 4 * 4 * 4, dtype=np.uint8).reshape(3, 4, 4, 4)
        write_ktx2(tmp_path / "a.ktx2", Ktx2([level, level[:, :2, :2]], True, {"b": "two", "a": "one"}))
        data = (tmp_path / "a.ktx2").read_bytes()
        assert data[:12] == bytes([0xAB, 0x4B, 0x54, 0x58, 0x20, 0x32, 0x30, 0xBB, 0x0D, 0x0A, 0x1A, 0x0A])
        assert struct.unpack_from("<9I", data, 12) == (43, 1, 4, 4, 0, 3, 1, 2, 2)  # VK_FORMAT_R8G8B8A8_SRGB ... zstd
        dfd_at, dfd_length, kvd_at, kvd_length = struct.unpack_from("<4I", data, 48)
        assert dfd_at == 80 + 2 * 24
        total, _, version, block = struct.unpack_from("<IIHH", data, dfd_at)
        assert (total, version, block) == (dfd_length, 2, 24 + 4 * 16)
        assert data[dfd_at + 12 : dfd_at + 16] == bytes([1, 1, 2, 0])  # RGBSDA, BT.709, sRGB, straight alpha
        assert data[dfd_at + 28 + 3 * 16 + 3] == 15 | 0x10  # alpha, linear
        assert kvd_at == dfd_at + dfd_length
        keys = data[kvd_at : kvd_at + kvd_length]
        assert keys.index(b"KTXorientation") < keys.index(b"KTXwriter") < keys.index(b"a\0one") < keys.index(b"b\0two")
        offset, length, whole = struct.unpack_from("<3Q", data, 80)
        assert zstandard.decompress(data[offset : offset + length], max_output_size=whole) == level.tobytes()
        again = read_ktx2(tmp_path / "a.ktx2")
        assert np.array_equal(again.levels[1], level[:, :2, :2])
        assert again.notes["b"] == "two"

    def test_damage_anywhere_is_found(self, tmp_path):
        """A flipped bit in the texels, a cut end, a missing file: never other texels."""
        arrays = jq.pack([made_swatch("a", 1)], texels=16)
        arrays.save(tmp_path)
        path = tmp_path / "specular.ktx2"
        whole = path.read_bytes()
        rng = np.random.default_rng(0)
        for place in [*rng.integers(12, len(whole), 60), len(whole) - 1]:
            broken = bytearray(whole)
            broken[place] ^= 1 << rng.integers(8)
            path.write_bytes(broken)
            with contextlib.suppress(FileError):
                assert np.array_equal(jq.TextureArrays.load(tmp_path).texels, arrays.texels)
        path.write_bytes(whole[:-9])
        with pytest.raises(FileError, match="pack again"):
            jq.TextureArrays.load(tmp_path)
        path.unlink()
        with pytest.raises(FileError, match="no such KTX2 file"):
            jq.TextureArrays.load(tmp_path)
