"""Real files: every oddity of format and name, what a user says outright, and damage anywhere."""

import re
import struct
from pathlib import Path

import etcpak
import numpy as np
import OpenImageIO as oiio
import pytest
from PIL import Image, ImageOps

import jagged_quilt as jq
from conftest import QUILT, made_maps, write_small_project
from jagged_quilt.codecs.ktx2 import Ktx2File
from jagged_quilt.errors import FileError, ImageError, QuiltFileError, ShapeError
from jagged_quilt.images import write_image
from jagged_quilt.maps.image_files import read_channels, read_image
from jagged_quilt.maps.image_limits import ImageLimits
from jagged_quilt.maps.map_source import MapSource
from jagged_quilt.maps.roles import Transfer
from jagged_quilt.maps.swatch_source import SwatchSource
from jagged_quilt.quiltfile.packing import layouts_of

R = jq.MapRole


def texels(rows=12, columns=9, seed=0):
    return np.random.default_rng(seed).integers(0, 256, (rows, columns, 3), dtype=np.uint8)


def write_dds(path, image, code):
    """A DDS file as other programs write them, the header from the format's public description."""
    rows, columns = image.shape[:2]
    packed = getattr(etcpak, f"compress_{code}")(np.ascontiguousarray(image).tobytes(), columns, rows)
    fourcc = {"bc1": b"DXT1", "bc3": b"DXT5", "bc4": b"ATI1", "bc5": b"ATI2", "bc7": b"DX10"}[code]
    head = struct.pack(
        "<4s7I44x2I4s5I5I",
        b"DDS ",
        124,
        0x81007,
        rows,
        columns,
        len(packed),
        0,
        1,
        32,
        4,
        fourcc,
        0,
        0,
        0,
        0,
        0,
        0x1000,
        0,
        0,
        0,
        0,
    )
    path.write_bytes(head + (struct.pack("<5I", 98, 3, 0, 1, 0) if code == "bc7" else b"") + packed)


def interlaced_png(path, image):
    """Adam7, by hand: seven passes over the picture, no filter."""
    import zlib

    rows, columns = image.shape[:2]
    data = b""
    for y, x, down, across in (
        (0, 0, 8, 8),
        (0, 4, 8, 8),
        (4, 0, 8, 4),
        (0, 2, 4, 4),
        (2, 0, 4, 2),
        (0, 1, 2, 2),
        (1, 0, 2, 1),
    ):
        part = image[y::down, x::across]
        data += b"".join(b"\0" + row.tobytes() for row in part) if part.size else b""
    chunks = [(b"IHDR", struct.pack(">2I5B", columns, rows, 8, 2, 0, 0, 1)), (b"IDAT", zlib.compress(data)), (b"IEND", b"")]
    body = b"".join(struct.pack(">I", len(d)) + k + d + struct.pack(">I", zlib.crc32(k + d)) for k, d in chunks)
    path.write_bytes(b"\x89PNG\r\n\x1a\n" + body)


class TestOddFiles:
    @pytest.mark.parametrize("mode", ["1", "L", "LA", "P", "RGB", "RGBA", "CMYK"])
    @pytest.mark.parametrize("suffix", [".png", ".tif", ".tga", ".bmp", ".gif", ".jpg", ".webp", ".ppm"])
    def test_every_kind_of_pixel_is_what_another_reader_says(self, tmp_path, mode, suffix):
        picture = Image.fromarray(texels())
        picture = picture.quantize(16) if mode == "P" else picture.convert(mode)
        path = tmp_path / f"a{suffix}"
        try:
            picture.save(path, **{".jpg": {"quality": 100, "subsampling": 0}, ".webp": {"lossless": True}}.get(suffix, {}))
        except (OSError, KeyError, ValueError):
            return  # this format has no such pixels
        with Image.open(path) as other:
            wanted = np.asarray(other.convert("RGB"))
        if (mode, suffix) == ("1", ".tga"):  # the one kind that cannot be read says so
            with pytest.raises(ImageError, match="1 bits per pixel"):
                read_image(path)
            return
        got = read_image(path)
        shown = got[..., :3] if got.shape[2] >= 3 else np.repeat(got[..., :1], 3, axis=2)
        assert np.abs(shown.astype(int) - wanted).max() <= (1 if suffix == ".jpg" or (mode, suffix) == ("P", ".tif") else 0)

    @pytest.mark.parametrize(("number", "name"), [(50000, "ZSTD"), (34887, "LERC")])
    def test_a_sound_file_of_an_unsupported_kind_is_not_called_broken(self, tmp_path, number, name):
        path = tmp_path / "a.tif"
        Image.fromarray(texels()[..., 0]).save(path)
        tag = struct.pack("<HHI", 259, 3, 1)
        path.write_bytes(path.read_bytes().replace(tag + b"\1\0", tag + struct.pack("<H", number)))
        with pytest.raises(ImageError, match=f"a TIFF compressed by {name}, which is not supported; write it with Deflate"):
            read_image(path)

    @pytest.mark.parametrize("suffix", [".png", ".tif", ".jpg"])
    @pytest.mark.parametrize("turn", range(1, 9))
    def test_orientation_is_done(self, tmp_path, suffix, turn):
        exif = Image.Exif()
        exif[0x112] = turn
        path = tmp_path / f"a{suffix}"
        smooth = np.asarray(Image.fromarray(texels(2, 3)).resize((9, 12)))
        Image.fromarray(smooth).save(path, exif=exif, **({"quality": 100, "subsampling": 0} if suffix == ".jpg" else {}))
        with Image.open(path) as other:
            wanted = np.asarray(ImageOps.exif_transpose(other))
        assert np.abs(read_image(path).astype(int) - wanted).max() <= (1 if suffix == ".jpg" else 0)

    def test_bottom_up_compressed_and_interlaced_files_are_upright(self, tmp_path):
        image = texels()
        for name, options in (("up", {"orientation": -1}), ("down", {"orientation": 1}), ("rle", {"compression": "tga_rle"})):
            Image.fromarray(image).save(tmp_path / f"{name}.tga", **options)
            assert np.array_equal(read_image(tmp_path / f"{name}.tga"), image)
        interlaced_png(tmp_path / "i.png", image)
        assert np.array_equal(read_image(tmp_path / "i.png"), image)

    @pytest.mark.parametrize("code", ["bc1", "bc3", "bc4", "bc5", "bc7"])
    def test_dds_files_are_read(self, tmp_path, code):
        import texture2ddecoder

        v, u = np.mgrid[:16, :32] * 8
        image = np.dstack([u, v, 255 - u, 128 + v // 2]).astype(np.uint8)
        path = tmp_path / "rock_diffuse.png.dds"
        write_dds(path, image, code)
        got = read_image(path)
        blocks = path.read_bytes()[148 if code == "bc7" else 128 :]
        wanted = np.frombuffer(getattr(texture2ddecoder, f"decode_{code}")(blocks, 32, 16), np.uint8).reshape(16, 32, 4)
        assert np.abs(got.astype(int) - wanted[..., [2, 1, 0, 3]][..., : got.shape[2]]).max() <= 2
        assert got.shape[2] == {"bc4": 1, "bc5": 2}.get(code, 4)

    def test_a_normal_map_of_two_channels_gets_its_z(self, tmp_path):
        v, u = np.mgrid[:16, :16] / 15.0 - 0.5
        write_dds(tmp_path / "a_normal.dds", np.dstack([u * 200 + 128, v * 200 + 128, u * 0, u * 0]).astype(np.uint8), "bc5")
        values = MapSource(role=R.NORMAL, file=tmp_path / "a_normal.dds").read().values
        assert np.abs(np.linalg.norm(values, axis=2) - 1).max() < 1e-5
        assert values[8, 8, 2] > 0.99

    def test_our_own_ktx2_is_a_map_file_too(self, tmp_path):
        swatch = jq.Swatch(name="a", tile=1, relief=1, maps=made_maps(1))
        jq.pack_files([swatch], tmp_path, side=16)
        assert np.array_equal(read_image(tmp_path / "specular.ktx2"), Ktx2File(tmp_path / "specular.ktx2").texels(0, 0))
        jq.pack_files([swatch, jq.Swatch(name="b", tile=1, relief=1, maps=made_maps(2))], tmp_path / "two", side=16)
        with pytest.raises(ImageError, match="2 slices; a map must be one image"):
            read_image(tmp_path / "two" / "specular.ktx2")

    def test_channels_are_found_by_name(self, tmp_path):
        def exr(*names):
            spec = oiio.ImageSpec(4, 3, len(names), oiio.HALF)
            spec.channelnames = names
            out = oiio.ImageOutput.create(str(tmp_path / "a.exr"))
            out.open(str(tmp_path / "a.exr"), spec)
            out.write_image(np.tile(np.arange(len(names), dtype=np.float32) / 8, (3, 4, 1)))
            out.close()
            return tmp_path / "a.exr"

        def values(role, **more):
            return MapSource(role=role, file=tmp_path / "a.exr", **more).read().texels[0, 0].tolist()

        exr("base.R", "base.G", "base.B", "depth.Z", "mask")
        assert set(read_channels(tmp_path / "a.exr").channels) == {"base.R", "base.G", "base.B", "depth.Z", "mask"}
        assert values(R.DIFFUSE) == [0, 0.125, 0.25]
        assert values(R.HEIGHT, channel="mask") == [0.5]
        exr("X", "Y", "Z")
        assert values(R.NORMAL) == [0, 0.125, 0.25]
        exr("height")
        assert values(R.HEIGHT) == [0]
        exr("a1", "a2", "a3", "a4", "a5")
        with pytest.raises(jq.QuiltError, match=r"holds the channels a1, a2.*channel ="):
            values(R.HEIGHT)
        with pytest.raises(ShapeError, match='has no channel "q"; it holds'):
            values(R.HEIGHT, channel="q")

    def test_too_large_an_image_is_never_decoded(self, tmp_path, monkeypatch):
        write_image(tmp_path / "a.png", texels(64, 128))
        for limits in (ImageLimits(100), ImageLimits(127, 1)):
            with pytest.raises(ImageError, match=r"128 x 64 texels, 0 MiB, are more than is read \(side 1"):
                read_image(tmp_path / "a.png", limits)
        assert read_image(tmp_path / "a.png").shape == (64, 128, 3)


def source(folder, *rules, **more):
    return SwatchSource(name="s", folder=folder, tile=1.0, rules=rules, **more)


class TestRules:
    def test_what_is_said_outright_counts(self, tmp_path):
        """File, channel, green, transfer, inversion, and what is left out."""
        rgba = np.dstack([texels(8, 8, 1), np.full((8, 8), 77, np.uint8)])
        write_image(tmp_path / "x_nrm.tga", rgba)
        write_image(tmp_path / "x_one.png", texels(8, 8, 2))
        write_image(tmp_path / "x_gloss.png", texels(8, 8, 3)[..., 0])
        write_image(tmp_path / "x_rough_old.png", texels(8, 8, 4)[..., 0])
        made = source(
            tmp_path,
            jq.MapRule(role=R.DIFFUSE, file="x_one.png", transfer=Transfer.NONE),
            jq.MapRule(role=R.HEIGHT, file="x_nrm.tga", channel="a", invert=True),
            jq.MapRule(role=R.NORMAL, green="down"),
            jq.MapRule(role=None, file="x_rough_old.png"),
            jq.MapRule(role=R.SPECULAR, value=(0.1, 0.2, 0.3)),
        )
        swatch = made.read()
        assert np.allclose(swatch.maps[R.DIFFUSE].values, texels(8, 8, 2) / 255, atol=1e-6)
        assert (swatch.maps[R.HEIGHT].texels == 255 - 77).all()
        assert np.array_equal(swatch.maps[R.NORMAL].texels[..., 1], 255 - rgba[..., 1])
        assert np.allclose(swatch.maps[R.ROUGHNESS].values[..., 0], 1 - texels(8, 8, 3)[..., 0] / 255, atol=1e-6)
        assert np.allclose(swatch.maps[R.SPECULAR].values, [0.1, 0.2, 0.3])
        assert made.unused == ()
        stamp = made.stamp(list(R))
        assert stamp == source(tmp_path, *made.rules).stamp(list(R))
        assert stamp != source(tmp_path, *made.rules[:2]).stamp(list(R))

    def test_opacity_is_a_file_a_value_or_the_diffuse_alpha(self, tmp_path):
        rgba = np.dstack([texels(8, 8, 1), texels(8, 8, 2)[..., 0]])
        write_image(tmp_path / "a" / "a_diffuse.png", rgba)
        write_image(tmp_path / "b" / "b_normal.png", texels(8, 8))
        layouts = ["diffuse_opacity"]
        alpha = jq.pack([source(tmp_path / "a")], side=8, layouts=layouts)
        assert np.array_equal(alpha.texels("diffuse_opacity", "s"), rgba)
        assert alpha.facts[0].derived == {"opacity": "alpha of the diffuse file"}
        reported = jq.pack([source(tmp_path / "a", jq.MapRule(role=R.OPACITY, value=(0.2,)))], side=8, layouts=layouts)
        assert (reported.texels("diffuse_opacity", "s")[..., 3] == 51).all()
        grey = jq.MapRule(role=R.DIFFUSE, value=(0.5, 0.5, 0.5))
        assert (
            jq.pack([source(tmp_path / "b", grey)], side=8, layouts=layouts).texels("diffuse_opacity", "s")
            == (188, 188, 188, 255)
        ).all()
        with pytest.raises(ShapeError, match="no diffuse map"):
            jq.pack([source(tmp_path / "b")], side=8, layouts=layouts)

    def test_green_is_reported_by_the_file_name_too(self, tmp_path):
        for name, down in (("a_normal_dx.png", True), ("a_normal_gl.png", False), ("a_NormalDirectX_2k.png", True)):
            assert MapSource(role=R.NORMAL, file=Path(name)).is_green_down == down
            assert not MapSource(role=R.NORMAL, file=Path(name), green="up").is_green_down

    def test_a_height_map_is_made_from_normals_if_that_is_asked(self, tmp_path):
        from jagged_quilt.maps.conversions import normal_from_height

        v, u = np.mgrid[:32, :32] / 32 * 2 * np.pi
        metres = (0.01 * np.sin(u) * np.cos(2 * v)).astype(np.float32)
        write_image(tmp_path / "a_diffuse.png", texels(32, 32))
        write_image(tmp_path / "a_normal.exr", normal_from_height(metres, tile=(1.0, 1.0)))
        asked = jq.MapRule(role=R.HEIGHT, made_from=R.NORMAL)
        height = source(tmp_path, asked, relief=0.04).read().maps[R.HEIGHT].values[..., 0]
        assert np.abs((height - 0.5) * 0.04 - metres).max() < 2e-4
        with pytest.raises(jq.QuiltError, match=r"spans 0\.02 m.*write relief = 0\.02"):
            source(tmp_path, asked, relief=0.01).read()

    def test_what_cannot_be_is_refused(self, tmp_path):
        write_image(tmp_path / "a_diffuse.png", texels())
        for rule, words in (
            (jq.MapRule(role=R.NORMAL), "no file looks like the normal map; .*in the folder: a_diffuse.png"),
            (jq.MapRule(role=R.NORMAL, file="b.png"), "no such image file; in the folder: a_diffuse.png"),
        ):
            with pytest.raises(FileError, match=words):
                source(tmp_path, rule).read()
        with pytest.raises(FileError, match="declared twice"):
            source(tmp_path, *[jq.MapRule(role=R.HEIGHT, file="a_diffuse.png", channel=n) for n in "rg"]).read()
        with pytest.raises(jq.QuiltError, match="3 number"):
            jq.MapRule(role=R.DIFFUSE, value=(1.0,))


class TestQuiltFile:
    CLAY = 'folder = "clay"\ntile = 2.0\n'

    def quilt(self, folder, *, after="", arrays=""):
        text = QUILT.replace(self.CLAY, self.CLAY + after).replace("[weights]", arrays + "[weights]")
        (folder / "job.quilt.toml").write_text(text)
        return jq.read_quilt(folder / "job.quilt.toml")

    def test_packed_files_arrays_and_rules_are_declared(self, tmp_path):
        write_small_project(tmp_path)
        packed = texels(16, 16, 5)
        write_image(tmp_path / "clay" / "clay_set.png", packed)
        for name in ("roughness", "occlusion"):
            (tmp_path / "clay" / f"clay_{name}.png").unlink()
        own = (
            'mips = "lanczos"\ncompress = "none"\nformats = { specular = "bc7" }\n[[arrays.layout]]\nname = "orm"\n'
            'channels = ["occlusion", "1 - roughness", "metallic", 0.5]\nformat = "unorm16"\n'
        )
        quilt = self.quilt(tmp_path, after='[[swatch.map]]\nfile = "clay_set.png"\npacked = "gltf"\n', arrays=own)
        clay = quilt.swatches[0]
        assert np.array_equal(clay.maps[R.ROUGHNESS].texels[..., 0], packed[..., 1])
        assert [(each.name, each.pixels.key) for each in layouts_of(quilt, quilt.sources)][2:] == [
            ("specular", "bc7"),
            ("orm", "unorm16"),
        ]
        from jagged_quilt.results.results import Results

        made = Results(quilt).run("pack")
        assert made.fresh
        arrays = jq.open_arrays(made.folder)
        assert np.allclose(arrays.values("clay", R.METALLIC)[..., 0], packed[..., 2] / 255, atol=1e-4)
        assert not Results(
            self.quilt(tmp_path, after='[[swatch.map]]\nfile = "clay_set.png"\npacked = "gltf"\n')
        ).folder.samefile("/")

    @pytest.mark.parametrize(
        ("after", "arrays", "words"),
        [
            ('[[swatch.map]]\nfile = "a.png"\n', "", r"swatch\[0\]\.map\[0\]: say what the map is"),
            ('[[swatch.map]]\nrole = "norml"\n', "", r"swatch\[0\]\.map\[0\]\.role: must be 'diffuse'"),
            ('[[swatch.map]]\nrole = "none"\n', "", "leaves a file out; name it"),
            ('[[swatch.map]]\nrole = "height"\ngreen = "down"\n', "", "green is said of normal maps"),
            ('[[swatch.map]]\nrole = "height"\nvalue = [0.1, 0.2]\n', "", r"value needs 1 number"),
            ('[[swatch.map]]\npacked = "gltf"\n', "", "needs its file"),
            ('[[swatch.map]]\nrole = "height"\nfile = "nope.png"\n', "", r"line 14, swatch\[0\]\.folder: .*nope\.png"),
            ("", 'formats = { speculr = "bc7" }\n', 'did you mean "specular"'),
            ("", 'formats = { specular = "bc9" }\n', 'no pixel format is called "bc9"'),
            ("", '[[arrays.layout]]\nname = "a b"\nchannels = ["height"]\n', "a name of its own"),
            ("", '[[arrays.layout]]\nname = "a"\nchannels = ["hight"]\n', r"arrays\.layout\[0\]: .*did you mean \"height\""),
            ("", "layouts = []\n", "name at least one layout"),
        ],
    )
    def test_a_mistake_names_its_place(self, tmp_path, after, arrays, words):
        write_small_project(tmp_path)
        with pytest.raises(QuiltFileError) as refused:
            self.quilt(tmp_path, after=after, arrays=arrays).swatches  # noqa: B018
        assert re.search(words, str(refused.value)), refused.value

    def test_images_beside_the_arrays_and_limits(self, tmp_path):
        from jagged_quilt.results.results import Results

        write_small_project(tmp_path)
        made = Results(self.quilt(tmp_path, arrays="images = true\n")).run("pack")
        assert (made.folder / "slices" / "specular" / "0001_salt_m4.png").is_file()
        wide = self.quilt(tmp_path)
        narrow = self.quilt(tmp_path, arrays="[images]\nlargest_side = 8\n")
        with pytest.raises(QuiltFileError, match=r"16 x 16 texels"):
            narrow.swatches  # noqa: B018
        assert wide.swatches  # the other quilt's limits are its own


def faulty_files(tmp_path):
    """One good small file of every format that is read, with its texels."""
    image, deep = texels(40, 33), np.random.default_rng(1).integers(0, 65536, (40, 33, 3)).astype(np.uint16)
    for suffix in (".png", ".tif", ".tga", ".jpg", ".bmp", ".webp", ".ppm", ".gif"):
        Image.fromarray(image).save(tmp_path / f"a{suffix}")
    write_image(tmp_path / "deep.png", deep)
    soft = np.add.outer(np.arange(40) / 64, np.arange(33) / 128).astype(np.float16).astype(np.float32)
    write_image(tmp_path / "a.exr", np.dstack([soft, soft * 2, soft / 2]))  # what does not compress, EXR keeps with no checksum
    write_image(tmp_path / "a.hdr", np.random.default_rng(3).random((40, 33, 3)).astype(np.float32))
    Image.fromarray(image).quantize(16).save(tmp_path / "p.png", transparency=3)
    for code in ("bc1", "bc7"):
        write_dds(tmp_path / f"{code}.dds", np.dstack([texels(40, 32), np.full((40, 32), 200, np.uint8)]), code)
    jq.pack_files([jq.Swatch(name="a", tile=1, relief=1, maps=made_maps(1, side=32))], tmp_path / "k", side=32)
    (tmp_path / "a.ktx2").write_bytes((tmp_path / "k" / "specular.ktx2").read_bytes())
    return sorted(p for p in tmp_path.iterdir() if p.is_file())


class TestDamage:
    def test_five_hundred_damaged_files(self, tmp_path):
        """Cut short or with a bit turned: a clear error, or the right texels; in PNG, EXR and KTX2 never others."""
        files = faulty_files(tmp_path)
        whole = {path: (path.read_bytes(), read_image(path)) for path in files}
        rng = np.random.default_rng(0)
        silent, refused = {}, 0
        for n in range(500):
            path = files[n % len(files)]
            data, wanted = whole[path]
            broken = bytearray(data)
            if n // len(files) % 3 == 0:
                broken = broken[: rng.integers(0, len(data))]
            else:
                broken[rng.integers(len(data))] ^= 1 << rng.integers(8)
            path.write_bytes(broken)
            try:
                got = read_image(path)
            except jq.QuiltError as error:
                said = str(error)
                refused += path.name in said and "\n" not in said
            else:
                if not np.array_equal(got, wanted):
                    silent[path.suffix] = silent.get(path.suffix, 0) + 1
                    assert got.size <= 64 * wanted.size
            path.write_bytes(data)
        assert not {".png", ".exr", ".ktx2"} & set(silent), silent
        assert refused > 250


def test_of_twins_the_lossless_one_is_read_and_the_other_is_reported(tmp_path):
    texels = np.full((16, 16, 3), 90, np.uint8)
    for name in ("clay_albedo.jpg", "clay_albedo.png"):
        write_image(tmp_path / "clay" / name, texels)
    with pytest.warns(jq.QuiltWarning, match=r"clay_albedo.jpg: left out; clay_albedo.png is its twin"):
        swatch = jq.read_swatch(tmp_path / "clay", tile=2.0)
    assert swatch.maps["diffuse"].source.name == "clay_albedo.png"
    write_image(tmp_path / "clay" / "clay_diffuse.png", texels)
    with pytest.warns(jq.QuiltWarning), pytest.raises(jq.QuiltError, match="look like the diffuse map") as refused:
        jq.read_swatch(tmp_path / "clay", tile=2.0)
    assert 'or say which: rules=[jq.MapRule(role="diffuse", file="clay_diffuse.png")]' in str(refused.value)
