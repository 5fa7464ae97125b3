"""Pages of a store: the same texels as the whole, only what changed, nothing lost, on threads and on a cluster."""

import pickle
import shutil
import threading
import time
from dataclasses import replace

import numpy as np
import psutil
import pytest
import zarr
from hypothesis import given, settings
from hypothesis import strategies as st

import jagged_quilt as jq
from conftest import jquilt, made_swatch, write_small_project
from jagged_quilt.arrays.page_grid import PageAt, PageGrid, within
from jagged_quilt.arrays.page_store import DamagedPageError, PageStore, digest_of
from jagged_quilt.baking.coarser import halved
from jagged_quilt.baking.page_texels import GroundTexels
from jagged_quilt.demo.things import sluice_gate
from jagged_quilt.foundation.canvas import Region
from jagged_quilt.images import read_image
from jagged_quilt.maps.texture_map import TextureMap
from jagged_quilt.weights import weight_windows

R = jq.MapRole
PAGE, BORDER = 16, 2


@pytest.fixture(scope="module")
def ground():
    v, u = np.mgrid[:33, :33] / 32
    return jq.Terrain(2 * np.sin(5 * u) * np.cos(4 * v), size=(16, 16))


@pytest.fixture(scope="module")
def arrays():
    rare = (*jq.SURFACE_ROLES, *jq.OPTIONAL_ROLES)
    return jq.pack([made_swatch("low", 1), made_swatch("high", 2, roles=rare), made_swatch("rim", 3)], side=16)


LAYERS = [
    jq.Layer("low"),
    jq.Layer("high", jq.Triplanar(), mask=jq.HeightBand(0.5, 9, fade=0.2)),
    jq.Layer("rim", mask=jq.ImageMask(values=np.eye(2, dtype=np.float32)) & jq.HeightBand(-9, -1, fade=0.1)),
]


def baker(ground, arrays, texels=(40, 56), layers=LAYERS, **options):
    canvas = ground.canvas(texels)
    weights = jq.weigh(ground.canvas(32), layers)
    return jq.Baker(canvas, layers, arrays, weights=weights, **options)


def baked(made, store, **options):
    return jq.bake_pages(made, store, page=PAGE, border=BORDER, **options)


def texels_of(store, group="ground"):
    """All that a store holds of a surface, mip after mip."""
    found = jq.open_pages(store, group)
    return {(role, mip): np.asarray(found.array(role, mip)[:]) for role in found.roles for mip in range(found.grid.mips)}


def alike(one, two, group="ground"):
    first, second = texels_of(one, group), texels_of(two, group)
    return first.keys() == second.keys() and all(np.array_equal(first[key], second[key]) for key in first)


class TestGrid:
    @settings(max_examples=60, deadline=None)
    @given(st.integers(1, 700), st.integers(1, 700), st.sampled_from([16, 32, 64]), st.integers(0, 8))
    def test_pages_cover_every_texel_of_every_mip_once(self, rows, columns, page, border):
        grid = PageGrid((rows, columns), page, border, 2)
        assert grid.pages(grid.mips - 1) == (1, 1)
        assert grid.mips == 1 or max(grid.pages(grid.mips - 2)) > 1
        for mip in range(grid.mips):
            seen = np.zeros(grid.size(mip), int)
            for shard in np.ndindex(grid.shards(mip)):
                for at in grid.pages_in(mip, shard):
                    core = grid.core(at)
                    seen[core.top : core.bottom, core.left : core.right] += 1
            assert (seen == 1).all()

    @settings(max_examples=40, deadline=None)
    @given(st.integers(1, 400), st.integers(1, 400), st.integers(0, 8), st.data())
    def test_a_page_is_made_from_just_the_pages_that_hold_its_finer_texels(self, rows, columns, border, data):
        grid = PageGrid((rows, columns), 16, border)
        if grid.mips == 1:
            return
        mip = data.draw(st.integers(1, grid.mips - 1))
        down, across = grid.pages(mip)
        at = PageAt(mip, data.draw(st.integers(0, down - 1)), data.draw(st.integers(0, across - 1)))
        reach, size = within(grid.reach(at), grid.size(mip)), grid.size(mip - 1)
        fine = within(Region(*(2 * each for each in reach)), size)
        wanted = {
            PageAt(mip - 1, row // 16, column // 16)
            for row in range(fine.top, fine.bottom)
            for column in range(fine.left, fine.right)
        }
        assert set(grid.finer(at)) == wanted

    def test_what_cannot_be_is_refused(self):
        for words, make in {
            "page": lambda: PageGrid((64, 64), 24),
            "border": lambda: PageGrid((64, 64), 16, 9),
            "no mip 9": lambda: PageGrid((64, 64), 16).checked(PageAt(9, 0, 0)),
            "4 rows and 4 columns": lambda: PageGrid((64, 64), 16).checked(PageAt(0, 4, 0)),
        }.items():
            with pytest.raises(jq.QuiltError, match=words):
                make()


class TestCoarser:
    def test_colour_is_light_normals_are_vectors_and_roughness_is_widened(self):
        rng = np.random.default_rng(2)
        maps = {
            role: each.texels
            for role, each in made_swatch("a", 4, 8, roles=(*jq.SURFACE_ROLES, *jq.OPTIONAL_ROLES)).maps.items()
        }
        maps[R.HEIGHT] = rng.integers(0, 65536, (8, 8, 1), dtype=np.uint16)
        values = {role: TextureMap(role=role, texels=each).values.astype(np.float64) for role, each in maps.items()}
        mean = lambda each: each.reshape(4, 2, 4, 2, -1).mean(axis=(1, 3))
        got = {role: TextureMap(role=role, texels=each).values for role, each in halved(maps).items()}
        for role in (R.DIFFUSE, R.SPECULAR, R.EMISSION):
            encoded = lambda x: np.where(x <= 0.0031308, x * 12.92, 1.055 * x ** (1 / 2.4) - 0.055)
            assert np.abs(encoded(got[role]) - encoded(mean(values[role]))).max() < 0.6 / 255
        for role in (R.OCCLUSION, R.COAT):
            assert np.abs(got[role] - mean(values[role])).max() < 0.51 / 255
        assert np.abs(got[R.HEIGHT] - mean(values[R.HEIGHT])).max() < 0.51 / 65535
        for role, rough in ((R.NORMAL, R.ROUGHNESS), (R.COAT_NORMAL, R.COAT_ROUGHNESS)):
            vectors = mean(values[role])
            unit = vectors / np.linalg.norm(vectors, axis=2, keepdims=True)
            assert np.abs(got[role] - unit).max() < 0.02
            assert got[rough].mean() > mean(values[rough]).mean()


class TestSameTexels:
    def test_pages_are_the_whole_and_each_alone(self, ground, arrays, tmp_path):
        """With borders cut off; of every mip; whatever the shard."""
        made = baker(ground, arrays)
        reported = baked(made, tmp_path / "a.zarr")
        whole = made.over(made.canvas)
        store = jq.open_pages(tmp_path / "a.zarr")
        assert (reported.made, reported.kept, store.grid.page_count) == (store.grid.page_count, 0, reported.made)
        for role in store.roles:
            pages = np.asarray(store.array(role, 0)[:])[:, :, BORDER:-BORDER, BORDER:-BORDER]
            rows, columns = store.grid.pages(0)
            image = pages.transpose(0, 2, 1, 3, 4).reshape(rows * PAGE, columns * PAGE, -1)[:40, :56]
            assert np.array_equal(image, whole[role].reshape(40, 56, -1)), role
        for mip in range(store.grid.mips):
            rows, columns = store.grid.pages(mip)
            for at in {PageAt(mip, 0, 0), PageAt(mip, rows // 2, columns // 3), PageAt(mip, rows - 1, columns - 1)}:
                alone, stored = jq.page(made, at, page=PAGE, border=BORDER), store.read(at)
                assert all(np.array_equal(alone[role].reshape(stored[role].shape), stored[role]) for role in stored), at

    def test_borders_are_the_neighbours_texels(self, ground, arrays, tmp_path):
        baked(baker(ground, arrays), tmp_path / "a.zarr")
        store = jq.open_pages(tmp_path / "a.zarr")
        left, right = store.read(PageAt(0, 1, 1))[R.DIFFUSE], store.read(PageAt(0, 1, 2))[R.DIFFUSE]
        assert np.array_equal(left[:, -2 * BORDER :], right[:, : 2 * BORDER])
        corner = store.read(PageAt(0, 0, 0))[R.DIFFUSE]
        assert np.array_equal(corner[0], corner[BORDER])

    def test_a_mesh_is_cut_too(self, arrays, tmp_path):
        gate = sluice_gate()
        made = jq.Baker(jq.UvCanvas(gate, 48, padding=2), [jq.Layer("high", jq.Triplanar())], arrays)
        baked(made, tmp_path / "a.zarr", group="meshes/gate")
        store, whole = jq.open_pages(tmp_path / "a.zarr", "meshes/gate"), made.over(made.canvas)
        page = store.read(PageAt(0, 1, 1))[R.NORMAL][BORDER:-BORDER, BORDER:-BORDER]
        assert np.array_equal(page, whole[R.NORMAL][PAGE : 2 * PAGE, PAGE : 2 * PAGE])
        assert baked(made, tmp_path / "a.zarr", group="meshes/gate").made == 0

    def test_in_memory_and_wherever_fsspec_reaches(self, ground, arrays, tmp_path):
        made = baker(ground, arrays)
        baked(made, tmp_path / "a.zarr")
        baked(made, "memory://pages/a.zarr")
        assert alike(tmp_path / "a.zarr", "memory://pages/a.zarr")


class TestOnlyWhatChanged:
    def test_nothing_where_nothing_did(self, ground, arrays, tmp_path):
        baked(baker(ground, arrays), tmp_path / "a.zarr")
        reported = baked(baker(ground, arrays), tmp_path / "a.zarr")
        assert (reported.made, reported.causes) == (0, {})

    def test_a_changed_layer_only_where_it_shows(self, ground, arrays, tmp_path):
        """And the texels are those of baking all of it anew."""
        baked(baker(ground, arrays), tmp_path / "a.zarr")
        changed = [*LAYERS[:2], replace(LAYERS[2], softness=0.7)]
        reported = baked(baker(ground, arrays, layers=changed), tmp_path / "a.zarr")
        assert set(reported.causes) == {"layer rim", "finer"}
        assert 0 < reported.causes["layer rim"] < 0.7 * np.prod(jq.open_pages(tmp_path / "a.zarr").grid.pages(0))
        baked(baker(ground, arrays, layers=changed), tmp_path / "b.zarr")
        assert alike(tmp_path / "a.zarr", tmp_path / "b.zarr")

    def test_a_hill_that_grew_only_there(self, ground, arrays, tmp_path):
        baked(baker(ground, arrays), tmp_path / "a.zarr")
        heights = ground.heights.copy()
        heights[2:4, 2:4] += 0.3
        grown = jq.Terrain(heights, size=ground.size)
        one = baker(ground, arrays)
        two = jq.Baker(grown.canvas((40, 56)), LAYERS, arrays, weights=one.sources[0])
        reported = baked(two, tmp_path / "a.zarr")
        assert 0 < reported.causes["ground"] < 12
        baked(two, tmp_path / "b.zarr")
        assert alike(tmp_path / "a.zarr", tmp_path / "b.zarr")

    def test_masks_that_answer_at_every_texel_count_as_a_whole(self, ground, arrays, tmp_path):
        masked = lambda layers: jq.Baker(ground.canvas((40, 56)), layers, arrays)
        baked(masked(LAYERS), tmp_path / "a.zarr")
        assert baked(masked(LAYERS), tmp_path / "a.zarr").made == 0
        other = [LAYERS[0], replace(LAYERS[1], mask=jq.HeightBand(0.6, 9, fade=0.2)), LAYERS[2]]
        reported = baked(masked(other), tmp_path / "a.zarr")
        assert reported.causes["weights"] == np.prod(jq.open_pages(tmp_path / "a.zarr").grid.pages(0))

    def test_one_page_alone_goes_into_the_store(self, ground, arrays, tmp_path):
        made = baker(ground, arrays)
        baked(made, tmp_path / "a.zarr", only=(1, 1, 0))
        baked(made, tmp_path / "b.zarr")
        one, two = (jq.open_pages(tmp_path / name).read(PageAt(1, 1, 0)) for name in ("a.zarr", "b.zarr"))
        assert all(np.array_equal(one[role], two[role]) for role in one)
        reported = baked(made, tmp_path / "a.zarr")
        assert reported.kept == 1
        assert alike(tmp_path / "a.zarr", tmp_path / "b.zarr")

    def test_stopped_anywhere_it_goes_on(self, ground, arrays, tmp_path, monkeypatch):
        """At every single write of a store, and whatever was written is believed only if it is whole."""
        made = baker(ground, arrays, texels=(20, 20))
        baked(made, tmp_path / "whole.zarr")
        stops = 0
        write, vouch = PageStore.write, PageStore.vouch
        while True:
            left = [stops]

            def once(call, *given, left=left):
                if left[0] == 0:
                    raise KeyboardInterrupt
                left[0] -= 1
                call(*given)

            monkeypatch.setattr(PageStore, "write", lambda *given, once=once: once(write, *given))
            monkeypatch.setattr(PageStore, "vouch", lambda *given, once=once: once(vouch, *given))
            shutil.rmtree(tmp_path / "a.zarr", ignore_errors=True)
            try:
                baked(made, tmp_path / "a.zarr", work=jq.Work(threads=1))
            except KeyboardInterrupt:
                monkeypatch.undo()
                baked(made, tmp_path / "a.zarr")
                assert alike(tmp_path / "a.zarr", tmp_path / "whole.zarr"), stops
                stops += 1
                continue
            break
        assert stops >= 6


class TestDamage:
    @pytest.mark.parametrize("way", ["flipped", "cut", "gone"])
    def test_a_damaged_page_is_made_anew_where_it_is_read(self, ground, arrays, tmp_path, way):
        made = baker(ground, arrays)
        baked(made, tmp_path / "whole.zarr")
        shutil.copytree(tmp_path / "whole.zarr", tmp_path / "a.zarr")
        shard = next(
            path for path in sorted((tmp_path / "a.zarr" / "ground" / "diffuse" / "0" / "c").rglob("*")) if path.is_file()
        )
        data = bytearray(shard.read_bytes())
        data[len(data) // 2] ^= 255
        if way == "gone":
            shard.unlink()
        else:
            shard.write_bytes(data if way == "flipped" else data[: len(data) // 3])
        store = jq.open_pages(tmp_path / "a.zarr")
        with pytest.raises(DamagedPageError):
            for at, record in store.records(0, (0, 0)).items():
                store.read(at, record)
        changed = [*LAYERS[:2], replace(LAYERS[2], softness=0.7)]
        again = baker(ground, arrays, layers=changed)
        reported = baked(again, tmp_path / "a.zarr")
        assert reported.causes.get("damaged", 0) + reported.causes["layer rim"] > 0
        baked(again, tmp_path / "b.zarr")
        assert alike(tmp_path / "a.zarr", tmp_path / "b.zarr")

    def test_what_no_longer_fits_is_refused_and_nothing_is_lost(self, ground, arrays, tmp_path):
        made = baker(ground, arrays)
        baked(made, tmp_path / "a.zarr")
        before = texels_of(tmp_path / "a.zarr")
        with pytest.raises(jq.QuiltError, match="pages of other border: 2, and 3 is asked for"):
            jq.bake_pages(made, tmp_path / "a.zarr", page=PAGE, border=3)
        root = zarr.open_group(tmp_path / "a.zarr", path="ground", mode="r+")
        reported = root.attrs.asdict()
        root.attrs.put({**reported, "pages": {**reported["pages"], "form": 99}})
        with pytest.raises(jq.QuiltError, match="other form: 99"):
            baked(made, tmp_path / "a.zarr")
        after = texels_of(tmp_path / "a.zarr")
        assert all(np.array_equal(before[key], after[key]) for key in before)
        assert baked(made, tmp_path / "a.zarr", force=True).kept == 0
        with pytest.raises(jq.QuiltError, match="no such pages"):
            jq.open_pages(tmp_path / "nothing.zarr")
        with pytest.raises(jq.QuiltError, match="mip, row and column"):
            jq.page(made, (1, 2))

    def test_a_full_disk_is_a_clear_line(self, ground, arrays, tmp_path, monkeypatch):
        made = baker(ground, arrays, texels=(40, 40))

        def full(self, *given):
            raise OSError(28, "No space left on device")

        monkeypatch.setattr(zarr.Array, "__setitem__", full)
        with pytest.raises(jq.QuiltError, match=r"a\.zarr: No space left on device"):
            baked(made, tmp_path / "a.zarr")
        monkeypatch.undo()
        baked(made, tmp_path / "a.zarr")
        baked(made, tmp_path / "b.zarr")
        assert alike(tmp_path / "a.zarr", tmp_path / "b.zarr")

    def test_a_worker_of_a_cluster_that_is_killed_is_replaced_and_nothing_is_lost(self, ground, arrays, tmp_path):
        """And the bytes are those made on threads."""
        made = baker(ground, arrays, texels=(256, 256))
        baked(made, tmp_path / "threads.zarr")
        killed = []

        def kill_one():
            while not (tmp_path / "a.zarr" / "ground" / "finished").exists():
                time.sleep(0.01)
            workers = [each for each in psutil.Process().children() if "spawn_main" in " ".join(each.cmdline())]
            workers[0].kill()
            killed.append(workers[0])

        watch = threading.Thread(target=kill_one)
        watch.start()
        reported = baked(made, tmp_path / "a.zarr", on="local", work=jq.Work(threads=2))
        watch.join()
        assert killed
        assert alike(tmp_path / "threads.zarr", tmp_path / "a.zarr")
        assert sum(count for count, _ in reported.workers.values()) > 0

    def test_no_scheduler_is_a_clear_line(self, ground, arrays, tmp_path):
        with pytest.raises(jq.QuiltError, match="no scheduler"):
            baked(baker(ground, arrays), tmp_path / "a.zarr", on="tcp://127.0.0.1:9")


class TestWeightWindows:
    LAYERS = (LAYERS[0], replace(LAYERS[1], mask=jq.Distance(LAYERS[1].mask, -1, 1, texels=64)), LAYERS[2])

    @pytest.fixture(autouse=True)
    def small_bands(self, monkeypatch):
        monkeypatch.setattr(weight_windows, "_CHUNK", 16)
        monkeypatch.setattr(weight_windows, "_BAND", 16 * 64)

    def test_they_are_the_map_in_memory(self, ground, arrays, tmp_path):
        """Its texels, what it answers anywhere, and what is baked by it; with a mask of the whole ground, and a daub."""
        daubs = [jq.Daub(path=((2, 2), (9, 9)), radius=3.0, layers=("rim",))]
        canvas = ground.canvas((72, 64))
        whole = jq.weigh(canvas, self.LAYERS, daubs=daubs)
        parts = jq.weigh_into(canvas, self.LAYERS, str(tmp_path / "w.zarr"), daubs=daubs)
        assert np.array_equal(parts.layers[:], whole.layers)
        assert np.array_equal(parts.weights[:], whole.weights)
        points = ground.points((40, 50))
        for some in (points, points[100:117], points[:1], points[-1:], points[:0]):
            one, two = whole.at(some), pickle.loads(pickle.dumps(parts)).at(some)
            assert np.array_equal(one.layers, two.layers)
            assert np.array_equal(one.weights, two.weights)
        for weights, name in ((whole, "a.zarr"), (parts, "b.zarr")):
            baked(jq.Baker(ground.canvas((40, 56)), self.LAYERS, arrays, weights=weights), tmp_path / name)
        assert alike(tmp_path / "a.zarr", tmp_path / "b.zarr")

    def test_stopped_they_go_on_and_of_other_masks_they_begin_anew(self, ground, tmp_path, monkeypatch):
        canvas, store, asked = ground.canvas((72, 64)), str(tmp_path / "w.zarr"), []

        def counted(*given, **options):
            asked.append(given)
            if len(asked) == 4:
                raise KeyboardInterrupt
            return jq.weigh(*given, **options)

        monkeypatch.setattr(weight_windows, "weigh", counted)
        with pytest.raises(KeyboardInterrupt):
            jq.weigh_into(canvas, self.LAYERS, store, stamp="one")
        with pytest.raises(jq.QuiltError, match="only 48 rows of these weights"):
            weight_windows.WeightWindows(store, "weights")
        whole = jq.weigh_into(canvas, self.LAYERS, store, stamp="one")
        assert np.array_equal(whole.weights[:], jq.weigh(canvas, self.LAYERS).weights)
        assert len(asked) == 4 + 2
        jq.weigh_into(canvas, self.LAYERS, store, stamp="one")
        assert len(asked) == 4 + 2
        jq.weigh_into(canvas, self.LAYERS[:2], store, stamp="two")
        assert len(asked) == 4 + 2 + 5
        with pytest.raises(jq.QuiltError, match="no such weights"):
            weight_windows.WeightWindows(str(tmp_path / "none.zarr"), "weights")


class TestSeen:
    CAMERA = jq.Camera(position=(8, 5, 20), target=(8, 0, 8))

    @pytest.fixture(scope="class")
    @staticmethod
    def store(ground, arrays, tmp_path_factory):
        path = tmp_path_factory.mktemp("pages") / "a.zarr"
        jq.bake_pages(baker(ground, arrays, texels=256), path, page=32, border=2)
        return path

    def scene(self, arrays, ground, seen):
        return jq.Scene(arrays, lights=[jq.Sun(120, 40)]).add_pages(ground, seen)

    def test_the_view_is_that_of_the_layers(self, arrays, ground, store):
        """But for what texels of 6 cm cannot hold."""
        seen = jq.PagedGround(store)
        paged = self.scene(arrays, ground, seen).draw(self.CAMERA, width=160, height=100)
        weights = jq.weigh(ground.canvas(32), LAYERS)
        plain = jq.Scene(arrays, lights=[jq.Sun(120, 40)]).add(ground, LAYERS, weights=weights)
        drawn = plain.draw(self.CAMERA, width=160, height=100)
        assert np.abs(paged.astype(int) - drawn).mean() < 8
        assert not seen.pages.missing
        assert 1 < len(seen.pages.held) < seen.pages.grid.page_count

    def test_only_what_is_needed_is_held(self, arrays, ground, store):
        seen = jq.PagedGround(store)
        scene = self.scene(arrays, ground, seen)
        needed = jq.show.pages_needed(scene, self.CAMERA, seen.pages.grid, ground.size)
        scene.draw(self.CAMERA)
        coarsest = PageAt(seen.pages.grid.mips - 1, 0, 0)
        assert set(seen.pages.held) == {*needed, coarsest}
        far = jq.Camera(position=(8, 400, 8.1), target=(8, 0, 8))
        scene.draw(far, width=64, height=40)
        assert len(seen.pages.held) < 4

    def test_a_missing_page_shows_the_next_coarser_one(self, arrays, ground, store, tmp_path):
        shutil.copytree(store, tmp_path / "b.zarr")
        shutil.rmtree(tmp_path / "b.zarr" / "ground" / "finished" / "0")
        whole, holed = (jq.PagedGround(path) for path in (store, tmp_path / "b.zarr"))
        one, two = (self.scene(arrays, ground, seen).draw(self.CAMERA, width=160, height=100) for seen in (whole, holed))
        assert holed.pages.missing
        apart = np.abs(one.astype(int) - two)
        assert 0 < apart.mean() < 12
        jq.show.draw_pages(self.scene(arrays, ground, holed), self.CAMERA, holed).save(tmp_path / "pages.png")
        assert read_image(tmp_path / "pages.png").shape == (800, 1280, 3)

    def test_what_is_held_does_not_grow_with_the_ground(self, arrays, ground):
        scene = jq.Scene(arrays).add(ground, LAYERS)
        counts = [
            len(jq.show.pages_needed(scene, self.CAMERA, PageGrid((texels, texels)), ground.size))
            for texels in (1 << 14, 1 << 16, 1 << 17)
        ]
        assert max(counts) < 1.5 * min(counts)


class TestCommand:
    def test_bake_and_show(self, tmp_path):
        file = write_small_project(tmp_path) / "job.quilt.toml"
        store = tmp_path / "b.zarr"
        words = ("bake", file, "--store", store, "--pages", 16, "--border", 2, "--texels", 64)
        code, said, _ = jquilt(*words)
        assert code == 0
        assert "ground: 21 pages made, 0 kept (21 missing)" in said
        assert "0 pages made, 21 kept" in jquilt(*words)[1]
        assert "1 page made" in jquilt(*words, "--only", "1:0:1")[1]
        code, _, said = jquilt("show", file, "view", "debug", "pages", "--pages", store)
        assert code == 0, said
        for name in ("view_pages.png", "debug_pages.png"):
            assert read_image(tmp_path / "out" / "pictures" / name).shape == (800, 1280, 3)

    @pytest.mark.parametrize(
        ("words", "reported"),
        [
            (("bake", "--only", "0:0:0"), "name their --store"),
            (("bake", "--store", "b.zarr", "--only", "0:x"), "MIP:ROW:COLUMN"),
            (("bake", "--store", "b.zarr", "--pages", "24"), "page must be a power of two"),
            (("show", "debug", "pages"), "--pages STORE"),
            (("show", "view", "--pages", "none.zarr"), "no such pages"),
        ],
    )
    def test_what_makes_no_sense_is_a_clear_line(self, tmp_path, words, reported):
        file = write_small_project(tmp_path) / "job.quilt.toml"
        code, _, said = jquilt(words[0], file, *words[1:], cwd=tmp_path)
        assert (code, reported in said) == (2, True), said


def test_values_of_pages_travel(ground, arrays, tmp_path):
    made = baker(ground, arrays)
    baked(made, tmp_path / "a.zarr")
    store, at = pickle.loads(pickle.dumps(jq.open_pages(tmp_path / "a.zarr"))), PageAt(0, 0, 0)
    assert digest_of(store.read(at)) == store.records(0, (0, 0))[at].digest
    here, there = GroundTexels(made), pickle.loads(pickle.dumps(GroundTexels(made)))
    some = Region(0, 20, 0, 20)
    assert all(np.array_equal(there.region(some)[role], here.region(some)[role]) for role in made.roles)
