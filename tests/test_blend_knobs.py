"""What a layer can be told beside where it lies: as values, in the quilt file, and by the command."""

import pickle
from dataclasses import replace

import numpy as np
import pytest

import jagged_quilt as jq
from conftest import jquilt, made_swatch
from jagged_quilt.blend import _slot_order_kernels
from jagged_quilt.foundation import checks
from jagged_quilt.images import read_image, write_image
from jagged_quilt.maps.roles import stored_type

R = jq.MapRole
FAR = np.hypot(*np.meshgrid(np.fft.fftfreq(96, 1 / 96), np.fft.fftfreq(96, 1 / 96)))
KNOBS = """
[[layer]]
swatch = "salt"
label = "told"
tuning = { normal = 2.0, brightness = 0.5, tint = "#ffe0c0", lift = -0.01 }
shuffle = { size = 1.5, border = 0.3, turn = "quarter" }
per_map = { roughness = { scale = 0.5, rotation = 30.0 } }
far = { start = 5.0, over = 4.0, scale = 3.0 }
meets = { clay = 0.02 }
warp = { image = "flow.png", by = 0.5, size = [16.0, 16.0] }
mask = [{ kind = "height", band = [0.0, 99.0] }]
"""


@pytest.fixture
def reported(project):
    flow = np.full((8, 8, 3), 128, np.uint8)
    flow[:, 4:, 0] = 255
    write_image(project / "flow.png", flow)
    path = project / "job.quilt.toml"
    path.write_text(path.read_text() + KNOBS)
    return path


def flat_points(count=32, size=16.0):
    return jq.Terrain(np.zeros((3, 3)), size=(size, size)).points((count, count))


class TestQuiltFile:
    def test_every_knob_is_read(self, reported):
        layer = jq.read_quilt(reported).layers[-1]
        assert layer.tuning.normal == 2
        assert layer.tuning.tint == pytest.approx((1, 0.7454, 0.5271), abs=1e-4)
        assert layer.projection.shuffle == jq.Shuffle(size=1.5, border=0.3, turn="quarter")
        assert dict(layer.per_map) == {"roughness": jq.PerMap(scale=0.5, rotation=30)}
        assert layer.far == jq.Far(start=5, over=4, scale=3)
        assert dict(layer.meets) == {"clay": 0.02}
        assert layer.projection.warp.by == 0.5
        assert layer.projection.warp.east.answer(flat_points())[0] == pytest.approx(128 / 255)

    @pytest.mark.parametrize(
        ("old", "new", "message"),
        [
            ("normal = 2.0", "normal = -1.0", "normal must be from 0 to 16"),
            ('"#ffe0c0"', '"pale"', 'a colour must be written "#rrggbb"'),
            ("border = 0.3", "border = 7.0", "border must be from 0.02 to 1"),
            ('"quarter"', '"half"', "must be .none., .quarter. or .any."),
            ("roughness = {", "shine = {", 'no role that can be laid by itself is called "shine"'),
            ("start = 5.0", "start = -5.0", "far start must be"),
            ("clay = 0.02", "clay = 2.0", 'softness where it meets "clay" must be from 0 to 1'),
            ('"flow.png"', '"none.png"', "there is no such image file"),
            ("by = 0.5", "by = 0.0", "warp by must be above 0"),
        ],
    )
    def test_what_cannot_be_is_reported(self, reported, old, new, message):
        reported.write_text(reported.read_text().replace(old, new))
        with pytest.raises(jq.QuiltError, match=message):
            jq.read_quilt(reported)

    def test_what_does_not_go_together_is_reported(self):
        with pytest.raises(jq.QuiltError, match="it must repeat"):
            jq.Planar(wrap="clamp", shuffle=jq.Shuffle(size=1))
        with pytest.raises(jq.QuiltError, match="would not meet where u wraps"):
            jq.Cylindrical(shuffle=jq.Shuffle(size=1))
        with pytest.raises(jq.QuiltError, match="cannot be laid by itself around an axis"):
            jq.Layer("a", jq.Spherical(), per_map={"normal": jq.PerMap()})

    def test_a_tile_may_be_two_numbers(self, project):
        path = project / "job.quilt.toml"
        text = path.read_text()
        path.write_text(text.replace("tile = 2.0", "tile = [4.0, 2.0]"))
        source = jq.read_quilt(path).sources[0]
        assert (source.tile, source.aspect, source.read().aspect) == (4, 0.5, 0.5)
        assert "4 x 2 m" in jquilt("check", path)[1]
        path.write_text(text.replace("tile = 2.0", 'tile = [4.0, 2.0]\nfit = "repeat"'))
        with pytest.raises(jq.QuiltError, match="have a square tile"):
            jq.read_quilt(path)

    def test_swatches_of_plain_values_need_no_folder(self, project):
        path = project / "job.quilt.toml"
        plain = '[[swatch]]\nname = "paint"\nplain = { diffuse = "#804020", roughness = 0.25, normal = [0.0, 0.0, 1.0] }\n'
        path.write_text(path.read_text() + plain)
        swatch = jq.read_quilt(path).swatches[-1]
        assert np.allclose(swatch.maps[R.DIFFUSE].values[0, 0], [0.2159, 0.0513, 0.0144], atol=2e-3)
        assert swatch.maps[R.ROUGHNESS].values.ravel() == pytest.approx(0.25, abs=0.003)
        for line, message in (
            ("tile = 1.0", "needs its maps"),
            ('folder = "clay"', "tile: this key is missing"),
            ('plain = { roughness = "#804020" }', "is a colour"),
            ("plain = { roughness = 2.0 }", "must be from 0 to 1"),
        ):
            path.write_text(path.read_text().rpartition("[[swatch]]")[0] + f'[[swatch]]\nname = "paint"\n{line}\n')
            with pytest.raises(jq.QuiltError, match=message):
                jq.read_quilt(path).swatches  # noqa: B018
        assert jq.plain_swatch("x", diffuse=0.5).maps[R.DIFFUSE].values[0, 0] == pytest.approx([0.5] * 3, abs=0.003)


class TestWarps:
    def test_a_swirl_turns_about_its_centre_and_leaves_what_is_beyond(self):
        points = flat_points()
        warp = jq.Swirl(centre=(8, 8), radius=5, turn=90, rate=20, time=2)
        moved = points.world + warp.moves(points)
        before, after = (places[:, [0, 2]] - 8 for places in (points.world, moved))
        away = np.hypot(*before.T)
        assert np.allclose(np.hypot(*after.T), away, atol=1e-5)
        turned = np.arctan2(before[:, 0], before[:, 1]) - np.arctan2(after[:, 0], after[:, 1])
        wanted = np.radians(130) * np.maximum(0, 1 - away / 5) ** 2
        assert np.allclose(np.abs((turned + np.pi) % (2 * np.pi) - np.pi), wanted, atol=1e-4)

    def test_a_picture_moves_east_by_red_and_south_by_green(self):
        red = np.repeat(np.linspace(0, 1, 8, dtype=np.float32)[None], 8, axis=0)
        picture = lambda values: jq.ImageMask(values=values, size=(16, 16), wrap="clamp")
        moves = jq.Flow(east=picture(red), south=picture(np.full((8, 8), 0.75, np.float32)), by=2).moves(flat_points())
        assert np.allclose(moves[:, 2], 1)
        assert np.allclose(
            moves.reshape(32, 32, 3)[5, :, 0],
            4 * (np.interp((np.arange(32) + 0.5) / 4 - 0.5, range(8), red[0]) - 0.5),
            atol=1e-5,
        )

    def test_a_drip_drags_down_and_the_same_all_the_way_down(self):
        points = flat_points()
        warp = jq.Drip(drip=2, size=3)
        below = points.moved(np.tile(np.float32([0, -7, 0]), (len(points), 1)))
        moves = warp.moves(points)
        assert not moves[:, [0, 2]].any()
        assert 0 <= moves[:, 1].min() < 0.7 < 1.3 < moves[:, 1].max() <= 2
        assert np.array_equal(moves, warp.moves(below))

    def test_noise_drifts_with_time(self):
        still, later = jq.Warp(by=1, size=4), jq.Warp(by=1, size=4, drift=(2, 0), time=1.5)
        points = flat_points()
        shifted = points.moved(np.tile(np.float32([3, 0, 0]), (len(points), 1)))
        assert np.allclose(still.moves(points), later.moves(shifted), atol=1e-5)


class TestCommand:
    def test_a_sweep_shows_the_ground_and_at_tells_the_knobs(self, reported):
        for key in ("layer[told].tuning.brightness=0.4:1.6:3", "layer[told].far.start=2:9:2"):
            code, _, said = jquilt("show", reported, "sweep", key)
            assert code == 0, said
            assert read_image(reported.parent / "out" / "pictures" / "sweep.png").shape == (800, 1280, 3)
        code, said, _ = jquilt("show", reported, "--at", "8,8")
        assert code == 0
        assert "told: tuned by (normal=2, lift=-0.01" in said
        assert "shuffled (size=1.5" in said
        assert "roughness per map (scale=(0.5, 0.5)" in said

    def test_a_bake_is_done_again_where_a_knob_or_its_picture_changed(self, reported):
        words, picture = ("bake", reported, "--texels", 64), ("show", reported, "view")
        assert jquilt(*words)[0] == 0
        jquilt(*picture)
        assert "nothing changed" in jquilt(*picture)[1]
        first = read_image(reported.parent / "out" / "bake" / "diffuse.png")
        flow = read_image(reported.parent / "flow.png").copy()
        flow[..., 1] = 0
        write_image(reported.parent / "flow.png", flow)
        assert "nothing changed" not in jquilt(*words)[1]
        assert "nothing changed" not in jquilt(*picture)[1]
        second = read_image(reported.parent / "out" / "bake" / "diffuse.png")
        assert (first != second).any()
        reported.write_text(reported.read_text().replace("brightness = 0.5", "brightness = 1.5"))
        jquilt(*words)
        assert read_image(reported.parent / "out" / "bake" / "diffuse.png").mean() > second.mean() + 5


class TestMasksOfWhatLiesBelow:
    LAYERS = (
        jq.Layer("a"),
        jq.Layer("b", mask=jq.Noise(size=4, range=1)),
        jq.Layer("c", mask=jq.HeightBand(-0.1, 3, fade=0.3)),
    )

    def test_shown_is_the_weight_before_others_come_upon_it(self, project):
        points = jq.read_quilt(project / "job.quilt.toml").terrain.points((24, 24))
        weights = jq.Weigher(self.LAYERS).stacked(points)
        for name, own in zip("abc", weights, strict=True):
            assert np.allclose(jq.shown_below(self.LAYERS, name).answer(points), own, atol=1e-6)
        with pytest.raises(jq.QuiltError, match='no layer is called "d"'):
            jq.shown_below(self.LAYERS, "d")

    def test_a_quilt_file_asks_only_what_lies_below(self, project):
        path = project / "job.quilt.toml"
        said = path.read_text() + '[[layer]]\nswatch = "clay"\nlabel = "dust"\nmask = [{ kind = "shown", layer = "%s" }]\n'
        path.write_text(said % "salt")
        quilt = jq.read_quilt(path)
        points = quilt.terrain.points((24, 24))
        assert np.array_equal(quilt.layers[2].mask.answer(points), quilt.layers[1].mask.answer(points))
        path.write_text(said % "dust")
        with pytest.raises(jq.QuiltError, match='no layer below this one is called "dust"'):
            jq.read_quilt(path)
        adopt = '[adopt]\nform = "splat"\nfiles = ["a.png"]\nlayers = ["old"]\nto = { old = "salt" }\n'
        path.write_text((said % "salt").replace("[[swatch]]", adopt + "[[swatch]]", 1))
        with pytest.raises(jq.QuiltError, match="begins with adopted weights"):
            jq.read_quilt(path)

    def test_wear_is_ridges_that_noise_lets_through(self, project):
        ground = jq.read_quilt(project / "job.quilt.toml").terrain
        points = ground.points((48, 48))
        ridges = jq.Curvature("ridges", 3).on(ground).answer(points)
        even, uneven = (jq.Wear(3, uneven=by).on(ground).answer(points) for by in (0, 0.6))
        assert np.array_equal(even, ridges)
        assert 0.02 < np.abs(uneven - ridges).mean() < 0.5
        assert np.corrcoef(uneven, ridges)[0, 1] > 0.6


class TestDetail:
    LAYERS = (jq.Layer("a"), jq.Layer("b", jq.Triplanar(), mask=jq.Noise(size=4)))

    def test_it_is_what_a_blend_of_the_layers_below_says(self):
        arrays, points = jq.pack([made_swatch("a"), made_swatch("b", 1, relief=0.3)], side=16), flat_points()
        texels = jq.Blend(arrays, self.LAYERS).at(points, jq.Weigher(self.LAYERS).at(points))
        height, slope = texels[R.HEIGHT] * 0.3, np.degrees(np.arccos(texels[R.NORMAL][:, 2]))
        for of, there in (("height", height), ("slope", slope)):
            low, high = np.quantile(there, [0.3, 0.7])
            layers = [*self.LAYERS, jq.Layer("a", label="in", mask=jq.DetailBand(of, low, high, below=self.LAYERS))]
            bound = jq.layers_seeing(layers, arrays)
            assert np.array_equal(bound[2].mask.answer(points), (there >= low) & (there <= high))
            assert bound[:2] == layers[:2]
            assert jq.Weigher(bound).weights(points)[2] == pytest.approx(bound[2].mask.answer(points))
        assert "detail" in bound[2].mask.reading(points).measured
        with pytest.raises(jq.QuiltError, match=r"detail slope .* reads textures; let it see them"):
            layers[2].mask.answer(points)

    def test_bakes_and_scenes_let_it_see_their_own(self):
        arrays, ground = (
            jq.pack([made_swatch("a"), jq.plain_swatch("p", diffuse=1.0)], side=16),
            jq.Terrain(np.eye(5), size=(8, 8)),
        )
        layers = [jq.Layer("a"), jq.Layer("p", mask=jq.DetailBand("height", 0.05, 0.1, fade=0.01, below=[jq.Layer("a")]))]
        baked = jq.bake(ground.canvas(64), layers, arrays)["diffuse"]
        weights = jq.Weigher(jq.layers_seeing(layers, arrays), ground)
        assert np.array_equal(baked, jq.bake(ground.canvas(64), layers, arrays, weights=weights)["diffuse"])
        assert baked.std() > 10

    def test_a_quilt_weighs_by_it_and_anew_where_textures_change(self, project):
        path = project / "job.quilt.toml"
        step = '[{ kind = "detail", of = "height", band = [0.001, 9.0] }]'
        path.write_text(path.read_text() + f'[[layer]]\nswatch = "salt"\nlabel = "high"\nmask = {step}\n')
        assert jquilt("weigh", path)[0] == 0
        share = jq.run(jq.read_quilt(path), "weigh")["weigh"]
        before = share.files[1].read_bytes()
        assert "detail" in jquilt("show", path, "--at", "8,8")[1]
        texels = read_image(project / "clay" / "clay_height.png")
        write_image(project / "clay" / "clay_height.png", np.zeros_like(texels))
        assert "nothing changed" not in jquilt("weigh", path)[1]
        assert share.files[1].read_bytes() != before

    @pytest.mark.parametrize(
        ("old", "new", "message"),
        [
            ('of = "height"', 'of = "depth"', r"layer\[2\]\.mask\[0\]\.of: must be"),
            ("[0.05, 9.0]", "[9.0, 0.05]", "detail height band is upside down"),
            (
                'kind = "height"\nband = [1.0, 2.0]\nfade = 0.5',
                'kind = "layer"\nlayer = "high"',
                "asks layers that are not made yet",
            ),
        ],
    )
    def test_what_cannot_be_is_reported(self, project, old, new, message):
        path = project / "job.quilt.toml"
        step = '[{ kind = "detail", of = "height", band = [0.05, 9.0] }]'
        text = path.read_text() + f'[[layer]]\nswatch = "salt"\nlabel = "high"\nmask = {step}\n'
        path.write_text(text.replace(old, new, 1))
        with pytest.raises(jq.QuiltError, match=message):
            jq.read_quilt(path)


class TestGrown:
    def soil(self):
        """What has no order of its own, of skewed values, and repeats."""
        rng = np.random.default_rng(5)
        smooth = lambda: np.real(np.fft.ifft2(np.fft.fft2(rng.normal(size=(96, 96))) * np.exp(-((FAR / 9.0) ** 2))))
        one, two = (each / each.std() for each in (smooth(), smooth()))
        colour = np.stack([np.exp(0.5 * one), np.exp(0.4 * one + 0.2 * two), np.exp(0.3 * two)], axis=-1)
        texels = np.rint(np.clip(55 * colour, 0, 255)).astype(np.uint8)
        normal = np.dstack([0.3 * np.gradient(one, axis=1), -0.3 * np.gradient(one, axis=0), np.ones_like(one)])
        normal /= np.linalg.norm(normal, axis=2, keepdims=True)
        maps = {R.DIFFUSE: jq.TextureMap(role=R.DIFFUSE, texels=texels), R.NORMAL: jq.TextureMap.of_values(R.NORMAL, normal)}
        height = np.rint(65535 * (one - one.min()) / np.ptp(one)).astype(np.uint16)
        maps[R.HEIGHT] = jq.TextureMap(role=R.HEIGHT, texels=height)
        return jq.Swatch(name="soil", tile=2.0, relief=0.1, maps=maps)

    def test_it_repeats_no_more_and_keeps_its_histogram(self):
        soil = self.soil()
        grown = jq.grown(soil, jq.Grow(times=6, seed=3))
        assert grown.tile == 12
        for role, each in grown.maps.items():
            before, after = (m.maps[role].texels.reshape(-1, m.maps[role].texels.shape[2]).astype(float) for m in (soil, grown))
            assert each.shape == (576, 576)
            if role is not R.NORMAL:
                assert after.mean(axis=0) == pytest.approx(before.mean(axis=0), rel=0.02)
                assert after.var(axis=0) == pytest.approx(before.var(axis=0), rel=0.05)
                levels = np.linspace(0.05, 0.95, 25)
                apart = np.quantile(after, levels, axis=0) - np.quantile(before, levels, axis=0)
                assert np.abs(apart).max() < 0.1 * before.std(axis=0).max()
            varied = each.values.astype(float)[..., 0] - each.values[..., 0].mean()
            for axis in (0, 1):
                assert abs((varied * np.roll(varied, 96, axis)).mean()) < 0.1 * varied.var()
                step = lambda a, axis=axis: np.abs(np.diff(a, axis=axis)).mean()
                border = np.abs(varied.take(0, axis) - varied.take(-1, axis)).mean()  # it repeats as a whole
                assert border < 1.5 * step(varied)
        assert np.allclose(np.linalg.norm(grown.maps[R.NORMAL].values, axis=2), 1, atol=1e-3)

    def test_maps_move_together_and_the_seed_decides(self):
        soil = self.soil()
        one, again, other = (jq.grown(soil, jq.Grow(times=2, size=1.5, seed=seed)) for seed in (1, 1, 2))
        assert all(np.array_equal(one.maps[role].texels, again.maps[role].texels) for role in one.maps)
        assert not np.array_equal(one.maps[R.DIFFUSE].texels, other.maps[R.DIFFUSE].texels)
        like = lambda s: np.corrcoef(s.maps[R.HEIGHT].texels[..., 0].ravel(), s.maps[R.DIFFUSE].texels[..., 0].ravel())[0, 1]
        assert like(one) == pytest.approx(like(soil), abs=0.05)

    def test_a_quilt_file_says_it(self, project):
        path = project / "job.quilt.toml"
        text = path.read_text()
        path.write_text(text.replace("tile = 2.0", "tile = 2.0\ngrow = { times = 3 }"))
        assert jquilt("pack", path)[0] == 0
        arrays = jq.open_arrays(project / "out" / "arrays")
        assert arrays.tiles == (6, 3)
        path.write_text(text.replace("tile = 2.0", "tile = 2.0\ngrow = { times = 30 }"))
        with pytest.raises(jq.QuiltError, match="grow times must be"):
            jq.read_quilt(path)
        flat = jq.TextureMap(role=R.DIFFUSE, texels=np.zeros((2, 2048, 3), np.uint8))
        wide = jq.Swatch(name="w", tile=1, relief=1, maps={R.DIFFUSE: flat})
        with pytest.raises(jq.QuiltError, match="32768 texels wide"):
            jq.grown(wide, jq.Grow(times=16))


class TestHomes:
    """Layers of which a place costs more stand in the same place at every point."""

    @staticmethod
    def one_by_one(layers, weights, home, most):
        """Where each layer of a point goes: those at home first, in order, and the others into what is left."""
        out, taken = [None] * most, set()
        for k in range(most):
            if home[layers[k]] >= 0 and weights[k] > 0:
                place = home[layers[k]] % most
                while place in taken:
                    place = (place + 1) % most
                taken.add(place)
                out[place] = k
        rest = iter(place for place in range(most) if place not in taken)
        for k in range(most):
            if not (home[layers[k]] >= 0 and weights[k] > 0):
                out[next(rest)] = k
        return out

    @pytest.mark.parametrize("most", [1, 2, 3, 4, 5, 7])
    def test_every_layer_is_kept_and_stands_where_it_is_at_home(self, most):
        rng, count = np.random.default_rng(most), 9
        layers = np.stack([rng.permutation(count)[:most] for _ in range(300)]).astype(np.uint16)
        weights = (rng.random(layers.shape) * rng.integers(0, 2, layers.shape)).astype(np.float32)
        home = np.full(count, -1)
        home[rng.permutation(count)[:4]] = np.arange(4)
        to, shares = np.empty_like(layers), np.empty_like(weights)
        first = np.where(home < 0, 0, 1 + home % most)
        frozen = [checks.frozen(each, kind) for each, kind in ((layers, np.uint16), (weights, np.float32), (first, np.int32))]
        _slot_order_kernels.order_slots(*frozen, _slot_order_kernels.slot_orders(most), to, shares)
        for row in range(len(layers)):
            order = self.one_by_one(layers[row], weights[row], home, most)
            assert to[row].tolist() == layers[row][order].tolist()
            assert shares[row].tolist() == weights[row][order].tolist()


class TestSeveralCharts:
    """Places of a block that lie on several charts are brought together lane by lane."""

    @pytest.mark.parametrize("per_map", [False, True])
    @pytest.mark.parametrize("count", [2, 3, 8])
    def test_each_layer_lies_as_it_does_alone(self, count, per_map):
        """Strewn over a block, each by itself: a blend of one layer gives the same there."""
        rng = np.random.default_rng(count)
        arrays = jq.pack([made_swatch(f"s{n}", n, 16, 1.0 + n) for n in range(count)], side=16, work=jq.Work(threads=1))
        lies = [jq.Triplanar(rotation=17.0 * n, offset=(0.1 * n, 0.3)) for n in range(count)]
        more = [{"normal": jq.PerMap(scale=1.5 + n, rotation=9.0 * n)} if per_map and n % 2 else {} for n in range(count)]
        layers = [jq.Layer(f"s{n}", lies[n], per_map=more[n]) for n in range(count)]
        ground = jq.Terrain(rng.random((9, 9)) * 3, size=(6, 6))
        points = ground.points((20, 20))
        which = rng.integers(0, count, len(points))
        names = tuple(layer.name for layer in layers)
        weights = jq.PointWeights(names, which[:, None].astype(np.uint8), np.ones((len(points), 1), np.float32))
        relief = 0.1
        whole = jq.Blend(arrays, layers, relief=relief).at(points, weights)
        for n, layer in enumerate(layers):
            own = np.flatnonzero(which == n)
            alone = jq.Blend(arrays, [layer], relief=relief).at(points[own], jq.PointWeights.all_of(layer.name, len(own)))
            assert np.abs(whole.values[own] - alone.values).max() < 2e-5


class TestVertexColours:
    def test_a_layer_is_tinted_as_a_tint_of_that_colour_would(self):
        """Among others, under a film, at points and as finished texels; points without colours are as they are."""
        arrays = jq.pack([made_swatch("a", 1), made_swatch("b", 2)], side=16, work=jq.Work(threads=1))
        rng, colour = np.random.default_rng(0), (0.6, 0.3, 0.9)
        where = rng.uniform(-4, 4, (60, 3))
        plain = jq.Points.of(where, np.tile([0, 1, 0], (60, 1)), footprint=0.05)
        points = replace(plain, colour=np.tile(np.float32([*colour, 1]), (60, 1)))
        weights = jq.weigh_points(points, [jq.Layer("a"), jq.Layer("b", mask=jq.Constant(0.4))])
        film = jq.Film(mask=jq.Constant(0.5), tint=(0.5, 0.6, 0.7))

        def blend(**tuning):
            return jq.Blend(arrays, [jq.Layer("a", tuning=jq.Tuning(**tuning)), jq.Layer("b")], films=[film])

        tinted, by_tint = blend(vertex_colour=True), blend(tint=colour)
        assert np.allclose(tinted.at(points, weights).values, by_tint.at(points, weights).values, atol=1e-5)
        assert np.allclose(tinted.at(plain, weights).values, blend().at(plain, weights).values, atol=1e-3)
        made = []
        for each in (tinted, by_tint):
            made.append({role: np.zeros((60, role.value.channels), stored_type(role)) for role in each.roles})
            each.into(made[-1], points, weights)
        assert all(np.abs(made[0][role].astype(int) - made[1][role]).max() <= 1 for role in made[0])
        again = pickle.loads(pickle.dumps(tinted))
        assert np.array_equal(again.at(points, weights).values, tinted.at(points, weights).values)
        with pytest.raises(jq.QuiltError, match="vertex_colour must be true or false"):
            jq.Tuning(vertex_colour=0.5)
