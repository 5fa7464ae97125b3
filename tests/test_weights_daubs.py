"""Daubs: what one does, that neither texels nor cuts of the path matter, files, maps and meshes."""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import label

import jagged_quilt as jq
from jagged_quilt.errors import FileError, NameNotFoundError, RangeError, ShapeError
from jagged_quilt.weights.daub_file import daub_of, drop_daub, line_of
from jagged_quilt.weights.lay_daubs import DaubLayer

FLAT = jq.Terrain(np.zeros((2, 2)), size=(40.0, 40.0))
NAMES = ("mud", "salt", "brine", "clay")
LAYERS = [jq.Layer("mud"), *(jq.Layer(name, mask=jq.Constant(0.3)) for name in NAMES[1:])]


def to_path(position, path, in_space=False):
    """Distance to a path, in float64."""
    axes = [0, 1, 2] if in_space else [0, 2]
    points, ends = position[:, axes].astype(float), np.array(path, float)
    best = np.full(len(points), np.inf)
    for a, b in zip(ends, ends[1:] if len(ends) > 1 else ends, strict=False):
        part = np.clip((points - a) @ (b - a) / max((b - a) @ (b - a), 1e-30), 0, 1)
        best = np.minimum(best, np.linalg.norm(points - a - part[:, None] * (b - a), axis=1))
    return best


def covered(daub, position):
    """How much a daub covers, in float64."""
    away, inner = to_path(position, daub.path, daub.in_space), daub.radius * (1 - daub.falloff)
    t = np.clip((daub.radius - away) / max(daub.radius - inner, 1e-12), 0, 1)
    return daub.strength * t * t * (3 - 2 * t)


def laid(weights, daubs, position):
    """Plain daubs on weights (L, N), one after the other, in float64."""
    weights = weights.astype(float)
    for daub in daubs:
        row, cover = NAMES.index(daub.layers[0]), covered(daub, position)
        own = weights[row].copy()
        erases = daub.kind is jq.daubs.DaubKind.ERASE
        wanted = own * (1 - cover) if erases else own + np.maximum(daub.ceiling - own, 0) * cover
        alone = 1 - own <= 1e-6
        scale = np.where(alone, 1, (1 - wanted) / np.maximum(1 - own, 1e-12))
        weights *= scale
        weights[row] = wanted
        if erases:
            weights[row - 1 if row else 1, alone] += (own - wanted)[alone]
    return weights


places = st.tuples(st.floats(0, 40), st.floats(0, 40))
plain_daubs = st.builds(
    lambda path, radius, layer, falloff, strength, ceiling, erases: jq.Daub(
        path=tuple(path),
        radius=radius,
        layers=(layer,),
        falloff=falloff,
        strength=strength,
        ceiling=1.0 if erases else ceiling,
        kind=jq.daubs.DaubKind.ERASE if erases else jq.daubs.DaubKind.PAINT,
    ),
    st.lists(places, min_size=1, max_size=4),
    st.floats(1, 15),
    st.sampled_from(NAMES),
    st.floats(0.05, 1),
    st.floats(0, 1),
    st.floats(0, 1),
    st.booleans(),
)


class TestOneDaub:
    @settings(deadline=None, max_examples=50)
    @given(st.lists(plain_daubs, max_size=6), st.integers(0, 99))
    def test_they_do_what_the_reference_does(self, daubs, seed):
        rng = np.random.default_rng(seed)
        points = FLAT.points_at(rng.uniform(0, 40, (200, 2)))
        weights = rng.dirichlet(np.ones(4), 200).T.astype(np.float32)
        wanted = laid(weights, daubs, points.position)
        got = DaubLayer(daubs, NAMES).laid(weights.copy(), points)
        assert np.abs(got - wanted).max() < 2e-4
        assert np.abs(got.sum(axis=0) - 1).max() < 1e-5
        assert got.min() >= 0
        part = DaubLayer(daubs, NAMES).laid(weights[:, 50:120].copy(), points[50:120])
        assert np.abs(part - got[:, 50:120]).max() < 5e-6  # what is left after erasing nearly all is shared out again

    def test_the_ceiling_is_never_passed_and_what_lies_above_it_stays(self):
        points = FLAT.points((40, 40))
        weights = np.zeros((4, 1600), np.float32)
        weights[0], weights[1, :800], weights[0, :800] = 1, 0.9, 0.1
        daubs = [jq.Daub(path=((20.0, 20.0),), radius=30, layers=("salt",), ceiling=0.6)] * 9
        got = DaubLayer(daubs, NAMES).laid(weights.copy(), points)
        assert np.allclose(got[:, :800], weights[:, :800], atol=1e-5)
        assert got[1].max() == pytest.approx(0.9)
        assert 0.59 < got[1, 800:].max() <= 0.6 + 1e-6

    def test_how_a_path_is_cut_into_points_does_not_matter(self):
        points = FLAT.points((80, 80))
        ends = np.array([(5.0, 8.0), (30.0, 14.0)])
        fine = ends[0] + np.linspace(0, 1, 41)[:, None] * (ends[1] - ends[0])
        back = np.concatenate([fine, fine[::-1]])  # and coming by again changes nothing
        answers = [
            DaubLayer([jq.Daub(path=tuple(map(tuple, path)), radius=6, layers=("salt",), strength=0.5)], NAMES).laid(
                jq.Weigher(LAYERS).stacked(points), points
            )
            for path in (ends, fine, back)
        ]
        assert np.abs(answers[0] - answers[1]).max() < 1e-5
        assert np.abs(answers[0] - answers[2]).max() < 1e-5

    def test_resolution_does_not_matter(self):
        """The mean of four fine texels is the coarse one, away from edges; a smoothing daub too."""
        daubs = [
            jq.Daub(path=((8.0, 8.0), (30.0, 20.0)), radius=9, layers=("salt",), falloff=1.0, strength=0.8),
            jq.Daub(path=((30.0, 30.0),), radius=9, layers=("clay",), falloff=1.0, kind=jq.daubs.DaubKind.ERASE),
            jq.Daub(path=((20.0, 18.0),), radius=12, kind=jq.daubs.DaubKind.SMOOTH, falloff=1.0, reach=2.0),
        ]
        coarse, fine = (jq.weigh(FLAT.canvas(texels), LAYERS, daubs=daubs, bits=16) for texels in (160, 320))
        for name in NAMES:
            mean = fine.layer(name).reshape(160, 2, 160, 2).mean(axis=(1, 3))
            assert np.abs(coarse.layer(name) - mean).max() < 2 / 255

    def test_in_space_a_daub_stays_on_its_own_floor(self):
        stairs = jq.Points.of([[5, 0, 5], [5, 10, 5], [7, 0, 5]], np.tile([0, 1, 0], (3, 1)))
        seen = DaubLayer([jq.Daub(path=((5.0, 5.0),), radius=4, layers=("salt",), falloff=0.5)], NAMES)
        there = DaubLayer([jq.Daub(path=((5.0, 0.0, 5.0),), radius=4, layers=("salt",), falloff=0.5)], NAMES)
        assert seen.covered(0, stairs).tolist() == [1, 1, 1]
        assert there.covered(0, stairs).tolist() == [1, 0, 1]

    def test_noise_breaks_it_up(self):
        points = FLAT.points((60, 60))
        noise = jq.Noise(size=3.0, range=0.5)
        whole, broken = (
            DaubLayer([jq.Daub(path=((20.0, 20.0),), radius=15, layers=("salt",), breakup=b)], NAMES) for b in (None, noise)
        )
        away = to_path(points.position, ((20.0, 20.0),)) / 15
        spine = np.clip(1 - away, 0, 1) ** 2 * (3 - 2 * np.clip(1 - away, 0, 1))
        t = np.clip((spine - 0.3) / 0.5, 0, 1)
        noisy = noise.answer(points)
        share = noisy + (1 - noisy) * t * t * (3 - 2 * t)
        assert np.allclose(broken.covered(0, points), whole.covered(0, points) * share, atol=1e-5)
        assert np.array_equal(broken.covered(0, points)[away < 0.28], whole.covered(0, points)[away < 0.28])

    def test_a_broken_up_stroke_stays_one_stroke(self):
        """Its edge frays, and no gap goes across it."""
        points = FLAT.points((120, 120))
        path = ((6.0, 8.0), (20.0, 22.0), (34.0, 20.0))
        noise = jq.Noise(size=2.0, threshold=0.5)
        cover = DaubLayer([jq.Daub(path=path, radius=4, layers=("salt",), breakup=noise)], NAMES).covered(0, points)
        painted = label(cover.reshape(120, 120) > 0.3)[0]
        on_path = np.flatnonzero(to_path(points.position, path) < 0.4)
        assert len(set(painted.ravel()[on_path])) == 1
        assert painted.ravel()[on_path[0]] > 0
        edge = (to_path(points.position, path) > 2.6) & (to_path(points.position, path) < 3.2)
        assert (cover[edge] == 0).any()

    def test_a_pair_shares_what_it_paints_by_noise(self):
        points = FLAT.points((60, 60))
        between = jq.Noise(size=4.0, range=0.5)
        daub = jq.Daub(path=((20.0, 20.0),), radius=15, falloff=0.2, layers=("salt", "clay"), between=between, ceiling=0.8)
        before = jq.Weigher(LAYERS).stacked(points)
        got = DaubLayer([daub], NAMES).laid(before.copy(), points)
        full = covered(daub, points.position) == 1
        second = between.answer(points)[full]
        assert np.allclose((got[1] + got[3])[full], 0.8, atol=1e-5)
        assert np.allclose(got[3][full], 0.8 * second, atol=1e-5)
        assert np.array_equal(got[:, covered(daub, points.position) == 0], before[:, covered(daub, points.position) == 0])
        assert np.abs(got.sum(axis=0) - 1).max() < 1e-5

    def test_erasing_all_goes_back_to_before_any_daub(self):
        points = FLAT.points((60, 60))
        before = jq.Weigher(LAYERS).stacked(points)
        paint = jq.Daub(path=((20.0, 20.0),), radius=10, layers=("salt",))
        back = jq.Daub(path=((20.0, 20.0),), radius=30, falloff=0.5, kind=jq.daubs.DaubKind.ERASE)
        painted = DaubLayer([paint], NAMES).laid(before.copy(), points)
        assert np.abs(painted - before).max() > 0.5
        assert np.abs(DaubLayer([paint, back], NAMES).laid(before.copy(), points) - before).max() < 1e-6

    def test_smoothing_is_a_gaussian_of_so_many_metres(self):
        """Of a straight edge, on a grid and among scattered points alike."""
        from scipy.special import erf

        edge = [
            jq.Layer("mud"),
            jq.Layer(
                "salt",
                mask=jq.ImageMask(values=np.array([[1.0, 0.0]]), size=(80.0, 40.0), corner=(-20.0, 0.0), wrap="clamp").cut(0.5),
            ),
        ]
        daub = jq.Daub(path=((20.0, 20.0),), radius=40, falloff=0.1, kind=jq.daubs.DaubKind.SMOOTH, reach=2.0)
        points = FLAT.points((80, 80))
        x = points.position[:, 0]
        inner = (np.abs(x - 20) < 8) & (np.abs(points.position[:, 2] - 20) < 8)
        wanted = 0.5 * (1 - erf((x - 20) / (2 * np.sqrt(2))))
        grid = jq.weigh(FLAT.canvas(80), edge, daubs=[daub], bits=16).layer("salt").ravel()
        assert np.abs(grid - wanted)[inner].max() < 0.01
        scattered = jq.Weigher(edge, daubs=[daub]).weights(points)[1]
        assert np.abs(scattered - wanted)[inner].max() < 0.01

    def test_what_cannot_be_is_refused(self):
        good = {"path": ((1.0, 1.0),), "radius": 2.0, "layers": ("salt",)}
        for change, error, words in (
            ({"ceiling": 1.2}, RangeError, "ceiling must be from 0 to 1; got 1.2"),
            ({"radius": 0}, RangeError, "radius must be above 0 m"),
            ({"path": ()}, ShapeError, "at least one"),
            ({"path": ((1.0, 1.0), (1.0, 2.0, 3.0))}, ShapeError, "all of them"),
            ({"path": ((1.0, np.nan),)}, RangeError, "path"),
            ({"layers": ()}, RangeError, "paints one layer or a pair"),
            ({"layers": ("a", "b")}, RangeError, "the noise between them"),
            ({"between": jq.Noise(size=1)}, RangeError, "for one layer use breakup"),
            ({"kind": jq.daubs.DaubKind.SMOOTH}, RangeError, "smooths all layers at once"),
            ({"kind": jq.daubs.DaubKind.ERASE, "layers": ("a", "b")}, RangeError, "erases one layer"),
            ({"kind": jq.daubs.DaubKind.ERASE, "ceiling": 0.5}, RangeError, "leave it out of a daub that does erase"),
            ({"strength": -1}, RangeError, "strength"),
        ):
            with pytest.raises(error, match=words):
                jq.Daub(**{**good, **change})
        with pytest.raises(NameNotFoundError, match='daub 2: no layer is called "slat"; did you mean "salt"'):
            DaubLayer([jq.Daub(**good), jq.Daub(**{**good, "layers": ("slat",)})], NAMES)


def many_daubs(count, seed=0):
    rng = np.random.default_rng(seed)
    deeds = [jq.daubs.DaubKind.PAINT, jq.daubs.DaubKind.PAINT, jq.daubs.DaubKind.ERASE, jq.daubs.DaubKind.SMOOTH]
    daubs = []
    for number in range(count):
        deed = deeds[number % 4]
        daubs.append(
            jq.Daub(
                path=tuple(map(tuple, rng.uniform(2, 38, (2, 2)))),
                radius=rng.uniform(2, 8),
                kind=deed,
                strength=0.7,
                layers=() if deed is jq.daubs.DaubKind.SMOOTH else (NAMES[rng.integers(1, 4)],),
                breakup=jq.Noise(size=3.0) if number % 3 == 0 else None,
            )
        )
    return daubs


class TestMaps:
    def test_tiles_rows_and_threads_do_not_matter(self, monkeypatch):
        """Daubs that smooth reach over borders; the result is the same however the work is cut."""
        daubs = many_daubs(12)
        one = jq.weigh(FLAT.canvas(100), LAYERS, daubs=daubs, work=jq.Work(threads=1))
        monkeypatch.setattr("jagged_quilt.weights.weigh._POINTS_AT_ONCE", 700)
        two = jq.weigh(FLAT.canvas(100), LAYERS, daubs=daubs, work=jq.Work(threads=2))
        assert np.abs(one.weights.astype(int) - two.weights).max() <= 1
        assert max(np.abs(one.layer(n) - two.layer(n)).max() for n in NAMES) <= 1 / 255 + 1e-6

    def test_daubing_a_map_is_weighing_with_daubs_but_for_rounding(self, monkeypatch):
        daubs = [daub for daub in many_daubs(9) if daub.kind is not jq.daubs.DaubKind.ERASE]
        before = jq.weigh(FLAT.canvas(100), LAYERS, bits=16)
        wanted = jq.weigh(FLAT.canvas(100), LAYERS, bits=16, daubs=daubs)
        whole = jq.daubs.lay_daubs(before, FLAT, daubs, work=jq.Work(threads=1))
        monkeypatch.setattr("jagged_quilt.weights.weigh._TILE", 16)
        tiled = jq.daubs.lay_daubs(before, FLAT, daubs, work=jq.Work(threads=2))
        for name in NAMES:
            assert np.abs(whole.layer(name) - wanted.layer(name)).max() < 1e-3
            assert np.abs(tiled.layer(name) - whole.layer(name)).max() < 1e-3
        assert (whole.weights.sum(axis=2, dtype=np.uint32) == 65535).all()

    def test_only_what_is_touched_changes(self):
        before = jq.weigh(FLAT.canvas(400), LAYERS)
        daub = jq.Daub(path=((10.0, 30.0),), radius=3, layers=("brine",))
        after = jq.daubs.lay_daubs(before, FLAT, [daub])
        points = FLAT.points((400, 400))
        changed = (after.layer("brine") != before.layer("brine")).ravel()
        assert changed.any()
        assert to_path(points.position[changed], daub.path).max() < 3
        assert np.array_equal(before.weights, jq.weigh(FLAT.canvas(400), LAYERS).weights)

    def test_what_a_daub_pushes_out_of_a_texel_is_reported(self):
        """Three layers where two are kept: the third one is cut, and that adds to what was cut before."""
        before = jq.weigh(FLAT.canvas(40), LAYERS, keep=2)
        daub = jq.Daub(path=((20.0, 20.0),), radius=8, layers=("brine",), strength=0.3, falloff=0.1)
        after = jq.daubs.lay_daubs(before, FLAT, [daub])
        points = FLAT.points((40, 40))
        touched = (covered(daub, points.position) > 0.29).reshape(40, 40)
        assert (after.lost[touched] > before.lost[touched]).all()
        assert np.array_equal(after.lost[15:25, 0], before.lost[15:25, 0])
        assert after.lost_worst > before.lost_worst
        assert after.lost_mean > before.lost_mean
        kept = jq.WeightMap(names=before.names, layers=before.layers, weights=before.weights)
        assert jq.daubs.lay_daubs(kept, FLAT, [daub]).lost is None

    def test_a_daub_outside_of_the_surface_is_refused(self):
        before = jq.weigh(FLAT.canvas(16), LAYERS)
        with pytest.raises(RangeError, match="daub 1: the path leaves the surface at x 60, z 5; it reaches from 0, 0 to"):
            jq.daubs.lay_daubs(before, FLAT, [jq.Daub(path=((5.0, 5.0), (60.0, 5.0)), radius=4, layers=("salt",))])

    def test_smoothing_needs_a_map(self):
        arrays = jq.Weigher(LAYERS, FLAT, daubs=[jq.Daub(path=((1.0, 1.0),), radius=3, kind=jq.daubs.DaubKind.SMOOTH)])
        with pytest.raises(RangeError, match="daubs that smooth need a weight map"):
            arrays.at(FLAT.points((4, 4)))


class TestMeshes:
    def test_meshes_that_touch_have_no_seam_where_they_do(self):
        """The vertices of two sheets that share a border; daubs in space, one that smooths among them."""
        z, x = np.mgrid[:21, :21] / 2.0
        left = np.stack([x, np.sin(x), z], axis=2).reshape(-1, 3)
        right = left + np.array([10.0, 0.0, 0.0])
        right[:, 1] = np.sin(right[:, 0])
        up = np.tile([0.0, 1.0, 0.0], (441, 1))
        whole = jq.Points.joined([jq.Points.of(left, up), jq.Points.of(right, up)])
        daubs = [
            jq.Daub(path=((9.0, np.sin(9.0), 5.0), (12.0, np.sin(12.0), 5.0)), radius=4, layers=("salt",)),
            jq.Daub(path=((10.0, np.sin(10.0), 5.0),), radius=5, kind=jq.daubs.DaubKind.SMOOTH, reach=1.0),
        ]
        weights = jq.Weigher(LAYERS, daubs=daubs).weights(whole)
        on_left, on_right = left[:, 0] == 10.0, np.isclose(right[:, 0], 10.0)
        assert on_left.sum() == on_right.sum() == 21
        assert np.abs(weights[:, :441][:, on_left] - weights[:, 441:][:, on_right]).max() < 1e-6
        assert weights[1].max() > 0.8
        found = jq.weigh_points(whole, LAYERS, keep=4, daubs=daubs)
        assert np.allclose(np.where(found.layers == 1, found.weights, 0).sum(axis=1), weights[1], atol=1e-6)
        assert found.lost.max() < 1e-6

    def test_joining_nothing_is_refused(self):
        with pytest.raises(ShapeError, match="no part to join"):
            jq.Points.joined([])


class TestFiles:
    @settings(deadline=None, max_examples=40)
    @given(st.lists(plain_daubs, max_size=5))
    def test_what_is_written_is_read(self, tmp_path_factory, daubs):
        path = tmp_path_factory.mktemp("daubs") / "d.jsonl"
        jq.daubs.write_daubs(path, daubs)
        assert jq.daubs.read_daubs(path) == tuple(daubs)

    def test_every_key_comes_back(self):
        daub = jq.Daub(
            path=((1.0, 2.0, 3.0), (4.0, 5.0, 6.0)),
            radius=2.5,
            layers=("a", "b"),
            falloff=0.1,
            strength=0.9,
            ceiling=0.7,
            breakup=jq.Noise(size=2.0, kind=jq.NoiseKind.RIDGED, octaves=2, seed=4),
            between=jq.Noise(size=3.0, dimensions=2),
        )
        assert daub_of(json.loads(line_of(daub))) == daub
        smooth = jq.Daub(path=((1.0, 2.0),), radius=2.5, kind=jq.daubs.DaubKind.SMOOTH, reach=0.4)
        assert daub_of(json.loads(line_of(smooth))) == smooth

    def test_lines_are_added_and_dropped_and_the_others_stay(self, tmp_path):
        path = tmp_path / "d.jsonl"
        daub = jq.Daub(path=((1.0, 2.0),), radius=1.0, layers=("salt",))
        assert jq.daubs.append_daub(path, daub) == 1
        path.write_text('{"layer": "salt",   "path": [[1, 2]], "radius": 1, "note": "by hand"}\n\n' + path.read_text().strip())
        assert jq.daubs.append_daub(path, daub) == 3
        assert path.read_text().startswith('{"layer": "salt",   "path"')
        assert len(jq.daubs.read_daubs(path)) == 3
        drop_daub(path, 2)
        assert len(jq.daubs.read_daubs(path)) == 2
        assert "by hand" in path.read_text()
        with pytest.raises(RangeError, match="whole number from 1 to 2; got 3"):
            drop_daub(path, 3)

    def test_a_line_that_is_no_daub_is_named(self, tmp_path):
        path = tmp_path / "d.jsonl"
        good = '{"layer": "salt", "path": [[1, 2]], "radius": 1}\n'
        for line, words in (
            ("{broken", "line 2: not JSON"),
            ("[1]", "line 2: a daub is an object"),
            ('{"layer": "salt", "path": [[1, 2]]}', "line 2: a daub needs its radius"),
            ('{"layer": "salt", "path": [[1, 2]], "radius": 1, "cieling": 1}', 'line 2: .*did you mean "ceiling"'),
            ('{"layer": "salt", "path": [1, 2], "radius": 1}', "line 2: path must be a list of points"),
            ('{"layer": "salt", "path": [[1, 2]], "radius": 1, "ceiling": 3}', "line 2: ceiling must be from 0 to 1; got 3"),
            ('{"do": "paint", "path": [[1, 2]], "radius": 1}', "line 2: a daub paints one layer"),
            ('{"do": "scrub", "path": [[1, 2]], "radius": 1}', 'line 2: no kind of daub is called "scrub"'),
            ('{"layer": "a", "layers": ["b"], "path": [[1, 2]], "radius": 1}', "line 2: .*not both"),
            ('{"layer": "salt", "path": [[1, 2]], "radius": 1, "breakup": 3}', "line 2: breakup must be a noise with its size"),
            ('{"layer": "a", "path": [[1, 2]], "radius": 1, "breakup": {"size": 1, "form": "x"}}', "line 2: no form of noise"),
        ):
            path.write_text(good + line + "\n")
            with pytest.raises(RangeError, match=words):
                jq.daubs.read_daubs(path)
        with pytest.raises(FileError, match="no such file of daubs"):
            jq.daubs.read_daubs(tmp_path / "gone.jsonl")
