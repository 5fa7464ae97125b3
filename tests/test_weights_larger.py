"""What is larger than memory: arrays on a shelf, and textures in a cache, give the same bytes as what is held."""

import pickle
import threading

import numpy as np
import OpenImageIO as oiio
import pytest

import jagged_quilt as jq
from conftest import jquilt, made_swatch, write_small_project
from jagged_quilt.foundation import disk_store as shelves
from jagged_quilt.images import write_image
from jagged_quilt.maps import image_files
from jagged_quilt.surfaces import curvature, heightmap, relief
from jagged_quilt.weights import adopt, settle

ROWS, COLUMNS = 70, 90
SIZE = (89.0, 69.0)


@pytest.fixture(scope="module")
def metres():
    v, u = np.mgrid[:ROWS, :COLUMNS] / 30
    return np.float32(np.sin(5 * u) * np.cos(4 * v) * 4 + np.sin(31 * u * v) / 3)


@pytest.fixture
def shelf(tmp_path, monkeypatch):
    """A shelf, and pieces so small that there are many."""
    for module, name in ((relief, "_AT_ONCE"), (heightmap, "_AT_ONCE"), (adopt, "_AT_ONCE")):
        monkeypatch.setattr(module, name, 13 * COLUMNS)
    monkeypatch.setattr(settle, "_AT_ONCE", 3 * 13 * COLUMNS)
    monkeypatch.setattr(curvature, "_TILE", 16)
    bands = image_files.image_bands
    monkeypatch.setattr(image_files, "image_bands", lambda *given, **how: bands(*given, **how | {"texels": 13 * COLUMNS}))
    return jq.DiskStore(tmp_path / "held")


def stored_as(kind, folder, metres):
    """A heightmap file of a kind, and what is to be said of it."""
    deep = np.rint((metres + 5) * 6000).astype(np.uint16)
    path = folder / f"ground.{kind}"
    if kind == "npy":
        np.save(path, metres)
        return path, {}
    if kind == "raw":
        path.write_bytes(deep.astype("<u2").tobytes())
        return path, {"form": "raw16", "samples": (COLUMNS, ROWS), "heights": (-5, 7)}
    if kind == "tiled.tif":
        spec = oiio.ImageSpec(COLUMNS, ROWS, 1, "uint16")
        spec.tile_width = spec.tile_height = 16
        out = oiio.ImageOutput.create(str(path))
        assert out.open(str(path), spec)
        assert out.write_image(deep[..., None])
        out.close()
    elif kind == "ktx2":
        return stored_as("npy", folder, metres)
    else:
        write_image(path, metres[..., None] if kind == "exr" else deep[..., None])
    return path, {"heights": (0, 1) if kind == "exr" else (-5, 7)}


class TestGround:
    @pytest.mark.parametrize("kind", ["npy", "raw", "png", "tif", "tiled.tif", "exr"])
    def test_a_heightmap_is_read_as_it_would_be_whole(self, tmp_path, shelf, metres, kind):
        path, how = stored_as(kind, tmp_path, metres)
        whole, parts = (jq.read_terrain(path, size=SIZE, shelf=where, **how) for where in (None, shelf))
        assert np.array_equal(whole.heights, parts.heights)
        assert whole.height_range == parts.height_range
        for one, two in zip(whole._grid + whole._ground, parts._grid + parts._ground, strict=True):
            assert np.array_equal(one, two)

    def test_files_that_meet_are_laid_strip_by_strip(self, tmp_path, shelf, metres):
        rows = []
        for down, top in enumerate((0, 29, 49)):
            row = []
            for across, left in enumerate((0, 40)):
                row.append(str(tmp_path / f"{down}{across}.npy"))
                bottom, right = (29, 49, ROWS - 1)[down] + 1, (40, COLUMNS - 1)[across] + 1
                np.save(row[-1], metres[top:bottom, left:right] + np.float32(0.01 * across * down))
            rows.append(row)
        with pytest.warns(jq.QuiltWarning, match="averaged"):
            whole = jq.read_terrain(rows, size=SIZE)
        with pytest.warns(jq.QuiltWarning, match="averaged"):
            parts = jq.read_terrain(rows, size=SIZE, shelf=shelf)
        assert whole.heights.shape == (ROWS, COLUMNS)
        assert np.array_equal(whole.heights, parts.heights)

    def test_what_masks_ask_of_the_whole_is_the_same_in_tiles(self, tmp_path, shelf, metres):
        np.save(tmp_path / "g.npy", metres)
        whole = jq.Terrain(metres, size=SIZE)
        parts = jq.Terrain(np.load(tmp_path / "g.npy", mmap_mode="r"), size=SIZE, shelf=shelf)
        for scale in (2.0, 9.0, 60.0):
            one, two = (ground.fields.curvature(scale).values for ground in (whole, parts))
            assert np.array_equal(one, two)
        assert np.array_equal(whole.fields.ambient_occlusion(9).values, parts.fields.ambient_occlusion(9).values)
        layers = [
            jq.Layer("low"),
            jq.Layer("high", mask=jq.Curvature("ridges", 4) | jq.AmbientOcclusion(8)),
            jq.Layer("rim", mask=jq.Distance(jq.HeightBand(1, 9), -2, 3, fade=1, texels=64)),
        ]
        one, two = (jq.weigh(ground.canvas(96), layers) for ground in (whole, parts))
        assert np.array_equal(one.layers, two.layers)
        assert np.array_equal(one.weights, two.weights)

    def test_it_is_laid_once_and_travels_by_its_name(self, tmp_path, shelf, metres, monkeypatch):
        np.save(tmp_path / "g.npy", metres)
        first = jq.read_terrain(tmp_path / "g.npy", size=SIZE, shelf=shelf)
        first.fields.curvature(5)
        files = {path: path.stat().st_mtime_ns for path in shelf.folder.iterdir()}
        monkeypatch.setattr(np, "gradient", None)  # nothing is worked out again
        again = jq.read_terrain(tmp_path / "g.npy", size=SIZE, shelf=shelf)
        sent = pickle.dumps((again, again.fields.curvature(5)))
        assert len(sent) < 2000
        ground, field = pickle.loads(sent)
        assert np.array_equal(ground.heights, metres)
        assert np.array_equal(field.values, first.fields.curvature(5).values)
        assert files == {path: path.stat().st_mtime_ns for path in shelf.folder.iterdir()}

    def test_what_depends_on_a_size_or_a_scale_is_not_taken_for_that_of_another(self, tmp_path, shelf, metres):
        """However little they differ."""
        np.save(tmp_path / "g.npy", metres)
        for east, scale in ((89.0, 5.0), (89.00002, 5.0), (89.00002, 5.00001)):
            whole, parts = (jq.read_terrain(tmp_path / "g.npy", size=(east, 69), shelf=where) for where in (None, shelf))
            assert np.array_equal(whole._grid.east, parts._grid.east)
            assert np.array_equal(whole.fields.curvature(scale).values, parts.fields.curvature(scale).values)

    def test_another_ground_takes_its_place(self, tmp_path, shelf, metres):
        for number in range(2):
            np.save(tmp_path / "g.npy", metres + np.float32(number))
            ground = jq.read_terrain(tmp_path / "g.npy", size=SIZE, shelf=shelf)
            assert ground.heights[0, 0] == metres[0, 0] + np.float32(number)
        assert len(list(shelf.folder.glob("heights-*.npy"))) == 1

    def test_what_cannot_be_is_reported(self, tmp_path, shelf, metres, monkeypatch):
        holed = metres.copy()
        holed[40, 7] = np.nan
        np.save(tmp_path / "holes.npy", holed)
        with pytest.raises(jq.QuiltError, match="1 samples of the rows 39 to 51 mean nothing"):
            jq.read_terrain(tmp_path / "holes.npy", size=SIZE, shelf=shelf)
        with pytest.raises(jq.QuiltError, match="held as a whole"):
            jq.read_terrain(tmp_path / "holes.npy", size=SIZE, shelf=shelf, smooth=True)
        np.save(tmp_path / "flat.npy", metres[0])
        with pytest.raises(jq.QuiltError, match="array \\(rows, columns\\)"):
            jq.read_terrain(tmp_path / "flat.npy", size=SIZE)
        (tmp_path / "no.npy").write_bytes(b"\x93NUMPY nonsense")
        with pytest.raises(jq.QuiltError, match="cannot be read as an array"):
            jq.read_terrain(tmp_path / "no.npy", size=SIZE)
        with pytest.raises(jq.QuiltError, match="for a shelf must be"):
            jq.Terrain(metres.astype(np.float64), size=SIZE, shelf=shelf)

        def full(*given):
            raise OSError(28, "No space left on device")

        monkeypatch.setattr(shelves, "_reserve", full)
        np.save(tmp_path / "g.npy", metres)
        with pytest.raises(jq.QuiltError, match="no room for 0 MiB: No space left"):
            jq.read_terrain(tmp_path / "g.npy", size=SIZE, shelf=shelf)
        assert not list(shelf.folder.iterdir())


class TestAdopted:
    """The sheets of three layers, one of them with soft edges."""

    def shares(self):
        v, u = np.mgrid[:ROWS, :COLUMNS] / 20
        soft = np.clip(np.stack([np.sin(3 * u), np.cos(2 * v), 0 * u + 0.2], axis=-1), 0, 1)
        return soft / soft.sum(axis=2, keepdims=True)

    def files(self, folder):
        shares = self.shares()
        sheet = np.rint(shares * 255).astype(np.uint8)
        key = np.rint(shares @ np.array([[255, 0, 0], [0, 255, 0], [0, 0, 255]])).astype(np.uint8)
        hard = np.eye(3)[np.repeat(np.repeat((np.indices((7, 9)).sum(axis=0) % 3), 10, 0), 10, 1)]
        blurred = (np.roll(hard, 1, 0) + np.roll(hard, 1, 1) + 2 * hard) / 4
        blurred[0], blurred[:, 0] = hard[0], hard[:, 0]
        images = {
            "sheet.png": sheet,
            "one.png": sheet[..., :1],
            "two.png": sheet[..., 1:2],
            "index.png": shares.argmax(axis=2).astype(np.uint8)[..., None],
            "key.png": np.rint(blurred * 255).astype(np.uint8),
            "numbers.png": np.broadcast_to(np.uint8([2, 0, 1]), sheet.shape).copy(),
            "odd.png": key,
        }
        for name, texels in images.items():
            write_image(folder / name, texels)
        return {name: folder / name for name in images}

    def test_every_form_is_adopted_as_it_would_be_whole(self, tmp_path, shelf):
        files = self.files(tmp_path)
        names = ("a", "b", "c")
        colours = dict(zip(names, ("#ff0000", "#00ff00", "#0000ff"), strict=True))
        forms = [
            lambda room: jq.adopt.splat([files["sheet.png"]], names, room=room),
            lambda room: jq.adopt.masks({"a": files["one.png"], "b": files["two.png"]}, implied_last="c", room=room),
            lambda room: jq.adopt.index(files["index.png"], names, room=room),
            lambda room: jq.adopt.colours(files["key.png"], colours, room=room),
            lambda room: jq.adopt.pairs(files["numbers.png"], files["sheet.png"], names, room=room),
        ]
        for form in forms:
            whole, parts = form(shelves.MEMORY), form(shelf)
            assert whole.sums == parts.sums
            assert np.array_equal(whole.weights.layers, parts.weights.layers)
            assert np.array_equal(whole.weights.weights, parts.weights.weights)
            one, two = (found.rehomed({"c": "a"}, ("a", "b")) for found in (whole, parts))
            assert np.array_equal(one.weights, two.weights)
            opened = []
            for number, where in enumerate((shelves.MEMORY, shelf)):
                two.save(tmp_path / f"saved{number}")
                opened.append(jq.open_weights(tmp_path / f"saved{number}", where))
            assert np.array_equal(opened[0].layers, opened[1].layers)
            assert np.array_equal(opened[0].weights, two.weights)
        with pytest.raises(jq.QuiltError, match="row 0, column 0 is not in the key"):
            jq.adopt.colours(files["odd.png"], {"a": "#ff0000", "b": "#ffff00"}, room=shelf)


class TestDaubs:
    """A file of them, of which those are read that touch what is weighed."""

    DAUBS = (
        jq.Daub(path=((10, 10), (40, 30)), radius=9.0, layers=("high",)),
        jq.Daub(path=((30, 30),), radius=12.0, layers=("high",), kind="erase", strength=0.7),
        jq.Daub(path=((60, 20), (70, 60)), radius=8.0, layers=("high", "rim"), between=jq.Noise(size=6.0)),
        jq.Daub(path=((20, 20), (60, 40)), radius=14.0, kind="smooth"),
        jq.Daub(path=((35, 25), (80, 25)), radius=5.0, kind="erase", breakup=jq.Noise(size=3.0)),
    )
    LAYERS = (jq.Layer("low"), jq.Layer("high", mask=jq.HeightBand(0, 9, fade=2)), jq.Layer("rim", mask=jq.Slope(50, 90)))

    def test_they_are_laid_as_those_that_are_held(self, tmp_path, metres):
        jq.daubs.write_daubs(tmp_path / "d.jsonl", self.DAUBS)
        (tmp_path / "d.jsonl").write_bytes(b"\n" + (tmp_path / "d.jsonl").read_bytes().replace(b"}\n", b"}\n\n", 2))
        file = pickle.loads(pickle.dumps(jq.daubs.DaubFile(tmp_path / "d.jsonl")))
        assert tuple(file) == self.DAUBS == tuple(file[:])
        canvas = jq.Terrain(metres, size=SIZE).canvas(96)
        one, two = (jq.weigh(canvas, self.LAYERS, daubs=daubs) for daubs in (self.DAUBS, file))
        assert np.array_equal(one.weights, two.weights)
        assert np.array_equal(one.layers, two.layers)
        reported = [
            jq.Weigher(self.LAYERS, daubs=daubs).daubs.covered(2, canvas.points_of(canvas.window))
            for daubs in (self.DAUBS, file)
        ]
        assert np.array_equal(*reported)

    def test_what_is_wrong_is_reported_by_line_and_number(self, tmp_path):
        path = tmp_path / "d.jsonl"
        with pytest.raises(jq.QuiltError, match="no such file of daubs"):
            jq.daubs.DaubFile(path)
        jq.daubs.write_daubs(path, self.DAUBS)
        with pytest.raises(jq.QuiltError, match='daub 3: no layer is called "rim"'):
            jq.Weigher(self.LAYERS[:2], daubs=jq.daubs.DaubFile(path))
        with pytest.raises(jq.QuiltError, match=r"daub 1: .*leaves the surface"):
            jq.daubs.DaubFile(path, lambda daub: daub.check_on((1, 1), ("high", "rim")))
        file = jq.daubs.DaubFile(path)
        path.write_bytes(path.read_bytes() + b"nonsense\n")
        with pytest.raises(jq.QuiltError, match="changed while it was read"):
            file[0]
        with pytest.raises(jq.QuiltError, match="line 6: not JSON"):
            jq.daubs.DaubFile(path)


NAMES = ("a", "b", "c", "d", "e")


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    rare = (*jq.SURFACE_ROLES, *jq.OPTIONAL_ROLES)
    swatches = [made_swatch(name, n, roles=rare if n == 2 else jq.SURFACE_ROLES) for n, name in enumerate(NAMES)]
    where = tmp_path_factory.mktemp("arrays")
    jq.pack(swatches, side=16).save(where)
    return where


class TestTexelCache:
    LAYERS = (
        jq.Layer("a"),
        *(jq.Layer(name, jq.Triplanar(), mask=jq.HeightBand(n - 3, n - 2, fade=0.2)) for n, name in enumerate("bcde")),
    )

    def test_a_blend_reads_the_same_and_holds_no_more(self, folder):
        rising = np.repeat(np.linspace(-3, 2, ROWS)[:, None], COLUMNS, axis=1)
        arrays, ground = jq.open_arrays(folder), jq.Terrain(rising, size=SIZE)
        canvas = ground.canvas(96)
        whole = jq.bake(canvas, self.LAYERS, arrays)
        one = arrays.cached(1, NAMES).slice_bytes / (1 << 20)
        for slots, threads in ((3, 2), (5, 2), (3, 1)):
            cache = arrays.cached(slots * one * 1.01)
            parts = jq.Baker(canvas, self.LAYERS, pickle.loads(pickle.dumps(cache))).over(canvas, block=64)
            assert all(np.array_equal(whole[role], parts[role]) for role in whole)
            jq.Baker(canvas, self.LAYERS, cache).over(canvas, block=64, work=jq.Work(threads=threads))
            assert cache._texels.texels.nbytes == slots * cache.slice_bytes
            assert cache.misses == 5 if slots == 5 else cache.misses >= 5
            assert cache.hits > cache.misses
            assert f"{cache.hits} hits, {cache.misses} misses" in repr(cache)

    def test_the_one_asked_for_least_lately_gives_way(self, folder):
        arrays = jq.open_arrays(folder)
        one = arrays.cached(1).slice_bytes / (1 << 20)
        cache = arrays.cached(2 * one, NAMES)
        for asked, misses in ((0, 1), (1, 2), (0, 2), (2, 3), (0, 3), (1, 4)):
            with cache.holding(np.array([asked])):
                assert cache.misses == misses

    def test_a_thread_waits_while_others_use_all_slots(self, folder):
        arrays = jq.open_arrays(folder)
        cache = arrays.cached(arrays.cached(1).slice_bytes / (1 << 20), NAMES)
        done = []

        def other():
            with cache.holding(np.array([1])):
                done.append(1)

        with cache.holding(np.array([0])):
            thread = threading.Thread(target=other)
            thread.start()
            thread.join(0.1)
            assert not done
        thread.join(5)
        assert done == [1]

    def test_too_small_a_cache_is_reported(self, folder):
        arrays = jq.open_arrays(folder)
        with pytest.raises(jq.QuiltError, match="holds no swatch; one takes"):
            arrays.cached(0.001)
        cache = arrays.cached(2.5 * arrays.cached(1).slice_bytes / (1 << 20))
        with (
            pytest.raises(jq.QuiltError, match=r"one block shows 3 swatches.* holds 2; give it at least"),
            cache.holding(np.arange(3)),
        ):
            pass
        with pytest.raises(jq.QuiltError, match="swatch"):
            arrays.cached(9, ["none"])


def test_a_quilt_of_more_than_is_held_bakes_the_same(tmp_path, monkeypatch):
    """By the command: its ground on a shelf in the folder of results, its textures in a cache."""
    quilt = write_small_project(tmp_path) / "job.quilt.toml"
    code, _, reported = jquilt("bake", quilt, "--store", tmp_path / "a.zarr", "--texels", 64, "--pages", 32)
    assert code == 0, reported
    code, out, reported = jquilt("bake", quilt, "--store", tmp_path / "b.zarr", "--texels", 64, "--pages", 32, "--textures", 64)
    assert code == 0, reported
    assert "hits" in out
    one, two = (jq.open_pages(tmp_path / name) for name in ("a.zarr", "b.zarr"))
    assert all(np.array_equal(one.array(role, 0)[:], two.array(role, 0)[:]) for role in one.roles)
    code, _, reported = jquilt("bake", quilt, "--textures", 64)
    assert code == 2
    assert "name their --store" in reported
    found = jq.read_quilt(quilt)
    monkeypatch.setattr("jagged_quilt.quiltfile.loaded.HELD_TEXELS", 100)
    found = found.with_work(jq.DiskStore(tmp_path / "held"))
    assert found.terrain.shelf is not None
    assert np.array_equal(found.terrain.heights, jq.read_quilt(quilt).ground.read(tmp_path).heights)
