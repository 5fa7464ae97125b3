"""Heightmaps that nobody prepared: signed, 32 bits, gaps, one channel of several, 8-bit stairs; and grounds far away."""

import warnings

import numpy as np
import OpenImageIO as oiio
import pytest
from PIL import Image, TiffImagePlugin
from scipy.ndimage import binary_erosion, gaussian_filter

import jagged_quilt as jq
from conftest import made_swatch
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.images import write_image
from jagged_quilt.maps.gaps import filled
from jagged_quilt.maps.roles import MapRole
from jagged_quilt.maps.stairs import stairs_in
from jagged_quilt.surfaces.heightmap import HeightStorage, heights_in_bands, read_heightmap
from jagged_quilt.weights.point_weights import PointWeights


def fractal(side, fall, seed):
    """Ground whose amplitude falls with the frequency to a power; 0 to 255, of `side` samples from twice as many."""
    rng = np.random.default_rng(seed)
    f = np.hypot(np.fft.fftfreq(2 * side)[:, None], np.fft.rfftfreq(2 * side)[None])
    f[0, 0] = 1
    waves = (rng.normal(size=f.shape) + 1j * rng.normal(size=f.shape)) * f**-fall
    waves[0, 0] = 0
    out = np.fft.irfft2(waves, (2 * side, 2 * side))[:side, :side]
    return (out - out.min()) / np.ptp(out) * 255


def off_by(heights, truth, scale=0.3):
    """The mean angle between normals, degrees."""
    made = []
    for each in (heights, truth):
        south, east = np.gradient(np.asarray(each, float) * scale)
        normal = np.stack([-east, -south, np.ones_like(east)], axis=-1)
        made.append(normal / np.linalg.norm(normal, axis=-1, keepdims=True))
    return np.degrees(np.arccos(np.clip((made[0] * made[1]).sum(axis=-1), -1, 1))).mean()


def reported_by(read, *given, **how):
    with warnings.catch_warnings(record=True) as reported:
        warnings.simplefilter("always", jq.QuiltWarning)
        return read(*given, **how), "\n".join(str(each.message) for each in reported)


class TestNumbers:
    ELEVATION = np.array([[-12, 5, 300], [7, 2900, 40_000]])

    @pytest.mark.parametrize("kind", ["int32", "uint32", "float32"])
    def test_whole_numbers_that_are_metres(self, tmp_path, kind):
        wanted = np.abs(self.ELEVATION) if kind == "uint32" else self.ELEVATION
        self.write(tmp_path / "e.tif", wanted.astype(kind), {"int32": "int", "uint32": "uint", "float32": "float"}[kind])
        assert np.array_equal(read_heightmap(tmp_path / "e.tif"), wanted)
        if kind != "float32":
            low, high = (-(1 << 31), (1 << 31) - 1) if kind == "int32" else (0, (1 << 32) - 1)
            assert np.allclose(read_heightmap(tmp_path / "e.tif", (low, high)), wanted, atol=0.01)

    @staticmethod
    def write(path, stored, kind):
        out = oiio.ImageOutput.create(str(path))
        out.open(str(path), oiio.ImageSpec(stored.shape[1], stored.shape[0], 1, kind))
        out.write_image(stored[..., None])
        out.close()

    def test_sixteen_bits_with_a_sign(self, tmp_path):
        self.write(tmp_path / "e.tif", np.minimum(self.ELEVATION, 3000).astype(np.int16), "int16")
        assert np.array_equal(read_heightmap(tmp_path / "e.tif"), np.minimum(self.ELEVATION, 3000))

    def test_one_channel_of_several(self, tmp_path):
        image = np.random.default_rng(1).integers(0, 65535, (4, 4, 4), np.uint16)
        write_image(tmp_path / "a.png", image)
        for place, channel in enumerate("rgba"):
            assert np.allclose(
                read_heightmap(tmp_path / "a.png", (0, 65535), storage=HeightStorage(channel=channel)),
                image[..., place],
                atol=0.01,
            )
        with pytest.raises(jq.QuiltError, match='has no channel "q"; it holds R, G, B, A'):
            read_heightmap(tmp_path / "a.png", (0, 1), storage=HeightStorage(channel="q"))

    def test_the_refusal_of_colour_says_what_would_be_right(self, tmp_path):
        heights = np.rint(fractal(64, 2.5, 1) / 255 * ((1 << 24) - 1)).astype(np.uint32)
        packed = np.stack([heights >> 16, heights >> 8 & 255, heights & 255], axis=-1).astype(np.uint8)
        write_image(tmp_path / "packed.png", packed)
        picture = np.stack([fractal(64, 2, seed) for seed in range(3)], axis=-1).astype(np.uint8)
        write_image(tmp_path / "picture.png", picture)
        with pytest.raises(jq.QuiltError, match='as the digits of one number do: heights of 24 bits; write form = "rgb24"'):
            read_heightmap(tmp_path / "packed.png", (0, 100))
        with pytest.raises(jq.QuiltError, match="as in a picture of the ground and not of its heights"):
            read_heightmap(tmp_path / "picture.png", (0, 100))
        found = read_heightmap(tmp_path / "packed.png", (0, 100), storage=HeightStorage(form="rgb24"))
        assert np.allclose(found, heights / ((1 << 24) - 1) * 100, atol=1e-4)


def tiff(path, samples, metadata):
    tags = TiffImagePlugin.ImageFileDirectory_v2()
    tags[42112] = metadata
    Image.fromarray(samples).save(path, tiffinfo=tags)
    return path


class TestScale:
    """Scale and offset that a TIFF says of its samples."""

    WORDS = (
        '<GDALMetadata><Item name="OFFSET" sample="0" role="offset">-100</Item>'
        '<Item name="SCALE" sample="0" role="scale">0.1</Item><Item name="other">7</Item></GDALMetadata>'
    )

    def test_what_a_file_says_of_its_numbers_is_applied(self, tmp_path):
        samples = np.arange(0, 6400, 100, dtype=np.uint16).reshape(8, 8)
        path = tiff(tmp_path / "a.tif", samples, self.WORDS)
        assert np.allclose(read_heightmap(path), samples * 0.1 - 100)
        whole = np.concatenate([band for _, band in heights_in_bands(path)])
        assert np.allclose(whole, samples * 0.1 - 100)
        floats = tiff(tmp_path / "b.tif", samples.astype(np.float32), self.WORDS)
        assert np.allclose(read_heightmap(floats), samples * 0.1 - 100)

    def test_heights_that_are_given_win_and_that_is_reported(self, tmp_path):
        path = tiff(tmp_path / "a.tif", np.full((4, 4), 65535, np.uint16), self.WORDS)
        found, words = reported_by(read_heightmap, path, (0, 10))
        assert (found == 10).all()
        assert "its own scale 0.1 and offset -100" in words


class TestRaw:
    """Samples of 16 bits without a head."""

    HILLS = gaussian_filter(np.random.default_rng(0).normal(size=(128, 128)), 8)
    SAMPLES = ((HILLS - HILLS.min()) / np.ptp(HILLS) * 60_000).astype(np.uint16)

    def read(self, tmp_path, samples, size, **how):
        (tmp_path / "a.raw").write_bytes(samples.tobytes())
        return reported_by(
            read_heightmap, tmp_path / "a.raw", (0, 10), storage=HeightStorage(form="raw16", samples=size, **how)
        )

    @pytest.mark.parametrize("size", [(256, 64), (64, 256), (512, 32), (32, 512)])
    def test_a_width_that_leaves_jumps_is_reported_with_the_one_that_leaves_none(self, tmp_path, size):
        assert "the width looks wrong: try samples = [128, 128]" in self.read(tmp_path, self.SAMPLES, size)[1]
        assert self.read(tmp_path, self.SAMPLES, (128, 128))[1] == ""

    def test_ground_without_structure_is_of_any_width(self, tmp_path):
        noise = np.random.default_rng(1).integers(0, 65_536, (64, 64)).astype(np.uint16)
        assert self.read(tmp_path, noise, (32, 128))[1] == ""

    def test_samples_may_have_a_sign(self, tmp_path):
        signed = (self.SAMPLES.astype(np.int32) // 10 - 3000).astype(np.int16)
        found, words = self.read(tmp_path, signed, (128, 128), signed=True)
        assert words == ""
        assert np.allclose(found, (signed.astype(float) + 32768) / 65535 * 10, atol=1e-3)
        assert "try signed = true" in self.read(tmp_path, signed, (128, 128))[1]
        with pytest.raises(jq.QuiltError, match="signed applies to raw files"):
            read_heightmap(tmp_path / "a.png", (0, 1), storage=HeightStorage(signed=True))


class TestGaps:
    def ground(self):
        row, column = np.mgrid[0:65, 0:80]
        return (40 + 0.3 * column + 0.2 * row).astype(np.float32)

    @pytest.mark.parametrize("said", ["key", "file", "nan"])
    def test_what_means_nothing_is_filled_smoothly_and_reported(self, tmp_path, said):
        """A slope goes on over its gap within a tenth of what it rises there."""
        ground, hole = self.ground(), np.zeros((65, 80), bool)
        hole[20:40, 30:50] = hole[0, :5] = True
        stored = np.where(hole, np.float32(np.nan if said == "nan" else -9999), ground)
        tags = TiffImagePlugin.ImageFileDirectory_v2()
        if said == "file":
            tags[42113] = "-9999 "
        Image.fromarray(stored).save(tmp_path / "e.tif", tiffinfo=tags)
        found, reported = reported_by(
            read_heightmap, tmp_path / "e.tif", storage=HeightStorage(nothing=-9999 if said == "key" else None)
        )
        assert f"{hole.sum()} of 5,200 samples (7.79 %) mean nothing; filled smoothly" in reported
        assert np.array_equal(found[~hole], ground[~hole])
        assert np.abs(found - ground)[20:40, 30:50].max() < 0.1 * 10
        assert np.isfinite(found).all()

    def test_whole_numbers_have_gaps_too_and_not_everything_may_be_one(self, tmp_path):
        stored = np.full((16, 16), 500, np.uint16)
        stored[5, 5] = 0
        write_image(tmp_path / "e.png", stored)
        found, reported = reported_by(read_heightmap, tmp_path / "e.png", (0, 65535), storage=HeightStorage(nothing=0))
        assert np.allclose(found, 500, atol=0.01)
        assert "1 of 256 samples" in reported
        write_image(tmp_path / "none.png", 0 * stored)
        with pytest.raises(jq.QuiltError, match="nothing but samples that mean nothing"):
            read_heightmap(tmp_path / "none.png", (0, 65535), storage=HeightStorage(nothing=0))

    def test_a_narrow_grid_is_filled(self):
        values, missing = np.arange(20, dtype=np.float32).reshape(1, 20), np.zeros((1, 20), bool)
        missing[0, 5:9] = True
        assert np.allclose(filled(values, missing), values, atol=0.6)

    def test_it_is_a_key_of_the_quilt_file(self, project):
        Image.fromarray(np.where(np.eye(17) > 0, np.float32(-1), np.float32(3))).save(project / "ground.tif")
        text = (project / "job.quilt.toml").read_text().replace("ground.png", "ground.tif")
        start, end = text.index("heights"), text.index("\n", text.index("heights"))
        (project / "job.quilt.toml").write_text(text[:start] + "nothing = -1.0" + text[end:])
        terrain, reported = reported_by(lambda: jq.read_quilt(project / "job.quilt.toml").terrain)
        assert terrain.height_range == (3, 3)
        assert "17 of 289 samples" in reported


class TestStairs:
    @pytest.mark.parametrize(
        ("fall", "most"), [(1, 1.001), (1.5, 1.001), (1.75, 1.01), (2, 0.68), (2.25, 0.4), (2.5, 0.2), (3, 0.1)]
    )
    def test_natural_ground_is_never_worse_and_mostly_much_better(self, fall, most):
        """Of the mean angle between normals what is left; and no sample leaves its half step."""
        truth = fractal(512, fall, 1)
        stored = np.rint(truth).astype(np.float32)
        smooth = jq.convert.without_stairs(stored, step=1.0, wraps=False)
        assert np.abs(smooth - stored).max() <= 0.5 + 1e-5
        assert off_by(smooth, truth) <= most * off_by(stored, truth)
        found = stairs_in(stored, step=1.0, wraps=False)
        assert (found < 0.05) == (fall < 2)

    @pytest.mark.parametrize("seed", [1, 2])
    def test_true_plateaus_stay_flat(self, seed):
        """A lake, a cut-off top and a built platform: 99 of 100 samples do not move; the ground about them is smoothed."""
        truth = fractal(256, 2.5, seed)
        low, high = np.round(np.percentile(truth, [25, 92]))
        row, column = np.mgrid[0:256, 0:256]
        built = (np.abs(row - 125) < 20) & (np.abs(column - 130) < 30)
        flat = (truth < low) | (truth > high) | built
        truth = np.where(built, np.round(truth[125, 130]), np.clip(truth, low, high))
        stored = np.rint(truth).astype(np.float32)
        smooth = jq.convert.without_stairs(stored, step=1.0, wraps=False)
        assert (smooth == stored)[flat].mean() >= 0.99
        about = binary_erosion(~flat, iterations=2)
        assert (smooth != stored)[about].mean() > 0.9

    @pytest.mark.parametrize("kind", ["uint8", "uint16", "float32"])
    def test_only_stairs_that_are_there_are_reported_of(self, tmp_path, kind):
        """However they are stored; rough ground of 8 bits, and plain 16 bits, have none."""
        factor = {"uint8": 1, "uint16": 257, "float32": 1 / 255}[kind]
        for name, fall in (("hills", 3), ("rough", 1)):
            stored = np.rint(fractal(256, fall, 1)) * factor
            if kind == "float32":
                Image.fromarray(stored.astype(np.float32)).save(tmp_path / f"{name}.tif")
            else:
                write_image(tmp_path / f"{name}.png", stored.astype(kind))
            file = next(tmp_path.glob(f"{name}.*"))
            plain, reported = reported_by(read_heightmap, file, (0, 51))
            assert ("lie on stairs of 0.2 m" in reported) == (name == "hills")
            smooth, reported = reported_by(read_heightmap, file, (0, 51), storage=HeightStorage(smooth=True))
            assert reported == ""
            assert np.abs(smooth - plain).max() <= 0.1001
        write_image(tmp_path / "deep.png", np.rint(fractal(128, 3, 1) * 257).astype(np.uint16))
        assert reported_by(read_heightmap, tmp_path / "deep.png", (0, 51))[1] == ""

    def test_a_map_that_repeats_stays_one(self):
        wave = 100 + 60 * np.sin(np.linspace(0, 2 * np.pi, 64, endpoint=False))[None] * np.ones((64, 1))
        stored = np.rint(wave / 8).astype(np.float32) * 8
        smooth = jq.convert.without_stairs(stored, step=8.0)
        shifted = jq.convert.without_stairs(np.roll(stored, 20, axis=1), step=8.0)
        assert np.allclose(np.roll(smooth, 20, axis=1), shifted, atol=0.3)
        assert np.abs(smooth - gaussian_filter(smooth, 1, mode="wrap")).max() < 2


def texels_that_tell(side, tile):
    """Arrays of one swatch in whose diffuse map red is the row and green the column."""
    row, column = np.mgrid[0:side, 0:side]
    image = np.stack([row, column, 0 * row], axis=-1).astype(np.uint8)
    maps = {MapRole.DIFFUSE: jq.TextureMap(role=MapRole.DIFFUSE, texels=image)}
    return jq.pack([jq.Swatch(name="told", tile=tile, relief=0.1, maps=maps)], side=side)


class TestFarAway:
    """Places are told exactly up to a thousand kilometres from the origin."""

    @pytest.mark.parametrize(
        "lie",
        [
            jq.Planar(),
            jq.Triplanar(4),
            jq.Planar(rotation=33, scale=(1.3, 0.7), offset=(0.1, 0.2)),
            jq.Planar(axis=(0.2, 1, 0.1)),
        ],
        ids=["planar", "triplanar", "turned", "leaning"],
    )
    @pytest.mark.parametrize("wide", [5e4, 1e6])
    def test_the_texel_that_is_read_is_the_right_one(self, lie, wide):
        """Texels of 2 mm: the place is off their centre by no more than 0.51 of one."""
        side, tile = 256, 0.5
        terrain = jq.Terrain(np.full((3, 3), 7.25), size=(wide, wide))
        places = np.random.default_rng(1).uniform(0, wide, (4000, 2))
        points = terrain.points_at(places, 1e-3)
        blend = jq.Blend(texels_that_tell(side, tile), [jq.Layer("told", lie)], filter="nearest")
        weights = PointWeights(names=("told",), layers=np.zeros((4000, 1), np.uint8), weights=np.ones((4000, 1), np.float32))
        found = {MapRole[name]: np.zeros((4000, 3), np.uint8) for name in ("DIFFUSE", "NORMAL", "SPECULAR")}
        found |= {
            MapRole[n]: np.zeros((4000, 1), np.uint16 if n == "HEIGHT" else np.uint8)
            for n in ("HEIGHT", "ROUGHNESS", "OCCLUSION")
        }
        blend.into(found, points, weights)
        where = np.column_stack([places[:, 0], np.full(4000, 7.25), places[:, 1]])
        axes = np.eye(3)
        if lie == jq.Planar(axis=(0.2, 1, 0.1)):
            up = np.array([0.2, 1, 0.1]) / np.linalg.norm([0.2, 1, 0.1])
            south = np.array([0, 0, 1]) - up * up[2]
            axes = np.stack([np.cross(up, south / np.linalg.norm(south)), up, south / np.linalg.norm(south)])
        at = ((where @ axes[[0, 2]].T - lie.offset) @ lie.turned.T) / tile * side
        for channel, axis in ((0, 1), (1, 0)):
            centre = found[MapRole.DIFFUSE][:, channel] + 0.5
            off = (at[:, axis] - centre + side / 2) % side - side / 2
            assert np.abs(off).max() <= 0.51

    @pytest.mark.parametrize("lie", [jq.Triplanar(4), jq.Box(space="object"), jq.Spherical(radius=0.6, space="object")])
    def test_a_mesh_is_baked_there_as_it_is_here(self, lie):
        """Moved by whole tiles: the same bytes within one of 255."""
        arrays = jq.pack([made_swatch("a", 1, tile=0.25)], side=16)
        box = jq.shapes.box((1, 1, 1))
        low, span = box.uv.min(axis=0), np.ptp(box.uv, axis=0)
        box = jq.shapes.unwrap(jq.Mesh.of(box.position, box.triangles, uv=(box.uv - low) / span, normal=box.normal), texels=128)
        far = np.eye(4)
        far[:3, 3] = (1e6, 250.0, -5e5)
        baked = [
            jq.bake(jq.UvCanvas(mesh, 128), [jq.Layer("a", lie)], arrays, filter="bilinear") for mesh in (box, box.placed(far))
        ]
        for role in baked[0]:
            apart = np.abs(baked[0][role].astype(int) - baked[1][role])
            assert (apart <= (256 if role is MapRole.HEIGHT else 1)).mean() > 0.999, role

    def test_a_mesh_comes_back_from_there_and_is_written_there(self, tmp_path):
        far = np.eye(4)
        far[:3, 3] = (1e6 + 1 / 3, 0, -5e5)
        box = jq.shapes.box((1, 1, 1))
        away = box.placed(far)
        assert np.abs(away.world - (box.world + far[:3, 3])).max() < 1e-6
        assert np.allclose(away.placed(np.linalg.inv(far)).position, box.position, atol=1e-6)
        for name in ("far.obj", "far.glb"):
            jq.export.write_mesh(away, tmp_path / name)
            again = jq.read_mesh(tmp_path / name)
            assert np.abs(again.bounds[0] - away.bounds[0]).max() < 1e-5
        both = jq.Mesh.joined([away, away.placed(np.diag([1.0, 2, 1, 1]))])
        assert np.abs(both.bounds[1] - [1e6 + 1 / 3 + 0.5, 2 * away.bounds[1][1], -5e5 + 0.5]).max() < 1e-3

    def test_noise_and_warps_have_no_steps_there(self):
        """Noise with a period is the same any number of periods away."""
        here = np.random.default_rng(2).uniform(0, 16, (500, 3)) * [1, 0, 1]
        far = jq.Terrain(np.zeros((2, 2)), size=(2e6, 2e6)).points_at(here[:, [0, 2]] + 1e6, 1.0)
        near = jq.Points.of(here, np.tile([0, 1, 0], (500, 1)))
        mask = jq.Noise(size=1, period=16)
        assert np.abs(mask.answer(far) - mask.answer(near)).max() < 1e-3
        places = np.linspace(1e6, 1e6 + 1, 2001)
        row = jq.Terrain(np.zeros((2, 2)), size=(2e6, 2e6)).points_at(np.column_stack([places, places]), 1.0)
        assert np.abs(np.diff(jq.Noise(size=4, threshold=0.5, range=1).answer(row))).max() < 5e-3

    def test_sizes_that_cannot_be_held_are_refused(self, project):
        with pytest.raises(jq.QuiltError, match=r"size east must be at most 4,000 km; got 100,000 km"):
            jq.Terrain(np.zeros((2, 2)), size=(1e8, 1e8))
        with pytest.raises(jq.QuiltError, match="heights must lie within 4,000 km"):
            jq.Terrain(np.full((2, 2), 1e20), size=(1, 1))
        text = (project / "job.quilt.toml").read_text()
        start = text.index("size = [")
        (project / "job.quilt.toml").write_text(text[:start] + "size = [1e8, 1e8]" + text[text.index("]", start) + 1 :])
        with pytest.raises(jq.QuiltError, match="at most 4,000 km"):
            jq.read_quilt(project / "job.quilt.toml").terrain  # noqa: B018


class TestViews:
    """A ground of any size is seen whole, through as much air, and plain where it is cut off."""

    def scene(self, size, heights):
        arrays = jq.pack([made_swatch("a", 1, tile=size / 40)], side=16)
        terrain = jq.Terrain(heights * size / 40, size=(size, size))
        return terrain, jq.Scene(arrays).add(terrain, [jq.Layer("a")])

    def test_a_stone_and_an_island_look_alike(self):
        heights = gaussian_filter(fractal(33, 2.5, 3), 1)[::-1] / 60
        pictures = []
        for size in (1.0, 60_000.0):
            terrain, scene = self.scene(size, heights)
            low, high = terrain.height_range
            camera = jq.Camera.before(np.array([0, low, 0]), np.array([size, high, size]), 1.6, rise=28)
            pictures.append(scene.draw(camera, width=160, height=100).astype(int))
            assert scene.size == size
        assert np.abs(pictures[0] - pictures[1]).mean() < 1
        border = np.concatenate([pictures[0][0], pictures[0][-1], pictures[0][:, 0], pictures[0][:, -1]])
        assert np.ptp(border, axis=0).max() < 30  # sky all around: the whole ground is within the picture

    def test_where_it_is_cut_off_it_is_plain(self):
        _, scene = self.scene(40.0, np.full((9, 9), 3.0))
        camera = jq.Camera(position=(20, 2.6, 60), target=(20, 2.6, 0))
        block = scene.canvas(camera, 50, 80).block(Region.whole((50, 80)))
        cut = block.cut.reshape(50, 80)
        assert (cut[25, 30:50] > 0).all()
        assert sum(len(piece.points) for piece in block.pieces) == 0
        assert np.allclose(cut[cut >= 0].min(), 20, atol=0.1)
        bare = scene.draw(camera, width=80, height=50)[25, 30:50].astype(int)
        assert np.ptp(bare, axis=0).max() <= 2
        thick = scene.draw(jq.Camera(position=(20, 1.5, 60), target=(20, 1.5, 0)), width=80, height=50)
        assert np.array_equal(thick[45, 10], thick[45, 70])  # below, there is air again

    def test_haze_is_a_key_and_a_camera_is_not_needed(self, project):
        text = (project / "job.quilt.toml").read_text()
        text = text[: text.index("[view]")] if "[view]" in text else text
        (project / "job.quilt.toml").write_text(text + "\n[view]\nhaze = 5.0\n")
        quilt = jq.read_quilt(project / "job.quilt.toml")
        assert quilt.table.view.haze == 5
        seen = quilt.camera.on_picture(quilt.terrain.points((16, 16)).world, 800, 1280)
        assert ((seen[:, :2] >= 0) & (seen[:, :2] <= (1280, 800))).all()
        with pytest.raises(jq.QuiltError, match="camera and target must both be said"):
            (project / "job.quilt.toml").write_text(text + "\n[view]\ncamera = [0, 1, 0]\n")
            jq.read_quilt(project / "job.quilt.toml")
        with pytest.raises(jq.QuiltError, match="haze must be"):
            (project / "job.quilt.toml").write_text(text + "\n[view]\nhaze = -1.0\n")
            jq.read_quilt(project / "job.quilt.toml")
