"""Texels as bytes: block codes against an independent decoder, KTX2 against the standard's own table and another parser."""

import json
import shutil
import struct
import subprocess
from dataclasses import replace

import numpy as np
import pytest
import texture2ddecoder
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from jagged_quilt.codecs.block_codes import decoded_blocks, encoded_blocks
from jagged_quilt.codecs.ktx2 import Ktx2File, Spool, write_ktx2, write_unpacked
from jagged_quilt.codecs.ktx2_head import Ktx2Head
from jagged_quilt.codecs.pixel_formats import PixelFormat, format_named
from jagged_quilt.errors import FileError, QuiltError, ShapeError

P = PixelFormat
BLOCKS = [P.BC1, P.BC3, P.BC4, P.BC5, P.BC7]
CHANNELS = {P.BC4: 1, P.BC5: 2}


def smooth(rows, columns, channels, seed=0):
    """Soft gradients with a little grain, 0..255, as maps have."""
    rng = np.random.default_rng(seed)
    v, u = np.mgrid[:rows, :columns] / max(rows, columns)
    waves = [np.sin(rng.uniform(1, 5) * u + rng.uniform(1, 5) * v + rng.uniform(0, 6)) for _ in range(channels)]
    return (127 + 90 * np.stack(waves, 2) + rng.normal(0, 2, (rows, columns, channels))).clip(0, 255).astype(np.float32)


def best_single(block):
    """The least error of any BC4 block, by trying every pair of end values around the block's range."""
    low, high = int(max(block.min() - 10, 0)), int(min(block.max() + 10, 255))
    best = np.inf
    for a in range(low, high + 1):
        for b in range(low, high + 1):
            steps = np.arange(1, 7) / 7 if a > b else np.arange(1, 5) / 5
            palette = np.concatenate([[a, b], a + (b - a) * steps, [] if a > b else [0, 255]])
            best = min(best, ((block.ravel()[:, None] - palette) ** 2).min(1).sum())
    return best


class TestBlockCodes:
    @pytest.mark.parametrize("pixels", BLOCKS, ids=lambda p: p.key)
    @pytest.mark.parametrize("size", [(64, 64), (5, 7), (1, 1), (2, 2)])
    def test_an_independent_decoder_reads_the_same(self, pixels, size):
        """PathGuard two steps: decoders may round the values between the two ends either way."""
        count = CHANNELS.get(pixels, 4)
        values = smooth(*size, count)
        data = encoded_blocks(values, pixels).tobytes()
        assert len(data) == pixels.level_bytes(*size, count)
        ours = decoded_blocks(data, pixels, *size)
        theirs = np.frombuffer(getattr(texture2ddecoder, f"decode_{pixels.key}")(data, size[1], size[0]), np.uint8)
        theirs = theirs.reshape(*size, 4)[..., [2, 1, 0, 3]][..., : ours.shape[2]]
        assert np.abs(ours.astype(int) - theirs).max() <= (0 if pixels is P.BC7 else 2)
        real = 3 if pixels is P.BC1 else count
        psnr = 10 * np.log10(255**2 / np.mean((ours[..., :real].astype(float) - values[..., :real]) ** 2))
        assert psnr > ({P.BC1: 33, P.BC3: 33, P.BC4: 45, P.BC5: 45, P.BC7: 41}[pixels] if size == (64, 64) else 14)

    @given(st.integers(0, 10**6))
    @settings(max_examples=8, deadline=None)
    def test_a_fit_is_nearly_the_best_there_is(self, seed):
        rng = np.random.default_rng(seed)
        middle, spread = rng.uniform(10, 245), rng.uniform(0.5, 12)
        blocks = rng.normal(middle, spread, (4, 12)).clip(0, 255).astype(np.float32)
        got = decoded_blocks(encoded_blocks(blocks[..., None], P.BC4).tobytes(), P.BC4, 4, 12)[..., 0]
        found = wanted = 0.0
        for left in (0, 4, 8):
            found += ((got[:, left : left + 4] - blocks[:, left : left + 4].astype(float)) ** 2).sum()
            wanted += best_single(blocks[:, left : left + 4].astype(float))
        assert found <= 1.25 * wanted + 16 * 3 * 0.3  # and what a decoder to whole numbers rounds

    def test_flat_and_black_and_white_blocks_are_exact(self):
        hard = np.array([0, 255], np.float32)[np.random.default_rng(0).integers(0, 2, (8, 8))]
        hard[:4, :4] = 77
        mixed = hard.copy()
        mixed[0, 4:8] = (100, 101, 102, 103)
        for values, near in ((hard, 0), (mixed, 1)):
            got = decoded_blocks(encoded_blocks(values[..., None], P.BC4).tobytes(), P.BC4, 8, 8)[..., 0]
            assert np.abs(got - values).max() <= near

    def test_the_wrong_number_of_channels_is_refused(self):
        with pytest.raises(ShapeError, match="bc5"):
            encoded_blocks(np.zeros((4, 4, 3), np.float32), P.BC5)
        with pytest.raises(QuiltError, match='did you mean "bc7"'):
            format_named("bc77")


def stored_levels(head, seed=0):
    """Random texels or blocks for every slice of every level, as arrays of bytes or numbers."""
    rng = np.random.default_rng(seed)
    levels = []
    for level in range(head.levels):
        rows, columns = head.size(level)
        if head.pixels.value.block:
            count = CHANNELS.get(head.pixels, 4)
            made = [encoded_blocks(smooth(rows, columns, count, n), head.pixels) for n in range(head.slices)]
        else:
            shape = (head.slices, rows, columns, head.channels)
            made = list((rng.random(shape) * (1 if head.pixels is P.HALF else head.pixels.top)).astype(head.pixels.value.kind))
        levels.append(made)
    return levels


def written(path, head, levels):
    spool = Spool(path.with_suffix(".spool"), zstd=head.zstd)
    frames = [[spool.add(texels) for texels in level] for level in levels]
    spool.close()
    write_ktx2(path, head, frames)
    return path


def head_of(pixels, channels=4, srgb=False, size=8, slices=3, zstd=True):
    return Ktx2Head(
        pixels=pixels,
        channels=channels,
        srgb=srgb,
        width=size,
        height=size,
        slices=slices,
        levels=size.bit_length(),
        zstd=zstd,
        notes={"b": "two", "a": "one"},
    )


EVERY = [
    (pixels, channels, srgb)
    for pixels in P
    for srgb in (False, True)
    for channels in (pixels.value.srgb if srgb else pixels.value.plain)
]


class TestKtx2:
    @pytest.mark.parametrize(
        ("at", "value", "words"),
        [
            (12, 0, "not supported: it holds a Basis Universal texture, which is made for a GPU to transcode"),
            (44, 1, "not supported: it holds a Basis Universal texture"),
            (44, 3, "not supported: its levels are compressed by scheme 3; write it without, or with zstd"),
            (36, 6, "not supported: only 2D textures"),
            (12, 157, "not supported: texels of format 157 of the Vulkan registry cannot be read"),
        ],
    )
    def test_sound_files_of_other_kinds_are_not_called_broken(self, tmp_path, at, value, words):
        head = head_of(PixelFormat.UNORM8, 4, False, zstd=False)
        path = written(tmp_path / "a.ktx2", head, stored_levels(head))
        data = bytearray(path.read_bytes())
        data[at : at + 4] = value.to_bytes(4, "little")
        path.write_bytes(data)
        with pytest.raises(FileError, match=words):
            Ktx2File(path)

    @pytest.mark.parametrize("zstd", [True, False], ids=["zstd", "plain"])
    @pytest.mark.parametrize(("pixels", "channels", "srgb"), EVERY, ids=lambda v: getattr(v, "key", str(v)))
    def test_what_is_written_is_read_back(self, tmp_path, pixels, channels, srgb, zstd):
        head = head_of(pixels, channels, srgb, zstd=zstd)
        levels = stored_levels(head)
        file = Ktx2File(written(tmp_path / "a.ktx2", head, levels))
        assert replace(file.head, notes=head.notes) == head
        assert file.head.notes["b"] == "two"
        for level, which in ((0, 0), (1, 2), (3, 1)):
            rows, columns = head.size(level)
            wanted = levels[level][which]
            if pixels.value.block:
                wanted = decoded_blocks(wanted.tobytes(), pixels, rows, columns)
            assert np.array_equal(file.texels(level, which), wanted)
        file.check()

    def test_fields_lie_where_the_standard_puts_them(self, tmp_path):
        """Read here by hand, from the standard's own table."""
        head = head_of(P.UNORM8, 4, srgb=True, size=4)
        levels = stored_levels(head)
        data = written(tmp_path / "a.ktx2", head, levels).read_bytes()
        assert data[:12] == bytes([0xAB, 0x4B, 0x54, 0x58, 0x20, 0x32, 0x30, 0xBB, 0x0D, 0x0A, 0x1A, 0x0A])
        assert struct.unpack_from("<9I", data, 12) == (43, 1, 4, 4, 0, 3, 1, 3, 2)  # VK_FORMAT_R8G8B8A8_SRGB ... zstd
        dfd_at, dfd_length, kvd_at, kvd_length = struct.unpack_from("<4I", data, 48)
        assert dfd_at == 80 + 3 * 24
        total, _, version, block = struct.unpack_from("<IIHH", data, dfd_at)
        assert (total, version, block) == (dfd_length, 2, 24 + 4 * 16)
        assert data[dfd_at + 12 : dfd_at + 16] == bytes([1, 1, 2, 0])  # RGBSDA, BT.709, sRGB, straight alpha
        assert data[dfd_at + 28 + 3 * 16 + 3] == 15 | 0x10  # alpha, linear
        assert kvd_at == dfd_at + dfd_length
        keys = data[kvd_at : kvd_at + kvd_length]
        assert keys.index(b"KTXorientation") < keys.index(b"KTXwriter") < keys.index(b"a\0one") < keys.index(b"b\0two")
        offset, length, whole = struct.unpack_from("<3Q", data, 80)
        raw = zstandard.ZstdDecompressor().stream_reader(data[offset : offset + length], read_across_frames=True).read()
        assert raw == b"".join(each.tobytes() for each in levels[0])
        assert whole == len(raw)

    @pytest.mark.parametrize(
        ("pixels", "channels", "srgb", "number", "words"),
        [
            (
                P.BC1,
                4,
                True,
                132,
                "01002000 00000000 02002800 80010200 03030000 08000000 0000000000003f00 00000000 00000000 ffffffff",
            ),
            (
                P.BC5,
                2,
                False,
                141,
                "01003000 00000000 02003800 84010100 03030000 10000000 00000000"
                "00003f00 00000000 00000000 ffffffff 40003f01 00000000 00000000 ffffffff",
            ),
            (
                P.BC7,
                4,
                False,
                145,
                "01002000 00000000 02002800 86010100 03030000 10000000 0000000000007f00 00000000 00000000 ffffffff",
            ),
            (
                P.HALF,
                1,
                False,
                76,
                "01002000 00000000 02002800 01010100 00000000 02000000 0000000000000fc0 00000000 000080bf 0000803f",
            ),
            (
                P.UNORM16,
                2,
                False,
                77,
                "01003000 00000000 02003800 01010100 00000000 04000000 00000000"
                "00000f00 00000000 00000000 ffff0000 10000f01 00000000 00000000 ffff0000",
            ),
        ],
    )
    def test_descriptors_are_what_the_standard_builds(self, tmp_path, pixels, channels, srgb, number, words):
        """Built by hand from Khronos Data Format 1.3: total size, basic block, one row for each sample."""
        data = written(tmp_path / "a.ktx2", head_of(pixels, channels, srgb), stored_levels(head_of(pixels, channels, srgb)))
        data = data.read_bytes()
        at, length = struct.unpack_from("<2I", data, 48)
        body = bytes.fromhex(words.replace(" ", ""))[4:]
        assert struct.unpack_from("<I", data, 12)[0] == number
        assert data[at : at + length] == struct.pack("<I", 4 + len(body)) + body

    @pytest.mark.parametrize(("pixels", "channels", "srgb"), EVERY, ids=lambda v: getattr(v, "key", str(v)))
    def test_a_file_is_unpacked_to_the_same_texels(self, tmp_path, pixels, channels, srgb):
        head = head_of(pixels, channels, srgb)
        packed = Ktx2File(written(tmp_path / "a.ktx2", head, stored_levels(head)))
        write_unpacked(packed, tmp_path / "b.ktx2")
        plain = Ktx2File(tmp_path / "b.ktx2")
        assert plain.head == replace(packed.head, zstd=False, notes=plain.head.notes)
        plain.check()
        for level in range(head.levels):
            for which in range(head.slices):
                assert np.array_equal(plain.texels(level, which), packed.texels(level, which))
        assert {path.name for path in tmp_path.iterdir()} == {"a.ktx2", "a.spool", "b.ktx2"}

    def test_another_parser_reads_and_writes_the_same_bytes(self, tmp_path):
        """npm's ktx-parse, run with node where both are there."""
        if not shutil.which("node"):
            pytest.skip("node is not here")
        found = subprocess.run(["node", "-e", "require.resolve('ktx-parse')"], capture_output=True)
        if found.returncode:
            pytest.skip("ktx-parse is not here (NODE_PATH)")
        script = """
            const {read, write} = require('ktx-parse'), fs = require('fs'), out = {};
            for (const path of process.argv.slice(1)) {
              const data = fs.readFileSync(path), k = read(data), again = Buffer.from(write(k, {keepWriter: true}));
              out[path] = {format: k.vkFormat, layers: k.layerCount, levels: k.levels.length, scheme: k.supercompressionScheme,
                same: k.levels.every((l, i) => Buffer.from(read(again).levels[i].levelData).equals(Buffer.from(l.levelData)))
                  && again.length === data.length && again.equals(data)};
            }
            console.log(JSON.stringify(out))"""
        paths = []
        for n, (pixels, channels, srgb) in enumerate(EVERY):
            for zstd in (True, False):
                head = head_of(pixels, channels, srgb, zstd=zstd)
                paths.append(str(written(tmp_path / f"{n}_{zstd}.ktx2", head, stored_levels(head))))
        said = json.loads(subprocess.run(["node", "-e", script, *paths], capture_output=True, text=True, check=True).stdout)
        for path, (pixels, channels, srgb) in zip(paths, [each for each in EVERY for _ in range(2)], strict=True):
            number = (pixels.value.srgb if srgb else pixels.value.plain)[channels]
            scheme = 2 if "True" in path else 0
            assert said[path] == {"format": number, "layers": 3, "levels": 4, "scheme": scheme, "same": True}, path

    def test_files_of_other_writers_are_read(self, tmp_path):
        """One zstd frame for a whole level, no checksums of ours."""
        head = head_of(P.UNORM8, 4)
        levels = stored_levels(head)
        data = written(tmp_path / "a.ktx2", head, levels).read_bytes()
        dfd_at, dfd_length = struct.unpack_from("<2I", data, 48)
        fields = list(struct.unpack_from("<9I4I2Q", data, 12))
        packed = [zstandard.compress(b"".join(each.tobytes() for each in level)) for level in levels]
        fields[11:13] = 0, 0
        index, offset = [b""] * 4, dfd_at + dfd_length
        for n in reversed(range(4)):
            index[n] = struct.pack("<3Q", offset, len(packed[n]), sum(each.nbytes for each in levels[n]))
            offset += len(packed[n])
        (tmp_path / "b.ktx2").write_bytes(
            data[:12]
            + struct.pack("<9I4I2Q", *fields)
            + b"".join(index)
            + data[dfd_at : dfd_at + dfd_length]
            + b"".join(reversed(packed))
        )
        file = Ktx2File(tmp_path / "b.ktx2")
        assert not file.ours
        assert np.array_equal(file.texels(1, 2), levels[1][2])

    @pytest.mark.parametrize("zstd", [True, False])
    def test_damage_anywhere_is_found(self, tmp_path, zstd):
        """Every flipped bit gives an error or the same texels; so does every cut."""
        head = head_of(P.UNORM8, 4, zstd=zstd)
        levels = stored_levels(head)
        path = written(tmp_path / "a.ktx2", head, levels)
        whole = path.read_bytes()
        rng = np.random.default_rng(0)
        refused = 0
        for place in [*rng.integers(0, len(whole), 250), len(whole) - 1]:
            broken = bytearray(whole)
            broken[place] ^= 1 << rng.integers(8)
            path.write_bytes(broken)
            try:
                file = Ktx2File(path)
                assert all(np.array_equal(file.texels(n, s), levels[n][s]) for n in range(4) for s in range(3))
                assert (file.head.srgb, file.head.pixels) == (head.srgb, head.pixels)
            except FileError:
                refused += 1
        assert refused > 235
        for length in rng.integers(0, len(whole), 20):
            path.write_bytes(whole[:length])
            with pytest.raises(FileError):
                Ktx2File(path).check()
